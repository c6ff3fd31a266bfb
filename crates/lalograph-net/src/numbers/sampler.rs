//! Drawing by frequency.

use rand::Rng;

use super::chance::Stream;

const TWO_TO_64: f64 = 18_446_744_073_709_551_616.0;

/// Draws tokens by their frequency in constant time (Walker, 1977).
#[derive(Debug, Clone)]
pub struct Sampler {
    /// For each token what share of its place is its own, in parts of 2^64, and whose the rest is.
    places: Vec<(u64, u32)>,
    probability: Vec<f64>,
}

impl Sampler {
    /// A sampler over tokens with these counts; each is taken to be one higher, so that every token can be drawn, but for those that are
    /// `excluded`.
    pub fn new(counts: &[u64], excluded: &[u32]) -> Self {
        let mut weights: Vec<f64> = counts.iter().map(|&count| count as f64 + 1.0).collect();
        for &token in excluded {
            if let Some(weight) = weights.get_mut(token as usize) {
                *weight = 0.0;
            }
        }
        let total: f64 = weights.iter().sum();
        let probability: Vec<f64> = weights.iter().map(|weight| weight / total).collect();
        let size = counts.len() as f64;
        let mut share: Vec<f64> = probability.iter().map(|p| p * size).collect();
        let mut alias: Vec<u32> = (0..counts.len() as u32).collect();
        let (mut small, mut large): (Vec<usize>, Vec<usize>) =
            (0..share.len()).partition(|&i| share[i] < 1.0);
        while let (Some(&low), Some(&high)) = (small.last(), large.last()) {
            small.pop();
            alias[low] = high as u32;
            share[high] -= 1.0 - share[low];
            if share[high] < 1.0 {
                large.pop();
                small.push(high);
            }
        }
        // What is left over by rounding has its place for itself, unless it may not be drawn.
        let most_probable = (0..counts.len()).max_by(|&a, &b| probability[a].total_cmp(&probability[b]));
        for index in small.into_iter().chain(large) {
            if probability[index] > 0.0 {
                share[index] = 1.0;
            } else if let Some(most_probable) = most_probable {
                (share[index], alias[index]) = (0.0, most_probable as u32);
            }
        }
        // A conversion to whole numbers stops at the greatest.
        let places =
            share.iter().zip(alias).map(|(share, alias)| ((share * TWO_TO_64) as u64, alias)).collect();
        Self { places, probability }
    }

    /// Draws one token.
    #[inline]
    pub fn draw(&self, random: &mut Stream) -> u32 {
        // A place and a number below one from one draw: the whole part and the fraction of so many places times it.
        let scaled = u128::from(random.next_u64()) * self.places.len() as u128;
        let (place, fraction) = ((scaled >> 64) as usize, scaled as u64);
        let (share, alias) = self.places[place];
        if fraction < share { place as u32 } else { alias }
    }

    /// The probability of drawing `token`.
    pub fn probability(&self, token: u32) -> f64 {
        self.probability[token as usize]
    }
}

#[cfg(test)]
mod tests {
    use super::Sampler;
    use crate::numbers::chance::stream;

    /// Pearson's statistic against its 99.9 % point for 5 degrees of freedom.
    #[test]
    fn tokens_are_drawn_by_their_frequency() {
        let sampler = Sampler::new(&[0, 9, 99, 4, 1, 29, 50], &[6]);
        let mut random = stream(1, "test", &[]);
        let mut counts = [0u32; 7];
        for _ in 0..100_000 {
            counts[sampler.draw(&mut random) as usize] += 1;
        }
        let statistic: f64 = (0..6)
            .map(|token| {
                let expected = 100_000.0 * sampler.probability(token);
                (f64::from(counts[token as usize]) - expected).powi(2) / expected
            })
            .sum();
        assert!(statistic < 20.52, "{statistic}: {counts:?}");
        assert!((sampler.probability(2) - 100.0 / 148.0).abs() < 1e-12);
        assert_eq!((counts[6], sampler.probability(6)), (0, 0.0));
    }
}
