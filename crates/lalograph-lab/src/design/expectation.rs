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
//! `1 + (floor + rest E^-0.9) / 5`, where the floor falls with the length of the text, and the rest is 0.2 for words, 0.4 for subwords and 0.65 for characters. Words that were met once or twice add
//! 0.28 / e^2 to the sum. A part of the text that is never read is known to the n-gram
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
        let few = seldom_met(self.unit) / reach.epochs.max(1.0).powi(2);
        let unread = UNREAD * (-reach.epochs.ln()).max(0.0);
        let width = of_width(self.unit, text, (reach.hidden as f64 / HIDDEN).ln());
        // From samples of the vocabulary as much is learnt in the end, but more slowly; a clustered softmax has vectors of its own.
        let in_part = match reach.softmax {
            Softmax::Full => 0.0,
            Softmax::Sampled => SAMPLED / reach.epochs,
            Softmax::Clustered => CLUSTERED,
        };
        let apart =
            floor(self.unit, text) + rest(self.unit) * learnt.powf(-0.9) + in_part + few + unread + width;
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
const CLUSTERED: f64 = 0.11;

/// What a network cannot hold, or can hold more, that is e to the `wider` times as wide as one of 256. What is known of words is in their vectors, and of long
/// texts also in wide layers; what is known of spellings is in the layers.
fn of_width(unit: Unit, text: f64, wider: f64) -> f64 {
    match unit {
        Unit::Word | Unit::BytePair | Unit::Unigram => {
            let long = (text.ln() / 1.6).clamp(0.0, 1.0);
            -0.1 * wider.min(0.0) - 0.05 * long * wider.clamp(0.0, 0.7)
        }
        Unit::Character | Unit::Grapheme | Unit::Byte => {
            -0.48 * wider.min(0.0) - 0.2 * wider.clamp(0.0, 0.95)
        }
    }
}

/// What words lose that were met once or twice, after one epoch.
fn seldom_met(unit: Unit) -> f64 {
    match unit {
        Unit::Word | Unit::BytePair | Unit::Unigram => 0.28,
        Unit::Character | Unit::Grapheme | Unit::Byte => 0.0,
    }
}

/// How far networks are above what they come to, after 185,000 words.
fn rest(unit: Unit) -> f64 {
    match unit {
        Unit::Word => 0.2,
        Unit::BytePair | Unit::Unigram => 0.4,
        Unit::Character | Unit::Grapheme | Unit::Byte => 0.65,
    }
}

/// How far below an n-gram model networks come in the end.
fn floor(unit: Unit, text: f64) -> f64 {
    let of_unit = match unit {
        Unit::Word => -0.4,
        Unit::BytePair | Unit::Unigram => -0.285,
        Unit::Character | Unit::Grapheme | Unit::Byte => -0.12,
    };
    let longer = text.ln();
    // Of texts longer than five times as much, little is known.
    of_unit
        - if longer < 0.0 { 0.034 * longer } else { 0.084 * longer.min(1.6) + 0.02 * (longer - 1.6).max(0.0) }
}

#[cfg(test)]
mod tests {
    use lalograph_text::Unit;

    use lalograph_net::heads::softmax::Softmax::{Clustered, Full, Sampled};

    use super::{Beside, Reach};

    const BESIDE: Beside = Beside { unit: Unit::Word, order: 5, loss: 4.9625, training_tokens: 185_000 };

    #[test]
    fn agrees_with_runs_that_were_measured() {
        // The perplexities of docs/measurements.md, with shuffled documents and a mean of the weights.
        let short = Beside { loss: 4.9461, training_tokens: 63_192, ..BESIDE };
        let long = Beside { loss: 4.9213, training_tokens: 927_523, ..BESIDE };
        for (beside, hidden, epochs, softmax, perplexity) in [
            (BESIDE, 256, 3.0, Sampled, 110.0),
            (BESIDE, 256, 8.0, Sampled, 98.6),
            (BESIDE, 256, 40.0, Sampled, 96.4),
            (BESIDE, 64, 2.0, Sampled, 160.6),
            (BESIDE, 512, 2.0, Sampled, 113.7),
            (BESIDE, 256, 2.0, Clustered, 127.5),
            (short, 256, 20.0, Full, 102.2),
            (long, 192, 3.8, Sampled, 86.0),
            (long, 384, 1.0, Full, 111.7),
            (long, 256, 1.0, Sampled, 120.0),
            (long, 256, 3.0, Sampled, 87.4),
            (long, 256, 10.0, Sampled, 83.3),
            (long, 512, 2.0, Sampled, 88.1),
        ] {
            let expected = beside.expected_loss(Reach { hidden, epochs, softmax });
            assert!((expected - f64::ln(perplexity)).abs() < 0.04, "{hidden} {epochs}: {}", expected.exp());
        }
    }

    #[test]
    fn agrees_with_runs_over_characters_and_subwords() {
        let characters = Beside { unit: Unit::Character, order: 7, loss: 1.4438, training_tokens: 876_975 };
        let subwords = Beside { unit: Unit::BytePair, order: 5, loss: 5.1932, training_tokens: 246_748 };
        for (beside, hidden, epochs, perplexity) in [
            (characters, 128, 8.3, 4.70),
            (characters, 256, 3.0, 4.41),
            (characters, 512, 0.9, 4.57),
            (characters, 512, 2.0, 4.23),
            (characters, 768, 1.7, 4.10),
            (characters, 512, 6.0, 4.10),
            (characters, 768, 4.13, 4.02),
            (subwords, 256, 5.0, 147.36),
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
