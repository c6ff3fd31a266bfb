//! The recurrent language model: embedding, stacked recurrent layers, softmax.

mod lane;
mod shape;

use std::ops::Range;

pub use lane::{LanguageLane, TokenWindow};
use shape::check;
pub use shape::{LanguageModelShape, ShapeError};

use super::network::{Draw, LaneRoom, LaneStep, Network};
use crate::blocks::dropout::{Dropout, apply as apply_mask, drop_out};
use crate::blocks::embedding;
use crate::blocks::recurrent::window::{Extent, Window};
use crate::blocks::regularisation::LaneUse;
use crate::blocks::stack::{Penalties, Stack, StackRoom, StackTape};
use crate::heads::loss::{IGNORED, Loss};
use crate::heads::sampled::{Candidates, Proposal, SharedSample};
use crate::heads::softmax::SoftmaxHead;
use crate::numbers::real::Real;
use crate::numbers::rooms::Rooms;
use crate::products::multiply::{multiply, multiply_packed};
use crate::products::pack::Workspace;
use crate::products::view::{Accumulation, Matrix, MatrixMut};
use crate::weights::gradient::{GradientParts, LaneGradient, RowGradient};
use crate::weights::layout::{Layout, PackId, ReadIn};
use crate::weights::packed::Parameters;

/// The groups of tensors: the token vectors (with tied weights also the table of the output), the recurrent layers, the output.
pub const GROUPS: [&str; 3] = ["embedding", "layers", "output"];

/// The architecture of a language model. It holds no weights: they are a flat array that every method is given, with packed copies.
#[derive(Debug, Clone)]
pub struct LanguageModel {
    shape: LanguageModelShape,
    layout: Layout,
    embedding: Range<usize>,
    stack: Stack,
    /// From what the layers write to what the shared table is read with.
    projection: Option<Projection>,
    /// Where the tensors of the output begin in the layout.
    output: usize,
    head: SoftmaxHead,
}

#[derive(Debug, Clone)]
struct Projection {
    weights: Range<usize>,
    forward: PackId,
    back: PackId,
}

/// Standard deviation of the first values of a table that input and output share: small enough for an output, and large enough to be seen as an input.
const TIED_SPREAD: f64 = 0.14;
/// By what factor the projection before it makes what it reads larger at first.
const TIED_GAIN: f64 = 2.0;

impl LanguageModel {
    /// Lays out the weights of a model of this shape.
    ///
    /// # Errors
    /// A size of 0, or one beyond reason; clusters that do not fit.
    pub fn new(shape: LanguageModelShape) -> Result<Self, ShapeError> {
        check(&shape)?;
        let mut layout = Layout::default();
        let LanguageModelShape { vocabulary, embedding, hidden, .. } = shape;
        let spread = shape.start.spread(if shape.tied { TIED_SPREAD } else { 1.0 / 3f64.sqrt() });
        let [tokens, layers, output] = GROUPS.map(|name| layout.group(name));
        let table = layout.push("embedding", &[vocabulary, embedding], tokens, spread);
        let stack = Stack::new(&mut layout, layers, shape.stack());
        let begin = layout.len();
        let projection = shape.tied.then(|| {
            let spread = shape.start.spread(TIED_GAIN / (hidden as f64).sqrt());
            let size = (hidden, embedding);
            let weights = layout.push("output.projection", &[hidden, embedding], output, spread);
            Projection {
                forward: layout.pack(&weights, size, 0..embedding, false, ReadIn::Every),
                back: layout.pack(&weights, size, 0..embedding, true, ReadIn::Backward),
                weights,
            }
        });
        let inputs = if projection.is_some() { embedding } else { hidden };
        let tied = shape.tied.then(|| table.clone());
        let size = (inputs, vocabulary);
        let head = SoftmaxHead::new(&mut layout, output, size, &shape.softmax, tied, shape.start);
        Ok(Self { shape, layout, embedding: table, stack, projection, output: begin, head })
    }

    /// Its shape.
    pub fn shape(&self) -> &LanguageModelShape {
        &self.shape
    }

    /// Negative tokens that each training step draws for a sampled softmax.
    pub fn samples(&self) -> Option<usize> {
        self.head.samples()
    }

    /// The negative samples of a step, shared by all lanes; `counts` returns the frequency of each token, and is called only for a sampled softmax.
    pub fn shared<T: Real>(&self, counts: impl FnOnce() -> Vec<u64>) -> SharedSample<T> {
        match self.samples() {
            Some(samples) => SharedSample::by_counts(&counts(), &self.shape.softmax.excluded, samples),
            None => SharedSample::none(),
        }
    }

