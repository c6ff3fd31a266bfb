//! The recurrent language model: embedding, stacked recurrent layers, softmax.

use thiserror::Error;

use crate::dropout;
use crate::embedding;
use crate::lstm::Lstm;
use crate::parameters::{Initial, Layout};
use crate::random::Stream;
use crate::real::Real;
use crate::recurrent::{Extent, RecurrentLayer, Tape};
use crate::softmax::Softmax;

/// The kind of recurrent layer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Cell {
    /// Long short-term memory.
    Lstm,
}

/// The sizes that settle a model's weights.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
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
}

/// The architecture of a language model. It holds no weights: they are a flat array that every method is given.
pub struct LanguageModel<T> {
    shape: LanguageModelShape,
    layout: Layout,
    embedding: std::ops::Range<usize>,
    layers: Vec<Box<dyn RecurrentLayer<T>>>,
    softmax: Softmax,
}

/// Dropout for one pass: the rate, and the stream that the masks are drawn from.
#[derive(Debug)]
pub struct Dropout {
    /// The share of numbers set to zero: on the embedding's output and on every layer's.
    pub rate: f64,
    /// Where the masks come from. The same stream gives the same masks.
    pub random: Stream,
}

/// One lane of a batch: some of its rows, with their state, their gradient and the room to work in. Nothing is
/// allocated after it is made.
pub struct Lane<T> {
    extent: Extent,
    capacity: Extent,
    tokens: Vec<u32>,
    embedded: Vec<T>,
    tapes: Vec<Tape<T>>,
    states: Vec<Vec<T>>,
    /// What each layer handed on, after dropout; empty in lanes that were made without it.
    dropped: Vec<Vec<T>>,
    masks: Vec<Vec<T>>,
    masked: bool,
    scores: Vec<T>,
    d_outputs: Vec<T>,
    d_inputs: Vec<T>,
    /// The gradient that this lane contributes, laid out like the weights.
    pub gradient: Vec<T>,
}

/// What a lane is made for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Purpose {
    /// Forward passes only.
    Reading,
    /// Forward and backward passes.
    Training {
        /// Whether passes may use dropout.
        dropout: bool,
    },
}

impl<T: Real> LanguageModel<T> {
    /// Lays out the weights of a model of this shape.
    ///
    /// # Errors
    /// A size of 0, or one beyond reason.
    pub fn new(shape: LanguageModelShape) -> Result<Self, ShapeError> {
        let LanguageModelShape { vocabulary, embedding, hidden, layers, cell } = shape;
        for (name, value, limit) in [
            ("vocabulary size", vocabulary, 1 << 24),
            ("embedding width", embedding, 1 << 14),
            ("hidden width", hidden, 1 << 14),
            ("number of layers", layers, 64),
        ] {
            if value == 0 {
                return Err(ShapeError::Zero(name));
            }
            if value > limit {
                return Err(ShapeError::TooLarge { name, value, limit });
            }
        }
        let mut layout = Layout::default();
        let table = layout.push("embedding", &[vocabulary, embedding], Initial::Uniform(1.0));
        let mut stack: Vec<Box<dyn RecurrentLayer<T>>> = Vec::with_capacity(layers);
        for index in 0..layers {
            let inputs = if index == 0 { embedding } else { hidden };
            let name = format!("layer.{index}");
            stack.push(match cell {
                Cell::Lstm => Box::new(Lstm::new(&mut layout, &name, inputs, hidden)),
            });
        }
        let softmax = Softmax::new(&mut layout, "output", hidden, vocabulary);
        Ok(Self { shape, layout, embedding: table, layers: stack, softmax })
    }

    /// Its sizes.
    pub fn shape(&self) -> LanguageModelShape {
        self.shape
    }

    /// The names and places of its weights.
    pub fn layout(&self) -> &Layout {
        &self.layout
    }

