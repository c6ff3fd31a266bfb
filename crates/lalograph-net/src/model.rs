//! The recurrent language model: embedding, stacked recurrent layers, softmax.

use std::ops::Range;

use thiserror::Error;

use crate::cells::Cell;
use crate::dropout::{Dropout, DropoutRates};
use crate::embedding;
use crate::matrix::{Into, Matrix, Output, Workspace, multiply, multiply_packed};
use crate::output::{Candidates, Loss, Sampler, Scratch, Softmax, SoftmaxKind};
use crate::parameters::{Gradient, Group, Layout, PackId, PackedWeights, ReadIn, RowGradient, Weights};
use crate::real::Real;
use crate::recurrent::{Extent, StartingValues, Window};
use crate::stack::{Penalties, Stack, StackRoom, StackShape, StackTape};

/// What settles a model's weights.
#[derive(Debug, Clone, PartialEq)]
pub struct LanguageModelShape {
    /// Token indices, reserved ones included.
    pub vocabulary: usize,
    /// Width of a token's vector.
    pub embedding: usize,
    /// Width of each recurrent layer.
    pub hidden: usize,
    /// Recurrent layers, one on the other.
    pub layers: usize,
    /// Their kind.
    pub cell: Cell,
    /// Whether the layers' outputs are normalised.
    pub layer_norm: bool,
    /// Whether layers from the second on add their input to their output.
    pub residual: bool,
    /// Whether the state before the first token is learnt instead of zero.
    pub learn_first_state: bool,
    /// Whether the output's weights are the token vectors (Press and Wolf, 2017); where the widths differ, a matrix stands between.
    pub tied: bool,
    /// How the distribution over the vocabulary is computed.
    pub softmax: SoftmaxKind,
    /// How weights are filled; of no meaning for a trained model.
    pub start: StartingValues,
}

impl LanguageModelShape {
    /// One layer of a kind, everything else as usual.
    pub fn new(vocabulary: usize, embedding: usize, hidden: usize, cell: Cell) -> Self {
        Self {
            vocabulary,
            embedding,
            hidden,
            layers: 1,
            cell,
            layer_norm: false,
            residual: false,
            learn_first_state: false,
            tied: false,
            softmax: SoftmaxKind::Full,
            start: StartingValues::usual(cell),
        }
    }
}

/// A shape that no model can have.
#[derive(Debug, Error, PartialEq, Eq)]
pub enum ShapeError {
    /// A size is zero.
    #[error("the {0} may not be 0")]
    Zero(&'static str),
    /// A size is out of all proportion.
    #[error("the {name} of {value} is above the limit of {limit}")]
    TooLarge {
        /// Which.
        name: &'static str,
        /// What it was.
        value: usize,
        /// What it may be.
        limit: usize,
    },
    /// Clusters that do not divide the vocabulary.
    #[error(
        "clusters must end at rising places below the vocabulary's size of {vocabulary}, and these end at {ends:?}"
    )]
    Clusters {
        /// Where they end.
        ends: Vec<usize>,
        /// The vocabulary's size.
        vocabulary: usize,
    },
    /// A clustered softmax has narrower vectors for rare tokens, which cannot be the embedding's.
    #[error("a clustered softmax cannot be tied to the embedding: its rare tokens have narrower vectors")]
    TiedClusters,
}

/// The architecture of a language model. It holds no weights: they are a flat array that every method is given, with packed copies.
#[derive(Debug, Clone)]
pub struct LanguageModel {
    shape: LanguageModelShape,
    layout: Layout,
    embedding: Range<usize>,
    stack: Stack,
    /// From the layers' width to the embedding's, for tied weights of other widths.
    projection: Option<Projection>,
    softmax: Softmax,
}

#[derive(Debug, Clone)]
struct Projection {
    weights: Range<usize>,
    forward: PackId,
    back: PackId,
}

