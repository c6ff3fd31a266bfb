//! The course of a sweep: what is to be done next, by what the ledger says and nothing else, so that any number of processes agree.

use std::collections::BTreeSet;

use super::error::SweepError;
use super::figure::Figure;
use super::ledger::Results;
use super::spec::{Method, SweepSpec, Trial};

/// A trial to be trained as far as a rung.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Job {
    /// The trial.
    pub trial: Trial,
    /// The rung, from 0.
    pub rung: usize,
}

/// What is left of a sweep.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Due {
    /// These can be trained now, the first first; others may follow them.
    Jobs(Vec<Job>),
    /// Nothing any more.
    Over,
}

/// The settings that still race; none where there is no race, or it is over.
pub(super) fn racing(spec: &SweepSpec, figure: Figure, results: &Results) -> BTreeSet<usize> {
    let mut racing: Vec<usize> = (0..spec.settings().len()).collect();
    if spec.terms.method != Method::Racing {
        return BTreeSet::new();
    }
    for rung in 0..spec.rungs() {
        let complete = |&setting: &usize| {
            (0..spec.seeds()).all(|seed| {
                let state = results.trial(spec, Trial { setting, seed });
                state.failed.is_some() || state.at(rung).is_some()
            })
        };
        if !racing.iter().all(complete) {
            return racing.into_iter().collect();
        }
        racing = survivors(spec, figure, results, &racing, rung);
    }
    BTreeSet::new()
}

/// What is to be done next.
pub fn due(spec: &SweepSpec, figure: Figure, results: &Results) -> Due {
    let open = |trial: Trial, rung: usize| {
        let state = results.trial(spec, trial);
        (state.failed.is_none() && state.at(rung).is_none()).then_some(Job { trial, rung })
    };
    if spec.terms.method != Method::Racing {
        let within = within_budget(spec, results);
        let jobs: Vec<Job> = spec.trials().take(within.trials).filter_map(|trial| open(trial, 0)).collect();
        return if jobs.is_empty() && within.all_known { Due::Over } else { Due::Jobs(jobs) };
    }
    let mut racing: Vec<usize> = (0..spec.settings().len()).collect();
    for rung in 0..spec.rungs() {
        let seeds = |&setting: &usize| (0..spec.seeds()).map(move |seed| Trial { setting, seed });
        let jobs: Vec<Job> = racing.iter().flat_map(seeds).filter_map(|trial| open(trial, rung)).collect();
        if !jobs.is_empty() {
            return Due::Jobs(jobs);
        }
        racing = survivors(spec, figure, results, &racing, rung);
    }
    Due::Over
}

/// The better half of the settings that raced to a rung, in the order of their numbers.
fn survivors(
    spec: &SweepSpec,
    figure: Figure,
    results: &Results,
    racing: &[usize],
    rung: usize,
) -> Vec<usize> {
    let mut costs: Vec<(f64, usize)> = racing
        .iter()
        .filter_map(|&setting| Some((mean_cost(spec, figure, results, setting, rung)?, setting)))
        .collect();
    costs.sort_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
    let mut better: Vec<usize> =
        costs.into_iter().take(racing.len().div_ceil(2)).map(|(_, setting)| setting).collect();
    better.sort_unstable();
    better
}

/// The mean cost of a setting over its seeds at a rung; `None` if one of them failed or is not there yet.
pub(super) fn mean_cost(
    spec: &SweepSpec,
    figure: Figure,
    results: &Results,
    setting: usize,
    rung: usize,
) -> Option<f64> {
    let costs = (0..spec.seeds()).map(|seed| {
        let state = results.trial(spec, Trial { setting, seed });
        state.failed.is_none().then_some(())?;
        Some(figure.cost(&state.at(rung)?.evaluation))
    });
    let costs: Vec<f64> = costs.collect::<Option<_>>()?;
    Some(costs.iter().sum::<f64>() / costs.len() as f64)
}

/// Trials within the budget of steps.
struct Within {
    /// How many, from the first.
    trials: usize,
    /// Whether that is all of them that ever will be.
    all_known: bool,
}

/// A trial is within the budget if the steps planned of those before it are fewer. What comes after one whose steps are not known has to wait.
fn within_budget(spec: &SweepSpec, results: &Results) -> Within {
    let all = results.trials().len();
    let Some(budget) = spec.terms.budget_steps else {
        return Within { trials: all, all_known: true };
    };
    let mut steps = 0u64;
    for (number, state) in results.trials().iter().enumerate() {
        if steps >= budget {
            return Within { trials: number, all_known: true };
        }
        match (state.planned, &state.failed) {
            (Some(planned), _) => steps = steps.saturating_add(planned),
            // It failed before its steps were counted.
            (None, Some(_)) => {}
            (None, None) => return Within { trials: number + 1, all_known: false },
        }
    }
    Within { trials: all, all_known: true }
}

