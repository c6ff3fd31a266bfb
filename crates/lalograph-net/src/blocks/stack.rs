//! Recurrent layers one on the other, in one or both directions, with normalisation, residual connections and dropout.
//!
//! Each layer's outputs are normalised if that is asked for, then, but for the first layer, the layer's input is added if
//! that is asked for (He et al., 2016), then dropout is applied, and the result is the input of the layer above.

use super::dropout::{self, Dropout};
use super::norm::{LayerNorm, NormTape};
use super::recurrent::cell::Cell;
use super::recurrent::start::StartingValues;
use super::recurrent::walk::{Recurrent, Tape, TapeRoom};
use super::recurrent::window::{Extent, Window};
use super::reverse::{ReverseTape, join, read_reverse, reverse_backward, take_direction};
use crate::numbers::real::Real;
use crate::numbers::rooms::Rooms;
use crate::products::pack::Workspace;
use crate::weights::gradient::Gradient;
use crate::weights::layout::{GroupId, Layout};
use crate::weights::packed::Parameters;

/// The shape of the layers.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct StackShape {
    /// Their kind.
    pub cell: Cell,
    /// Width of the first layer's input.
    pub inputs: usize,
    /// Width of each layer, in each direction.
    pub hidden: usize,
    /// Layers.
    pub layers: usize,
    /// Whether each layer reads the window backwards as well (Schuster and Paliwal, 1997): twice the outputs, and no use for
    /// predicting what comes next.
    pub both_directions: bool,
    /// Whether outputs are normalised.
    pub layer_norm: bool,
    /// Whether inputs are added to outputs, from the second layer on.
    pub residual: bool,
    /// Whether the state before the first token is learnt instead of zero.
    pub learn_first_state: bool,
    /// Initialisation of weights.
    pub start: StartingValues,
}

impl StackShape {
    /// Width of what the stack outputs.
    pub fn outputs(&self) -> usize {
        self.hidden * (1 + usize::from(self.both_directions))
    }
}

/// Penalties on the outputs (Merity, McCann and Socher, 2017), each a factor of a sum over numbers.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Penalties {
    /// On the squares of what the last layer outputs, after dropout.
    pub activation: f64,
    /// On the squares of the changes of the last layer's outputs from step to step, within a window.
    pub temporal: f64,
}

#[derive(Debug, Clone)]
struct Layer {
    /// Where its tensors begin in the layout.
    start: usize,
    forward: Recurrent,
    reverse: Option<Recurrent>,
    norm: Option<LayerNorm>,
    residual: bool,
}

/// The architecture; it holds no weights.
#[derive(Debug, Clone)]
pub struct Stack {
    shape: StackShape,
    layers: Vec<Layer>,
}

/// Sizes of a tape.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct StackRoom {
    /// The largest window.
    pub extent: Extent,
    /// Backward passes.
    pub training: bool,
    /// Windows in which rows are reset.
    pub resets: bool,
    /// Dropout between layers or before the output.
    pub dropout: bool,
    /// Dropout on the recurrent path.
    pub recurrent_dropout: bool,
}

#[derive(Debug, Clone, Default)]
struct LayerTape<T> {
    forward: Tape<T>,
    reverse: Option<ReverseTape<T>>,
    norm: Option<NormTape<T>>,
    /// Output of the layer, if it differs from the outputs of its cell.
    passed_up: Vec<T>,
    mask: Vec<T>,
    masked: bool,
    /// Whether what is passed on is never simply the outputs.
    rewritten: bool,
}

/// The tapes of all layers.
#[derive(Debug, Clone, Default)]
pub struct StackTape<T> {
    layers: Vec<LayerTape<T>>,
    d_inner: Vec<T>,
}

