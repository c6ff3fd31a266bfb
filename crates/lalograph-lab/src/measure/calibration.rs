//! One temperature for the scores of a classifier, so that its probabilities are as often right as they say (Guo et al., 2017).

use super::decisions::Decisions;

/// Inverse temperatures that are tried: the scores are divided by 50 at most and multiplied by 50 at most.
const RANGE: (f64, f64) = (0.02, 50.0);
/// Halvings of the range, which leave less than a rounding error of it.
const HALVINGS: usize = 80;
/// What stands for the logarithm of a probability of 0: about that of the smallest number.
const LEAST_LOG: f64 = -745.0;

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

/// The temperature with the lowest loss on these documents, as if their classes had one more document among them: of `n` documents and `k`
/// classes, a document's class counts `n` in `n + 1`, and every class `1 / k` besides (Krichevsky and Trofimov, 1981, for two classes). Without
/// that, a few documents that are all decided rightly would make every probability 1 (Platt, 1999, counts a document a class).
///
/// The loss is convex in the inverse temperature: where its slope is 0 it is lowest.
pub fn fit_temperature(decisions: &Decisions) -> f64 {
    let documents = decisions.count() as f64;
    let slope = |inverse: f64| -> f64 {
        let each = (0..decisions.count()).map(|document| {
            let logs = decisions.logs(document);
            let expected: f64 = tempered(logs, 1.0 / inverse)
                .iter()
                .zip(logs)
                // Where the probability is 0, so is its part.
                .map(|(tempered, log)| if *log == f64::NEG_INFINITY { 0.0 } else { tempered.exp() * log })
                .sum();
            let every = logs.iter().map(|log| log.max(LEAST_LOG)).sum::<f64>() / logs.len() as f64;
            expected
                - (documents * logs[decisions.truth(document)].max(LEAST_LOG) + every) / (documents + 1.0)
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

    /// Documents of two classes with probability 0.99 for the first, to which `right` of them belong.
    fn confident(documents: usize, right: usize) -> Decisions {
        let logs = (0..documents).flat_map(|_| [0.99f64.ln(), 0.01f64.ln()]).collect();
        Decisions::new(2, (0..documents).map(|i| u32::from(i >= right)).collect(), logs)
    }

    #[test]
    fn the_temperature_undoes_confidence_that_is_too_high() {
        // Of 10 documents with probability 0.99 for their class, 8 are right: (8 * 10.5 + 2 * 0.5) / 110 is the probability that fits.
        let few = confident(10, 8);
        let temperature = fit_temperature(&few);
        assert!((temperature - 99f64.ln() / 3.4f64.ln()).abs() < 1e-9, "{temperature}");
        assert!((at_temperature(&few, temperature).confidence(0) - 8.5 / 11.0).abs() < 1e-9);
        // The share of many documents that are right is their probability.
        let found = confident(100_000, 80_000);
        let temperature = fit_temperature(&found);
        let calibrated = at_temperature(&found, temperature);
        assert!((calibrated.confidence(0) - 0.8).abs() < 1e-5);
        assert!(calibrated.loss() < found.loss() && calibrated.right() == found.right());
        // No other temperature has a lower loss.
        for other in [0.9, 0.99, 1.01, 1.1] {
            assert!(at_temperature(&found, temperature * other).loss() > calibrated.loss());
        }
        assert!((fit_temperature(&calibrated) - 1.0).abs() < 1e-9);
    }

    #[test]
    fn documents_that_are_all_right_are_not_proof_that_all_will_be() {
        let few = confident(10, 10);
        assert!((at_temperature(&few, fit_temperature(&few)).confidence(0) - 10.5 / 11.0).abs() < 1e-9);
        // Probabilities of 0 are no reason to fail.
        let certain = Decisions::new(2, vec![0, 1], vec![0.0, f64::NEG_INFINITY, f64::NEG_INFINITY, 0.0]);
        assert!(fit_temperature(&certain).is_finite());
    }
}
