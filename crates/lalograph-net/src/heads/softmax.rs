//! The softmax over the vocabulary: from the last layer's vectors to a distribution, and its cross-entropy loss.

use std::ops::Range;

use super::clustered::{Clustered, Clusters};
use super::loss::{IGNORED, Loss};
use super::sampled::{self, Candidates, Proposal, SampledScratch};
use super::scratch::Scratch;
use super::table::{Table, Training};
use crate::blocks::recurrent::start::StartingValues;
use crate::numbers::real::Real;
use crate::numbers::rooms::Rooms;
use crate::products::pack::Workspace;
use crate::weights::gradient::{Gradient, RowGradient};
use crate::weights::layout::{GroupId, Layout};
use crate::weights::packed::Parameters;

crate::choice! {
    /// Distribution over the vocabulary. Perplexity is exact with all three.
    pub enum Softmax = Full {
        /// Over all tokens.
        Full = "full",
        /// Over clusters of tokens by frequency, for large vocabularies of words.
        Clustered = "clustered",
        /// Over all tokens, but trained against a sample of them.
        Sampled = "sampled",
    }
}

/// A softmax with its sizes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SoftmaxSettings {
    /// Kind of softmax.
    pub kind: Softmax,
    /// For [`Softmax::Clustered`].
    pub clusters: Clusters,
    /// Tokens drawn for each step, for [`Softmax::Sampled`].
    pub samples: usize,
    /// Tokens that are never predicted: their probability is 0, and they may not be targets.
    pub excluded: Vec<u32>,
}

impl SoftmaxSettings {
    /// A full softmax.
    pub fn full() -> Self {
        let clusters = Clusters { ends: Vec::new(), shrink: 4 };
        Self { kind: Softmax::Full, clusters, samples: 1000, excluded: Vec::new() }
    }

    /// A softmax over these clusters.
    pub fn clustered(clusters: Clusters) -> Self {
        Self { kind: Softmax::Clustered, clusters, ..Self::full() }
    }

    /// A sampled softmax with this many negative samples.
    pub fn sampled(samples: usize) -> Self {
        Self { kind: Softmax::Sampled, samples, ..Self::full() }
    }
}

/// The head.
#[derive(Debug, Clone)]
pub struct SoftmaxHead {
    inputs: usize,
    vocabulary: usize,
    kind: Kind,
}

#[derive(Debug, Clone)]
enum Kind {
    Full(Table),
    Sampled(Table, usize),
    Clustered(Clustered),
}

impl SoftmaxHead {
    /// Adds the head's tensors to `layout` under `output`. With `tied`, the table of that range (vocabulary x inputs) holds the weights
    /// (Press and Wolf, 2017).
    pub fn new(
        layout: &mut Layout,
        group: GroupId,
        (inputs, vocabulary): (usize, usize),
        settings: &SoftmaxSettings,
        tied: Option<Range<usize>>,
        start: StartingValues,
    ) -> Self {
        let size = (inputs, vocabulary);
        let table = |layout: &mut Layout, training| {
            let weights =
                tied.clone().unwrap_or_else(|| Table::push_weights(layout, "output", group, size, start));
            let bias = Table::push_bias(layout, "output", group, vocabulary);
            Table::over(layout, (weights, bias), size, &settings.excluded, training)
        };
        let kind = match settings.kind {
            Softmax::Full => Kind::Full(table(layout, Training::InFull)),
            Softmax::Sampled => Kind::Sampled(table(layout, Training::BySample), settings.samples),
            Softmax::Clustered => Kind::Clustered(Clustered::new(
                layout,
                group,
                size,
                (&settings.clusters, &settings.excluded),
                start,
            )),
        };
        Self { inputs, vocabulary, kind }
    }

    /// The tensors whose gradients are given by rows: weights and biases of a sampled table.
    pub fn by_rows(&self) -> Option<[Range<usize>; 2]> {
        match &self.kind {
            Kind::Sampled(table, _) => Some([table.weights.clone(), table.bias.clone()]),
            _ => None,
        }
    }