    /// Whether the head writes the gradient of the token vectors densely: it does if input and output share one table.
    fn embedding_in_full(&self) -> bool {
        self.shape.tied && self.head.by_rows().is_none()
    }

    /// Width of what the softmax reads.
    fn top_width(&self) -> usize {
        if self.projection.is_some() { self.shape.embedding } else { self.shape.hidden }
    }

    /// A lane that reads windows of up to `extent`. `resets` makes room for rows that are reset inside a window.
    pub fn reading_lane<T: Real>(&self, extent: Extent, resets: bool) -> LanguageLane<T> {
        self.lane(LaneRoom { extent, used_for: LaneUse::Reading, resets }, &mut Rooms::making())
    }

    /// Reads a window of tokens (step-major), moving the lane's state on. `resets` says before which tokens a row's state is reset.
    ///
    /// # Panics
    /// If the window is larger than the lane, a token is outside the vocabulary, or the lane was not made for this.
    pub fn forward<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        tokens: &[u32],
        resets: Option<&[bool]>,
        lane: &mut LanguageLane<T>,
        mut dropout: Option<&mut Dropout>,
    ) {
        let rows = lane.capacity.rows;
        let extent = Extent { steps: tokens.len() / rows, rows };
        assert!(tokens.len() == extent.tokens() && extent.steps <= lane.capacity.steps, "window of a lane");
        assert!(resets.is_none() || lane.resets, "a lane made for rows that are reset");
        lane.extent = extent;
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
                drop_out(embedded, mask, dropout.rates.inputs, &mut dropout.random);
            }
        }
        let window = Window { extent, resets };
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
            let mut out = MatrixMut::new(&mut lane.projected[..tokens.len() * width], tokens.len(), width);
            multiply_packed(
                top,
                weights.packed(projection.forward),
                &mut out,
                Accumulation::Replace,
                &mut lane.work,
            );
        }
    }

    /// The summed loss of the window last read against its targets; each token's loss is appended to `each` if given.
    pub fn loss_of<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        targets: &[u32],
        lane: &mut LanguageLane<T>,
        each: Option<&mut Vec<f64>>,
    ) -> f64 {
        let LanguageLane { extent, tape, projected, head, work, .. } = lane;
        let top = self.top(*extent, tape, projected);
        self.head.loss(weights, top, targets, head, each, work)
    }

    /// Inputs of the softmax: steps x rows x width.
    fn top<'l, T: Real>(&self, extent: Extent, tape: &'l StackTape<T>, projected: &'l [T]) -> &'l [T] {
        match self.projection {
            Some(_) => &projected[..extent.tokens() * self.shape.embedding],
            None => self.stack.outputs(extent, tape),
        }
    }

    /// The loss of the window last read, and the gradient of `scale` times loss and penalties. `dropout` must be that of the forward
    /// pass, and `sample` is what a sampled softmax is trained against.
    ///
    /// # Panics
    /// If the lane was made for reading only.
    #[expect(clippy::too_many_arguments, reason = "inputs, outputs and scratch of one pass")]
    pub fn backward<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        window: &TokenWindow,
        scale: f64,
        lane: &mut LanguageLane<T>,
        gradient: &mut GradientParts<'_, T>,
        dropout: Option<&Dropout>,
        sample: Option<(&Proposal, &Candidates<T>)>,
    ) -> Loss {
        assert!(lane.used_for.is_training(), "a lane made for training");
        let regularisation = lane.used_for.regularisation();
        let TokenWindow { inputs: tokens_read, targets, .. } = window;
        let (extent, hidden, width) = (lane.extent, self.shape.hidden, self.shape.embedding);
        let tokens = extent.tokens();
        let LanguageLane { tape, projected, head, work, d_outputs, d_inputs, .. } = lane;
        let GradientParts { dense: gradient, tables } = gradient;
        let (embedded_rows, output_rows) = tables.split_at_mut(usize::from(!self.embedding_in_full()));
        let output_rows = match output_rows {
            [weights, bias] => Some([weights, bias]),
            _ => None,
        };
        let top = self.top(extent, tape, projected);
        let d_top = &mut d_outputs[..tokens * self.top_width()];
        let smoothing = regularisation.label_smoothing;
        let step = T::of(scale);
        let mut loss = self.head.learn(
            weights,
            top,
            targets,
            step,
            smoothing,
            sample,
            head,
            gradient,
            output_rows,
            d_top,
            work,
        );
        if let Some(projection) = &self.projection {
            let d_top = Matrix::new(&d_outputs[..tokens * width], tokens, width);
            let top = Matrix::new(self.stack.outputs(extent, tape), tokens, hidden).transposed();
            let mut out = MatrixMut::new(gradient.part(&projection.weights), hidden, width);
            multiply(top, d_top, &mut out, Accumulation::Replace, work);
            let mut out = MatrixMut::new(&mut d_inputs[..tokens * hidden], tokens, hidden);
            multiply_packed(d_top, weights.packed(projection.back), &mut out, Accumulation::Replace, work);
            std::mem::swap(d_outputs, d_inputs);
        }
        gradient.finish(self.output);
        let per_number = scale / hidden as f64;
        let penalties = Penalties {
            activation: regularisation.activation_penalty * per_number,
            temporal: regularisation.temporal_penalty * per_number,
        };
        let window = Window { extent, resets: window.resets() };
        let x = &lane.embedded[..tokens * width];
        let penalty =
            self.stack.backward(weights, window, x, penalties, d_outputs, d_inputs, tape, gradient, work);
        loss.penalty += penalty / scale;
        let d_embedded = &mut d_outputs[..tokens * width];
        if let Some(dropout) = dropout {
            if dropout.rates.inputs > 0.0 {
                apply_mask(&lane.dropped_words[..tokens * width], d_embedded);
            }
            if dropout.rates.words > 0.0 {
                for (row, &token) in d_embedded.chunks_exact_mut(width).zip(tokens_read) {
                    let factor = dropout.words.factor::<T>(token);
                    row.iter_mut().for_each(|x| *x *= factor);
                }
            }
        }
        if let Some(rows) = embedded_rows.first_mut() {
            rows.rows.clear();
            rows.rows.extend_from_slice(tokens_read);
            rows.values.clear();
            rows.values.extend_from_slice(d_embedded);
        } else {
            // The head has written the table's gradient already.
            embedding::backward(gradient.part(&self.embedding), width, tokens_read, d_embedded);
        }
        loss
    }

    /// The scores (natural log-probabilities up to a constant) after the last step of the window last read: rows x
    /// vocabulary.
    pub fn last_scores<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        lane: &mut LanguageLane<T>,
        scores: &mut [T],
    ) {
        let LanguageLane { extent, tape, projected, head, work, .. } = lane;
        let block = extent.rows * self.top_width();
        let top = self.top(*extent, tape, projected);
        self.head.scores(weights, &top[top.len() - block..], scores, head, work);
    }

    /// Floating-point operations of the matrix products for one token, a multiplication and an addition counted as two. `share_of` is the
    /// share of predicted tokens with an index in a range, for clusters that not every token meets.
    pub fn operations(&self, window: usize, share_of: &dyn Fn(Range<usize>) -> f64) -> Operations {
        let LanguageModelShape { embedding, hidden, layers, cell, .. } = self.shape;
        let gates = (cell.gates() * hidden) as f64;
        let inputs = (embedding + (layers - 1) * hidden) as f64;
        let recurrent = 2.0 * (layers * hidden) as f64 * gates;
        let projection = if self.projection.is_some() { 2.0 * hidden as f64 * embedding as f64 } else { 0.0 };
        let [output, trained_output] = self.head.operations(share_of);
        let layers = 2.0 * inputs * gates + recurrent + projection;
        Operations {
            forward: layers + output,
            // Backwards each product comes twice: by its weights and by its inputs. At a window's first step nothing goes further back.
            training: 3.0 * (layers + trained_output) - recurrent / window as f64,
        }
    }

    /// Has the lane keep the norms of the gradient by each layer's outputs, step by step, in backward passes.
    pub fn watch_flow<T: Real>(&self, lane: &mut LanguageLane<T>) {
        let steps = lane.capacity.steps;
        self.stack.watch_flow(&mut lane.tape, Some(steps));
    }

    /// Gradient norms of the last backward pass: a list a layer, a number a step.
    pub fn flow<T: Real>(&self, lane: &LanguageLane<T>) -> Vec<Vec<f64>> {
        self.stack.flow(&lane.tape)
    }
}

