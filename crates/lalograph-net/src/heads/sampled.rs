//! Training against a sample of the vocabulary (Jean et al., 2015): each step draws some tokens by their frequency and tells the
//! target from those alone. Scores are lowered by the logarithm of how often a token is expected in the sample, which makes the gradient
//! that of the whole softmax in the limit of a large sample. The loss that comes of it is no perplexity; text is scored with the whole
//! softmax.

use rand::Rng;

use super::table::{Table, chunk_rows, exponentiate};
use crate::numbers::chance::{Stream, stream};
use crate::numbers::real::Real;
use crate::numbers::rooms::Rooms;
use crate::products::multiply::multiply;
use crate::products::pack::Workspace;
use crate::products::view::{Accumulation, Matrix, MatrixMut};
use crate::weights::gradient::RowGradient;
use crate::weights::packed::Parameters;

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

/// The tokens that one step is trained against.
#[derive(Debug, Clone, Default)]
pub struct Candidates<T> {
    tokens: Vec<u32>,
    /// ln of how often each is expected.
    log_expected: Vec<T>,
}

impl<T: Real> Candidates<T> {
    /// Draws `count` tokens in place of those before.
    pub fn draw(&mut self, sampler: &Sampler, count: usize, random: &mut Stream) {
        self.tokens.clear();
        self.log_expected.clear();
        for _ in 0..count {
            let token = sampler.draw(random);
            self.tokens.push(token);
            self.log_expected.push(log_expected(sampler, count, token));
        }
    }
}

/// The negative samples of a step, shared by all lanes; empty for a softmax over the whole vocabulary.
#[derive(Debug, Clone, Default)]
pub struct SharedSample<T> {
    sampler: Option<Sampler>,
    candidates: Candidates<T>,
}

impl<T: Real> SharedSample<T> {
    /// No sample: for a softmax that training computes in full.
    pub fn none() -> Self {
        Self { sampler: None, candidates: Candidates::default() }
    }

    /// Samples drawn by these counts, one a token, without those that are `excluded`.
    pub fn by_counts(counts: &[u64], excluded: &[u32]) -> Self {
        Self { sampler: Some(Sampler::new(counts, excluded)), candidates: Candidates::default() }
    }

    /// Draws `count` tokens for a step.
    pub fn draw(&mut self, count: usize, seed: u64, step: u64) {
        self.draw_from(count, &mut stream(seed, "sampled softmax", &[step]));
    }

    /// Draws `count` tokens from another source of chance.
    pub fn draw_from(&mut self, count: usize, random: &mut Stream) {
        if let Some(sampler) = &self.sampler {
            self.candidates.draw(sampler, count, random);
        }
    }

    /// The sampler and what it has drawn, if there is a sample.
    pub fn drawn(&self) -> Option<(&Sampler, &Candidates<T>)> {
        self.sampler.as_ref().map(|sampler| (sampler, &self.candidates))
    }
}

fn log_expected<T: Real>(sampler: &Sampler, count: usize, token: u32) -> T {
    T::of((count as f64 * sampler.probability(token)).ln())
}

/// Room to work in.
#[derive(Debug, Clone, Default)]
pub(crate) struct SampledScratch<T> {
    scores: Vec<T>,
    chosen: Vec<T>,
    d_targets: Vec<T>,
}

impl<T: Real> SampledScratch<T> {
    pub(crate) fn within(rooms: &mut Rooms, inputs: usize, samples: usize, rows: usize) -> Self {
        let chunk = chunk_rows(samples + 1, rows);
        Self {
            scores: rooms.zeros(chunk * (samples + 1)),
            chosen: rooms.zeros((samples + 1) * inputs),
            d_targets: rooms.zeros(chunk),
        }
    }
}

