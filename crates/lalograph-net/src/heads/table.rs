//! A score for each of a list of outcomes, their softmax, and the cross-entropy loss.
//!
//! The scores of a window are never held at once: rows are taken in chunks, each chunk's loss and gradient are finished before the next.

use std::ops::Range;

use crate::blocks::recurrent::start::StartingValues;
use crate::numbers::activation::{exp_and_sum, greatest};
use crate::numbers::real::Real;
use crate::products::multiply::{multiply, multiply_packed};
use crate::products::pack::Workspace;
use crate::products::view::{Accumulation, Matrix, MatrixMut};
use crate::vectorised;
use crate::weights::gradient::Gradient;
use crate::weights::layout::{GroupId, Initial, Layout, PackId, ReadIn};
use crate::weights::packed::Parameters;

/// Scores in a chunk, at most, unless [`LEAST_ROWS`] have more: what a lane's share of the last cache holds.
const CHUNK_SCORES: usize = 3 << 20;
/// Rows in a chunk, at most: beyond this a product gains nothing.
const CHUNK_ROWS: usize = 256;
/// Rows in a chunk, at least: below this the gradient of the weights is visited too often.
const LEAST_ROWS: usize = 64;

/// By what factor the first scores are larger than what they are read from: small enough that the first distribution is near uniform, and large enough that layers
/// below learn at once.
const OUTPUT_GAIN: f64 = 2.0;

/// Rows that are taken together.
pub(crate) fn chunk_rows(outcomes: usize, rows: usize) -> usize {
    (CHUNK_SCORES / outcomes.max(1)).clamp(LEAST_ROWS, CHUNK_ROWS).min(rows.max(1))
}

/// The score of an outcome of probability 0: low enough that e to the power of its distance to any other is 0, and finite, so that sums and
/// differences of scores stay numbers.
pub(crate) const IMPOSSIBLE: f64 = -1e30;

/// Access of training to a table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Training {
    /// All of it in every step.
    InFull,
    /// Some rows in every step.
    BySample,
}

/// Positions of the weights (outcomes x inputs) and biases (outcomes).
#[derive(Debug, Clone)]
pub struct Table {
    inputs: usize,
    outcomes: usize,
    /// Outcomes of probability 0.
    excluded: Vec<usize>,
    pub(super) weights: Range<usize>,
    pub(super) bias: Range<usize>,
    forward: PackId,
    /// None for a table that training never reads in full.
    back: Option<PackId>,
}

impl Table {
    /// Adds a table's tensors to `layout` as `name.weights` and `name.bias`: small weights, so that the distribution begins near
    /// uniform and the first loss near ln(outcomes).
    pub fn new(
        layout: &mut Layout,
        name: &str,
        group: GroupId,
        (inputs, outcomes): (usize, usize),
        excluded: &[u32],
        start: StartingValues,
    ) -> Self {
        let weights = Self::push_weights(layout, name, group, (inputs, outcomes), start);
        let bias = Self::push_bias(layout, name, group, outcomes);
        Self::over(layout, (weights, bias), (inputs, outcomes), excluded, Training::InFull)
    }

    /// Adds the weights alone.
    pub(super) fn push_weights(
        layout: &mut Layout,
        name: &str,
        group: GroupId,
        (inputs, outcomes): (usize, usize),
        start: StartingValues,
    ) -> Range<usize> {
        let spread = start.spread(OUTPUT_GAIN / (inputs as f64).sqrt());
        layout.push(format!("{name}.weights"), &[outcomes, inputs], group, spread)
    }

    /// Adds the biases alone.
    pub(super) fn push_bias(
        layout: &mut Layout,
        name: &str,
        group: GroupId,
        outcomes: usize,
    ) -> Range<usize> {
        layout.push(format!("{name}.bias"), &[outcomes], group, Initial::Constant(0.0))
    }

    /// A table over tensors that are in the layout.
    pub(super) fn over(
        layout: &mut Layout,
        (weights, bias): (Range<usize>, Range<usize>),
        (inputs, outcomes): (usize, usize),
        excluded: &[u32],
        training: Training,
    ) -> Self {
        let read_in = if training == Training::InFull { ReadIn::Every } else { ReadIn::Reading };
        let forward = layout.pack(&weights, (outcomes, inputs), 0..inputs, true, read_in);
        let back = (training == Training::InFull)
            .then(|| layout.pack(&weights, (outcomes, inputs), 0..inputs, false, ReadIn::Backward));
        let excluded = excluded.iter().map(|&outcome| outcome as usize).collect();
        Self { inputs, outcomes, excluded, weights, bias, forward, back }
    }

    /// Scores that a chunk of rows takes, for windows of so many rows.
    pub fn scratch_len(&self, rows: usize) -> usize {
        chunk_rows(self.outcomes, rows) * self.outcomes
    }

    /// Number of outcomes.
    pub fn outcomes(&self) -> usize {
        self.outcomes
    }