impl Network for LanguageModel {
    type Window = TokenWindow;
    type Lane<T: Real> = LanguageLane<T>;
    type Shared<T: Real> = SharedSample<T>;

    fn layout(&self) -> &Layout {
        &self.layout
    }

    fn dense(&self) -> Range<usize> {
        let start = if self.embedding_in_full() { 0 } else { self.embedding.end };
        let by_rows = self.head.by_rows();
        let first = by_rows.map(|[weights, bias]| if self.shape.tied { bias.start } else { weights.start });
        start..first.unwrap_or(self.layout.len())
    }

    fn lane<T: Real>(&self, room: LaneRoom, rooms: &mut Rooms) -> LanguageLane<T> {
        let LaneRoom { extent, used_for, resets } = room;
        let tokens = extent.tokens();
        let (embedding, hidden) = (self.shape.embedding, self.shape.hidden);
        let (training, rates) = (used_for.is_training(), used_for.regularisation().dropout);
        let stack = StackRoom {
            extent,
            training,
            resets,
            dropout: rates.layers > 0.0 || rates.output > 0.0,
            recurrent_dropout: rates.recurrent > 0.0,
        };
        // The two change places from layer to layer, so either must hold the widest.
        let widest = tokens * hidden.max(embedding);
        LanguageLane {
            used_for,
            extent: Extent { steps: 0, rows: extent.rows },
            capacity: extent,
            rows_made: extent.rows,
            resets,
            embedded: rooms.zeros(tokens * embedding),
            tape: self.stack.tape(stack, rooms),
            state_parts: self.shape.cell.state_parts(),
            states: self.stack.states(extent.rows, rooms),
            projected: rooms.zeros_if(self.projection.is_some(), tokens * embedding),
            head: self.head.scratch(tokens, training, rooms),
            work: Workspace::within(rooms),
            d_outputs: rooms.zeros_if(training, widest),
            d_inputs: rooms.zeros_if(training, widest),
            dropped_words: rooms.zeros_if(rates.inputs > 0.0, tokens * embedding),
        }
    }