    /// A lane for windows up to `capacity`, its state zero.
    pub fn lane(&self, capacity: Extent, purpose: Purpose) -> Lane<T> {
        let tokens = capacity.tokens();
        let (embedding, hidden) = (self.shape.embedding, self.shape.hidden);
        let zeros = |count| vec![T::ZERO; count];
        let training = matches!(purpose, Purpose::Training { .. });
        let masks: Vec<Vec<T>> = if purpose == (Purpose::Training { dropout: true }) {
            std::iter::once(zeros(tokens * embedding))
                .chain(self.layers.iter().map(|_| zeros(tokens * hidden)))
                .collect()
        } else {
            Vec::new()
        };
        Lane {
            extent: Extent { steps: 0, rows: capacity.rows },
            capacity,
            tokens: Vec::with_capacity(tokens),
            embedded: zeros(tokens * embedding),
            tapes: self.layers.iter().map(|layer| layer.tape(capacity)).collect(),
            states: self.layers.iter().map(|layer| zeros(capacity.rows * layer.state_width())).collect(),
            dropped: masks.iter().skip(1).map(|mask| zeros(mask.len())).collect(),
            masks,
            masked: false,
            scores: self.softmax.scratch(tokens),
            // The two change places from layer to layer, so either must hold the wider of the widths.
            d_outputs: zeros(if training { tokens * hidden.max(embedding) } else { 0 }),
            d_inputs: zeros(if training { tokens * hidden.max(embedding) } else { 0 }),
            gradient: zeros(if training { self.layout.len() } else { 0 }),
        }
    }

    /// Reads a window of tokens (step-major), moving the lane's state on.
    ///
    /// # Panics
    /// If the window is larger than the lane, or a token is outside the vocabulary.
    pub fn forward(&self, weights: &[T], tokens: &[u32], lane: &mut Lane<T>, dropout: Option<&mut Dropout>) {
        let rows = lane.capacity.rows;
        let extent = Extent { steps: tokens.len() / rows, rows };
        assert!(tokens.len() == extent.tokens() && extent.steps <= lane.capacity.steps, "window of a lane");
        lane.extent = extent;
        lane.tokens.clear();
        lane.tokens.extend_from_slice(tokens);
        let width = self.shape.embedding;
        let embedded = &mut lane.embedded[..tokens.len() * width];
        embedding::forward(&weights[self.embedding.clone()], width, tokens, embedded);
        lane.masked = false;
        if let Some(Dropout { rate, random }) = dropout {
            assert!(!lane.masks.is_empty(), "a lane made for dropout");
            lane.masked = true;
            for (index, mask) in lane.masks.iter_mut().enumerate() {
                let width = if index == 0 { width } else { self.shape.hidden };
                dropout::draw_mask(&mut mask[..tokens.len() * width], *rate, random);
            }
            dropout::apply(&lane.masks[0], embedded);
        }
        for (index, layer) in self.layers.iter().enumerate() {
            let (below, rest) = lane.tapes.split_at_mut(index);
            let x = input_of(index, extent, self, &lane.embedded, below, &lane.dropped, lane.masked);
            layer.forward(weights, extent, x, &mut lane.states[index], &mut rest[0]);
            if lane.masked {
                let outputs = rest[0].window_outputs(extent, self.shape.hidden);
                let dropped = &mut lane.dropped[index][..outputs.len()];
                dropped.copy_from_slice(outputs);
                dropout::apply(&lane.masks[index + 1], dropped);
            }
        }
    }