impl Stack {
    /// Adds the tensors of all layers to `layout`, as `layer.1.input` and so on.
    pub fn new(layout: &mut Layout, group: GroupId, shape: StackShape) -> Self {
        let layer = |index: usize| {
            let inputs = if index == 0 { shape.inputs } else { shape.outputs() };
            let start = layout.len();
            let mut one = |name: &str| {
                Recurrent::new(
                    layout,
                    name,
                    group,
                    shape.cell,
                    (inputs, shape.hidden),
                    shape.learn_first_state,
                    shape.start,
                )
            };
            let forward = one(&format!("layer.{}", index + 1));
            let reverse = shape.both_directions.then(|| one(&format!("layer.{}.reverse", index + 1)));
            let norm = shape.layer_norm.then(|| {
                LayerNorm::new(layout, &format!("layer.{}.norm", index + 1), group, shape.outputs())
            });
            Layer { start, forward, reverse, norm, residual: shape.residual && index > 0 }
        };
        Self { shape, layers: (0..shape.layers).map(layer).collect() }
    }

    /// The shape of the layers.
    pub fn shape(&self) -> &StackShape {
        &self.shape
    }

    /// Multiplications and additions for one token in the forward pass.
    pub fn operations(&self) -> f64 {
        let one = |layer: &Recurrent| 2.0 * (layer.inputs() + layer.hidden()) as f64 * layer.width() as f64;
        self.layers.iter().map(|layer| one(&layer.forward) + layer.reverse.as_ref().map_or(0.0, one)).sum()
    }

    /// States of `rows` rows: one array a layer, the forward direction's.
    pub fn states<T: Real>(&self, rows: usize, rooms: &mut Rooms) -> Vec<Vec<T>> {
        self.layers.iter().map(|layer| rooms.zeros(rows * layer.forward.state_width())).collect()
    }

    /// Numbers of state that each row carries, layer by layer.
    pub fn state_widths(&self) -> Vec<usize> {
        self.layers.iter().map(|layer| layer.forward.state_width()).collect()
    }

    /// Puts the state before a text into all rows: zero, or what was learnt.
    pub fn begin<T: Real>(&self, weights: Parameters<'_, T>, rows: usize, states: &mut [Vec<T>]) {
        for (layer, state) in self.layers.iter().zip(states) {
            layer.forward.begin(weights, rows, state);
        }
    }

    fn rewrites(&self, layer: &Layer) -> bool {
        layer.norm.is_some() || layer.residual || layer.reverse.is_some()
    }

    /// The tape that windows need.
    pub fn tape<T: Real>(&self, room: StackRoom, rooms: &mut Rooms) -> StackTape<T> {
        let tokens = room.extent.tokens();
        let width = self.shape.outputs();
        let one = TapeRoom {
            extent: room.extent,
            training: room.training,
            resets: room.resets,
            recurrent_dropout: room.recurrent_dropout,
        };
        let layers = self.layers.iter().map(|layer| LayerTape {
            forward: layer.forward.tape(one, rooms),
            reverse: layer.reverse.as_ref().map(|reverse| ReverseTape::within(reverse, one, rooms)),
            norm: layer.norm.as_ref().map(|norm| norm.tape(tokens, rooms)),
            passed_up: rooms.zeros_if(room.dropout || self.rewrites(layer), tokens * width),
            mask: rooms.zeros_if(room.dropout, tokens * width),
            masked: false,
            rewritten: self.rewrites(layer),
        });
        let layers = layers.collect();
        let rewrites = self.layers.iter().any(|layer| self.rewrites(layer));
        StackTape { layers, d_inner: rooms.zeros_if(room.training && rewrites, tokens * width) }
    }

