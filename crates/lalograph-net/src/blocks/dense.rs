//! Dense layers: each output is a weighted sum of all inputs and a bias, through an activation.

use std::ops::Range;

use super::recurrent::start::StartingValues;
use crate::numbers::activation::tanh;
use crate::numbers::real::Real;
use crate::products::multiply::{add_column_sums, multiply, multiply_packed};
use crate::products::pack::Workspace;
use crate::products::view::{Accumulation, Matrix, MatrixMut};
use crate::vectorised;
use crate::weights::gradient::Gradient;
use crate::weights::layout::{GroupId, Initial, Layout, PackId, ReadIn};
use crate::weights::packed::Parameters;

crate::choice! {
    /// Activation of dense layers and filters.
    pub enum Activation = Relu {
        /// Negative sums become zero.
        Relu = "relu",
        /// The hyperbolic tangent.
        Tanh = "tanh",
    }
}

impl Activation {
    /// Replaces sums by their activations.
    pub fn apply<T: Real>(self, xs: &mut [T]) {
        match self {
            Self::Relu => vectorised!(xs.iter_mut().for_each(|x| *x = x.greater(T::ZERO))),
            Self::Tanh => vectorised!(xs.iter_mut().for_each(|x| *x = tanh(*x))),
        }
    }

    /// Turns the gradient by the activations `ys` into that by their sums.
    pub fn backward<T: Real>(self, ys: &[T], d: &mut [T]) {
        match self {
            Self::Relu => vectorised!(for (d, &y) in d.iter_mut().zip(ys) {
                *d = if y > T::ZERO { *d } else { T::ZERO };
            }),
            Self::Tanh => vectorised!(for (d, &y) in d.iter_mut().zip(ys) {
                *d *= T::ONE - y * y;
            }),
        }
    }

    /// First weights of `inputs` inputs: the variance of the outputs is that of the inputs (He et al., 2015, for `relu`).
    pub(super) fn spread(self, inputs: usize, start: StartingValues) -> Initial {
        let gain = if self == Self::Relu { 2.0 } else { 1.0 };
        start.spread((gain / inputs as f64).sqrt())
    }
}

/// The sizes of a dense layer, and the positions of its weights (inputs x outputs) and biases.
#[derive(Debug, Clone)]
pub struct Dense {
    inputs: usize,
    outputs: usize,
    activation: Activation,
    weights: Range<usize>,
    bias: Range<usize>,
    forward: PackId,
    back: PackId,
}

impl Dense {
    /// Adds the layer's tensors to `layout` as `name.weights` and `name.bias`.
    pub fn new(
        layout: &mut Layout,
        name: &str,
        group: GroupId,
        (inputs, outputs): (usize, usize),
        activation: Activation,
        start: StartingValues,
    ) -> Self {
        let spread = activation.spread(inputs, start);
        let weights = layout.push(format!("{name}.weights"), &[inputs, outputs], group, spread);
        let bias = layout.push(format!("{name}.bias"), &[outputs], group, Initial::Constant(0.0));
        let forward = layout.pack(&weights, (inputs, outputs), 0..outputs, false, ReadIn::Every);
        let back = layout.pack(&weights, (inputs, outputs), 0..outputs, true, ReadIn::Backward);
        Self { inputs, outputs, activation, weights, bias, forward, back }
    }

    /// Width of its output.
    pub fn outputs(&self) -> usize {
        self.outputs
    }

    /// Multiplications and additions for one row.
    pub fn operations(&self) -> f64 {
        2.0 * self.inputs as f64 * self.outputs as f64
    }

    /// Writes the outputs of `x` (rows x inputs) to `out` (rows x outputs).
    pub fn forward<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        x: &[T],
        out: &mut [T],
        work: &mut Workspace<T>,
    ) {
        let rows = out.len() / self.outputs;
        let bias = weights.part(&self.bias);
        out.chunks_exact_mut(self.outputs).for_each(|row| row.copy_from_slice(bias));
        let mut sums = MatrixMut::new(out, rows, self.outputs);
        let x = Matrix::new(x, rows, self.inputs);
        multiply_packed(x, weights.packed(self.forward), &mut sums, Accumulation::Add, work);
        self.activation.apply(out);
    }

    /// The backward pass: `d_out` is the gradient by the outputs `out` and is used up. Writes the gradient of the layer's tensors, and that
    /// by `x` to `d_x` (rows x inputs).
    #[expect(clippy::too_many_arguments, reason = "inputs, outputs and scratch of one pass")]
    pub fn backward<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        x: &[T],
        out: &[T],
        d_out: &mut [T],
        gradient: &mut Gradient<'_, T>,
        d_x: &mut [T],
        work: &mut Workspace<T>,
    ) {
        let rows = out.len() / self.outputs;
        self.activation.backward(out, d_out);
        let bias = gradient.part(&self.bias);
        bias.fill(T::ZERO);
        add_column_sums(d_out, bias);
        let d_sums = Matrix::new(d_out, rows, self.outputs);
        let x = Matrix::new(x, rows, self.inputs).transposed();
        let mut d_weights = MatrixMut::new(gradient.part(&self.weights), self.inputs, self.outputs);
        multiply(x, d_sums, &mut d_weights, Accumulation::Replace, work);
        let mut d_x = MatrixMut::new(d_x, rows, self.inputs);
        multiply_packed(d_sums, weights.packed(self.back), &mut d_x, Accumulation::Replace, work);
    }
}
