//! A run with a time limit on a machine that is too slow for all its steps: the rest of the schedule is shortened to the time that is left.

use serde::{Deserialize, Serialize};

/// Share of the time up to which the schedule keeps to the steps: by then the speed is known, and a slow beginning may have been made good.
const PATIENT: f64 = 0.5;
/// The schedule is first shortened when fewer than this share of the steps that are left fit into the time that is left.
const ENOUGH: f64 = 0.9;
/// The share of the time that the speed is a mean of, older steps counting less and less.
const MEMORY: f64 = 0.1;

/// What was left out of the schedule of a run.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Shortened {
    /// Steps that the schedule is ahead of those that were made.
    pub(crate) ahead: f64,
    /// The step after which the mean of the weights was started, if that was sooner than planned.
    pub(crate) averaged_after: Option<u64>,
}

/// The time limit of a run, and its speed of late.
#[derive(Debug, Clone)]
pub(crate) struct TimeLimit {
    /// Seconds; 0 for no limit.
    limit: f64,
    /// When the last step began.
    last: f64,
    /// Seconds and steps of late.
    spent: f64,
    made: f64,
}

impl TimeLimit {
    /// The limit of a run that goes on after so many seconds.
    pub(crate) fn new(minutes: f64, seconds: f64) -> Self {
        Self { limit: 60.0 * minutes, last: seconds, spent: 0.0, made: 0.0 }
    }

    /// Whether the time is up.
    pub(crate) fn is_up(&self, seconds: f64) -> bool {
        self.limit > 0.0 && seconds >= self.limit
    }

    /// How many steps the schedule is to be further ahead before the next step, which begins after so many seconds. `left` steps of the schedule are
    /// left; `shortened` says whether it was shortened before.
    pub(crate) fn ahead(&mut self, seconds: f64, left: f64, shortened: bool) -> f64 {
        if self.limit == 0.0 {
            return 0.0;
        }
        let taken = seconds - self.last;
        self.last = seconds;
        let kept = (-taken / (MEMORY * self.limit)).exp();
        self.spent = kept * self.spent + taken;
        let fit = (self.limit - seconds) * self.made / self.spent.max(1e-9);
        self.made = kept * self.made + 1.0;
        let enough = if shortened { 1.0 } else { ENOUGH };
        if seconds < PATIENT * self.limit || fit >= enough * left {
            return 0.0;
        }
        // Each step that is made stands for so many of the schedule, the last one perhaps for a part of one.
        left / fit.max(1.0) - 1.0
    }
}

#[cfg(test)]
mod tests {
    use super::TimeLimit;

    /// A run of 100 steps and 100 seconds whose steps take so long: the steps made, and by how many the schedule was ahead at the half and at the end.
    fn run(seconds_of: impl Fn(u64) -> f64) -> (u64, f64, f64) {
        let mut limit = TimeLimit::new(100.0 / 60.0, 0.0);
        let (mut seconds, mut made, mut ahead, mut at_half) = (0.0, 0, 0.0, 0.0);
        while made < 100 && !limit.is_up(seconds) {
            ahead += limit.ahead(seconds, 100.0 - made as f64 - ahead, ahead > 0.0);
            if seconds < 50.0 {
                at_half = ahead;
            }
            seconds += seconds_of(made);
            made += 1;
        }
        (made, at_half, ahead)
    }

    #[test]
    fn a_machine_that_is_quick_enough_changes_nothing() {
        assert_eq!(run(|_| 0.97), (100, 0.0, 0.0));
        // Twice as slow for a while, and then in time again.
        assert_eq!(run(|step| if step < 15 { 1.9 } else { 0.84 }), (100, 0.0, 0.0));
    }

    #[test]
    fn a_schedule_ends_with_the_time_of_a_slow_machine() {
        for (seconds_of, made) in [(1.05, 96), (1.6, 63), (2.0, 50), (4.0, 25), (10.0, 10)]
            .map(|(seconds, made)| (move |_| seconds, made))
        {
            let (steps, at_half, ahead) = run(seconds_of);
            assert_eq!((steps, at_half), (made, 0.0));
            let reached = steps as f64 + ahead;
            assert!((97.0..=100.0 + 1e-9).contains(&reached), "{made}: {reached}");
        }
        // One that becomes three times slower after three quarters of its steps.
        let (steps, at_half, ahead) = run(|step| if step < 75 { 1.0 } else { 3.0 });
        assert_eq!((steps, at_half), (84, 0.0));
        assert!(steps as f64 + ahead > 97.0, "{ahead}");
    }

    #[test]
    fn without_a_limit_time_is_never_up() {
        let mut limit = TimeLimit::new(0.0, 5.0);
        assert!(!limit.is_up(1e9));
        assert_eq!(limit.ahead(1e9, 1e9, true), 0.0);
    }
}
