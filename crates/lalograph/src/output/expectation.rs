//! What was expected of a run, and what came of it, in words.

use lalograph_lab::plan::{ExpectedPlan, Fulfilment};

use super::number::{count, duration};

/// What is expected.
pub(crate) fn expected(plan: &ExpectedPlan) -> String {
    format!("{} of training, validation perplexity {}", duration(60.0 * plan.minutes), range(plan))
}

/// What came of it.
pub(crate) fn came_of(plan: &ExpectedPlan, seconds: f64, found: f64) -> String {
    let wanted = 60.0 * plan.minutes;
    let share = 100.0 * (seconds / wanted - 1.0);
    let time = match share {
        _ if wanted <= 0.0 => duration(seconds),
        share if share.abs() < 0.5 => format!("{}, as expected", duration(seconds)),
        share => format!(
            "{}, {:.0} % {} than expected",
            duration(seconds),
            share.abs(),
            if share < 0.0 { "less" } else { "more" }
        ),
    };
    let place = match plan.place(found) {
        Fulfilment::Below => "better than",
        Fulfilment::Within => "within",
        Fulfilment::Above => "worse than",
    };
    format!("{time}; perplexity {place} the expected {}", range(plan))
}

fn range(plan: &ExpectedPlan) -> String {
    format!("{} to {}", rounded(plan.lowest_perplexity), rounded(plan.highest_perplexity))
}

/// An end of a range: no digits that it cannot have.
fn rounded(perplexity: f64) -> String {
    match perplexity {
        p if p < 10.0 => format!("{p:.2}"),
        p if p < 30.0 => format!("{p:.1}"),
        p => count(p.round() as u64),
    }
}

#[cfg(test)]
mod tests {
    use super::{ExpectedPlan, came_of, expected};

    #[test]
    fn time_and_perplexity_are_compared() {
        let plan = ExpectedPlan { minutes: 10.0, lowest_perplexity: 90.0, highest_perplexity: 110.0 };
        assert_eq!(expected(&plan), "10 min 00 s of training, validation perplexity 90 to 110");
        for (seconds, found, words) in [
            (540.0, 100.0, "9 min 00 s, 10 % less than expected; perplexity within the expected 90 to 110"),
            (601.0, 80.0, "10 min 01 s, as expected; perplexity better than the expected 90 to 110"),
            (
                690.0,
                120.0,
                "11 min 30 s, 15 % more than expected; perplexity worse than the expected 90 to 110",
            ),
        ] {
            assert_eq!(came_of(&plan, seconds, found), words);
        }
    }
}
