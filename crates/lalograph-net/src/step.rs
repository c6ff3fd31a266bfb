//! One window of a whole batch: its rows cut into lanes, the lanes run side by side, their gradients added in order.
//!
//! The cut is a property of the batch and not of the machine, and sums are added in the order of the lanes: one thread or many, the
//! numbers are the same.

use rayon::prelude::*;

use crate::model::{Dropout, Lane, LanguageModel, Purpose};
use crate::optimiser::PIECE;
use crate::random::stream;
use crate::real::Real;
use crate::recurrent::Extent;

/// Adds up the gradients of all lanes, wherever they are. Lanes of one process are added by [`AddLanes`];
/// several machines would add theirs here too.
pub trait GradientSum<T: Real>: Send {
    /// Leaves the sum of all lanes' gradients in `first`.
    fn sum(&mut self, first: &mut [T], others: &[&[T]]);
}

/// The sum within one process, in the order of the lanes.
#[derive(Debug, Clone, Copy, Default)]
pub struct AddLanes;

impl<T: Real> GradientSum<T> for AddLanes {
    fn sum(&mut self, first: &mut [T], others: &[&[T]]) {
        first.par_chunks_mut(PIECE).enumerate().for_each(|(index, piece)| {
            let start = index * PIECE;
            for other in others {
                let other = &other[start..start + piece.len()];
                crate::activation::vectorised(|| {
                    for (x, &y) in piece.iter_mut().zip(other) {
                        *x += y;
                    }
                });
            }
        });
    }
}

/// The lanes of a batch.
pub struct Team<T> {
    lanes: Vec<Lane<T>>,
    /// The first row of each lane, and the number of rows past the last.
    bounds: Vec<usize>,
    inputs: Vec<Vec<u32>>,
    targets: Vec<Vec<u32>>,
}

/// How the dropout masks of a step are drawn.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DropoutDraw {
    /// The share dropped.
    pub rate: f64,
    /// The seed of the run.
    pub seed: u64,
    /// The step, so that each has masks of its own.
    pub step: u64,
}

impl<T: Real> Team<T> {
    /// Cuts `extent.rows` into at most `lanes` lanes of nearly equal size.
    pub fn new(model: &LanguageModel<T>, extent: Extent, lanes: usize, purpose: Purpose) -> Self {
        let lanes = lanes.clamp(1, extent.rows.max(1));
        let bounds: Vec<usize> = (0..=lanes).map(|lane| lane * extent.rows / lanes).collect();
        let sizes = bounds.windows(2).map(|pair| Extent { steps: extent.steps, rows: pair[1] - pair[0] });
        Self {
            lanes: sizes.map(|extent| model.lane(extent, purpose)).collect(),
            bounds,
            inputs: vec![Vec::new(); lanes],
            targets: vec![Vec::new(); lanes],
        }
    }

    fn rows(&self) -> usize {
        self.bounds.last().copied().unwrap_or(0)
    }

    /// Deals a step-major window out to the lanes.
    fn deal(&mut self, inputs: &[u32], targets: &[u32]) {
        let rows = self.rows();
        for (lane, pair) in self.bounds.windows(2).enumerate() {
            for (from, to) in [(inputs, &mut self.inputs[lane]), (targets, &mut self.targets[lane])] {
                to.clear();
                for step in from.chunks_exact(rows) {
                    to.extend_from_slice(&step[pair[0]..pair[1]]);
                }
            }
        }
    }

    /// Runs a window forward and backward. Returns the summed loss; the gradient of the *mean* loss is in
    /// [`Team::gradient`] afterwards. `inputs` and `targets` are steps x rows.
    pub fn learn(
        &mut self,
        model: &LanguageModel<T>,
        weights: &[T],
        inputs: &[u32],
        targets: &[u32],
        dropout: Option<DropoutDraw>,
        sum: &mut dyn GradientSum<T>,
    ) -> f64 {
        self.deal(inputs, targets);
        let scale = T::of(1.0 / targets.len() as f64);
        let losses: Vec<f64> = self
            .lanes
            .par_iter_mut()
            .zip(self.inputs.par_iter().zip(&self.targets))
            .enumerate()
            .map(|(index, (lane, (inputs, targets)))| {
                let mut masks = dropout.map(|draw| Dropout {
                    rate: draw.rate,
                    random: stream(draw.seed, "dropout", &[draw.step, index as u64]),
                });
                lane.gradient.fill(T::ZERO);
                model.forward(weights, inputs, lane, masks.as_mut());
                model.loss_and_gradient(weights, targets, scale, lane)
            })
            .collect();
        if let Some((first, others)) = self.lanes.split_first_mut() {
            let others: Vec<&[T]> = others.iter().map(|lane| lane.gradient.as_slice()).collect();
            sum.sum(&mut first.gradient, &others);
        }
        losses.iter().sum()
    }

    /// Runs a window forward only and returns the summed loss.
    pub fn judge(&mut self, model: &LanguageModel<T>, weights: &[T], inputs: &[u32], targets: &[u32]) -> f64 {
        self.deal(inputs, targets);
        let losses: Vec<f64> = self
            .lanes
            .par_iter_mut()
            .zip(self.inputs.par_iter().zip(&self.targets))
            .map(|(lane, (inputs, targets))| {
                model.forward(weights, inputs, lane, None);
                model.loss(weights, targets, lane, None)
            })
            .collect();
        losses.iter().sum()
    }

    /// The gradient of the last window's mean loss.
    pub fn gradient(&self) -> &[T] {
        self.lanes.first().map_or(&[], |lane| &lane.gradient)
    }

    /// Forgets what was read.
    pub fn reset_state(&mut self) {
        for lane in &mut self.lanes {
            lane.reset_state();
        }
    }
}
