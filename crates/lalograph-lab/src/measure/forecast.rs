//! Forecast of a run's duration: a sample of each part of its work is done and timed.

use std::time::Instant;

use lalograph_net::step::exchange::OneProcess;
use serde::Serialize;

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
    let exchange = Box::new(OneProcess::default());
    let settings = trainer_settings(plan, steps);
    let mut trainer = Trainer::new(task.net(), settings, task.windows(), exchange, task.shared());
    // Once before it counts: pages, caches and clocks settle.
    trainer.learn()?;
    trainer.apply(SMALL);
    let (start, mut made, mut tokens) = (Instant::now(), 0, 0);
    while made == 0 || start.elapsed().as_secs_f64() < seconds {
        tokens += trainer.learn()?.tokens;
        trainer.apply(SMALL);
        made += 1;
        if !go_on() {
            return Ok(None);
        }
    }
    let spent = start.elapsed().as_secs_f64();
    let per_epoch = trainer.steps_per_epoch();
    let validations =
        (1..steps).filter(|&step| validates_after(&plan.training, step, per_epoch)).count() as u64;
    let mut besides = Vec::new();
    for (name, times, data) in [("validation", validations + 1, task.validation()), ("test", 1, task.test())]
    {
        let Some(mut data) = data else { continue };
        let (start, mut done) = (Instant::now(), 0.0);
        data.evaluate(task.net(), trainer.settled_parameters(), &mut |share| {
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
        besides,
    }))
}

/// A learning rate that drives untrained weights nowhere.
const SMALL: f64 = 1e-5;

#[cfg(test)]
mod tests {
    use super::{Forecast, Repeated};

    #[test]
    fn all_parts_are_added_up() {
        let besides = vec![
            Repeated { name: "validation", times: 4, seconds_each: 0.5 },
            Repeated { name: "samples", times: 2, seconds_each: 3.0 },
        ];
        let forecast = Forecast { steps: 100, seconds_per_step: 0.25, tokens_per_second: 10.0, besides };
        assert_eq!((forecast.step_seconds(), forecast.seconds()), (25.0, 33.0));
    }
}
