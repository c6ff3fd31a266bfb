//! The recurrent cells: what one step does with its gates. [`super::walk`] does the products and the steps for all of them,
//! and asks a cell for its figures only through the methods here.
//!
//! In all formulas `s` is the logistic function, `*` between vectors the product of elements, `x` the input, `h'` the output
//! of the step before.

use super::{gru, lstm, plain};
use crate::numbers::real::Real;
use crate::vectorised;

crate::choice! {
    /// The kind of a recurrent cell.
    pub enum Cell = Lstm {
        /// One sum through tanh: `h = tanh(x W + h' U + b)` (Elman, 1990).
        PlainTanh = "plain_tanh",
        /// One sum, cut off below zero: `h = max(0, x W + h' U + b)` (Le, Jaitly and Hinton, 2015).
        PlainRelu = "plain_relu",
        /// Gated recurrent unit (Cho et al., 2014), the reset gate applied after the recurrent product.
        Gru = "gru",
        /// Long short-term memory (Hochreiter and Schmidhuber, 1997) with a forget gate (Gers, Schmidhuber and Cummins, 2000).
        Lstm = "lstm",
    }
}

/// The numbers of one step forward, rows x width each; the width is `hidden`, or that of all gates for `gates` and `product`.
pub(super) struct Forward<'s, T> {
    pub(super) hidden: usize,
    /// The gates' sums, without the product of the step before for cells that want it apart; squashed in place.
    pub(super) gates: &'s mut [T],
    /// The product of the step before, for cells that want it apart.
    pub(super) product: &'s [T],
    /// A bias of its own for the last gate's part of that product.
    pub(super) product_bias: &'s [T],
    pub(super) previous: &'s [T],
    pub(super) previous_memory: &'s [T],
    pub(super) memory: &'s mut [T],
    /// Values that the cell keeps for the backward pass.
    pub(super) kept: &'s mut [T],
    pub(super) outputs: &'s mut [T],
}

/// The numbers of one step backward.
pub(super) struct Backward<'s, T> {
    pub(super) hidden: usize,
    /// Squashed gates; their sums' gradients afterwards.
    pub(super) gates: &'s mut [T],
    pub(super) outputs: &'s [T],
    pub(super) previous: &'s [T],
    pub(super) previous_memory: &'s [T],
    pub(super) kept: &'s mut [T],
    /// The gradient by this step's outputs from above.
    pub(super) d_out: &'s [T],
    /// In: the gradient from the step after. Out: the gradient that reaches the step before without a matrix product.
    pub(super) d_next: &'s mut [T],
    /// The gradient by the memory, moved one step back.
    pub(super) d_memory: &'s mut [T],
}

impl Cell {
    /// Sums over inputs and outputs that each unit computes.
    pub fn gates(self) -> usize {
        match self {
            Self::PlainTanh | Self::PlainRelu => 1,
            Self::Gru => 3,
            Self::Lstm => 4,
        }
    }

    /// Whether there is a memory beside the output.
    pub fn has_memory(self) -> bool {
        self == Self::Lstm
    }

    /// Numbers of state that each row carries from step to step, for each unit.
    pub fn state_parts(self) -> usize {
        1 + usize::from(self.has_memory())
    }

    /// Numbers that are kept for the backward pass besides gates, outputs and memories, for each unit and token.
    pub(super) fn kept_parts(self) -> usize {
        usize::from(matches!(self, Self::Gru | Self::Lstm))
    }

    /// Whether the product of the step before is wanted apart from the gates' other sums, with a bias of its own for the last gate.
    pub(super) fn keeps_product_apart(self) -> bool {
        self == Self::Gru
    }

    /// Gates, from the first, whose sums over inputs and over outputs have one gradient.
    pub(super) fn shared_gates(self) -> usize {
        if self.keeps_product_apart() { self.gates() - 1 } else { self.gates() }
    }

    /// The gate that keeps what is remembered, if there is one.
    pub fn keep_gate(self) -> Option<usize> {
        match self {
            Self::PlainTanh | Self::PlainRelu => None,
            Self::Gru => Some(gru::UPDATE),
            Self::Lstm => Some(lstm::FORGET),
        }
    }

    /// Whether part of the gradient reaches the step before without a product.
    pub(super) fn passes_outputs_on(self) -> bool {
        self == Self::Gru
    }

    /// One step forward.
    pub(super) fn forward<T: Real>(self, step: Forward<'_, T>) {
        let Forward {
            hidden,
            gates,
            product,
            product_bias,
            previous,
            previous_memory,
            memory,
            kept,
            outputs,
        } = step;
        match self {
            Self::PlainTanh => vectorised!(plain::forward(false, gates, outputs)),
            Self::PlainRelu => vectorised!(plain::forward(true, gates, outputs)),
            Self::Gru => {
                vectorised!(gru::forward(hidden, gates, product, product_bias, previous, kept, outputs));
            }
            Self::Lstm => {
                vectorised!(lstm::forward(hidden, gates, previous_memory, memory, kept, outputs));
            }
        }
    }

    /// One step backward.
    pub(super) fn backward<T: Real>(self, step: Backward<'_, T>) {
        let Backward { hidden, gates, outputs, previous, previous_memory, kept, d_out, d_next, d_memory } =
            step;
        match self {
            Self::PlainTanh => vectorised!(plain::backward(false, gates, outputs, d_out, d_next)),
            Self::PlainRelu => vectorised!(plain::backward(true, gates, outputs, d_out, d_next)),
            Self::Gru => vectorised!(gru::backward(hidden, gates, previous, kept, d_out, d_next)),
            Self::Lstm => {
                vectorised!(lstm::backward(hidden, gates, previous_memory, kept, d_out, d_next, d_memory));
            }
        }
    }
}