    /// Tokens that each step is trained against, if not against all.
    pub fn samples(&self) -> Option<usize> {
        match self.kind {
            Kind::Sampled(_, samples) => Some(samples),
            _ => None,
        }
    }

    /// Floating-point operations of the products for one token, forwards: in reading, and in training.
    pub(crate) fn operations(&self, share_of: &dyn Fn(Range<usize>) -> f64) -> [f64; 2] {
        let whole = 2.0 * self.inputs as f64 * self.vocabulary as f64;
        match &self.kind {
            Kind::Full(_) => [whole; 2],
            Kind::Sampled(_, samples) => [whole, 2.0 * self.inputs as f64 * *samples as f64],
            Kind::Clustered(clustered) => [clustered.operations(share_of); 2],
        }
    }

    /// The scratch that windows of so many tokens need.
    pub fn scratch<T: Real>(&self, tokens: usize, training: bool, rooms: &mut Rooms) -> Scratch<T> {
        let (scores, gathered) = match &self.kind {
            Kind::Full(table) => (table.scratch_len(tokens), 0),
            // Training does not touch the whole table.
            Kind::Sampled(..) if training => (0, 0),
            Kind::Sampled(table, _) => (table.scratch_len(tokens), 0),
            Kind::Clustered(clustered) => (clustered.scratch(tokens), clustered.gathered(tokens, training)),
        };
        let sampled = match self.kind {
            Kind::Sampled(_, samples) if training => {
                SampledScratch::within(rooms, self.inputs, samples, tokens)
            }
            _ => SampledScratch::default(),
        };
        Scratch {
            scores: rooms.zeros(scores),
            gathered: rooms.zeros(gathered),
            local: rooms.list(tokens),
            rows: rooms.list(tokens),
            own: rooms.list(tokens),
            sampled,
            scored: rooms.zeros(tokens * self.inputs),
            d_scored: rooms.zeros_if(training, tokens * self.inputs),
            targets: rooms.list(tokens),
            losses: rooms.list(tokens),
        }
    }

