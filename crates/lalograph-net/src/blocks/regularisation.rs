//! Regularisation during training, and the purpose of a lane.

use super::dropout::DropoutRates;

/// Regularisation.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Regularisation {
    /// Shares of numbers dropped.
    pub dropout: DropoutRates,
    /// Factor of the mean square of the last layer's outputs, after dropout (Merity, McCann and Socher, 2017).
    pub activation_penalty: f64,
    /// Factor of the mean square of their change from token to token.
    pub temporal_penalty: f64,
    /// Share of the wanted distribution that is spread over all outcomes (Szegedy et al., 2016).
    pub label_smoothing: f64,
}

/// Purpose of a lane.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum LaneUse {
    /// Forward passes only.
    Reading,
    /// Forward and backward passes.
    Training(Regularisation),
}

impl LaneUse {
    /// Whether there are backward passes.
    pub fn is_training(self) -> bool {
        matches!(self, Self::Training(_))
    }

    /// Regularisation; none while reading.
    pub fn regularisation(self) -> Regularisation {
        match self {
            Self::Reading => Regularisation::default(),
            Self::Training(regularisation) => regularisation,
        }
    }
}