    /// Writes the scores of `x` (rows x inputs) to `scores` (rows x outcomes).
    pub fn scores<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        x: &[T],
        scores: &mut [T],
        work: &mut Workspace<T>,
    ) {
        let rows = x.len() / self.inputs;
        let bias = weights.part(&self.bias);
        for row in scores.chunks_exact_mut(self.outcomes) {
            row.copy_from_slice(bias);
        }
        let mut out = MatrixMut::new(scores, rows, self.outcomes);
        multiply_packed(
            Matrix::new(x, rows, self.inputs),
            weights.packed(self.forward),
            &mut out,
            Accumulation::Add,
            work,
        );
        for row in scores.chunks_exact_mut(self.outcomes) {
            self.excluded.iter().for_each(|&outcome| row[outcome] = T::of(IMPOSSIBLE));
        }
    }

    /// Adds -ln p(target) of each row to `losses`.
    pub fn losses<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        x: &[T],
        targets: &[u32],
        scratch: &mut [T],
        losses: &mut [f64],
        work: &mut Workspace<T>,
    ) {
        let rows = chunk_rows(self.outcomes, targets.len());
        for ((x, targets), losses) in
            x.chunks(rows * self.inputs).zip(targets.chunks(rows)).zip(losses.chunks_mut(rows))
        {
            let scores = &mut scratch[..targets.len() * self.outcomes];
            self.scores(weights, x, scores, work);
            for ((row, &target), loss) in scores.chunks_exact_mut(self.outcomes).zip(targets).zip(losses) {
                *loss += exponentiate(row, target).loss;
            }
        }
    }

    /// The same, and the gradient of `scale` times the sum of the losses: written to `gradient` for the table's weights, and to `d_x`
    /// (rows x inputs). With `smoothing` above 0 the target's share of the wanted distribution is 1 - smoothing and the rest is spread over
    /// all possible outcomes (Szegedy et al., 2016); what that adds to the sum of the losses is returned.
    #[expect(clippy::too_many_arguments, reason = "inputs, outputs and scratch of one pass")]
    pub fn learn<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        x: &[T],
        targets: &[u32],
        scale: T,
        smoothing: f64,
        scratch: &mut [T],
        gradient: &mut Gradient<'_, T>,
        d_x: &mut [T],
        losses: &mut [f64],
        work: &mut Workspace<T>,
    ) -> f64 {
        let rows = chunk_rows(self.outcomes, targets.len());
        gradient.part(&self.bias).fill(T::ZERO);
        if targets.is_empty() {
            gradient.part(&self.weights).fill(T::ZERO);
        }
        let possible = self.outcomes - self.excluded.len();
        let mut added = 0.0;
        let mut accumulation = Accumulation::Replace;
        let each = x.chunks(rows * self.inputs).zip(d_x.chunks_mut(rows * self.inputs));
        for ((x, d_x), (targets, losses)) in each.zip(targets.chunks(rows).zip(losses.chunks_mut(rows))) {
            let count = targets.len();
            let scores = &mut scratch[..count * self.outcomes];
            self.scores(weights, x, scores, work);
            for ((row, &target), loss) in scores.chunks_exact_mut(self.outcomes).zip(targets).zip(losses) {
                // The mean of -ln p over all possible outcomes is wanted before the scores are gone.
                let total = if smoothing > 0.0 { self.total(row) } else { 0.0 };
                let Exponentiated { loss: own, sum, best } = exponentiate(row, target);
                *loss += own;
                let share = T::of(smoothing / possible as f64) * scale;
                if smoothing > 0.0 {
                    let mean = best.to_f64() + sum.to_f64().ln() - total / possible as f64;
                    added += smoothing * (mean - own);
                }
                let factor = scale / sum;
                let d_bias = &mut gradient.part(&self.bias)[..row.len()];
                // Added up while the row is at hand: all rows together are more than a cache holds.
                vectorised!({
                    for (x, d_bias) in row.iter_mut().zip(d_bias.iter_mut()) {
                        *x = *x * factor - share;
                        *d_bias += *x;
                    }
                });
                for &outcome in &self.excluded {
                    (row[outcome], d_bias[outcome]) = (T::ZERO, T::ZERO);
                }
                let wanted = scale * T::of(1.0 - smoothing);
                row[target as usize] -= wanted;
                d_bias[target as usize] -= wanted;
            }
            let d_scores = Matrix::new(scores, count, self.outcomes);
            let mut out = MatrixMut::new(gradient.part(&self.weights), self.outcomes, self.inputs);
            multiply(d_scores.transposed(), Matrix::new(x, count, self.inputs), &mut out, accumulation, work);
            let mut out = MatrixMut::new(d_x, count, self.inputs);
            match self.back {
                Some(back) => {
                    multiply_packed(d_scores, weights.packed(back), &mut out, Accumulation::Replace, work);
                }
                None => {
                    let table = Matrix::new(weights.part(&self.weights), self.outcomes, self.inputs);
                    multiply(d_scores, table, &mut out, Accumulation::Replace, work);
                }
            }
            accumulation = Accumulation::Add;
        }
        added
    }
}

impl Table {
    /// The sum of a row's scores, without those of impossible outcomes.
    fn total<T: Real>(&self, row: &[T]) -> f64 {
        let possible = row.iter().enumerate().filter(|(outcome, _)| !self.excluded.contains(outcome));
        possible.map(|(_, score)| score.to_f64()).sum()
    }
}

pub(crate) struct Exponentiated<T> {
    /// -ln p(target).
    pub(crate) loss: f64,
    /// Sum of the exponentials of the row.
    pub(crate) sum: T,
    /// The greatest score.
    pub(crate) best: T,
}

/// Turns a row of scores into unnormalised probabilities, the greatest of them 1.
pub(crate) fn exponentiate<T: Real>(row: &mut [T], target: u32) -> Exponentiated<T> {
    let wanted = row[target as usize];
    let (best, sum) = vectorised!({
        let best = greatest(row, wanted);
        (best, exp_and_sum(row, best))
    });
    Exponentiated { loss: (best - wanted).to_f64() + sum.to_f64().ln(), sum, best }
}
