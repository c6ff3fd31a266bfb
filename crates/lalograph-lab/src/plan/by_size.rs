//! Settings that follow from the size of the training text unless a plan sets them.

use lalograph_text::Unit;

use super::Plan;

/// Tokens of training text that are assumed where there is no text yet.
const ASSUMED_TOKENS: u64 = 1_000_000;

/// What suits a training text of a size.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct BySize {
    /// Width of the token vectors.
    pub(crate) embedding: usize,
    /// Width of each recurrent layer.
    pub(crate) hidden: usize,
    /// Dropout.
    pub(crate) dropout: f64,
    /// Epochs.
    pub(crate) epochs: u64,
}

impl BySize {
    /// For so many training tokens of a unit.
    pub(crate) fn of(_unit: Unit, _tokens: u64) -> Self {
        Self { embedding: 128, hidden: 256, dropout: 0.1, epochs: 10 }
    }
}

impl Plan {
    /// Gives the settings that follow from the size of the training text their values, where they have none. Without a text, as for one of a million
    /// tokens.
    pub fn settle(&mut self, training_tokens: Option<u64>) {
        let found = BySize::of(self.vocabulary.unit, training_tokens.unwrap_or(ASSUMED_TOKENS));
        self.model.embedding.get_or_insert(found.embedding);
        self.model.hidden.get_or_insert(found.hidden);
        self.training.dropout.get_or_insert(found.dropout);
        self.training.epochs.get_or_insert(found.epochs);
    }

    /// Widths of the token vectors and of each layer. Before the text is read, as for a text of a million tokens.
    pub fn widths(&self) -> (usize, usize) {
        let found = self.assumed();
        (self.model.embedding.unwrap_or(found.embedding), self.model.hidden.unwrap_or(found.hidden))
    }

    /// Dropout. Before the text is read, as for a text of a million tokens.
    pub(crate) fn dropout(&self) -> f64 {
        self.training.dropout.unwrap_or(self.assumed().dropout)
    }

    fn assumed(&self) -> BySize {
        BySize::of(self.vocabulary.unit, ASSUMED_TOKENS)
    }
}
