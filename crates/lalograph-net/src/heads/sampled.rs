//! Training against a sample of the vocabulary (Jean et al., 2015): each step takes some tokens by their frequency and predicts the target among those alone.
//! Scores are lowered by the logarithm of the chance that a token had to be among them, so that what is learnt are the probabilities of the whole softmax:
//! given which tokens are compared, the target is each of them with its probability over that chance. The loss that comes of it is no perplexity; text is
//! scored with the whole softmax.
//!
//! All tokens of a sample differ, and the most frequent are in every sample. If the sample is as large as the vocabulary, it is the whole softmax.

use rand::RngExt;

use super::table::{Table, chunk_rows, exponentiate};
use crate::numbers::chance::{Stream, stream};
use crate::numbers::real::Real;
use crate::numbers::rooms::Rooms;
use crate::products::multiply::multiply;
use crate::products::pack::Workspace;
use crate::products::view::{Accumulation, Matrix, MatrixMut};
use crate::weights::gradient::RowGradient;
use crate::weights::packed::Parameters;

/// The power of the counts that tokens are taken by.
const POWER: f64 = 0.75;

/// Which tokens a step is trained against: each is among them with a known chance, the same in every step.
#[derive(Debug, Clone, Default)]
pub struct Proposal {
    /// For each token its chance and those of all before it.
    sums: Vec<f64>,
    /// The logarithm of each chance.
    log_chance: Vec<f64>,
    samples: usize,
}

impl Proposal {
    /// Takes `samples` of the tokens with these counts, or all if there are no more. Chances are as the counts to the power of 3/4, at most 1. Each count
    /// is taken to be one higher, so that every token can be taken, but for those that are `excluded`.
    pub fn new(counts: &[u64], excluded: &[u32], samples: usize) -> Self {
        let mut chance: Vec<f64> = counts.iter().map(|&count| (count as f64 + 1.0).powf(POWER)).collect();
        for &token in excluded {
            if let Some(weight) = chance.get_mut(token as usize) {
                *weight = 0.0;
            }
        }
        let mut by_weight: Vec<usize> = (0..chance.len()).filter(|&token| chance[token] > 0.0).collect();
        by_weight.sort_by(|&a, &b| chance[b].total_cmp(&chance[a]));
        let samples = samples.min(by_weight.len());
        // The most frequent, as long as their share of what is left is more than a whole place, are always taken.
        let mut left: f64 = by_weight.iter().map(|&token| chance[token]).sum();
        let mut places = samples as f64;
        for token in by_weight {
            let weight = chance[token];
            if weight * places >= left {
                chance[token] = 1.0;
                (places, left) = (places - 1.0, left - weight);
            } else {
                chance[token] = weight * places / left;
            }
        }
        let log_chance = chance.iter().map(|chance| chance.ln()).collect();
        let mut sum = 0.0;
        for value in &mut chance {
            sum += *value;
            *value = sum;
        }
        Self { sums: chance, log_chance, samples }
    }

    /// The logarithm of the chance that a sample has `token`.
    pub fn log_chance(&self, token: u32) -> f64 {
        self.log_chance[token as usize]
    }
}

/// The tokens that one step is trained against.
#[derive(Debug, Clone, Default)]
pub struct Candidates<T> {
    tokens: Vec<u32>,
    /// ln of the chance of each.
    log_chance: Vec<T>,
}

impl<T: Real> Candidates<T> {
    /// Takes other tokens in place of those before: at equal distances over the sums of the chances, from a random start (Madow, 1949).
    pub fn draw(&mut self, proposal: &Proposal, random: &mut Stream) {
        self.tokens.clear();
        self.log_chance.clear();
        let start: f64 = random.random();
        for place in 0..proposal.samples {
            let at = proposal.sums.partition_point(|&sum| sum <= start + place as f64) as u32;
            // By rounding a place may be that of the token before, or past the end.
            if (at as usize) < proposal.sums.len() && self.tokens.last() != Some(&at) {
                self.tokens.push(at);
                self.log_chance.push(T::of(proposal.log_chance(at)));
            }
        }
    }

    /// The tokens, in ascending order.
    pub fn tokens(&self) -> &[u32] {
        &self.tokens
    }
}

