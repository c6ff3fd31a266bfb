//! Whose weights are kept: those of the best settings, and of trials that are still needed.

use std::collections::BTreeSet;

use super::figure::Figure;
use super::ledger::Results;
use super::ranking::rank;
use super::spec::{SweepSpec, Trial};

/// What is left of a trial that is not trained any more.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kept {
    /// Model and checkpoints: it goes on, or may have to.
    All,
    /// The model alone.
    Model,
    /// Its records.
    Records,
}

/// What is kept of each trial by what is known now, in their order. `racing` are the settings that still go on.
pub(super) fn kept(
    spec: &SweepSpec,
    figure: Figure,
    results: &Results,
    racing: &BTreeSet<usize>,
) -> Vec<Kept> {
    let ranking = rank(spec, figure, results);
    // Of the best settings the model of their best seed.
    let best: BTreeSet<Trial> = ranking
        .ranked
        .iter()
        .take(spec.terms.keep as usize)
        .map(|one| Trial { setting: one.setting, seed: one.best_seed })
        .collect();
    let ranked: BTreeSet<usize> = ranking.ranked.iter().map(|one| one.setting).collect();
    let of = |trial: Trial| {
        let state = results.trial(spec, trial);
        let finished = state.last().is_some_and(|last| last.finished);
        match () {
            () if state.failed.is_some() => Kept::Records,
            () if racing.contains(&trial.setting) && !finished => Kept::All,
            () if best.contains(&trial) => Kept::Model,
            // Its setting still waits for other seeds, or for the end of the race: it may be the best yet.
            () if !ranked.contains(&trial.setting) || racing.contains(&trial.setting) => Kept::Model,
            () => Kept::Records,
        }
    };
    spec.trials().map(of).collect()
}

/// Models and checkpoints that a sweep has on disk at most, while `jobs` trials are trained at once.
pub fn most_kept(spec: &SweepSpec, jobs: usize) -> MostKept {
    let (trials, seeds) = (spec.settings().len() * spec.seeds(), spec.seeds());
    let jobs = jobs.min(trials);
    // A new one is written before the oldest goes.
    let (each, written) = match spec.plan.vectors {
        Some(_) => (0, 0),
        None => (spec.plan.checkpoints.keep.max(1), jobs),
    };
    if spec.rungs() > 1 {
        // All wait for the first comparison with what they go on from.
        return MostKept { models: trials, checkpoints: trials * each + written };
    }
    MostKept {
        models: (spec.terms.keep as usize + jobs * seeds).min(trials),
        checkpoints: jobs * each + written,
    }
}

/// Numbers of files at most.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct MostKept {
    /// Model files.
    pub models: usize,
    /// Checkpoints.
    pub checkpoints: usize,
}