/// What training does besides lowering the loss.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Regularisation {
    /// Shares of numbers dropped.
    pub dropout: DropoutRates,
    /// Factor of the mean square of the last layer's outputs, after dropout (Merity, McCann and Socher, 2017).
    pub activation_penalty: f64,
    /// Factor of the mean square of their change from token to token.
    pub temporal_penalty: f64,
    /// Share of the wanted distribution that is spread over the vocabulary (Szegedy et al., 2016).
    pub label_smoothing: f64,
}

/// What a lane is made for.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Purpose {
    /// Forward passes only.
    Reading,
    /// Forward and backward passes.
    Training(Regularisation),
}

/// One lane of a batch: some of its rows, with their state, their gradient and the room to work in. Nothing is
/// allocated after it is made.
pub struct Lane<T> {
    purpose: Purpose,
    extent: Extent,
    capacity: Extent,
    tokens: Vec<u32>,
    fresh: Option<Vec<bool>>,
    embedded: Vec<T>,
    tape: StackTape<T>,
    states: Vec<Vec<T>>,
    /// Parts of a row's state, each for all rows together: the output, and the memory if there is one.
    blocks: usize,
    projected: Vec<T>,
    output: Scratch<T>,
    work: Workspace<T>,
    d_outputs: Vec<T>,
    d_inputs: Vec<T>,
    dropped_words: Vec<T>,
    /// The gradient that this lane contributes, laid out like the weights from `offset` on.
    pub(crate) gradient: Vec<T>,
    offset: usize,
    /// Gradients of single rows: of the embedding, and of a sampled output's weights and biases.
    pub(crate) by_rows: Vec<RowGradient<T>>,
    pub(crate) loss: Loss,
}

impl LanguageModel {
    /// Lays out the weights of a model of this shape.
    ///
    /// # Errors
    /// A size of 0, or one beyond reason; clusters that do not fit.
    pub fn new(shape: LanguageModelShape) -> Result<Self, ShapeError> {
        check(&shape)?;
        let mut layout = Layout::default();
        let LanguageModelShape { vocabulary, embedding, hidden, .. } = shape;
        let spread = shape.start.spread(if shape.tied {
            // The table is also the output's: small, so that the first distribution is near uniform.
            0.25 / (embedding as f64).sqrt()
        } else {
            1.0 / 3f64.sqrt()
        });
        let table = layout.push("embedding", &[vocabulary, embedding], Group::Embedding, spread);
        let stack = Stack::new(
            &mut layout,
            StackShape {
                cell: shape.cell,
                inputs: embedding,
                hidden,
                layers: shape.layers,
                both_directions: false,
                layer_norm: shape.layer_norm,
                residual: shape.residual,
                learn_first_state: shape.learn_first_state,
                start: shape.start,
            },
        );
        let projection = (shape.tied && hidden != embedding).then(|| {
            let spread = shape.start.spread(1.0 / (hidden as f64).sqrt());
            let size = (hidden, embedding);
            let weights = layout.push("output.projection", &[hidden, embedding], Group::Output, spread);
            Projection {
                forward: layout.pack(&weights, size, 0..embedding, false, ReadIn::Forward),
                back: layout.pack(&weights, size, 0..embedding, true, ReadIn::Backward),
                weights,
            }
        });
        let inputs = if projection.is_some() { embedding } else { hidden };
        let tied = shape.tied.then(|| table.clone());
        let softmax = Softmax::new(&mut layout, inputs, vocabulary, &shape.softmax, tied, shape.start);
        Ok(Self { shape, layout, embedding: table, stack, projection, softmax })
    }

    /// Its shape.
    pub fn shape(&self) -> &LanguageModelShape {
        &self.shape
    }

    /// The names and places of its weights.
    pub fn layout(&self) -> &Layout {
        &self.layout
    }

    /// Tokens that each training step draws to be told from the targets, for a sampled softmax.
    pub fn samples(&self) -> Option<usize> {
        self.softmax.samples()
    }

