//! What training is expected to reach, beside an n-gram model of the same text, which says how hard the text is.
//!
//! `docs/measurements.md`, "Plans for a time", has the runs that the numbers were fitted to. With e for the epochs, h for the width of the layers and T for the
//! words of the training text (for other units about as many), the effective epochs are
//!
//! ```text
//! E = e (h / 256)^0.6 (T / 185,000)^0.37
//! ```
//!
//! since wide layers and long texts are learnt in fewer epochs. The expected loss of a network is that of the n-gram model times
//! `1 + (floor + 0.65 E^-0.9) / 5`. How often a text was read, for its length, is `R = e / sqrt(T / 185,000)`; dropout follows from it.

use lalograph_text::Unit;

use crate::plan::by_size::{as_words, repetition};

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

/// Training as far as the expected loss depends on it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Reach {
    /// Width of the layers.
    pub hidden: usize,
    /// Epochs.
    pub epochs: f64,
    /// Whether the softmax is clustered.
    pub clustered: bool,
}

/// The text and the width that effective epochs are those of.
const TOKENS: f64 = 185_000.0;
const HIDDEN: f64 = 256.0;

/// Half of a range, as a share of the loss of the n-gram model: 12 % of the perplexity where that loss is 5.
const SPREAD: f64 = 0.024;

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

    /// The expected loss.
    pub fn expected_loss(&self, reach: Reach) -> f64 {
        let words = as_words(self.unit, self.training_tokens);
        let text = words / TOKENS;
        let effective = reach.epochs * (reach.hidden as f64 / HIDDEN).powf(0.6) * text.powf(0.37);
        let read = repetition(reach.epochs, words);
        // A clustered softmax cannot share its vectors with the input, which a text that is read often makes up for less and less.
        let clustered = if reach.clustered { 0.055 + 0.027 * read.ln() } else { 0.0 };
        self.loss * (1.0 + (floor(self.unit) + 0.65 * effective.powf(-0.9) + clustered.max(0.0)) / 5.0)
    }

    /// Lowest and highest such loss.
    pub fn expected_range(&self, reach: Reach) -> [f64; 2] {
        let middle = self.expected_loss(reach);
        [middle - SPREAD * self.loss, middle + SPREAD * self.loss]
    }
}

/// How far below an n-gram model networks come in the end.
fn floor(unit: Unit) -> f64 {
    match unit {
        Unit::Word => -0.44,
        Unit::BytePair | Unit::Unigram => -0.40,
        Unit::Character | Unit::Grapheme | Unit::Byte => -0.15,
    }
}

#[cfg(test)]
mod tests {
    use lalograph_text::Unit;

    use super::{Beside, Reach};

    const BESIDE: Beside = Beside { unit: Unit::Word, order: 5, loss: 4.9625, training_tokens: 185_000 };

    #[test]
    fn agrees_with_runs_that_were_measured() {
        // The perplexities of docs/measurements.md, but for the gain of shuffled documents and of the mean of the weights.
        const GAIN: f64 = 0.04;
        for (hidden, epochs, perplexity) in
            [(256, 3.0, 120.87), (256, 8.0, 104.99), (400, 6.0, 105.11), (400, 15.0, 100.86)]
        {
            let expected = BESIDE.expected_loss(Reach { hidden, epochs, clustered: false }) + GAIN;
            assert!((expected - f64::ln(perplexity)).abs() < 0.03, "{hidden} {epochs}: {}", expected.exp());
        }
    }

    #[test]
    fn more_epochs_promise_a_lower_loss_and_the_range_has_the_middle() {
        let mut last = f64::INFINITY;
        for epochs in [0.1, 0.5, 1.0, 3.0, 10.0, 60.0] {
            let reach = Reach { hidden: 128, epochs, clustered: false };
            let (middle, [low, high]) = (BESIDE.expected_loss(reach), BESIDE.expected_range(reach));
            assert!(low < middle && middle < high && middle < last, "{epochs}");
            last = middle;
        }
        assert_eq!(BESIDE.expected_loss(Reach { hidden: 128, epochs: 0.0, clustered: true }), f64::INFINITY);
    }

    #[test]
    fn sharing_vectors_pays_more_the_more_often_a_text_is_read() {
        let cost = |epochs| {
            let loss = |clustered| BESIDE.expected_loss(Reach { hidden: 256, epochs, clustered });
            loss(true) - loss(false)
        };
        assert!(cost(0.5) < cost(5.0) && cost(5.0) < cost(50.0));
    }
}