/// The negative samples of a step, shared by all lanes; empty for a softmax over the whole vocabulary.
#[derive(Debug, Clone, Default)]
pub struct SharedSample<T> {
    proposal: Option<Proposal>,
    candidates: Candidates<T>,
}

impl<T: Real> SharedSample<T> {
    /// No sample: for a softmax that training computes in full.
    pub fn none() -> Self {
        Self { proposal: None, candidates: Candidates::default() }
    }

    /// So many samples by these counts, one a token, without those that are `excluded`.
    pub fn by_counts(counts: &[u64], excluded: &[u32], samples: usize) -> Self {
        Self { proposal: Some(Proposal::new(counts, excluded, samples)), candidates: Candidates::default() }
    }

    /// Draws the tokens of a step.
    pub fn draw(&mut self, seed: u64, step: u64) {
        self.draw_from(&mut stream(seed, "sampled softmax", &[step]));
    }

    /// Draws tokens from another source of chance.
    pub fn draw_from(&mut self, random: &mut Stream) {
        if let Some(proposal) = &self.proposal {
            self.candidates.draw(proposal, random);
        }
    }

    /// The proposal and what was drawn by it, if there is a sample.
    pub fn drawn(&self) -> Option<(&Proposal, &Candidates<T>)> {
        self.proposal.as_ref().map(|proposal| (proposal, &self.candidates))
    }
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
    (proposal, candidates): (&Proposal, &Candidates<T>),
    scratch: &mut SampledScratch<T>,
    [table_rows, bias_rows]: [&mut RowGradient<T>; 2],
    d_x: &mut [T],
    losses: &mut [f64],
    work: &mut Workspace<T>,
) {
    let samples = candidates.tokens.len();
    let inputs = table_rows.width;
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
            for (score, (&token, &log_chance)) in
                scores.iter_mut().zip(candidates.tokens.iter().zip(&candidates.log_chance))
            {
                // The target is not its own rival.
                *score =
                    if token == target { T::of(-1e30) } else { *score + biases[token as usize] - log_chance };
            }
            let h = &x[row * inputs..(row + 1) * inputs];
            let own: T = h.iter().zip(vector(target)).map(|(&x, &w)| x * w).sum();
            scores[samples] = own + biases[target as usize] - T::of(proposal.log_chance(target));
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
    use super::{Candidates, Proposal};
    use crate::numbers::chance::stream;

    const COUNTS: [u64; 9] = [0, 9, 999, 4, 1, 29, 50, 7, 3];

    /// How often each token is in a sample, of 20,000; and the sizes of the samples.
    fn taken(proposal: &Proposal) -> ([f64; 9], Vec<usize>) {
        let (mut random, mut candidates) = (stream(1, "test", &[]), Candidates::<f64>::default());
        let (mut times, mut sizes) = ([0u32; 9], Vec::new());
        for _ in 0..20_000 {
            candidates.draw(proposal, &mut random);
            candidates.tokens().iter().for_each(|&token| times[token as usize] += 1);
            sizes.push(candidates.tokens().len());
        }
        sizes.dedup();
        (times.map(|times| f64::from(times) / 20_000.0), sizes)
    }

    #[test]
    fn every_token_is_in_a_sample_as_often_as_is_said() {
        let proposal = Proposal::new(&COUNTS, &[6], 4);
        let (times, sizes) = taken(&proposal);
        assert_eq!(sizes, [4], "all differ");
        assert_eq!((times[2], times[6]), (1.0, 0.0), "always, and never");
        for (token, &found) in times.iter().enumerate() {
            let chance = proposal.log_chance(token as u32).exp();
            let error = 4.0 * (chance * (1.0 - chance) / 20_000.0).sqrt() + 1e-9;
            assert!((found - chance).abs() < error, "{token}: {found} for {chance}");
        }
        let ratio = proposal.log_chance(3) - proposal.log_chance(4);
        assert!((ratio - 0.75 * 2.5f64.ln()).abs() < 1e-12, "as the power of the counts");
    }

    #[test]
    fn a_sample_of_all_has_all() {
        for samples in [8, 1000] {
            let proposal = Proposal::new(&COUNTS, &[6], samples);
            assert_eq!(taken(&proposal).1, [8]);
            assert!((0..9).filter(|&token| token != 6).all(|token| proposal.log_chance(token) == 0.0));
        }
    }
}
