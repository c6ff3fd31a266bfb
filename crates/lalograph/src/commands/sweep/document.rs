//! The results of a sweep, ready for JSON, tables and pages.

use std::collections::BTreeMap;
use std::path::PathBuf;

use lalograph_lab::run::folder::model_in;
use lalograph_lab::sweep::figure::Figure;
use lalograph_lab::sweep::folder::SweepFolder;
use lalograph_lab::sweep::importance::{Importance, importance};
use lalograph_lab::sweep::ledger::Results;
use lalograph_lab::sweep::ranking::{Ranked, Ranking, rank};
use lalograph_lab::sweep::space::Values;
use lalograph_lab::sweep::spec::{SweepSpec, Trial};
use lalograph_lab::sweep::work::tested;
use lalograph_net::Choice;
use serde::Serialize;

use crate::output::number::{percent_of, perplexity};

/// JSON output of `sweep show`. Settings, seeds and rungs are numbered from 1.
#[derive(Serialize)]
pub(super) struct Document<'s> {
    sweep: PathBuf,
    method: &'static str,
    /// The figure that settings are compared by, on the validation part.
    figure: &'static str,
    settings: usize,
    seeds: usize,
    rungs: usize,
    /// Settings without a result of all their seeds.
    pub(super) waiting: usize,
    ranked: Vec<RankedLine<'s>>,
    failed: Vec<FailedLine<'s>>,
    importance: Option<ImportanceLine<'s>>,
    test: Option<TestLine>,
    /// Null until a setting has a result of all its seeds and no trial is left.
    pub(super) best_plan: Option<PathBuf>,
    #[serde(skip)]
    pub(super) ranking: Ranking,
    #[serde(skip)]
    pub(super) shares: Option<Importance>,
}

#[derive(Serialize)]
struct RankedLine<'s> {
    rank: usize,
    setting: usize,
    values: BTreeMap<&'s str, &'s str>,
    /// Of the comparisons that the setting came to, the last.
    rung: usize,
    /// Over the seeds.
    mean: f64,
    by_seed: Vec<f64>,
    /// The 95 % interval of the mean; null with one seed.
    interval: Option<(f64, f64)>,
    /// Whether chance alone makes its difference from the best; null with one seed or at another rung.
    like_the_best: Option<bool>,
    steps: u64,
    seconds: f64,
    parameters: u64,
    /// Its model, if it is kept.
    model: Option<PathBuf>,
}

#[derive(Serialize)]
struct FailedLine<'s> {
    setting: usize,
    values: BTreeMap<&'s str, &'s str>,
    reason: String,
}

/// Shares of the variance of the results.
#[derive(Serialize)]
struct ImportanceLine<'s> {
    settings: usize,
    shares: BTreeMap<&'s str, ShareLine>,
    seeds: Option<f64>,
    rest: f64,
}

#[derive(Serialize)]
struct ShareLine {
    share: f64,
    standard_error: f64,
}

#[derive(Serialize)]
pub(super) struct TestLine {
    setting: usize,
    seed: usize,
    figure: f64,
    #[serde(skip)]
    pub(super) cost: f64,
    loss: f64,
    figures: serde_json::Value,
}

impl<'s> Document<'s> {
    /// The results of a sweep.
    pub(super) fn new(sweep: &'s SweepFolder, results: &Results) -> Self {
        let (spec, figure) = (sweep.spec(), sweep.figure());
        let ranking = rank(spec, figure, results);
        let shares = importance(spec, figure, results);
        let ranked =
            ranking.ranked.iter().enumerate().map(|(at, one)| RankedLine::new(sweep, at, one)).collect();
        let failed = ranking.failed.iter().map(|one| FailedLine {
            setting: one.setting + 1,
            values: values_of(spec, one.setting),
            reason: one.reason.clone(),
        });
        let keys = spec.varied.iter().map(|one| one.key.as_str());
        let line = shares.as_ref().map(|found| ImportanceLine {
            settings: found.settings,
            shares: keys
                .zip(&found.shares)
                .map(|(key, share)| (key, ShareLine { share: share.share, standard_error: share.error }))
                .collect(),
            seeds: found.seeds,
            rest: found.rest,
        });
        let test = tested(sweep, results).map(|(trial, evaluation)| TestLine {
            setting: trial.setting + 1,
            seed: trial.seed + 1,
            figure: figure.of_cost(figure.cost(evaluation)),
            cost: figure.cost(evaluation),
            loss: evaluation.loss,
            figures: serde_json::to_value(&evaluation.figures).unwrap_or_default(),
        });
        Self {
            sweep: sweep.path().to_owned(),
            method: spec.terms.method.name(),
            figure: figure.key(),
            settings: spec.settings().len(),
            seeds: spec.seeds(),
            rungs: spec.rungs(),
            waiting: ranking.waiting,
            ranked,
            failed: failed.collect(),
            importance: line,
            test,
            best_plan: Some(sweep.best_plan()).filter(|path| path.is_file()),
            ranking,
            shares,
        }
    }

