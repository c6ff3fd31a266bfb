//! Which words are trained on, and which are negative samples.

use lalograph_net::numbers::sampler::Sampler;
use lalograph_text::Reserved;

/// The power that word counts are raised to before negative samples are drawn by them (Mikolov et al., 2013).
pub const SAMPLING_POWER: f64 = 0.75;

/// Draws negative samples: by their counts to the power of 3/4, reserved tokens never.
pub fn negative_samples(counts: &[u64]) -> Sampler {
    // Whole numbers fine enough that rounding does not show, and one lower since the sampler raises each by one.
    let powered = |(index, &count): (usize, &u64)| {
        let weight = ((count as f64).powf(SAMPLING_POWER) * 1e6).round() as u64;
        if index < Reserved::COUNT as usize { 0 } else { weight.saturating_sub(1) }
    };
    Sampler::new(&counts.iter().enumerate().map(powered).collect::<Vec<_>>(), &[])
}

/// The probability of training on each word: `sqrt(threshold / share)` of its share of the text, at most 1 (Mikolov et al., 2013). A threshold of 0 keeps all.
pub fn keep(counts: &[u64], threshold: f64) -> Vec<f64> {
    let total: u64 = counts.iter().skip(Reserved::COUNT as usize).sum();
    let share = |count: u64| count as f64 / total.max(1) as f64;
    counts
        .iter()
        .map(
            |&count| {
                if threshold > 0.0 && count > 0 { (threshold / share(count)).sqrt().min(1.0) } else { 1.0 }
            },
        )
        .collect()
}

#[cfg(test)]
mod tests {
    use super::{keep, negative_samples};
    use lalograph_net::numbers::chance::stream;

    const COUNTS: [u64; 9] = [0, 50, 0, 20, 1000, 400, 100, 30, 1];

    #[test]
    fn noise_follows_the_powered_counts() {
        let sampler = negative_samples(&COUNTS);
        let mut random = stream(1, "noise", &[]);
        let mut drawn = [0u32; 9];
        let draws = 400_000;
        for _ in 0..draws {
            drawn[sampler.draw(&mut random) as usize] += 1;
        }
        let weight = |count: u64| (count as f64).powf(0.75);
        let total: f64 = COUNTS[4..].iter().map(|&count| weight(count)).sum();
        let mut statistic = 0.0;
        for (index, &count) in COUNTS.iter().enumerate().skip(4) {
            let expected = weight(count) / total * f64::from(draws);
            statistic += (f64::from(drawn[index]) - expected).powi(2) / expected;
        }
        // The 99.9 % point of chi-squared with four degrees of freedom.
        assert!(statistic < 18.47, "{statistic} {drawn:?}");
        assert_eq!(drawn[..4].iter().sum::<u32>(), 0);
    }

    #[test]
    fn frequent_words_are_kept_by_the_formula() {
        let keep = keep(&COUNTS, 0.01);
        let total = 1531.0;
        assert!((keep[4] - (0.01f64 * total / 1000.0).sqrt()).abs() < 1e-12);
        assert!((keep[6] - (0.01f64 * total / 100.0).sqrt()).abs() < 1e-12);
        assert_eq!(keep[8], 1.0);
        assert!(super::keep(&COUNTS, 0.0).iter().all(|&keep| keep == 1.0));
    }
}
