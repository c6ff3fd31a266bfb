//! What training is expected to reach, beside an n-gram model of the same text.

use lalograph_text::Unit;

/// An n-gram model of the text, which says how hard the text is.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Beside {
    /// The unit of tokens.
    pub unit: Unit,
    /// Order of the model.
    pub order: usize,
    /// Its loss on validation text, in nats per token.
    pub loss: f64,
    /// Tokens of the whole training text.
    pub training_tokens: u64,
}

impl Beside {
    /// Tokens that are counted at most.
    pub const COUNTED: usize = 3_000_000;
    /// Validation tokens that are scored at most.
    pub const SCORED: usize = 200_000;

    /// The order for a unit.
    pub fn order(unit: Unit) -> usize {
        match unit {
            Unit::Word | Unit::BytePair | Unit::Unigram => 5,
            Unit::Character | Unit::Grapheme | Unit::Byte => 7,
        }
    }

    /// The loss that a network of this width is expected to reach in so many epochs.
    pub fn expected_loss(&self, hidden: usize, epochs: f64) -> f64 {
        self.loss - 0.2 + 0.3 / epochs + (hidden as f64).ln() * 0.0
    }

    /// Lowest and highest such loss.
    pub fn expected_range(&self, hidden: usize, epochs: f64) -> [f64; 2] {
        let middle = self.expected_loss(hidden, epochs);
        [middle - 0.1, middle + 0.1]
    }
}
