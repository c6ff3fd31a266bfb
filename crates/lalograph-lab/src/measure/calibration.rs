//! One temperature for the scores of a classifier, so that its probabilities are as often right as they say (Guo et al., 2017).

use super::decisions::Decisions;

/// Inverse temperatures that are tried: the scores are divided by 50 at most and multiplied by 50 at most.
const RANGE: (f64, f64) = (0.02, 50.0);
/// Halvings of the range, which leave less than a rounding error of it.
const HALVINGS: usize = 80;

/// Log-probabilities at a temperature: the scores divided by it.
pub fn tempered(logs: &[f64], temperature: f64) -> Vec<f64> {
    let mut logs: Vec<f64> = logs.iter().map(|log| log / temperature).collect();
    let best = logs.iter().copied().fold(f64::NEG_INFINITY, f64::max);
    let total = best + logs.iter().map(|log| (log - best).exp()).sum::<f64>().ln();
    logs.iter_mut().for_each(|log| *log -= total);
    logs
}

/// The decisions at a temperature.
pub fn at_temperature(decisions: &Decisions, temperature: f64) -> Decisions {
    let each = (0..decisions.count()).flat_map(|document| tempered(decisions.logs(document), temperature));
    decisions.with_logs(each.collect())
}

/// The temperature with the lowest loss on these documents. The loss is convex in the inverse temperature: where its slope is 0 it is lowest.
pub fn fit_temperature(decisions: &Decisions) -> f64 {
    let slope = |inverse: f64| -> f64 {
        let each = (0..decisions.count()).map(|document| {
            let logs = decisions.logs(document);
            let expected: f64 = tempered(logs, 1.0 / inverse)
                .iter()
                .zip(logs)
                // Where the probability is 0, so is its part.
                .map(|(tempered, log)| if *log == f64::NEG_INFINITY { 0.0 } else { tempered.exp() * log })
                .sum();
            expected - logs[decisions.truth(document)]
        });
        each.sum()
    };
    // By ratio: as many halvings for small as for large ones.
    let (mut low, mut high) = (RANGE.0.ln(), RANGE.1.ln());
    for _ in 0..HALVINGS {
        let middle = f64::midpoint(low, high);
        if slope(middle.exp()) < 0.0 { low = middle } else { high = middle }
    }
    (-f64::midpoint(low, high)).exp()
}

#[cfg(test)]
mod tests {
    use super::{at_temperature, fit_temperature};
    use crate::measure::decisions::Decisions;

    #[test]
    fn the_temperature_undoes_confidence_that_is_too_high() {
        // Of 10 documents with probability 0.99 for their class, 8 are right: ln(0.8 / 0.2) is the log-odds that fits.
        let logs: Vec<f64> = (0..10).flat_map(|_| [0.99f64.ln(), 0.01f64.ln()]).collect();
        let truths = (0..10).map(|i| u32::from(i >= 8)).collect();
        let found = Decisions::new(2, truths, logs);
        let temperature = fit_temperature(&found);
        assert!((temperature - 99f64.ln() / 4f64.ln()).abs() < 1e-9, "{temperature}");
        let calibrated = at_temperature(&found, temperature);
        assert!((calibrated.confidence(0) - 0.8).abs() < 1e-9);
        assert!(calibrated.loss() < found.loss() && calibrated.right() == found.right());
        // No other temperature has a lower loss.
        for other in [0.9, 0.99, 1.01, 1.1] {
            assert!(at_temperature(&found, temperature * other).loss() > calibrated.loss());
        }
        assert!((fit_temperature(&calibrated) - 1.0).abs() < 1e-9);
    }
}
