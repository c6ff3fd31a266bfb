//! The output: from the last layer's vectors to a distribution over the vocabulary, and its cross-entropy loss.

mod clustered;
mod sampled;
mod table;

use std::ops::Range;

pub use clustered::Clusters;
pub use sampled::{Candidates, Sampler};

use crate::matrix::Workspace;
use crate::parameters::{Gradient, Group, Initial, Layout, RowGradient, Weights};
use crate::real::Real;
use crate::recurrent::StartingValues;
use clustered::Clustered;
use sampled::SampledScratch;
use table::{Table, chunk_rows};

/// A target that is not scored: no loss, no gradient.
pub const IGNORED: u32 = u32::MAX;

/// How the distribution is computed.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash)]
pub enum SoftmaxKind {
    /// Over the whole vocabulary.
    #[default]
    Full,
    /// Over clusters of tokens by frequency.
    Clustered(Clusters),
    /// Over the whole vocabulary, but trained against so many tokens drawn anew for each step.
    Sampled(usize),
}

/// The layer.
#[derive(Debug, Clone)]
pub struct Softmax {
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

/// Room to work in, for windows up to the size that it was made for.
#[derive(Debug, Clone, Default)]
pub struct Scratch<T> {
    scores: Vec<T>,
    /// Rows that belong together.
    gathered: Vec<T>,
    local: Vec<u32>,
    rows: Vec<u32>,
    own: Vec<f64>,
    sampled: SampledScratch<T>,
    /// The rows that are scored, where some are not.
    scored: Vec<T>,
    d_scored: Vec<T>,
    targets: Vec<u32>,
    losses: Vec<f64>,
}

/// What a training pass over the output yields.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Loss {
    /// Sum of -ln p(target); against the sample, where training uses one.
    pub sum: f64,
    /// Sum of what training minimises besides.
    pub penalty: f64,
}

/// Adds a table's tensors: small weights, so that the distribution begins near uniform and the first loss near ln(outcomes).
fn output_table(
    layout: &mut Layout,
    name: &str,
    inputs: usize,
    outcomes: usize,
    start: StartingValues,
) -> Table {
    let spread = start.spread(0.25 / (inputs as f64).sqrt());
    let weights = layout.push(format!("{name}.weights"), &[outcomes, inputs], Group::Output, spread);
    let bias = output_bias(layout, name, outcomes);
    Table::over(layout, (weights, bias), inputs, outcomes)
}

fn output_bias(layout: &mut Layout, name: &str, outcomes: usize) -> Range<usize> {
    layout.push(format!("{name}.bias"), &[outcomes], Group::Output, Initial::Constant(0.0))
}

impl Softmax {
    /// Adds the layer's tensors to `layout` under `output`. With `tied`, the table of that range (vocabulary x inputs) holds the weights
    /// (Press and Wolf, 2017).
    pub fn new(
        layout: &mut Layout,
        inputs: usize,
        vocabulary: usize,
        kind: &SoftmaxKind,
        tied: Option<Range<usize>>,
        start: StartingValues,
    ) -> Self {
        let table = |layout: &mut Layout| match tied.clone() {
            Some(weights) => {
                let bias = output_bias(layout, "output", vocabulary);
                Table::over(layout, (weights, bias), inputs, vocabulary)
            }
            None => output_table(layout, "output", inputs, vocabulary, start),
        };
        let kind = match kind {
            SoftmaxKind::Full => Kind::Full(table(layout)),
            SoftmaxKind::Sampled(samples) => Kind::Sampled(table(layout), *samples),
            SoftmaxKind::Clustered(clusters) => {
                Kind::Clustered(Clustered::new(layout, inputs, vocabulary, clusters, start))
            }
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

    /// Room for windows of so many tokens.
    pub fn scratch<T: Real>(&self, tokens: usize, training: bool) -> Scratch<T> {
        let zeros = |count| vec![T::ZERO; count];
        let (scores, gathered) = match &self.kind {
            Kind::Full(table) => (chunk_rows(table.outcomes(), tokens) * table.outcomes(), 0),
            // Training does not touch the whole table.
            Kind::Sampled(..) if training => (0, 0),
            Kind::Sampled(table, _) => (chunk_rows(table.outcomes(), tokens) * table.outcomes(), 0),
            Kind::Clustered(clustered) => (clustered.scratch(tokens), clustered.gathered(tokens, training)),
        };
        let sampled = match self.kind {
            Kind::Sampled(_, samples) if training => SampledScratch::new(self.inputs, samples, tokens),
            _ => SampledScratch::default(),
        };
        Scratch {
            scores: zeros(scores),
            gathered: zeros(gathered),
            local: Vec::with_capacity(tokens),
            rows: Vec::with_capacity(tokens),
            own: Vec::with_capacity(tokens),
            sampled,
            scored: zeros(tokens * self.inputs),
            d_scored: zeros(if training { tokens * self.inputs } else { 0 }),
            targets: Vec::with_capacity(tokens),
            losses: Vec::with_capacity(tokens),
        }
    }

    /// Writes the scores of `x` (rows x inputs) to `scores` (rows x vocabulary): natural logarithms of
    /// probabilities, up to a constant for each row.
    pub fn scores<T: Real>(
        &self,
        weights: Weights<'_, T>,
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
        weights: Weights<'_, T>,
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
    /// [`Softmax::by_rows`] says so, and to `d_x` (rows x inputs). See [`Loss`] for what is returned.
    #[expect(clippy::too_many_arguments, reason = "inputs, outputs and scratch of one pass")]
    pub fn learn<T: Real>(
        &self,
        weights: Weights<'_, T>,
        x: &[T],
        targets: &[u32],
        scale: T,
        smoothing: f64,
        sample: Option<(&Sampler, &Candidates<T>)>,
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
        Loss { sum, penalty }
    }
}

trait NextIfScored: Iterator + Sized {
    fn next_if_scored(&mut self, target: u32) -> Option<Self::Item> {
        if target == IGNORED { None } else { self.next() }
    }
}

impl<I: Iterator> NextIfScored for I {}

impl<T> Scratch<T> {
    /// Numbers that it holds.
    pub fn len(&self) -> usize
    where
        T: Real,
    {
        let Self { scores, gathered, sampled, scored, d_scored, .. } = self;
        scores.len() + gathered.len() + sampled.len() + scored.len() + d_scored.len()
    }

    /// Whether it holds none.
    pub fn is_empty(&self) -> bool
    where
        T: Real,
    {
        self.len() == 0
    }
}

/// The rows that are scored: all of them as they stand, or copies of some side by side; and their targets.
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
