//! One window of a whole batch: its rows cut into lanes, the lanes run side by side, their gradients added in order.
//!
//! The cut is a property of the batch and not of the machine, and sums are added in the order of the lanes: one thread or many, the
//! numbers are the same.

use rayon::prelude::*;

use crate::dropout::Dropout;
use crate::model::{Lane, LanguageModel, Purpose, add_rows};
use crate::optimiser::PIECE;
use crate::output::{Candidates, IGNORED, Loss, Sampler};
use crate::parameters::Weights;
use crate::random::stream;
use crate::real::Real;
use crate::recurrent::Extent;
use crate::vectorised;

/// Adds up the gradients of all lanes, wherever they are. Lanes of one process are added by [`AddLanes`];
/// several machines would add theirs here too.
pub trait GradientSum<T: Real>: Send {
    /// Adds `other` to `sum`; called for the second lane, then the third, and so on.
    fn add(&mut self, sum: &mut [T], other: &[T]);
}

/// The sum within one process, in the order of the lanes.
#[derive(Debug, Clone, Copy, Default)]
pub struct AddLanes;

impl<T: Real> GradientSum<T> for AddLanes {
    fn add(&mut self, sum: &mut [T], other: &[T]) {
        sum.par_chunks_mut(PIECE).zip(other.par_chunks(PIECE)).for_each(|(sum, other)| {
            vectorised!(sum.iter_mut().zip(other).for_each(|(x, &y)| *x += y));
        });
    }
}

/// A window of a batch, step-major: steps x rows tokens.
#[derive(Debug, Clone, Copy)]
pub struct Batch<'a> {
    /// What is read.
    pub inputs: &'a [u32],
    /// What should come next, or [`IGNORED`].
    pub targets: &'a [u32],
    /// Before which tokens a row begins anew; none if nowhere.
    pub fresh: Option<&'a [bool]>,
}

/// What chance decides in a step.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Draw {
    /// The seed of the run.
    pub seed: u64,
    /// The step, so that each has masks and samples of its own.
    pub step: u64,
}

/// The part of a batch that a lane has.
#[derive(Default)]
struct Hand {
    inputs: Vec<u32>,
    targets: Vec<u32>,
    fresh: Vec<bool>,
}

/// The lanes of a batch.
pub struct Team<T> {
    purpose: Purpose,
    lanes: Vec<Lane<T>>,
    /// The first row of each lane, and the number of rows past the last.
    bounds: Vec<usize>,
    hands: Vec<Hand>,
    /// The rows of tables whose gradient is not zero, for each table.
    touched: Vec<Vec<u32>>,
    sampler: Option<Sampler>,
    candidates: Candidates<T>,
}

impl<T: Real> Team<T> {
    /// Cuts `extent.rows` into at most `lanes` lanes of nearly equal size. `fresh` makes room for rows that begin anew inside a window.
    pub fn new(model: &LanguageModel, extent: Extent, lanes: usize, purpose: Purpose, fresh: bool) -> Self {
        let lanes = lanes.clamp(1, extent.rows.max(1));
        let bounds: Vec<usize> = (0..=lanes).map(|lane| lane * extent.rows / lanes).collect();
        let lane = |(index, pair): (usize, &[usize])| {
            let extent = Extent { steps: extent.steps, rows: pair[1] - pair[0] };
            // The first lane's gradient is where all are added up.
            let dense = if index == 0 { 0..model.layout().len() } else { model.dense() };
            model.lane_with_gradient(extent, purpose, fresh, dense)
        };
        let lanes: Vec<Lane<T>> = bounds.windows(2).enumerate().map(lane).collect();
        let tables = lanes.first().map_or(0, |lane| lane.by_rows.len());
        let most = lanes.iter().flat_map(|lane| &lane.by_rows).map(|rows| rows.rows.capacity()).sum();
        Self {
            purpose,
            hands: lanes.iter().map(|_| Hand::default()).collect(),
            touched: (0..tables).map(|_| Vec::with_capacity(most)).collect(),
            lanes,
            bounds,
            sampler: None,
            candidates: Candidates::default(),
        }
    }

    /// The same, for a model whose softmax is trained against samples drawn by these counts, one a token.
    #[must_use]
    pub fn sampling_by(mut self, counts: &[u64]) -> Self {
        self.sampler = Some(Sampler::new(counts));
        self
    }

    fn rows(&self) -> usize {
        self.bounds.last().copied().unwrap_or(0)
    }

    /// Deals a window out to the lanes.
    fn deal(&mut self, batch: Batch<'_>) {
        let rows = self.rows();
        for (hand, pair) in self.hands.iter_mut().zip(self.bounds.windows(2)) {
            deal_one(batch.inputs, rows, pair, &mut hand.inputs);
            deal_one(batch.targets, rows, pair, &mut hand.targets);
            deal_one(batch.fresh.unwrap_or_default(), rows, pair, &mut hand.fresh);
        }
    }