    /// What the last layer handed to the softmax in the last forward pass: steps x rows x hidden.
    fn top<'l>(&self, lane: &'l Lane<T>) -> &'l [T] {
        input_of(
            self.layers.len(),
            lane.extent,
            self,
            &lane.embedded,
            &lane.tapes,
            &lane.dropped,
            lane.masked,
        )
    }

    /// The summed loss of the window last read against its targets; each token's loss is appended to `each` if given.
    pub fn loss(
        &self,
        weights: &[T],
        targets: &[u32],
        lane: &mut Lane<T>,
        each: Option<&mut Vec<f64>>,
    ) -> f64 {
        let mut scores = std::mem::take(&mut lane.scores);
        let total = self.softmax.loss(weights, self.top(lane), targets, &mut scores, each);
        lane.scores = scores;
        total
    }

    /// The summed loss of the window last read, and the gradient of `scale` times that sum, added to the lane's.
    ///
    /// # Panics
    /// If the lane was made for reading only.
    pub fn loss_and_gradient(&self, weights: &[T], targets: &[u32], scale: T, lane: &mut Lane<T>) -> f64 {
        let (extent, hidden) = (lane.extent, self.shape.hidden);
        let tokens = extent.tokens();
        let mut scores = std::mem::take(&mut lane.scores);
        let mut d_outputs = std::mem::take(&mut lane.d_outputs);
        let mut d_inputs = std::mem::take(&mut lane.d_inputs);
        let mut gradient = std::mem::take(&mut lane.gradient);
        assert!(gradient.len() == self.layout.len(), "a lane made for training");
        let total = self.softmax.loss_and_gradient(
            weights,
            self.top(lane),
            targets,
            scale,
            &mut scores,
            &mut gradient,
            &mut d_outputs[..tokens * hidden],
        );
        for (index, layer) in self.layers.iter().enumerate().rev() {
            if lane.masked {
                dropout::apply(&lane.masks[index + 1][..tokens * hidden], &mut d_outputs[..tokens * hidden]);
            }
            let (below, rest) = lane.tapes.split_at_mut(index);
            let x = input_of(index, extent, self, &lane.embedded, below, &lane.dropped, lane.masked);
            let d_x = &mut d_inputs[..tokens * layer.inputs()];
            layer.backward(
                weights,
                extent,
                x,
                &d_outputs[..tokens * hidden],
                &mut rest[0],
                &mut gradient,
                d_x,
            );
            if index > 0 {
                std::mem::swap(&mut d_outputs, &mut d_inputs);
            }
        }
        let width = self.shape.embedding;
        let d_embedded = &mut d_inputs[..tokens * width];
        if lane.masked {
            dropout::apply(&lane.masks[0][..tokens * width], d_embedded);
        }
        embedding::backward(&mut gradient[self.embedding.clone()], width, &lane.tokens, d_embedded);
        lane.scores = scores;
        lane.d_outputs = d_outputs;
        lane.d_inputs = d_inputs;
        lane.gradient = gradient;
        total
    }

    /// The scores (natural log-probabilities up to a constant) after the last step of the window last read: rows x
    /// vocabulary.
    pub fn last_scores(&self, weights: &[T], lane: &Lane<T>, scores: &mut [T]) {
        let block = lane.extent.rows * self.shape.hidden;
        let top = self.top(lane);
        self.softmax.scores(weights, &top[top.len() - block..], scores);
    }
}

/// The input of layer `index`; for `index` past the last layer, the input of the softmax.
fn input_of<'a, T: Real>(
    index: usize,
    extent: Extent,
    model: &LanguageModel<T>,
    embedded: &'a [T],
    tapes: &'a [Tape<T>],
    dropped: &'a [Vec<T>],
    masked: bool,
) -> &'a [T] {
    let hidden = model.shape.hidden;
    match index.checked_sub(1) {
        None => &embedded[..extent.tokens() * model.shape.embedding],
        Some(below) if masked => &dropped[below][..extent.tokens() * hidden],
        Some(below) => tapes[below].window_outputs(extent, hidden),
    }
}

impl<T: Real> Lane<T> {
    /// The largest window that it has room for.
    pub fn capacity(&self) -> Extent {
        self.capacity
    }

    /// The carried state, one array a layer.
    pub fn states(&self) -> &[Vec<T>] {
        &self.states
    }

    /// The carried state, to be set.
    pub fn states_mut(&mut self) -> &mut [Vec<T>] {
        &mut self.states
    }

    /// Forgets what was read.
    pub fn reset_state(&mut self) {
        for state in &mut self.states {
            state.fill(T::ZERO);
        }
    }
}
