//! What every recurrent layer has in common: it turns a window of inputs into a window of outputs, carrying a state.

use std::ops::Range;

use crate::parameters::{Initial, Layout};
use crate::real::Real;

/// The size of a window of text: `steps` tokens of each of `rows` parallel streams. Arrays over it are
/// step-major: number `(step * rows + row) * width + i`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Extent {
    /// Tokens along each stream.
    pub steps: usize,
    /// Streams side by side.
    pub rows: usize,
}

impl Extent {
    /// Tokens in all.
    pub fn tokens(self) -> usize {
        self.steps * self.rows
    }
}

/// What a layer keeps from its forward pass for its backward pass, and the room to work in. Made once for the
/// largest window; smaller ones use its beginning.
#[derive(Debug, Clone)]
pub struct Tape<T> {
    /// Gate activations, steps x rows x (gates * hidden); their gradients after the backward pass.
    pub gates: Vec<T>,
    /// Outputs with the initial ones before them: (steps + 1) x rows x hidden.
    pub outputs: Vec<T>,
    /// Memory cells with the initial ones before them, for layers that have them.
    pub cells: Vec<T>,
    /// The squashed memory cells, steps x rows x hidden.
    pub squashed: Vec<T>,
    /// Gradients flowing back from the next step: rows x hidden each.
    pub d_output: Vec<T>,
    /// The same for the memory cells.
    pub d_cell: Vec<T>,
    /// The recurrent weights transposed, so that the backward pass reads them in order.
    pub transposed: Vec<T>,
}

impl<T: Real> Tape<T> {
    /// The outputs of the window, without the initial ones: steps x rows x hidden.
    pub fn window_outputs(&self, extent: Extent, hidden: usize) -> &[T] {
        let row = extent.rows * hidden;
        &self.outputs[row..row + extent.tokens() * hidden]
    }
}

/// A layer that reads a sequence step by step.
pub trait RecurrentLayer<T: Real>: Send + Sync {
    /// Width of its input.
    fn inputs(&self) -> usize;
    /// Width of its output.
    fn hidden(&self) -> usize;
    /// Numbers of state that each row carries from window to window.
    fn state_width(&self) -> usize;
    /// Room for windows up to `extent`.
    fn tape(&self, extent: Extent) -> Tape<T>;

    /// Runs the window. `x` is steps x rows x inputs. `state` holds rows x `state_width` numbers and is
    /// moved on to the window's end. The outputs are left in the tape.
    fn forward(&self, weights: &[T], extent: Extent, x: &[T], state: &mut [T], tape: &mut Tape<T>);

    /// Runs the window backwards from `d_out`, the gradient of the loss by the outputs (steps x rows x hidden): adds to `gradient`, laid out
    /// like all weights, and writes the gradient by the inputs to `d_x`. No gradient enters from after the window: that cut is
    /// what "truncated" means in truncated backpropagation through time (Williams and Peng, 1990).
    #[expect(clippy::too_many_arguments, reason = "inputs, outputs and scratch of one pass")]
    fn backward(
        &self,
        weights: &[T],
        extent: Extent,
        x: &[T],
        d_out: &[T],
        tape: &mut Tape<T>,
        gradient: &mut [T],
        d_x: &mut [T],
    );
}

/// See [`GateWeights::push`].
pub const RECURRENT_BOUND: f64 = 0.2;

/// Where a layer's three tensors lie in the flat weights.
#[derive(Debug, Clone)]
pub struct GateWeights {
    /// Input weights, inputs x (gates * hidden).
    pub input: Range<usize>,
    /// Recurrent weights, hidden x (gates * hidden).
    pub recurrent: Range<usize>,
    /// Biases, gates * hidden.
    pub bias: Range<usize>,
}

impl GateWeights {
    /// Adds the tensors to the layout. Input weights are uniform with variance 1 / fan-in. Recurrent ones begin
    /// small, at [`RECURRENT_BOUND`] / sqrt(hidden): what is remembered at first passes through the memory cells and is not stirred.
    /// Biases are zero but for the stretch of the forget gate's.
    pub fn push(
        layout: &mut Layout,
        name: &str,
        inputs: usize,
        hidden: usize,
        gates: usize,
        (stretch, value): (Range<usize>, f64),
    ) -> Self {
        let width = gates * hidden;
        let uniform = |bound: f64, fan_in: usize| Initial::Uniform(bound / (fan_in as f64).sqrt());
        Self {
            input: layout.push(format!("{name}.input"), &[inputs, width], uniform(3f64.sqrt(), inputs)),
            recurrent: layout.push(
                format!("{name}.recurrent"),
                &[hidden, width],
                uniform(RECURRENT_BOUND, hidden),
            ),
            bias: layout.push(
                format!("{name}.bias"),
                &[width],
                Initial::ZeroBut { from: stretch.start, to: stretch.end, value },
            ),
        }
    }
}