    /// Runs a window forward and backward. The gradient of the *mean* loss over the tokens that are scored, and of the penalties, is in
    /// [`Team::gradient`] afterwards; the sum of the losses is returned.
    pub fn learn(
        &mut self,
        model: &LanguageModel,
        weights: Weights<'_, T>,
        batch: Batch<'_>,
        draw: Draw,
        sum: &mut dyn GradientSum<T>,
    ) -> Loss {
        self.deal(batch);
        let Purpose::Training(regularisation) = self.purpose else {
            return Loss::default();
        };
        let scored = batch.targets.iter().filter(|&&target| target != IGNORED).count();
        let scale = 1.0 / scored.max(1) as f64;
        if let (Some(sampler), Some(samples)) = (&self.sampler, model.samples()) {
            let mut random = stream(draw.seed, "sampled softmax", &[draw.step]);
            self.candidates.draw(sampler, samples, &mut random);
        }
        let sample = self.sampler.as_ref().map(|sampler| (sampler, &self.candidates));
        let rates = regularisation.dropout;
        self.lanes.par_iter_mut().zip(&self.hands).enumerate().for_each(|(index, (lane, hand))| {
            let mut dropout = rates.any().then(|| Dropout::draw(rates, draw.seed, draw.step, index as u64));
            model.forward(weights, &hand.inputs, hand.fresh(), lane, dropout.as_mut());
            model.learn(weights, &hand.targets, scale, lane, dropout.as_ref(), sample);
        });
        self.add_up(model, sum);
        self.total()
    }

    fn add_up(&mut self, model: &LanguageModel, sum: &mut dyn GradientSum<T>) {
        let dense = model.dense();
        let Some((first, others)) = self.lanes.split_first_mut() else {
            return;
        };
        for other in others.iter() {
            sum.add(&mut first.gradient[dense.clone()], &other.gradient);
        }
        // Only rows that were touched by the step before are not zero.
        let Lane { gradient, by_rows, .. } = first;
        for (touched, rows) in self.touched.iter_mut().zip(by_rows.iter()) {
            if rows.table.start >= dense.start && rows.table.end <= dense.end {
                continue;
            }
            let table = &mut gradient[rows.table.clone()];
            for row in touched.drain(..) {
                table[row as usize * rows.width..(row as usize + 1) * rows.width].fill(T::ZERO);
            }
        }
        for (index, touched) in self.touched.iter_mut().enumerate() {
            let all = by_rows
                .get(index)
                .into_iter()
                .chain(others.iter().filter_map(|lane| lane.by_rows.get(index)));
            for rows in all {
                add_rows(rows, gradient);
                touched.extend_from_slice(&rows.rows);
            }
        }
    }

    fn total(&self) -> Loss {
        self.lanes.iter().fold(Loss::default(), |total, lane| Loss {
            sum: total.sum + lane.loss.sum,
            penalty: total.penalty + lane.loss.penalty,
        })
    }

    /// Runs a window forward only and returns the summed loss.
    pub fn judge(&mut self, model: &LanguageModel, weights: Weights<'_, T>, batch: Batch<'_>) -> f64 {
        self.deal(batch);
        self.lanes.par_iter_mut().zip(&self.hands).for_each(|(lane, hand)| {
            model.forward(weights, &hand.inputs, hand.fresh(), lane, None);
            lane.loss = Loss { sum: model.loss(weights, &hand.targets, lane, None), penalty: 0.0 };
        });
        self.total().sum
    }

    /// The gradient of the last window.
    pub fn gradient(&self) -> &[T] {
        self.lanes.first().map_or(&[], |lane| &lane.gradient)
    }

    /// Puts the state before a text into all rows.
    pub fn begin(&mut self, model: &LanguageModel, weights: Weights<'_, T>) {
        for lane in &mut self.lanes {
            model.begin(weights, lane);
        }
    }

    /// The state carried by each lane, one array a layer.
    pub fn states(&self) -> impl Iterator<Item = &[Vec<T>]> {
        self.lanes.iter().map(Lane::states)
    }

    /// The same, to be set.
    pub fn states_mut(&mut self) -> impl Iterator<Item = &mut [Vec<T>]> {
        self.lanes.iter_mut().map(Lane::states_mut)
    }
}

impl Hand {
    fn fresh(&self) -> Option<&[bool]> {
        (!self.fresh.is_empty()).then_some(&self.fresh)
    }
}

fn deal_one<X: Copy>(from: &[X], rows: usize, pair: &[usize], to: &mut Vec<X>) {
    to.clear();
    for step in from.chunks_exact(rows.max(1)) {
        to.extend_from_slice(&step[pair[0]..pair[1]]);
    }
}
