//! Learning rate schedules.

use serde::{Deserialize, Serialize};

use super::time_limit::Shortened;
use crate::plan::{Schedule, TrainingPlan};

/// Steps of warm-up that nobody has set, in a run that is long enough.
const LONGEST_WARMUP: u64 = 200;
/// The share of the steps over which one cycle rises.
const RISE: f64 = 1.0 / 3.0;

/// State of a schedule from past validations.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Plateau {
    /// Current factor of the rate.
    factor: f64,
    best: Option<f64>,
    waited: u64,
}

impl Default for Plateau {
    fn default() -> Self {
        Self { factor: 1.0, best: None, waited: 0 }
    }
}

/// Whether the learning rates after `made` steps depend on the number of steps of the run.
pub(crate) fn depends_on_length(plan: &TrainingPlan, made: u64) -> bool {
    let to_the_end = matches!(plan.schedule, Schedule::Cosine | Schedule::OneCycle);
    to_the_end || (plan.warmup_steps.is_none() && made < 4 * LONGEST_WARMUP)
}

/// Steps of warm-up of a run of so many steps.
pub(crate) fn warmup_steps(plan: &TrainingPlan, steps: u64) -> u64 {
    plan.warmup_steps.unwrap_or_else(|| LONGEST_WARMUP.min(steps / 4))
}

/// A schedule under way.
#[derive(Debug, Clone)]
pub(crate) struct RateSchedule {
    plan: TrainingPlan,
    steps: u64,
    warmup: u64,
    pub(crate) plateau: Plateau,
    /// What was left out of it for want of time.
    pub(crate) shortened: Shortened,
}

impl RateSchedule {
    /// The schedule of a run of so many steps.
    pub(crate) fn new(plan: &TrainingPlan, steps: u64) -> Self {
        Self {
            plan: plan.clone(),
            steps,
            warmup: warmup_steps(plan, steps),
            plateau: Plateau::default(),
            shortened: Shortened::default(),
        }
    }

    /// The learning rate of a step, from 1: a straight rise over the warm-up, then the schedule.
    pub(crate) fn rate(&self, step: u64) -> f64 {
        let TrainingPlan { learning_rate, schedule_factor, schedule_end, .. } = self.plan;
        let warmup = self.warmup;
        if step <= warmup {
            return learning_rate * step as f64 / warmup as f64;
        }
        let done = (step - warmup) as f64;
        // What ends with the run ends sooner if that was shortened; what goes by steps does not.
        let share =
            ((done + self.shortened.ahead) / self.steps.saturating_sub(warmup).max(1) as f64).min(1.0);
        let period = self.plan.schedule_steps as f64;
        let fall = |share: f64| {
            schedule_end + (1.0 - schedule_end) * 0.5 * (1.0 + (std::f64::consts::PI * share).cos())
        };
        learning_rate
            * match self.plan.schedule {
                Schedule::Constant => 1.0,
                Schedule::Step => schedule_factor.powf((done / period).floor()),
                Schedule::Exponential => schedule_factor.powf(done / period),
                Schedule::Cosine => fall(share),
                Schedule::InverseSquareRoot => 1.0 / (1.0 + done / period).sqrt(),
                Schedule::OneCycle if share < RISE => {
                    // From a tenth up to the whole.
                    0.1 + 0.9 * share / RISE
                }
                Schedule::OneCycle => fall((share - RISE) / (1.0 - RISE)),
                Schedule::Plateau => self.plateau.factor,
            }
    }