    fn gradient<T: Real>(&self, room: LaneRoom, dense: Range<usize>, rooms: &mut Rooms) -> LaneGradient<T> {
        if !room.used_for.is_training() {
            return LaneGradient::default();
        }
        let tokens = room.extent.tokens();
        let mut tables = Vec::new();
        if !self.embedding_in_full() {
            let table = self.embedding.clone();
            tables.push(RowGradient::within(rooms, table, self.shape.embedding, tokens));
        }
        if let (Some([weights, bias]), Some(samples)) = (self.head.by_rows(), self.samples()) {
            tables.push(RowGradient::within(rooms, weights, self.top_width(), tokens + samples));
            tables.push(RowGradient::within(rooms, bias, 1, tokens + samples));
        }
        LaneGradient::within(rooms, dense, tables)
    }

    fn draw<T: Real>(&self, shared: &mut SharedSample<T>, draw: Draw) {
        shared.draw(draw.seed, draw.step);
    }

    fn scored(&self, window: &TokenWindow) -> u64 {
        window.targets.iter().filter(|&&target| target != IGNORED).count() as u64
    }

    fn begin<T: Real>(&self, weights: Parameters<'_, T>, lane: &mut LanguageLane<T>) {
        self.stack.begin(weights, lane.capacity.rows, &mut lane.states);
    }

    fn loss<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        window: &TokenWindow,
        lane: &mut LanguageLane<T>,
    ) -> f64 {
        self.forward(weights, &window.inputs, window.resets(), lane, None);
        self.loss_of(weights, &window.targets, lane, None)
    }

    fn learn<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        window: &TokenWindow,
        step: LaneStep,
        shared: &SharedSample<T>,
        lane: &mut LanguageLane<T>,
        gradient: &mut GradientParts<'_, T>,
    ) -> Loss {
        let mut dropout = lane.dropout(step.draw.seed, step.draw.step, step.lane);
        self.forward(weights, &window.inputs, window.resets(), lane, dropout.as_mut());
        self.backward(weights, window, step.scale, lane, gradient, dropout.as_ref(), shared.drawn())
    }

    fn state_widths(&self) -> Vec<usize> {
        self.stack.state_widths()
    }

    fn states<'l, T: Real>(&self, lane: &'l LanguageLane<T>) -> &'l [Vec<T>] {
        lane.states()
    }

    fn states_mut<'l, T: Real>(&self, lane: &'l mut LanguageLane<T>) -> &'l mut [Vec<T>] {
        lane.states_mut()
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