    /// The part of the layout whose gradients lanes lay out in full; what is before and after it is given by rows.
    pub(crate) fn dense(&self) -> Range<usize> {
        let by_rows = self.softmax.by_rows();
        let tied_and_whole = self.shape.tied && by_rows.is_none();
        let start = if tied_and_whole { 0 } else { self.embedding.end };
        let first = by_rows.map(|[weights, bias]| if self.shape.tied { bias.start } else { weights.start });
        start..first.unwrap_or(self.layout.len())
    }

    /// Width of what the softmax reads.
    fn top_width(&self) -> usize {
        if self.projection.is_some() { self.shape.embedding } else { self.shape.hidden }
    }

    fn room(&self, extent: Extent, purpose: Purpose, fresh: bool) -> StackRoom {
        let dropout = match purpose {
            Purpose::Reading => DropoutRates::default(),
            Purpose::Training(regularisation) => regularisation.dropout,
        };
        StackRoom {
            extent,
            training: matches!(purpose, Purpose::Training(_)),
            fresh,
            dropout: dropout.layers > 0.0 || dropout.output > 0.0,
            recurrent_dropout: dropout.recurrent > 0.0,
        }
    }

    /// A lane for windows up to `capacity`, its state zero. `fresh` makes room for rows that begin anew inside a window.
    pub fn lane<T: Real>(&self, capacity: Extent, purpose: Purpose, fresh: bool) -> Lane<T> {
        self.lane_with_gradient(capacity, purpose, fresh, self.dense())
    }

    /// The same, its gradient laid out over `dense`.
    pub(crate) fn lane_with_gradient<T: Real>(
        &self,
        capacity: Extent,
        purpose: Purpose,
        fresh: bool,
        dense: Range<usize>,
    ) -> Lane<T> {
        let tokens = capacity.tokens();
        let (embedding, hidden) = (self.shape.embedding, self.shape.hidden);
        let zeros = |count| vec![T::ZERO; count];
        let training = matches!(purpose, Purpose::Training(_));
        let when = |wanted: bool, count: usize| zeros(if wanted { count } else { 0 });
        let rates = match purpose {
            Purpose::Reading => DropoutRates::default(),
            Purpose::Training(regularisation) => regularisation.dropout,
        };
        let row_gradient = |table: &Range<usize>, width: usize, rows: usize| RowGradient {
            table: table.clone(),
            width,
            rows: Vec::with_capacity(rows),
            values: Vec::with_capacity(rows * width),
        };
        let mut by_rows = Vec::new();
        if training {
            by_rows.push(row_gradient(&self.embedding, embedding, tokens));
            if let (Some([weights, bias]), Some(samples)) = (self.softmax.by_rows(), self.softmax.samples()) {
                by_rows.push(row_gradient(&weights, self.top_width(), tokens + samples));
                by_rows.push(row_gradient(&bias, 1, tokens + samples));
            }
        }
        // The two change places from layer to layer, so either must hold the widest.
        let widest = tokens * hidden.max(embedding);
        Lane {
            purpose,
            extent: Extent { steps: 0, rows: capacity.rows },
            capacity,
            tokens: Vec::with_capacity(tokens),
            fresh: fresh.then(|| Vec::with_capacity(tokens)),
            embedded: zeros(tokens * embedding),
            tape: self.stack.tape(self.room(capacity, purpose, fresh)),
            blocks: self.shape.cell.state_parts(),
            states: self.stack.states(capacity.rows),
            projected: when(self.projection.is_some(), tokens * embedding),
            output: self.softmax.scratch(tokens, training),
            work: Workspace::new(),
            d_outputs: when(training, widest),
            d_inputs: when(training, widest),
            dropped_words: when(rates.inputs > 0.0, tokens * embedding),
            gradient: when(training, dense.len()),
            offset: dense.start,
            by_rows,
            loss: Loss::default(),
        }
    }