/// Checks that a race of trials of so many steps, validated at `validates` after each step, can compare them at every rung.
///
/// # Errors
/// Two rungs would compare at the same validation.
pub(super) fn check_rungs(
    spec: &SweepSpec,
    steps: u64,
    validates: impl Fn(u64) -> bool,
) -> Result<(), SweepError> {
    let mut before = 0;
    for rung in 0..spec.rungs() {
        let step = spec.rung_step(rung, steps);
        let compared = (step..=steps).find(|&step| step == steps || validates(step)).unwrap_or(steps);
        let next = if rung + 1 < spec.rungs() { spec.rung_step(rung + 1, steps) } else { u64::MAX };
        if compared <= before || compared >= next {
            return Err(SweepError::Rungs { rungs: spec.rungs(), first: spec.rung_step(0, steps), steps });
        }
        before = compared;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::{Due, Figure, Job, check_rungs, due};
    use crate::Plan;
    use crate::run::records::Evaluation;
    use crate::sweep::ledger::{Entry, Reached, Results};
    use crate::sweep::spec::{Method, SweepSpec, Terms};

    fn spec(terms: Terms) -> SweepSpec {
        let vary = ["model.hidden=1..8:even:8".to_owned()];
        SweepSpec::new(Plan::default(), &vary, terms, None).unwrap()
    }

    fn reach(results: &mut Results, spec: &SweepSpec, job: Job, loss: f64) {
        let evaluation = Evaluation { loss, ..Evaluation::default() };
        results.add(Entry::Reached(Reached {
            trial: spec.number(job.trial),
            rung: job.rung,
            steps: 1,
            finished: job.rung + 1 == spec.rungs(),
            evaluation,
            seconds: 1.0,
            tokens_per_second: 1.0,
            parameters: 1,
            time: 0.0,
        }));
    }

    /// Does all that is due, whatever comes last first; returns the settings of each rung.
    fn race(spec: &SweepSpec, loss: impl Fn(usize, usize) -> Option<f64>) -> Vec<Vec<usize>> {
        let mut results = Results::new(spec);
        let mut rungs = vec![Vec::new(); spec.rungs()];
        while let Due::Jobs(jobs) = due(spec, Figure::Perplexity, &results) {
            let job = *jobs.last().unwrap();
            rungs[job.rung].push(job.trial.setting);
            match loss(job.trial.setting, job.rung) {
                Some(loss) => reach(&mut results, spec, job, loss),
                None => {
                    let trial = spec.number(job.trial);
                    results.add(Entry::Failed { trial, reason: "no".into(), time: 0.0 });
                }
            }
        }
        rungs.iter_mut().for_each(|rung| rung.sort_unstable());
        rungs
    }

    #[test]
    fn the_better_half_goes_on_at_each_rung() {
        let racing = spec(Terms { method: Method::Racing, ..Terms::default() });
        // The best one is a slow starter, but not the slowest.
        let loss = |setting: usize, rung: usize| match setting {
            5 => Some(4.5 - rung as f64 * 2.0),
            setting => Some(setting as f64),
        };
        assert_eq!(
            race(&racing, loss),
            [vec![0, 1, 2, 3, 4, 5, 6, 7], vec![0, 1, 2, 3], vec![0, 1], vec![0]]
        );
        let loss = |setting: usize, rung: usize| loss(setting, rung + 1);
        assert_eq!(race(&racing, loss)[1..], [vec![0, 1, 2, 5], vec![0, 5], vec![5]]);
        // Those that fail go first, and a race that nobody finishes ends.
        let rungs = race(&racing, |setting, _| (setting % 4 == 3).then_some(8.0 - setting as f64));
        assert_eq!(rungs[1..], [vec![3, 7], vec![7], vec![7]]);
        assert!(race(&racing, |_, _| None)[1..].iter().all(Vec::is_empty));
    }

    #[test]
    fn seeds_race_together() {
        let racing = spec(Terms { method: Method::Racing, seeds: 2, rungs: 2, ..Terms::default() });
        let rungs = race(&racing, |setting, _| Some(setting as f64));
        assert_eq!(rungs[0].len(), 16);
        assert_eq!(rungs[1], [0, 0, 1, 1, 2, 2, 3, 3]);
    }

    #[test]
    fn a_budget_of_steps_ends_with_the_trial_that_goes_beyond_it() {
        let bounded = spec(Terms { budget_steps: Some(25), ..Terms::default() });
        let mut results = Results::new(&bounded);
        let mut made = Vec::new();
        loop {
            match due(&bounded, Figure::Perplexity, &results) {
                Due::Over => break,
                Due::Jobs(jobs) => {
                    assert_eq!(jobs.len(), 1, "the steps of the next decide on those after it");
                    let number = bounded.number(jobs[0].trial);
                    results.add(Entry::Planned { trial: number, steps: 10 });
                    made.push(number);
                    reach(&mut results, &bounded, jobs[0], 1.0);
                }
            }
        }
        assert_eq!(made, [0, 1, 2]);
    }

    #[test]
    fn a_rung_that_has_no_validation_of_its_own_is_refused() {
        let racing = spec(Terms { method: Method::Racing, ..Terms::default() });
        let every = |n: u64| move |step: u64| step.is_multiple_of(n);
        // Of 800 steps the rungs are 100, 200, 400, 800.
        assert!(check_rungs(&racing, 800, every(50)).is_ok());
        assert!(check_rungs(&racing, 800, every(70)).is_ok());
        let error = check_rungs(&racing, 800, every(200)).unwrap_err().to_string();
        assert!(error.contains("100"), "{error}");
        assert_eq!(racing.rung_step(0, 801), 101);
    }
}
