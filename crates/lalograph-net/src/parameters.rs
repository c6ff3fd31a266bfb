//! All weights of a model in one flat array, and the names and shapes of its parts.
//!
//! One array makes adding gradients, measuring their norm, stepping the optimiser and saving each a single loop.

use std::ops::Range;

/// A named part of the weights.
#[derive(Debug, Clone, PartialEq)]
pub struct Tensor {
    /// Its name, with dots between the parts: `layer.0.recurrent`.
    pub name: String,
    /// Its sizes, outermost first; row-major.
    pub shape: Vec<usize>,
    /// Where it lies in the flat array.
    pub range: Range<usize>,
    /// How it is filled at the start.
    pub initial: Initial,
}

/// How a tensor is filled before training.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Initial {
    /// Uniform in [-bound, bound].
    Uniform(f64),
    /// Zero but for one stretch of the numbers, as used for the bias of the forget gate.
    ZeroBut {
        /// First index of the stretch.
        from: usize,
        /// Index past its end.
        to: usize,
        /// The value there.
        value: f64,
    },
}

/// The parts of a model's weights, in the order in which they lie in the flat array.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Layout {
    tensors: Vec<Tensor>,
}

impl Layout {
    /// Appends a tensor and returns its place.
    pub fn push(&mut self, name: impl Into<String>, shape: &[usize], initial: Initial) -> Range<usize> {
        let start = self.len();
        let range = start..start + shape.iter().product::<usize>();
        self.tensors.push(Tensor { name: name.into(), shape: shape.to_vec(), range: range.clone(), initial });
        range
    }

    /// The tensors in order.
    pub fn tensors(&self) -> &[Tensor] {
        &self.tensors
    }

    /// How many numbers there are in all.
    pub fn len(&self) -> usize {
        self.tensors.last().map_or(0, |tensor| tensor.range.end)
    }

    /// Whether there are no tensors.
    pub fn is_empty(&self) -> bool {
        self.tensors.is_empty()
    }
}
