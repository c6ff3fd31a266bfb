//! What is shown while a sweep is trained: a bar in a terminal, and a line for each result.

use std::collections::BTreeMap;
use std::sync::Mutex;

use lalograph_lab::sweep::course::{Due, due};
use lalograph_lab::sweep::folder::SweepFolder;
use lalograph_lab::sweep::ledger::{Reached, Results};
use lalograph_lab::sweep::spec::Trial;
use lalograph_lab::sweep::work::SweepEvent;
use serde::Serialize;

use super::document::{shown_figure, values_of};
use crate::failure::Failure;
use crate::output::number::{count, duration};
use crate::output::progress::{Measure, Progress};
use crate::output::screen::Screen;

/// A line of `sweep --json` before the last.
#[derive(Serialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
enum Line<'a> {
    /// A trial came to a rung.
    Reached {
        setting: usize,
        seed: usize,
        rung: usize,
        values: BTreeMap<&'a str, &'a str>,
        steps: u64,
        finished: bool,
        #[serde(flatten)]
        evaluation: serde_json::Value,
        seconds: f64,
    },
    /// A trial cannot be trained.
    Failed { setting: usize, seed: usize, values: BTreeMap<&'a str, &'a str>, reason: &'a str },
}

/// What is shown, from the events of several threads.
pub(super) struct View<'v> {
    sweep: &'v SweepFolder,
    json: bool,
    screen: &'v Screen,
    state: Mutex<State<'v>>,
}

struct State<'v> {
    bar: Option<Progress<'v>>,
    /// Results so far, of this process and those before.
    done: u64,
    best: Option<f64>,
    failure: Option<Failure>,
}

impl<'v> View<'v> {
    /// The view of a sweep that has some results.
    pub(super) fn new(sweep: &'v SweepFolder, results: &Results, json: bool, screen: &'v Screen) -> Self {
        let spec = sweep.spec();
        let all = all_turns(sweep);
        let done = results.trials().iter().map(|trial| trial.reached.iter().flatten().count() as u64).sum();
        let last = spec.rungs() - 1;
        let best = results
            .trials()
            .iter()
            .filter_map(|trial| Some(sweep.figure().cost(&trial.at(last)?.evaluation)))
            .min_by(f64::total_cmp);
        let over = due(spec, sweep.figure(), results) == Due::Over;
        let mut bar = (!over).then(|| Progress::new(screen, "sweep", Measure::Trials, all));
        if let Some(bar) = &mut bar {
            bar.at(done, "");
        }
        Self { sweep, json, screen, state: Mutex::new(State { bar, done, best, failure: None }) }
    }

    /// Shows an event; `false` if it could not be shown.
    pub(super) fn show(&self, event: &SweepEvent<'_>) -> bool {
        let mut state = self.state.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let shown = match event {
            SweepEvent::Reached(trial, reached) => self.reached(&mut state, *trial, reached),
            SweepEvent::Failed(trial, reason) => self.failed(&mut state, *trial, reason),
            SweepEvent::Step { trial, step, steps } if *step > 0 => {
                let message = format!("{} step {}/{}", self.name(*trial), count(*step), count(*steps));
                let done = state.done;
                if let Some(bar) = &mut state.bar {
                    bar.at(done, &message);
                }
                Ok(())
            }
            SweepEvent::Testing(trial) => {
                let text = format!("scoring the test part under the model of setting {}", self.name(*trial));
                note(&state, self.screen, &text);
                Ok(())
            }
            _ => Ok(()),
        };
        if let Err(failure) = shown {
            state.failure.get_or_insert(failure);
        }
        state.failure.is_none()
    }

    /// The number of a setting, and of its seed where there are several.
    fn name(&self, trial: Trial) -> String {
        match self.sweep.spec().seeds() {
            1 => format!("{}", trial.setting + 1),
            _ => format!("{} seed {}", trial.setting + 1, trial.seed + 1),
        }
    }

    fn reached(&self, state: &mut State<'_>, trial: Trial, reached: &Reached) -> Result<(), Failure> {
        let (spec, figure) = (self.sweep.spec(), self.sweep.figure());
        state.done += 1;
        let cost = figure.cost(&reached.evaluation);
        let at_end = reached.rung + 1 == spec.rungs();
        let best = at_end && state.best.is_none_or(|best| cost < best);
        if best {
            state.best = Some(cost);
        }
        if self.json {
            let evaluation = serde_json::to_value(&reached.evaluation).map_err(Failure::work)?;
            return self.screen.json(&Line::Reached {
                setting: trial.setting + 1,
                seed: trial.seed + 1,
                rung: reached.rung + 1,
                values: values_of(spec, trial.setting),
                steps: reached.steps,
                finished: reached.finished,
                evaluation,
                seconds: reached.seconds,
            });
        }
        let rung = if spec.rungs() > 1 { format!(", rung {}", reached.rung + 1) } else { String::new() };
        let mark = if best { ", the best so far" } else { "" };
        let text = format!(
            "setting {}{rung} ({}): {} {}, {}{mark}",
            self.name(trial),
            spec.overrides(trial.setting).join(" "),
            figure.name(),
            shown_figure(figure, cost),
            duration(reached.seconds)
        );
        note(state, self.screen, &text);
        Ok(())
    }

    fn failed(&self, state: &mut State<'_>, trial: Trial, reason: &str) -> Result<(), Failure> {
        state.done += 1;
        let spec = self.sweep.spec();
        if self.json {
            let values = values_of(spec, trial.setting);
            let (setting, seed) = (trial.setting + 1, trial.seed + 1);
            return self.screen.json(&Line::Failed { setting, seed, values, reason });
        }
        let values = spec.overrides(trial.setting).join(" ");
        note(state, self.screen, &format!("setting {} ({values}) failed: {reason}", self.name(trial)));
        Ok(())
    }

    /// Takes the bar away.
    pub(super) fn finish(self) -> Result<(), Failure> {
        let state = self.state.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
        if let Some(bar) = state.bar {
            bar.finish();
        }
        state.failure.map_or(Ok(()), Err)
    }
}

/// Results that a sweep has in the end: in a race, those of each rung.
fn all_turns(sweep: &SweepFolder) -> u64 {
    let spec = sweep.spec();
    let mut racing = spec.settings().len() as u64;
    let mut all = 0;
    for _ in 0..spec.rungs() {
        all += racing * spec.terms.seeds;
        racing = racing.div_ceil(2);
    }
    all
}

fn note(state: &State<'_>, screen: &Screen, text: &str) {
    match &state.bar {
        Some(bar) => bar.note(text),
        None => screen.note(text),
    }
}
