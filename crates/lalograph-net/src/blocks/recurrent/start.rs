//! First values of recurrent layers and of what is around them.

use super::cell::Cell;
use crate::weights::layout::Initial;

crate::choice! {
    /// First values of the recurrent matrices. All choices have the same variance, gain^2 / hidden.
    pub enum RecurrentStart = Orthogonal {
        /// A random orthogonal matrix for each gate (Saxe et al., 2014).
        Orthogonal = "orthogonal",
        /// Uniform numbers.
        Uniform = "uniform",
        /// Normal numbers.
        Normal = "normal",
    }
}

crate::choice! {
    /// First values of the input weights and token vectors.
    pub enum InputStart = Uniform {
        /// Uniform numbers.
        Uniform = "uniform",
        /// Normal numbers.
        Normal = "normal",
    }
}

/// Initial values of the layers.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct StartingValues {
    /// Initialisation of recurrent matrices.
    pub recurrent: RecurrentStart,
    /// The recurrent matrices' size: 1 keeps lengths, less lets the past fade.
    pub recurrent_gain: f64,
    /// Initialisation of input weights and token vectors, of equal variance.
    pub inputs: InputStart,
    /// Bias of the forget gate of the LSTM and of the update gate of the GRU, which keeps what is remembered (Jozefowicz et al., 2015).
    pub keep_bias: f64,
}

impl StartingValues {
    /// The default choices for a cell; `docs/measurements.md` has the evidence.
    pub fn default_for(cell: Cell) -> Self {
        let keep_bias = match cell {
            Cell::PlainTanh | Cell::PlainRelu | Cell::Lstm => 0.0,
            Cell::Gru => -1.0,
        };
        Self {
            recurrent: RecurrentStart::Orthogonal,
            recurrent_gain: 1.0,
            inputs: InputStart::Uniform,
            keep_bias,
        }
    }

    /// Numbers of mean zero with this standard deviation.
    pub(crate) fn spread(&self, deviation: f64) -> Initial {
        match self.inputs {
            InputStart::Normal => Initial::Normal(deviation),
            InputStart::Uniform => Initial::Uniform(deviation * 3f64.sqrt()),
        }
    }

    pub(super) fn recurrent(&self, hidden: usize) -> Initial {
        let deviation = self.recurrent_gain / (hidden as f64).sqrt();
        match self.recurrent {
            RecurrentStart::Orthogonal => Initial::Orthogonal(self.recurrent_gain),
            RecurrentStart::Uniform => Initial::Uniform(deviation * 3f64.sqrt()),
            RecurrentStart::Normal => Initial::Normal(deviation),
        }
    }
}
