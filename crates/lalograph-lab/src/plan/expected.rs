//! `[expected]`: what a plan that was made for a time and a text is expected to reach.

use super::Plan;
use super::section::section;

section! {
    /// the expected result of a plan for a time. Training does not use it; the report of the run compares with it.
    pub struct ExpectedPlan in "expected" {
        /// Expected minutes of training.
        pub minutes: f64 = 0.0,
        /// Lowest expected validation perplexity.
        pub lowest_perplexity: f64 = 0.0,
        /// Highest expected validation perplexity.
        pub highest_perplexity: f64 = 0.0,
    }
}

impl ExpectedPlan {
    /// Where a perplexity lies.
    pub fn place(&self, perplexity: f64) -> Fulfilment {
        if perplexity < self.lowest_perplexity {
            Fulfilment::Below
        } else if perplexity <= self.highest_perplexity {
            Fulfilment::Within
        } else {
            Fulfilment::Above
        }
    }
}

/// A perplexity beside the range that was expected.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fulfilment {
    /// Lower, so better.
    Below,
    /// As expected.
    Within,
    /// Higher, so worse; also a perplexity that is no number.
    Above,
}

impl Plan {
    /// Forgets what was expected of the plan, if settings that decide the result are no longer those of `original`.
    pub fn expect_only_of(&mut self, original: &Self) {
        let bare = |plan: &Self| Self {
            expected: None,
            samples: super::SamplesPlan::default(),
            checkpoints: super::CheckpointsPlan::default(),
            ..plan.clone()
        };
        if bare(self) != bare(original) {
            self.expected = None;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::{ExpectedPlan, Fulfilment};
    use crate::Plan;

    #[test]
    fn a_perplexity_is_below_within_or_above_the_range() {
        let expected = ExpectedPlan { minutes: 30.0, lowest_perplexity: 90.0, highest_perplexity: 110.0 };
        for (perplexity, place) in [
            (89.9, Fulfilment::Below),
            (90.0, Fulfilment::Within),
            (110.0, Fulfilment::Within),
            (110.1, Fulfilment::Above),
            (f64::NAN, Fulfilment::Above),
        ] {
            assert_eq!(expected.place(perplexity), place, "{perplexity}");
        }
    }

    #[test]
    fn what_was_expected_of_other_settings_is_forgotten() {
        let text = "[expected]\nminutes = 3.0\nlowest_perplexity = 9.0\nhighest_perplexity = 10.0\n";
        let plan = Plan::from_toml(text, &[]).unwrap();
        let changed = |settings: &[&str]| {
            let settings: Vec<String> = settings.iter().map(|&s| s.to_owned()).collect();
            let mut changed = Plan::from_toml(text, &settings).unwrap();
            changed.expect_only_of(&plan);
            changed.expected
        };
        assert_eq!(changed(&[]), plan.expected);
        assert_eq!(changed(&["samples.every=7", "checkpoints.minutes=1"]), plan.expected);
        assert_eq!(changed(&["training.batch=7"]), None);
    }
}
