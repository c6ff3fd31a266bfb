//! Forecast of a run's duration: a sample of each part of its work is done and timed.

use std::ops::Range;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Instant;

use lalograph_net::heads::loss::Loss;
use lalograph_net::step::exchange::{Exchange, OneProcess, Rank};
use lalograph_net::weights::gradient::LaneGradient;
use serde::Serialize;

use super::several::StepParts;
use crate::error::LabError;
use crate::task::{Moment, Task};
use crate::training::settings::{trainer_settings, validates_after};
use crate::training::trainer::Trainer;

/// Something that is done again and again in a run.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Repeated {
    /// Its name: that of a duty's records, or `validation` or `test`.
    pub name: &'static str,
    /// Number of times.
    pub times: u64,
    /// Seconds each time.
    pub seconds_each: f64,
}

/// Forecast of the time of a whole run.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Forecast {
    /// Steps of the run.
    pub steps: u64,
    /// Seconds of a step.
    pub seconds_per_step: f64,
    /// Tokens, or other examples, that are learnt from in a second while steps are made.
    pub tokens_per_second: f64,
    /// The step in the parts that several processes share or do not.
    pub parts: StepParts,
    /// Other work.
    pub besides: Vec<Repeated>,
}

impl Forecast {
    /// Seconds of all steps.
    pub fn step_seconds(&self) -> f64 {
        self.steps as f64 * self.seconds_per_step
    }

    /// Seconds of the run, without the reading of its data.
    pub fn seconds(&self) -> f64 {
        let besides = self.besides.iter().map(|part| part.times as f64 * part.seconds_each);
        self.step_seconds() + besides.sum::<f64>()
    }
}

/// Trains for about `seconds` seconds on `threads` threads, and does everything else once. `go_on` is asked between steps; `false` stops the work,
/// and the result is `None`.
///
/// # Errors
/// An error of the task's data.
pub fn forecast<T: Task>(
    task: &T,
    threads: usize,
    seconds: f64,
    go_on: &mut (dyn FnMut() -> bool + Send),
) -> Result<Option<Forecast>, LabError> {
    let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build()?;
    pool.install(|| in_pool(task, seconds, go_on))
}

fn in_pool<T: Task>(
    task: &T,
    seconds: f64,
    go_on: &mut (dyn FnMut() -> bool + Send),
) -> Result<Option<Forecast>, LabError> {
    let (plan, steps) = (task.plan(), task.steps());
    let lanes_time = Arc::new(AtomicU64::new(0));
    let exchange = Box::new(Timed::new(Arc::clone(&lanes_time)));
    let settings = trainer_settings(plan, steps);
    let mut trainer = Trainer::new(task.net(), settings, task.windows(), exchange, task.shared());
    // Once before it counts: pages, caches and clocks settle.
    trainer.learn()?;
    trainer.apply(SMALL);
    lanes_time.store(0, Ordering::Relaxed);
    let (start, mut made, mut tokens, mut row_bytes) = (Instant::now(), 0, 0, 0);
    while made == 0 || start.elapsed().as_secs_f64() < seconds {
        tokens += trainer.learn()?.tokens;
        row_bytes += trainer.exchanged().2;
        trainer.apply(SMALL);
        made += 1;
        if !go_on() {
            return Ok(None);
        }
    }
    let spent = start.elapsed().as_secs_f64();
    let lanes_seconds = 1e-9 * lanes_time.load(Ordering::Relaxed) as f64;
    let (lanes, dense_bytes, _) = trainer.exchanged();
    let parts = StepParts {
        lanes,
        lanes_seconds: lanes_seconds / f64::from(made),
        own_seconds: (spent - lanes_seconds) / f64::from(made),
        dense_bytes: dense_bytes as f64,
        row_bytes_per_lane: row_bytes as f64 / f64::from(made) / lanes as f64,
    };
    let per_epoch = trainer.steps_per_epoch();
    let validations =
        (1..steps).filter(|&step| validates_after(&plan.training, step, per_epoch)).count() as u64;
    let mut besides = Vec::new();
    for (name, times, data) in
        [("validation", validations + 1, task.validation(Rank::ALONE)), ("test", 1, task.test(Rank::ALONE))]
    {
        let Some(mut data) = data else { continue };
        let (start, mut done) = (Instant::now(), 0.0);
        trainer.evaluate(data.as_mut(), None, &mut |share| {
            done = share;
            start.elapsed().as_secs_f64() < seconds
        })?;
        besides.push(Repeated { name, times, seconds_each: start.elapsed().as_secs_f64() / done.max(1e-9) });
    }
    for mut duty in task.duties() {
        let times = (1..=steps).filter(|&step| duty.is_due(step, step == steps)).count() as u64;
        if times == 0 {
            continue;
        }
        let start = Instant::now();
        let moment = Moment { trainer: &mut trainer, validation: None, go_on };
        if duty.perform(moment)?.is_none() {
            return Ok(None);
        }
        besides.push(Repeated { name: duty.name(), times, seconds_each: start.elapsed().as_secs_f64() });
    }
    Ok(Some(Forecast {
        steps,
        seconds_per_step: spent / f64::from(made),
        tokens_per_second: tokens as f64 / spent,
        parts,
        besides,
    }))
}

/// One process that takes the time of its lanes.
#[derive(Debug)]
struct Timed {
    own: OneProcess,
    start: Instant,
    /// Nanoseconds of the lanes of all steps so far, and of the addition of their gradients.
    lanes_time: Arc<AtomicU64>,
}

impl Timed {
    fn new(lanes_time: Arc<AtomicU64>) -> Self {
        Self { own: OneProcess::default(), start: Instant::now(), lanes_time }
    }
}

impl Exchange<f32> for Timed {
    fn leave_rows(&mut self, table: Range<usize>) {
        Exchange::<f32>::leave_rows(&mut self.own, table);
    }

    // The targets are counted just before the lanes begin, and their gradients are added as soon as they are done. Processes share both.
    fn counted(&mut self, here: [u64; 2], _lanes: usize) -> [u64; 2] {
        self.start = Instant::now();
        here
    }

    fn sum(&mut self, gradients: &mut [LaneGradient<f32>], losses: &[Loss]) -> Loss {
        let sum = self.own.sum(gradients, losses);
        self.lanes_time.fetch_add(self.start.elapsed().as_nanos() as u64, Ordering::Relaxed);
        sum
    }
}

/// A learning rate that drives untrained weights nowhere.
const SMALL: f64 = 1e-5;

#[cfg(test)]
mod tests {
    use super::{Forecast, Repeated, StepParts};

    #[test]
    fn all_parts_are_added_up() {
        let besides = vec![
            Repeated { name: "validation", times: 4, seconds_each: 0.5 },
            Repeated { name: "samples", times: 2, seconds_each: 3.0 },
        ];
        let parts = StepParts {
            lanes: 1,
            lanes_seconds: 0.2,
            own_seconds: 0.05,
            dense_bytes: 0.0,
            row_bytes_per_lane: 0.0,
        };
        let forecast =
            Forecast { steps: 100, seconds_per_step: 0.25, tokens_per_second: 10.0, parts, besides };
        assert_eq!((forecast.step_seconds(), forecast.seconds()), (25.0, 33.0));
    }
}