    /// Passes a validation loss to the schedule.
    pub(crate) fn observe(&mut self, validation_loss: f64) {
        let plateau = &mut self.plateau;
        if plateau.best.is_none_or(|best| validation_loss < best) {
            (plateau.best, plateau.waited) = (Some(validation_loss), 0);
            return;
        }
        plateau.waited += 1;
        if plateau.waited >= self.plan.schedule_patience {
            plateau.factor *= self.plan.schedule_factor;
            plateau.waited = 0;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::{RateSchedule, depends_on_length};
    use crate::plan::{Schedule, TrainingPlan};

    fn schedule(schedule: Schedule) -> RateSchedule {
        let plan = TrainingPlan {
            learning_rate: 0.5,
            warmup_steps: Some(10),
            schedule,
            schedule_factor: 0.25,
            schedule_steps: 20,
            schedule_end: 0.1,
            schedule_patience: 2,
            ..TrainingPlan::default()
        };
        RateSchedule::new(&plan, 100)
    }

    #[test]
    fn each_schedule_moves_as_documented() {
        for (name, expected) in [
            (Schedule::Constant, [(1, 0.05), (10, 0.5), (11, 0.5), (100, 0.5)]),
            (Schedule::Step, [(10, 0.5), (29, 0.5), (30, 0.125), (50, 0.5 / 16.0)]),
            (Schedule::Exponential, [(10, 0.5), (20, 0.25), (30, 0.125), (50, 0.5 / 16.0)]),
            (Schedule::Cosine, [(5, 0.25), (10, 0.5), (55, 0.5 * 0.55), (100, 0.05)]),
            (Schedule::InverseSquareRoot, [(5, 0.25), (10, 0.5), (70, 0.25), (170, 0.5 / 3.0)]),
            (Schedule::OneCycle, [(5, 0.25), (25, 0.5 * 0.55), (40, 0.5), (100, 0.05)]),
        ] {
            for (step, rate) in expected {
                let found = schedule(name).rate(step);
                assert!((found - rate).abs() < 1e-12, "{name:?} {step}: {found}");
            }
        }
    }

    #[test]
    fn a_shorter_schedule_is_ahead_only_where_it_ends_with_the_run() {
        for (name, step, same_as) in
            [(Schedule::Cosine, 40, 55), (Schedule::OneCycle, 25, 40), (Schedule::Exponential, 50, 50)]
        {
            let mut shortened = schedule(name);
            shortened.shortened.ahead = 15.0;
            assert_eq!(shortened.rate(step), schedule(name).rate(same_as), "{name:?}");
            assert_eq!(shortened.rate(5), schedule(name).rate(5), "the warm-up is not shortened");
        }
    }

    #[test]
    fn a_plateau_lowers_the_rate_after_its_patience() {
        let mut schedule = schedule(Schedule::Plateau);
        let mut rates = Vec::new();
        for loss in [3.0, 2.0, 2.0, 1.9, 2.0, 1.95, 1.9, 1.8, 2.0] {
            schedule.observe(loss);
            rates.push(schedule.rate(50) / 0.5);
        }
        assert_eq!(rates, [1.0, 1.0, 1.0, 1.0, 1.0, 0.25, 0.25, 0.25, 0.25]);
    }

    #[test]
    fn the_default_warm_up_is_a_quarter_of_a_short_run() {
        let plan = TrainingPlan { schedule: Schedule::Constant, ..TrainingPlan::default() };
        for (steps, warmup) in [(1, 0), (40, 10), (799, 199), (800, 200), (100_000, 200)] {
            let schedule = RateSchedule::new(&plan, steps);
            assert_eq!(schedule.rate(warmup + 1), plan.learning_rate, "{steps}");
            assert!(warmup == 0 || schedule.rate(warmup / 2) < 0.51 * plan.learning_rate, "{steps}");
        }
        assert!(depends_on_length(&plan, 799) && !depends_on_length(&plan, 800));
    }

    #[test]
    fn without_a_warm_up_the_first_step_has_the_whole_rate() {
        let plan =
            TrainingPlan { warmup_steps: Some(0), schedule: Schedule::Constant, ..TrainingPlan::default() };
        assert_eq!(RateSchedule::new(&plan, 10).rate(1), plan.learning_rate);
    }
}