    /// Numbers that a lane holds, and how many of them are its gradient, without making it.
    pub fn lane_len(&self, capacity: Extent, purpose: Purpose, fresh: bool) -> (usize, usize) {
        // What depends on tokens alone is a good part of a lane, so sizes are taken from where they are made.
        let tokens = capacity.tokens();
        let (embedding, hidden) = (self.shape.embedding, self.shape.hidden);
        let training = matches!(purpose, Purpose::Training(_));
        let when = |wanted: bool, count: usize| if wanted { count } else { 0 };
        let rates = match purpose {
            Purpose::Reading => DropoutRates::default(),
            Purpose::Training(regularisation) => regularisation.dropout,
        };
        let samples = self.softmax.samples().unwrap_or(0);
        let sampled = when(samples > 0 && training, (tokens + samples) * (self.top_width() + 1));
        let gradient = when(training, self.dense().len());
        let all = tokens * embedding
            + self.stack.room_len(self.room(capacity, purpose, fresh))
            + when(self.projection.is_some(), tokens * embedding)
            + self.softmax.scratch::<T32>(tokens, training).len()
            + Workspace::<T32>::new().len()
            + when(training, 2 * tokens * hidden.max(embedding))
            + when(rates.inputs > 0.0, tokens * embedding)
            + when(training, tokens * embedding)
            + sampled
            + gradient;
        (all, gradient)
    }

    /// Numbers of state that each row carries, layer by layer.
    pub fn state_widths(&self) -> Vec<usize> {
        self.stack.states::<f32>(1).iter().map(Vec::len).collect()
    }

    /// Puts the state before a text into all rows: zero, or what was learnt.
    pub fn begin<T: Real>(&self, weights: Weights<'_, T>, lane: &mut Lane<T>) {
        self.stack.begin(weights, lane.capacity.rows, &mut lane.states);
    }

    /// Reads a window of tokens (step-major), moving the lane's state on. `fresh` says before which tokens a row begins anew.
    ///
    /// # Panics
    /// If the window is larger than the lane, a token is outside the vocabulary, or the lane was not made for this.
    pub fn forward<T: Real>(
        &self,
        weights: Weights<'_, T>,
        tokens: &[u32],
        fresh: Option<&[bool]>,
        lane: &mut Lane<T>,
        mut dropout: Option<&mut Dropout>,
    ) {
        let rows = lane.capacity.rows;
        let extent = Extent { steps: tokens.len() / rows, rows };
        assert!(tokens.len() == extent.tokens() && extent.steps <= lane.capacity.steps, "window of a lane");
        lane.extent = extent;
        lane.tokens.clear();
        lane.tokens.extend_from_slice(tokens);
        if let Some(kept) = &mut lane.fresh {
            kept.clear();
            kept.extend_from_slice(fresh.unwrap_or_default());
        }
        assert!(fresh.is_none() || lane.fresh.is_some(), "a lane made for rows that begin anew");
        let width = self.shape.embedding;
        let embedded = &mut lane.embedded[..tokens.len() * width];
        embedding::forward(weights.part(&self.embedding), width, tokens, embedded);
        if let Some(dropout) = &mut dropout {
            if dropout.rates.words > 0.0 {
                for (row, &token) in embedded.chunks_exact_mut(width).zip(tokens) {
                    let factor = dropout.words.factor::<T>(token);
                    row.iter_mut().for_each(|x| *x *= factor);
                }
            }
            if dropout.rates.inputs > 0.0 {
                let mask = &mut lane.dropped_words[..tokens.len() * width];
                crate::dropout::draw_mask(mask, dropout.rates.inputs, &mut dropout.random);
                crate::dropout::apply(mask, embedded);
            }
        }
        let window = Window { extent, fresh: fresh_of(&lane.fresh) };
        let (tape, states) = (&mut lane.tape, &mut lane.states);
        self.stack.forward(
            weights,
            window,
            &lane.embedded[..tokens.len() * width],
            states,
            tape,
            &mut lane.work,
            dropout,
        );
        if let Some(projection) = &self.projection {
            let top = Matrix::new(self.stack.outputs(extent, &lane.tape), tokens.len(), self.shape.hidden);
            let mut out = Output::new(&mut lane.projected[..tokens.len() * width], tokens.len(), width);
            multiply_packed(top, weights.packed(projection.forward), &mut out, Into::Replace, &mut lane.work);
        }
    }