/// The loss against the candidates, its gradient for the rows of the table that took part (weights and biases), and by `x`.
#[expect(clippy::too_many_arguments, reason = "inputs, outputs and scratch of one pass")]
pub(crate) fn learn<T: Real>(
    table: &Table,
    weights: Parameters<'_, T>,
    x: &[T],
    targets: &[u32],
    scale: T,
    (sampler, candidates): (&Sampler, &Candidates<T>),
    scratch: &mut SampledScratch<T>,
    [table_rows, bias_rows]: [&mut RowGradient<T>; 2],
    d_x: &mut [T],
    losses: &mut [f64],
    work: &mut Workspace<T>,
) {
    let samples = candidates.tokens.len();
    let inputs = x.len() / targets.len().max(1);
    let (flat, biases) = (weights.part(&table.weights), weights.part(&table.bias));
    let vector = |token: u32| &flat[token as usize * inputs..(token as usize + 1) * inputs];
    let SampledScratch { scores, chosen, d_targets } = scratch;
    let chosen = &mut chosen[..samples * inputs];
    for (to, &token) in chosen.chunks_exact_mut(inputs).zip(&candidates.tokens) {
        to.copy_from_slice(vector(token));
    }
    for gradient in [&mut *table_rows, &mut *bias_rows] {
        gradient.rows.clear();
        gradient.rows.extend_from_slice(&candidates.tokens);
        gradient.rows.extend_from_slice(targets);
        gradient.values.clear();
        gradient.values.resize((samples + targets.len()) * gradient.width, T::ZERO);
    }
    let (d_chosen, d_wanted) = table_rows.values.split_at_mut(samples * inputs);
    let (d_chosen_bias, d_wanted_bias) = bias_rows.values.split_at_mut(samples);

    let rows = chunk_rows(samples + 1, targets.len());
    let width = samples + 1;
    for (index, targets) in targets.chunks(rows).enumerate() {
        let count = targets.len();
        let part = index * rows * inputs..(index * rows + count) * inputs;
        let (x, d_x) = (&x[part.clone()], &mut d_x[part.clone()]);
        let scores = &mut scores[..count * width];
        let by_row = Matrix::new(x, count, inputs);
        let chosen = Matrix::new(chosen, samples, inputs);
        let mut out = MatrixMut::new(scores, count, width).columns(0, samples);
        multiply(by_row, chosen.transposed(), &mut out, Accumulation::Replace, work);
        for (row, (scores, &target)) in scores.chunks_exact_mut(width).zip(targets).enumerate() {
            for (score, (&token, &expected)) in
                scores.iter_mut().zip(candidates.tokens.iter().zip(&candidates.log_expected))
            {
                // The target is not its own rival.
                *score =
                    if token == target { T::of(-1e30) } else { *score + biases[token as usize] - expected };
            }
            let h = &x[row * inputs..(row + 1) * inputs];
            let own: T = h.iter().zip(vector(target)).map(|(&x, &w)| x * w).sum();
            scores[samples] = own + biases[target as usize] - log_expected(sampler, samples, target);
            let done = exponentiate(scores, samples as u32);
            losses[index * rows + row] += done.loss;
            let factor = scale / done.sum;
            scores.iter_mut().for_each(|score| *score *= factor);
            scores[samples] -= scale;
            d_targets[row] = scores[samples];
        }
        let d_scores = Matrix::new(scores, count, width).columns(0, samples);
        let mut out = MatrixMut::new(&mut *d_chosen, samples, inputs);
        multiply(d_scores.transposed(), by_row, &mut out, Accumulation::Add, work);
        multiply(
            d_scores,
            chosen,
            &mut MatrixMut::new(&mut *d_x, count, inputs),
            Accumulation::Replace,
            work,
        );
        for scores in scores.chunks_exact(width) {
            d_chosen_bias.iter_mut().zip(scores).for_each(|(sum, &d)| *sum += d);
        }
        for (row, &target) in targets.iter().enumerate() {
            let (d, at) = (d_targets[row], index * rows + row);
            d_wanted_bias[at] = d;
            let (h, w) = (&x[row * inputs..(row + 1) * inputs], vector(target));
            let d_w = &mut d_wanted[at * inputs..(at + 1) * inputs];
            for i in 0..inputs {
                d_w[i] = d * h[i];
                d_x[row * inputs + i] += d * w[i];
            }
        }
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
