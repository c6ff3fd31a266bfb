//! The output layer: scores over the vocabulary, their softmax, and the cross-entropy loss.
//!
//! The scores of a window are never held at once: rows are taken in chunks, each chunk's loss and gradient are finished before the next.

use std::ops::Range;

use crate::activation::{exp_and_sum, greatest, vectorised};
use crate::matrix::{Into, Matrix, add_column_sums, multiply};
use crate::parameters::{Initial, Layout};
use crate::real::Real;

/// A target that is not scored: no loss, no gradient.
pub const IGNORED: u32 = u32::MAX;

/// Scores in a chunk, at most, unless a single row has more.
const CHUNK_SCORES: usize = 1 << 18;
/// Rows in a chunk, at most: beyond this a product gains nothing.
const CHUNK_ROWS: usize = 256;

/// The layer: where its weights (vocabulary x hidden) and biases (vocabulary) lie.
#[derive(Debug, Clone)]
pub struct Softmax {
    hidden: usize,
    vocabulary: usize,
    weights: Range<usize>,
    bias: Range<usize>,
}

impl Softmax {
    /// Adds the layer's tensors to `layout` under `name`.
    pub fn new(layout: &mut Layout, name: &str, hidden: usize, vocabulary: usize) -> Self {
        let bound = (3.0 / hidden as f64).sqrt();
        Self {
            hidden,
            vocabulary,
            // Small at first: the distribution begins near uniform, and the first loss near ln(vocabulary).
            weights: layout.push(
                format!("{name}.weights"),
                &[vocabulary, hidden],
                Initial::Uniform(bound / 4.0),
            ),
            bias: layout.push(
                format!("{name}.bias"),
                &[vocabulary],
                Initial::ZeroBut { from: 0, to: 0, value: 0.0 },
            ),
        }
    }

    /// Room for the scores of one chunk of a window of `tokens`.
    pub fn scratch<T: Real>(&self, tokens: usize) -> Vec<T> {
        vec![T::ZERO; self.chunk_rows(tokens) * self.vocabulary]
    }

    fn chunk_rows(&self, tokens: usize) -> usize {
        (CHUNK_SCORES / self.vocabulary).clamp(1, CHUNK_ROWS).min(tokens.max(1))
    }

    /// Writes the scores of `hidden` (rows x hidden) to `scores` (rows x vocabulary): natural logarithms of
    /// probabilities, up to a constant for each row.
    pub fn scores<T: Real>(&self, weights: &[T], hidden: &[T], scores: &mut [T]) {
        let rows = hidden.len() / self.hidden;
        let table = Matrix::new(&weights[self.weights.clone()], self.vocabulary, self.hidden);
        let bias = &weights[self.bias.clone()];
        for row in scores.chunks_exact_mut(self.vocabulary) {
            row.copy_from_slice(bias);
        }
        multiply(Matrix::new(hidden, rows, self.hidden), table.transposed(), scores, Into::Add);
    }

    /// The sum of the losses -ln p(target) over all rows; the loss of each is appended to `each` if it is given.
    pub fn loss<T: Real>(
        &self,
        weights: &[T],
        hidden: &[T],
        targets: &[u32],
        scratch: &mut [T],
        mut each: Option<&mut Vec<f64>>,
    ) -> f64 {
        let rows = self.chunk_rows(scratch.len() / self.vocabulary);
        let mut total = 0.0;
        for (hidden, targets) in hidden.chunks(rows * self.hidden).zip(targets.chunks(rows)) {
            let scores = &mut scratch[..targets.len() * self.vocabulary];
            self.scores(weights, hidden, scores);
            for (row, &target) in scores.chunks_exact_mut(self.vocabulary).zip(targets) {
                let loss = if target == IGNORED { 0.0 } else { exponentiate(row, target).loss };
                total += loss;
                if let Some(each) = &mut each {
                    each.push(loss);
                }
            }
        }
        total
    }

    /// The same sum, and its gradient times `scale`: added to `gradient` for the layer's weights, written to `d_hidden` (rows x hidden).
    #[expect(clippy::too_many_arguments, reason = "inputs, outputs and scratch of one pass")]
    pub fn loss_and_gradient<T: Real>(
        &self,
        weights: &[T],
        hidden: &[T],
        targets: &[u32],
        scale: T,
        scratch: &mut [T],
        gradient: &mut [T],
        d_hidden: &mut [T],
    ) -> f64 {
        let rows = self.chunk_rows(scratch.len() / self.vocabulary);
        let table = Matrix::new(&weights[self.weights.clone()], self.vocabulary, self.hidden);
        let mut total = 0.0;
        for ((hidden, d_hidden), targets) in hidden
            .chunks(rows * self.hidden)
            .zip(d_hidden.chunks_mut(rows * self.hidden))
            .zip(targets.chunks(rows))
        {
            let scores = &mut scratch[..targets.len() * self.vocabulary];
            self.scores(weights, hidden, scores);
            for (row, &target) in scores.chunks_exact_mut(self.vocabulary).zip(targets) {
                if target == IGNORED {
                    row.fill(T::ZERO);
                    continue;
                }
                let Exponentiated { loss, sum } = exponentiate(row, target);
                total += loss;
                let factor = scale / sum;
                vectorised(|| {
                    for x in row.iter_mut() {
                        *x *= factor;
                    }
                });
                row[target as usize] -= scale;
            }
            let d_scores = Matrix::new(scores, targets.len(), self.vocabulary);
            let by_row = Matrix::new(hidden, targets.len(), self.hidden);
            multiply(d_scores.transposed(), by_row, &mut gradient[self.weights.clone()], Into::Add);
            add_column_sums(scores, &mut gradient[self.bias.clone()]);
            multiply(d_scores, table, d_hidden, Into::Replace);
        }
        total
    }
}

struct Exponentiated<T> {
    /// -ln p(target).
    loss: f64,
    /// What to divide the row by to make it a distribution.
    sum: T,
}

/// Turns a row of scores into unnormalised probabilities, the greatest of them 1.
fn exponentiate<T: Real>(row: &mut [T], target: u32) -> Exponentiated<T> {
    let wanted = row[target as usize];
    let (best, sum) = vectorised(|| {
        let best = greatest(row, wanted);
        (best, exp_and_sum(row, best))
    });
    Exponentiated { loss: (best - wanted).to_f64() + sum.to_f64().ln(), sum }
}
