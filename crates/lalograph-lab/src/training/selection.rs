//! The best validation so far, and the step whose weights are kept.

use serde::{Deserialize, Serialize};

use crate::run::records::Evaluation;

/// The step whose weights are kept.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct BestStep {
    pub(crate) step: u64,
    /// Tokens trained on until then.
    pub(crate) tokens: u64,
    pub(crate) evaluation: Evaluation,
    /// The figure that the choice was made by; lower is better.
    criterion: f64,
}

/// The validations so far.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Selection {
    pub(crate) best: Option<BestStep>,
    pub(crate) last: Option<Evaluation>,
    /// The criterion that patience waits to see undercut, and for how many validations it has.
    gain: Option<f64>,
    waited: u64,
}

impl Selection {
    /// Records a validation; returns whether it is the best so far.
    pub(crate) fn observe(
        &mut self,
        step: u64,
        tokens: u64,
        evaluation: &Evaluation,
        criterion: f64,
        minimum_gain: f64,
    ) -> bool {
        if self.gain.is_none_or(|gain| criterion < gain - minimum_gain) {
            (self.gain, self.waited) = (Some(criterion), 0);
        } else {
            self.waited += 1;
        }
        let best = self.best.as_ref().is_none_or(|best| criterion < best.criterion);
        if best {
            self.best = Some(BestStep { step, tokens, evaluation: evaluation.clone(), criterion });
        }
        self.last = Some(evaluation.clone());
        best
    }

    /// Whether the last `patience` validations brought no improvement; never if it is 0.
    pub(crate) fn is_out_of_patience(&self, patience: u64) -> bool {
        patience > 0 && self.waited >= patience
    }
}