    /// The summed loss of the window last read against its targets; each token's loss is appended to `each` if given.
    pub fn loss<T: Real>(
        &self,
        weights: Weights<'_, T>,
        targets: &[u32],
        lane: &mut Lane<T>,
        each: Option<&mut Vec<f64>>,
    ) -> f64 {
        let Lane { extent, tape, projected, output, work, .. } = lane;
        let top = self.top(*extent, tape, projected);
        self.softmax.loss(weights, top, targets, output, each, work)
    }

    /// What the softmax reads: steps x rows x width.
    fn top<'l, T: Real>(&self, extent: Extent, tape: &'l StackTape<T>, projected: &'l [T]) -> &'l [T] {
        match self.projection {
            Some(_) => &projected[..extent.tokens() * self.shape.embedding],
            None => self.stack.outputs(extent, tape),
        }
    }

    /// The loss of the window last read, and the gradient of `scale` times loss and penalties, left in the lane. `dropout` must
    /// be that of the forward pass, and `sample` is what a sampled softmax is trained against.
    ///
    /// # Panics
    /// If the lane was made for reading only.
    pub fn learn<T: Real>(
        &self,
        weights: Weights<'_, T>,
        targets: &[u32],
        scale: f64,
        lane: &mut Lane<T>,
        dropout: Option<&Dropout>,
        sample: Option<(&Sampler, &Candidates<T>)>,
    ) -> Loss {
        assert!(matches!(lane.purpose, Purpose::Training(_)), "a lane made for training");
        let regularisation = match lane.purpose {
            Purpose::Training(regularisation) => regularisation,
            Purpose::Reading => Regularisation::default(),
        };
        let (extent, hidden, width) = (lane.extent, self.shape.hidden, self.shape.embedding);
        let tokens = extent.tokens();
        let Lane { tape, projected, output, work, d_outputs, d_inputs, gradient, offset, by_rows, .. } = lane;
        let mut gradient = Gradient { data: gradient, offset: *offset };
        let (embedded_rows, output_rows) = by_rows.split_at_mut(1);
        let output_rows = match output_rows {
            [weights, bias] => Some([weights, bias]),
            _ => None,
        };
        let top = self.top(extent, tape, projected);
        let d_top = &mut d_outputs[..tokens * self.top_width()];
        let smoothing = regularisation.label_smoothing;
        let step = T::of(scale);
        let mut loss = self.softmax.learn(
            weights,
            top,
            targets,
            step,
            smoothing,
            sample,
            output,
            &mut gradient,
            output_rows,
            d_top,
            work,
        );
        if let Some(projection) = &self.projection {
            let d_top = Matrix::new(&d_outputs[..tokens * width], tokens, width);
            let top = Matrix::new(self.stack.outputs(extent, tape), tokens, hidden).transposed();
            let mut out = Output::new(gradient.part(&projection.weights), hidden, width);
            multiply(top, d_top, &mut out, Into::Replace, work);
            let mut out = Output::new(&mut d_inputs[..tokens * hidden], tokens, hidden);
            multiply_packed(d_top, weights.packed(projection.back), &mut out, Into::Replace, work);
            std::mem::swap(d_outputs, d_inputs);
        }
        let per_number = scale / hidden as f64;
        let penalties = Penalties {
            activation: regularisation.activation_penalty * per_number,
            temporal: regularisation.temporal_penalty * per_number,
        };
        let window = Window { extent, fresh: fresh_of(&lane.fresh) };
        let x = &lane.embedded[..tokens * width];
        let penalty = self.stack.backward(
            weights,
            window,
            x,
            penalties,
            d_outputs,
            d_inputs,
            tape,
            &mut gradient,
            work,
        );
        loss.penalty += penalty / scale;
        let d_embedded = &mut d_outputs[..tokens * width];
        if let Some(dropout) = dropout {
            if dropout.rates.inputs > 0.0 {
                crate::dropout::apply(&lane.dropped_words[..tokens * width], d_embedded);
            }
            if dropout.rates.words > 0.0 {
                for (row, &token) in d_embedded.chunks_exact_mut(width).zip(&lane.tokens) {
                    let factor = dropout.words.factor::<T>(token);
                    row.iter_mut().for_each(|x| *x *= factor);
                }
            }
        }
        if self.dense().start <= self.embedding.start {
            // The output has written the table's gradient already.
            embedding::backward(gradient.part(&self.embedding), width, &lane.tokens, d_embedded);
        } else if let Some(rows) = embedded_rows.first_mut() {
            rows.rows.clear();
            rows.rows.extend_from_slice(&lane.tokens);
            rows.values.clear();
            rows.values.extend_from_slice(d_embedded);
        }
        lane.loss = loss;
        loss
    }