    /// Runs the window; `x` is steps x rows x inputs, `states` is moved on. [`Stack::outputs`] has the result.
    #[expect(clippy::too_many_arguments, reason = "inputs, outputs and scratch of one pass")]
    pub fn forward<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        window: Window<'_>,
        x: &[T],
        states: &mut [Vec<T>],
        tape: &mut StackTape<T>,
        work: &mut Workspace<T>,
        mut dropout: Option<&mut Dropout>,
    ) {
        let tokens = window.extent.tokens();
        let (hidden, width) = (self.shape.hidden, self.shape.outputs());
        for (index, layer) in self.layers.iter().enumerate() {
            let (below, rest) = tape.layers.split_at_mut(index);
            let x = match below.last() {
                None => x,
                Some(below) => passed_up(below, window.extent, hidden, width),
            };
            let this = &mut rest[0];
            let rates = dropout.as_ref().map(|dropout| dropout.rates).unwrap_or_default();
            let last = index + 1 == self.layers.len();
            let rate = if last { rates.output } else { rates.layers };
            this.masked = rate > 0.0;
            let reverse_tape = this.reverse.as_mut().map(ReverseTape::tape);
            for one in [Some(&mut this.forward), reverse_tape].into_iter().flatten() {
                one.masked = rates.recurrent > 0.0;
                if let (true, Some(dropout)) = (one.masked, &mut dropout) {
                    let mask = &mut one.mask[..window.extent.rows * hidden];
                    dropout::draw_mask(mask, rates.recurrent, &mut dropout.random);
                }
            }
            layer.forward.forward(weights, window, x, &mut states[index], &mut this.forward, work);
            if let (Some(layer), Some(reverse)) = (&layer.reverse, &mut this.reverse) {
                read_reverse(layer, weights, window, x, reverse, work);
                join(window.extent, hidden, &this.forward, reverse);
            }
            if !(self.rewrites(layer) || this.masked) {
                continue;
            }
            let outputs = match &this.reverse {
                Some(reverse) => &reverse.joined()[..tokens * width],
                None => this.forward.window_outputs(window.extent, hidden),
            };
            let passed_up = &mut this.passed_up[..tokens * width];
            match (&layer.norm, &mut this.norm) {
                (Some(norm), Some(tape)) => norm.forward(weights, outputs, passed_up, tape),
                _ => passed_up.copy_from_slice(outputs),
            }
            if layer.residual {
                passed_up.iter_mut().zip(x).for_each(|(y, &x)| *y += x);
            }
            if let (true, Some(dropout)) = (this.masked, &mut dropout) {
                let mask = &mut this.mask[..tokens * width];
                dropout::drop_out(passed_up, mask, rate, &mut dropout.random);
            }
        }
    }

    /// Outputs of the last layer: steps x rows x outputs.
    pub fn outputs<'t, T: Real>(&self, extent: Extent, tape: &'t StackTape<T>) -> &'t [T] {
        let (hidden, width) = (self.shape.hidden, self.shape.outputs());
        tape.layers.last().map_or(&[], |last| passed_up(last, extent, hidden, width))
    }

    /// Runs the window backwards. `d_out` is the gradient by the outputs and is used up; that by `x` is in it afterwards, tokens x
    /// inputs. `d_in` is scratch. Both must hold the widest layer. Returns the sum of the penalties' terms.
    #[expect(clippy::too_many_arguments, reason = "inputs, outputs and scratch of one pass")]
    pub fn backward<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        window: Window<'_>,
        x: &[T],
        penalties: Penalties,
        d_out: &mut Vec<T>,
        d_in: &mut Vec<T>,
        tape: &mut StackTape<T>,
        gradient: &mut Gradient<'_, T>,
        work: &mut Workspace<T>,
    ) -> f64 {
        let tokens = window.extent.tokens();
        let (hidden, width) = (self.shape.hidden, self.shape.outputs());
        let mut penalty = 0.0;
        for (index, layer) in self.layers.iter().enumerate().rev() {
            let last = index + 1 == self.layers.len();
            let StackTape { layers, d_inner } = tape;
            let (below, rest) = layers.split_at_mut(index);
            let x = match below.last() {
                None => x,
                Some(below) => passed_up(below, window.extent, hidden, width),
            };
            if last && penalties.activation > 0.0 {
                let outputs = passed_up(&rest[0], window.extent, hidden, width);
                penalty += pull_to_zero(penalties.activation, outputs, &mut d_out[..tokens * width]);
            }
            let this = &mut rest[0];
            let d_handed = &mut d_out[..tokens * width];
            if this.masked {
                dropout::apply(&this.mask[..tokens * width], d_handed);
            }
            let d_outputs = if self.rewrites(layer) {
                let inner = &mut d_inner[..tokens * width];
                match (&layer.norm, &this.norm) {
                    (Some(norm), Some(tape)) => norm.backward(weights, d_handed, tape, gradient, inner),
                    _ => inner.copy_from_slice(d_handed),
                }
                inner
            } else {
                d_handed
            };
            if last && penalties.temporal > 0.0 && layer.reverse.is_none() {
                let outputs = this.forward.window_outputs(window.extent, hidden);
                penalty += pull_together(penalties.temporal, window.extent.rows * hidden, outputs, d_outputs);
            }
            let d_x = &mut d_in[..tokens * layer.forward.inputs()];
            match (&layer.reverse, &mut this.reverse) {
                (Some(other), Some(reverse)) => {
                    let d_one = take_direction(window.extent, hidden, d_outputs, 0, reverse);
                    layer.forward.backward(weights, window, x, d_one, &mut this.forward, gradient, d_x, work);
                    reverse_backward(other, weights, window, d_outputs, reverse, gradient, d_x, work);
                }
                _ => {
                    layer.forward.backward(
                        weights,
                        window,
                        x,
                        d_outputs,
                        &mut this.forward,
                        gradient,
                        d_x,
                        work,
                    );
                }
            }
            gradient.finish(layer.start);
            if layer.residual {
                d_x.iter_mut().zip(d_out.iter()).for_each(|(d_x, &d)| *d_x += d);
            }
            std::mem::swap(d_out, d_in);
        }
        penalty
    }

    /// Asks for the norms of the gradient by each layer's outputs at each step to be kept, or no longer.
    pub fn watch_flow<T: Real>(&self, tape: &mut StackTape<T>, steps: Option<usize>) {
        for layer in &mut tape.layers {
            layer.forward.flow = steps.map(|steps| vec![0.0; steps]);
        }
    }

    /// Gradient norms of the last backward pass: a list a layer, a number a step.
    pub fn flow<T: Real>(&self, tape: &StackTape<T>) -> Vec<Vec<f64>> {
        tape.layers.iter().filter_map(|layer| layer.forward.flow.clone()).collect()
    }
}