    /// Writes the scores of `x` (rows x inputs) to `scores` (rows x vocabulary): natural logarithms of
    /// probabilities, up to a constant for each row.
    pub fn scores<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        x: &[T],
        scores: &mut [T],
        scratch: &mut Scratch<T>,
        work: &mut Workspace<T>,
    ) {
        match &self.kind {
            Kind::Full(table) | Kind::Sampled(table, _) => table.scores(weights, x, scores, work),
            Kind::Clustered(clustered) => {
                clustered.log_probabilities(weights, x, self.vocabulary, scores, scratch, work);
            }
        }
    }

    /// The sum of the losses -ln p(target) over all rows; the loss of each is appended to `each` if it is given, 0 for those that are not
    /// scored.
    pub fn loss<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        x: &[T],
        targets: &[u32],
        scratch: &mut Scratch<T>,
        each: Option<&mut Vec<f64>>,
        work: &mut Workspace<T>,
    ) -> f64 {
        let mut scored = std::mem::take(&mut scratch.scored);
        let mut wanted = std::mem::take(&mut scratch.targets);
        let mut losses = std::mem::take(&mut scratch.losses);
        let x = pick(self.inputs, x, targets, &mut scored, &mut wanted);
        losses.clear();
        losses.resize(wanted.len(), 0.0);
        match &self.kind {
            Kind::Full(table) | Kind::Sampled(table, _) => {
                table.losses(weights, x, &wanted, &mut scratch.scores, &mut losses, work);
            }
            Kind::Clustered(clustered) => clustered.losses(weights, x, &wanted, scratch, &mut losses, work),
        }
        if let Some(each) = each {
            let mut found = losses.iter().copied();
            each.extend(
                targets.iter().map(|&t| if t == IGNORED { 0.0 } else { found.next().unwrap_or(0.0) }),
            );
        }
        let sum = losses.iter().sum();
        (scratch.scored, scratch.targets, scratch.losses) = (scored, wanted, losses);
        sum
    }

    /// The same sum, and the gradient of `scale` times it: written to `gradient` for the layer's tensors, or to `by_rows` where
    /// [`SoftmaxHead::by_rows`] is true, and to `d_x` (rows x inputs). See [`Loss`] for what is returned.
    #[expect(clippy::too_many_arguments, reason = "inputs, outputs and scratch of one pass")]
    pub fn learn<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        x: &[T],
        targets: &[u32],
        scale: T,
        smoothing: f64,
        sample: Option<(&Proposal, &Candidates<T>)>,
        scratch: &mut Scratch<T>,
        gradient: &mut Gradient<'_, T>,
        by_rows: Option<[&mut RowGradient<T>; 2]>,
        d_x: &mut [T],
        work: &mut Workspace<T>,
    ) -> Loss {
        let mut scored = std::mem::take(&mut scratch.scored);
        let mut d_scored = std::mem::take(&mut scratch.d_scored);
        let mut wanted = std::mem::take(&mut scratch.targets);
        let mut losses = std::mem::take(&mut scratch.losses);
        let x = pick(self.inputs, x, targets, &mut scored, &mut wanted);
        let all = wanted.len() == targets.len();
        losses.clear();
        losses.resize(wanted.len(), 0.0);
        let d = if all { &mut *d_x } else { &mut d_scored[..wanted.len() * self.inputs] };
        let penalty = match (&self.kind, sample, by_rows) {
            (Kind::Sampled(table, _), Some(sample), Some(rows)) => {
                let room = &mut scratch.sampled;
                sampled::learn(table, weights, x, &wanted, scale, sample, room, rows, d, &mut losses, work);
                0.0
            }
            (Kind::Full(table) | Kind::Sampled(table, _), ..) => {
                let scores = &mut scratch.scores;
                table.learn(weights, x, &wanted, scale, smoothing, scores, gradient, d, &mut losses, work)
            }
            (Kind::Clustered(clustered), ..) => clustered.learn(
                weights,
                x,
                &wanted,
                scale,
                smoothing,
                scratch,
                gradient,
                d,
                &mut losses,
                work,
            ),
        };
        if !all {
            let mut found = d_scored.chunks_exact(self.inputs);
            for (d, &target) in d_x.chunks_exact_mut(self.inputs).zip(targets) {
                match found.next_if_scored(target) {
                    Some(from) => d.copy_from_slice(from),
                    None => d.fill(T::ZERO),
                }
            }
        }
        let sum = losses.iter().sum();
        (scratch.scored, scratch.d_scored, scratch.targets, scratch.losses) =
            (scored, d_scored, wanted, losses);
        Loss { sum, penalty, right: 0 }
    }
}

trait NextIfScored: Iterator + Sized {
    fn next_if_scored(&mut self, target: u32) -> Option<Self::Item> {
        if target == IGNORED { None } else { self.next() }
    }
}

impl<I: Iterator> NextIfScored for I {}

/// The rows that are scored: all of them as they are, or copies of some side by side; and their targets.
fn pick<'x, T: Real>(
    width: usize,
    x: &'x [T],
    targets: &[u32],
    scored: &'x mut [T],
    wanted: &mut Vec<u32>,
) -> &'x [T] {
    wanted.clear();
    wanted.extend(targets.iter().copied().filter(|&target| target != IGNORED));
    if wanted.len() == targets.len() {
        return x;
    }
    let rows = x.chunks_exact(width).zip(targets).filter(|(_, target)| **target != IGNORED);
    for ((from, _), to) in rows.zip(scored.chunks_exact_mut(width)) {
        to.copy_from_slice(from);
    }
    &scored[..wanted.len() * width]
}