    /// The scores (natural log-probabilities up to a constant) after the last step of the window last read: rows x
    /// vocabulary.
    pub fn last_scores<T: Real>(&self, weights: Weights<'_, T>, lane: &mut Lane<T>, scores: &mut [T]) {
        let Lane { extent, tape, projected, output, work, .. } = lane;
        let block = extent.rows * self.top_width();
        let top = self.top(*extent, tape, projected);
        self.softmax.scores(weights, &top[top.len() - block..], scores, output, work);
    }

    /// Floating-point operations of the matrix products for one token, a multiplication and an addition counted as two. `share_of` is the
    /// share of predicted tokens with an index in a range, for clusters that not every token meets.
    pub fn operations(&self, window: usize, share_of: &dyn Fn(Range<usize>) -> f64) -> Operations {
        let LanguageModelShape { embedding, hidden, layers, cell, .. } = self.shape;
        let gates = (cell.gates() * hidden) as f64;
        let inputs = (embedding + (layers - 1) * hidden) as f64;
        let recurrent = 2.0 * (layers * hidden) as f64 * gates;
        let projection = if self.projection.is_some() { 2.0 * hidden as f64 * embedding as f64 } else { 0.0 };
        let [output, trained_output] = self.softmax.operations(share_of);
        let layers = 2.0 * inputs * gates + recurrent + projection;
        Operations {
            forward: layers + output,
            // Backwards each product comes twice: by its weights and by its inputs. At a window's first step nothing goes further back.
            training: 3.0 * (layers + trained_output) - recurrent / window as f64,
        }
    }

    /// Packed copies of weights for reading.
    pub fn packed_for_reading<T: Real>(&self, weights: &[T]) -> PackedWeights<T> {
        PackedWeights::reading(&self.layout, weights)
    }

    /// Packed copies of weights for backward passes too.
    pub fn packed_for_learning<T: Real>(&self, weights: &[T]) -> PackedWeights<T> {
        let mut packed = PackedWeights::new(&self.layout, true);
        packed.update(&self.layout, weights);
        packed
    }

    /// Has the lane keep the norms of the gradient by each layer's outputs, step by step, in backward passes.
    pub fn watch_flow<T: Real>(&self, lane: &mut Lane<T>) {
        let steps = lane.capacity.steps;
        self.stack.watch_flow(&mut lane.tape, Some(steps));
    }

    /// Those norms of the last backward pass: a list a layer, a number a step.
    pub fn flow<T: Real>(&self, lane: &Lane<T>) -> Vec<Vec<f64>> {
        self.stack.flow(&lane.tape)
    }
}

/// Floating-point operations of matrix products for one token.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Operations {
    /// Reading it and predicting the next.
    pub forward: f64,
    /// Learning from it: forwards and backwards.
    pub training: f64,
}

/// Sizes do not depend on the kind of number.
type T32 = f32;