    /// Whether no setting has a result.
    pub(super) fn has_none(&self) -> bool {
        self.ranked.is_empty()
    }

    /// Why the first setting that failed did so.
    pub(super) fn first_reason(&self) -> &str {
        self.failed.first().map_or("none was started", |one| &one.reason)
    }

    /// The test part under the best model.
    pub(super) fn test(&self) -> Option<&TestLine> {
        self.test.as_ref()
    }
}

impl<'s> RankedLine<'s> {
    fn new(sweep: &'s SweepFolder, at: usize, one: &Ranked) -> Self {
        let (spec, figure) = (sweep.spec(), sweep.figure());
        let of = |cost: f64| figure.of_cost(cost);
        // Where a higher figure is better the ends of an interval change places.
        let interval = one.interval.map(|(low, high)| match figure.rises() {
            true => (of(high), of(low)),
            false => (of(low), of(high)),
        });
        Self {
            rank: at + 1,
            setting: one.setting + 1,
            values: values_of(spec, one.setting),
            rung: one.rung + 1,
            mean: of(one.cost),
            by_seed: one.costs.iter().map(|&cost| of(cost)).collect(),
            interval,
            like_the_best: one.difference.map(|difference| difference.is_noise()),
            steps: one.steps,
            seconds: one.seconds,
            parameters: one.parameters,
            // Of 10,000 settings few have one, and those are the first.
            model: (at < spec.terms.keep as usize).then(|| model_of(sweep, one)).flatten(),
        }
    }
}

/// The model of a setting, if it is kept.
pub(super) fn model_of(sweep: &SweepFolder, one: &Ranked) -> Option<PathBuf> {
    let trial = Trial { setting: one.setting, seed: one.best_seed };
    Some(model_in(&sweep.run(trial))).filter(|path| path.is_file())
}

/// What is varied with the values of a setting.
pub(super) fn values_of(spec: &SweepSpec, setting: usize) -> BTreeMap<&str, &str> {
    spec.varied
        .iter()
        .map(|one| one.key.as_str())
        .zip(spec.settings()[setting].iter().map(String::as_str))
        .collect()
}

/// A cost as the figure that people read.
pub(super) fn shown_figure(figure: Figure, cost: f64) -> String {
    let value = figure.of_cost(cost);
    match figure {
        Figure::Perplexity => perplexity(value),
        Figure::BitsPerByte | Figure::Loss => format!("{value:.4}"),
        Figure::Accuracy => percent_of(value),
        Figure::MacroF1 | Figure::Similarity | Figure::Analogies | Figure::WordTasks => {
            format!("{value:.3}")
        }
    }
}

/// Settings whose best value is the first or the last of what was tried, with the end.
pub(super) fn at_an_end(spec: &SweepSpec, best: usize) -> Vec<(&str, &'static str)> {
    let ends = spec.varied.iter().zip(&spec.settings()[best]).filter_map(|(one, value)| {
        let numbers = match one.values() {
            Values::Range(_) => true,
            Values::Listed(listed) => listed.len() > 2 && listed.iter().all(|v| v.parse::<f64>().is_ok()),
        };
        let place = one.place(value);
        let end = match place {
            p if p >= 0.95 => "last",
            p if p <= 0.05 => "first",
            _ => return None,
        };
        numbers.then_some((one.key.as_str(), end))
    });
    ends.collect()
}