fn passed_up<T: Real>(tape: &LayerTape<T>, extent: Extent, hidden: usize, width: usize) -> &[T] {
    if tape.masked || tape.rewritten {
        &tape.passed_up[..extent.tokens() * width]
    } else {
        tape.forward.window_outputs(extent, hidden)
    }
}

/// Adds the gradient of `factor * sum of squares` and returns that sum.
fn pull_to_zero<T: Real>(factor: f64, outputs: &[T], d_outputs: &mut [T]) -> f64 {
    let twice = T::of(2.0 * factor);
    let mut sum = 0.0;
    for (d, &x) in d_outputs.iter_mut().zip(outputs) {
        *d += twice * x;
        sum += (x * x).to_f64();
    }
    factor * sum
}

/// Adds the gradient of `factor * sum of squared changes` between steps of `block` numbers and returns that sum.
fn pull_together<T: Real>(factor: f64, block: usize, outputs: &[T], d_outputs: &mut [T]) -> f64 {
    let twice = T::of(2.0 * factor);
    let mut sum = 0.0;
    for index in block..outputs.len() {
        let change = outputs[index] - outputs[index - block];
        d_outputs[index] += twice * change;
        d_outputs[index - block] -= twice * change;
        sum += (change * change).to_f64();
    }
    factor * sum
}
