//! What training is expected to reach, beside an n-gram model of the same text, which says how hard the text is.
//!
//! `docs/measurements.md`, "Plans for a time", has the runs that the numbers were fitted to. With e for the epochs, h for the width of the layers and T for the
//! words of the training text (for other units about as many), what is learnt follows from
//!
//! ```text
//! E = e (h / 256)^0.6 T / 185,000
//! ```
//!
//! the words that were read, more of them where wide layers read them. The expected loss of a network is that of the n-gram model times
//! `1 + (floor + 0.65 E^-0.9) / 5`, where the floor falls with the length of the text. A part of the text that is never read is known to the n-gram
//! model alone.

use lalograph_net::heads::softmax::Softmax;
use lalograph_text::Unit;

use crate::plan::by_size::{HIDDEN, TOKENS, as_words, learnt};

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
    /// Softmax.
    pub softmax: Softmax,
}

/// Half of a range, as a share of the loss of the n-gram model: 12 % of the perplexity where that loss is 5.
const SPREAD: f64 = 0.024;
/// By what it grows for a text that is e times as hard, or as easy, as those that were measured.
const UNLIKE: f64 = 0.2;

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
        let text = (words / TOKENS).max(1e-3);
        let learnt = learnt(reach.hidden, reach.epochs, words);
        let unread = UNREAD * (-reach.epochs.ln()).max(0.0);
        let width = of_width(self.unit, (reach.hidden as f64 / HIDDEN).ln());
        // From samples of the vocabulary as much is learnt in the end, but more slowly; a clustered softmax has vectors of its own.
        let in_part = match reach.softmax {
            Softmax::Full => 0.0,
            Softmax::Sampled => SAMPLED / reach.epochs,
            Softmax::Clustered => CLUSTERED,
        };
        let apart = floor(self.unit, text) + 0.65 * learnt.powf(-0.9) + in_part + unread + width;
        self.loss * (1.0 + apart / 5.0)
    }

    /// Lowest and highest such loss.
    pub fn expected_range(&self, reach: Reach) -> [f64; 2] {
        let middle = self.expected_loss(reach);
        let spread = SPREAD * self.loss + UNLIKE * (self.loss / usual_loss(self.unit)).ln().abs();
        [middle - spread, middle + spread]
    }
}

/// By what a text that is e times as long lowers the loss of an n-gram model.
const UNREAD: f64 = 0.17;

/// The loss of the n-gram model in the texts that were measured.
fn usual_loss(unit: Unit) -> f64 {
    match unit {
        Unit::Word => 4.95,
        Unit::BytePair | Unit::Unigram => 5.19,
        Unit::Character | Unit::Grapheme | Unit::Byte => 1.44,
    }
}

/// What a sampled softmax adds to the loss after one epoch.
const SAMPLED: f64 = 0.1;
/// What a clustered softmax, whose vectors are not shared with the input, adds to the loss.
const CLUSTERED: f64 = 0.13;

/// What a network cannot hold, or can hold more, that is e to the `wider` times as wide as one of 256. What is known of words is in their vectors, what is
/// known of spellings in the layers.
fn of_width(unit: Unit, wider: f64) -> f64 {
    match unit {
        Unit::Word | Unit::BytePair | Unit::Unigram => -0.2 * wider.min(0.0),
        Unit::Character | Unit::Grapheme | Unit::Byte => -0.34 * wider.min(0.95),
    }
}

/// How far below an n-gram model networks come in the end.
fn floor(unit: Unit, text: f64) -> f64 {
    let of_unit = match unit {
        Unit::Word => -0.44,
        Unit::BytePair | Unit::Unigram => -0.32,
        Unit::Character | Unit::Grapheme | Unit::Byte => 0.03,
    };
    of_unit - if text < 1.0 { 0.11 } else { 0.025 } * text.ln()
}

#[cfg(test)]
mod tests {
    use lalograph_text::Unit;

    use lalograph_net::heads::softmax::Softmax::{Clustered, Full, Sampled};

    use super::{Beside, Reach};

    const BESIDE: Beside = Beside { unit: Unit::Word, order: 5, loss: 4.9625, training_tokens: 185_000 };

    #[test]
    fn agrees_with_runs_that_were_measured() {
        // The perplexities of docs/measurements.md, but for the gain of shuffled documents and of the mean of the weights.
        const GAIN: f64 = 0.04;
        // Of this one the documents were shuffled and the weights averaged: the gain is taken out of it.
        let short = Beside { loss: 4.9461, training_tokens: 63_192, ..BESIDE };
        let long = Beside { loss: 4.9213, training_tokens: 927_523, ..BESIDE };
        for (beside, hidden, epochs, softmax, perplexity) in [
            (BESIDE, 256, 3.0, Full, 120.87),
            (BESIDE, 256, 8.0, Full, 104.99),
            (BESIDE, 400, 6.0, Full, 105.11),
            (BESIDE, 400, 15.0, Full, 100.86),
            (BESIDE, 256, 8.0, Clustered, 117.22),
            (BESIDE, 256, 3.0, Sampled, 125.68),
            (BESIDE, 256, 8.0, Sampled, 105.09),
            (short, 256, 20.0, Full, 119.6),
            (long, 256, 3.0, Full, 93.53),
            (long, 256, 3.0, Clustered, 108.78),
            (long, 256, 3.0, Sampled, 96.53),
        ] {
            let expected = beside.expected_loss(Reach { hidden, epochs, softmax }) + GAIN;
            assert!((expected - f64::ln(perplexity)).abs() < 0.04, "{hidden} {epochs}: {}", expected.exp());
        }
    }

    #[test]
    fn agrees_with_runs_over_characters_and_subwords() {
        let characters = Beside { unit: Unit::Character, order: 7, loss: 1.4438, training_tokens: 876_975 };
        let subwords = Beside { unit: Unit::BytePair, order: 5, loss: 5.1932, training_tokens: 246_748 };
        for (beside, hidden, epochs, perplexity) in [
            (characters, 256, 3.0, 4.61),
            (characters, 256, 9.0, 4.38),
            (characters, 512, 6.0, 4.10),
            (characters, 768, 4.13, 4.02),
            (subwords, 256, 5.0, 150.87),
        ] {
            let expected = beside.expected_loss(Reach { hidden, epochs, softmax: Full });
            assert!((expected - f64::ln(perplexity)).abs() < 0.02, "{hidden} {epochs}: {}", expected.exp());
        }
    }

    #[test]
    fn a_text_unlike_those_that_were_measured_has_a_wide_range() {
        let reach = Reach { hidden: 256, epochs: 8.0, softmax: Full };
        let width = |loss| {
            let [low, high] = Beside { loss, ..BESIDE }.expected_range(reach);
            high - low
        };
        assert!((width(4.95) - 0.2376).abs() < 1e-4);
        assert!(width(0.9) > 2.0 * width(4.95) && width(7.0) > 1.5 * width(4.95));
    }

    #[test]
    fn more_epochs_promise_a_lower_loss_and_the_range_has_the_middle() {
        let mut last = f64::INFINITY;
        for epochs in [0.1, 0.5, 1.0, 3.0, 10.0, 60.0] {
            let reach = Reach { hidden: 128, epochs, softmax: Full };
            let (middle, [low, high]) = (BESIDE.expected_loss(reach), BESIDE.expected_range(reach));
            assert!(low < middle && middle < high && middle < last, "{epochs}");
            last = middle;
        }
        assert_eq!(
            BESIDE.expected_loss(Reach { hidden: 128, epochs: 0.0, softmax: Clustered }),
            f64::INFINITY
        );
    }
}
