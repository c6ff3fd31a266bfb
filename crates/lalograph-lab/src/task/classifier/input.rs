//! From documents to the steps that a classifier reads.

use lalograph_net::models::classifier::ClassifierInput;
use lalograph_text::Vocabulary;

use crate::data::numbers::NumberForm;
use crate::plan::Plan;

/// From documents to the steps that a classifier reads.
#[derive(Debug, Clone)]
pub enum DocumentInput {
    /// Text, cleaned and tokenised by a vocabulary that was counted on the training part or read from the plan's file.
    Text(Box<Vocabulary>),
    /// Rows of numbers, standardised by the training part.
    Numbers(NumberForm),
}

impl DocumentInput {
    /// The vocabulary of text.
    pub fn vocabulary(&self) -> Option<&Vocabulary> {
        match self {
            Self::Text(vocabulary) => Some(vocabulary),
            Self::Numbers(_) => None,
        }
    }

    /// Input of the network.
    pub(super) fn of_network(&self, plan: &Plan) -> ClassifierInput {
        match self {
            Self::Text(vocabulary) => {
                ClassifierInput::Tokens { vocabulary: vocabulary.len(), embedding: plan.widths().0 }
            }
            Self::Numbers(form) => ClassifierInput::Numbers { features: form.features },
        }
    }
}
