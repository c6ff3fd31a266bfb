//! The recurrent cells: what one step does with its gates. The products and the walk through time are the same for all and stand
//! in [`crate::recurrent`].
//!
//! In all formulas `s` is the logistic function, `*` between vectors the product of elements, `x` the input, `h'` the output
//! of the step before.

pub(crate) mod gru;
pub(crate) mod lstm;
pub(crate) mod plain;

/// The kind of a recurrent cell.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Cell {
    /// One squashed sum: `h = tanh(x W + h' U + b)` (Elman, 1990).
    PlainTanh,
    /// The same with `max(0, .)` for `tanh` (Le, Jaitly and Hinton, 2015).
    PlainRelu,
    /// Gated recurrent unit (Cho et al., 2014), the reset gate applied after the recurrent product.
    Gru,
    /// Long short-term memory (Hochreiter and Schmidhuber, 1997) with a forget gate (Gers, Schmidhuber and Cummins, 2000).
    Lstm,
}

impl Cell {
    /// All kinds.
    pub const ALL: [Self; 4] = [Self::PlainTanh, Self::PlainRelu, Self::Gru, Self::Lstm];

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
    pub(crate) fn kept_parts(self) -> usize {
        usize::from(matches!(self, Self::Gru | Self::Lstm))
    }
}