fn fresh_of(fresh: &Option<Vec<bool>>) -> Option<&[bool]> {
    fresh.as_deref().filter(|fresh| !fresh.is_empty())
}

fn check(shape: &LanguageModelShape) -> Result<(), ShapeError> {
    for (name, value, limit) in [
        ("vocabulary size", shape.vocabulary, 1 << 24),
        ("embedding width", shape.embedding, 1 << 14),
        ("hidden width", shape.hidden, 1 << 14),
        ("number of layers", shape.layers, 64),
    ] {
        if value == 0 {
            return Err(ShapeError::Zero(name));
        }
        if value > limit {
            return Err(ShapeError::TooLarge { name, value, limit });
        }
    }
    match &shape.softmax {
        SoftmaxKind::Full => {}
        SoftmaxKind::Sampled(0) => return Err(ShapeError::Zero("number of sampled tokens")),
        SoftmaxKind::Sampled(_) => {}
        SoftmaxKind::Clustered(_) if shape.tied => return Err(ShapeError::TiedClusters),
        SoftmaxKind::Clustered(clusters) => {
            let ends = &clusters.ends;
            let rising = ends.windows(2).all(|pair| pair[0] < pair[1]);
            let inside = ends.first().is_some_and(|&end| end > 0)
                && ends.last().is_some_and(|&end| end < shape.vocabulary);
            if clusters.shrink == 0 {
                return Err(ShapeError::Zero("factor by which clusters get narrower"));
            }
            if !(rising && inside) {
                return Err(ShapeError::Clusters { ends: ends.clone(), vocabulary: shape.vocabulary });
            }
        }
    }
    Ok(())
}

impl<T: Real> Lane<T> {
    /// The largest window that it has room for.
    pub fn capacity(&self) -> Extent {
        self.capacity
    }

    /// The carried state, one array a layer: rows x hidden outputs, then the memories if there are any.
    pub fn states(&self) -> &[Vec<T>] {
        &self.states
    }

    /// The carried state, to be set.
    pub fn states_mut(&mut self) -> &mut [Vec<T>] {
        &mut self.states
    }

    /// Carries on from rows of other states: row r of this lane from row `parents[r]` of `states`, which have `rows` rows.
    ///
    /// # Panics
    /// If the states are of another model, or a parent is none of their rows.
    pub fn carry_from(&mut self, states: &[Vec<T>], rows: usize, parents: &[usize]) {
        let own_rows = self.capacity.rows;
        for (to, from) in self.states.iter_mut().zip(states) {
            let width = from.len() / rows.max(1);
            assert!(parents.len() == own_rows && to.len() == width * own_rows, "states of another model");
            let blocks = self.blocks;
            let block = width / blocks;
            for part in 0..blocks {
                for (row, &parent) in parents.iter().enumerate() {
                    let at = part * own_rows * block + row * block;
                    let of = part * rows * block + parent * block;
                    to[at..at + block].copy_from_slice(&from[of..of + block]);
                }
            }
        }
    }

    /// The whole gradient that the last backward pass left, rows added up: laid out like the weights.
    pub fn whole_gradient(&self, layout: &Layout) -> Vec<T> {
        let mut whole = vec![T::ZERO; layout.len()];
        whole[self.offset..self.offset + self.gradient.len()].copy_from_slice(&self.gradient);
        for rows in &self.by_rows {
            add_rows(rows, &mut whole);
        }
        whole
    }
}

/// Adds rows to a gradient that is laid out like the weights.
pub(crate) fn add_rows<T: Real>(rows: &RowGradient<T>, whole: &mut [T]) {
    let table = &mut whole[rows.table.clone()];
    for (&row, from) in rows.rows.iter().zip(rows.values.chunks_exact(rows.width.max(1))) {
        let to = &mut table[row as usize * rows.width..(row as usize + 1) * rows.width];
        to.iter_mut().zip(from).for_each(|(sum, &x)| *sum += x);
    }
}
