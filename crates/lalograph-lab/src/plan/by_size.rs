//! Settings that follow from the size of the training text unless a plan sets them. Their numbers come from `docs/measurements.md`, "Plans for a time".

use lalograph_net::heads::softmax::Softmax;
use lalograph_text::Unit;

use super::Plan;

/// Tokens of training text that are assumed where there is no text yet.
const ASSUMED_TOKENS: u64 = 1_000_000;

/// Tokens of the smallest vocabulary that a sampled softmax suits: it trains several times as fast and learns nearly as much of an epoch.
const SAMPLED_FROM: usize = 5000;

/// The text, in words, and the width of layers that others are measured by.
pub(crate) const TOKENS: f64 = 185_000.0;
pub(crate) const HIDDEN: f64 = 256.0;

/// What suits a training text of a size.
#[derive(Debug, Clone, Copy, PartialEq)]
struct BySize {
    /// Width of the token vectors.
    embedding: usize,
    /// Width of each recurrent layer.
    hidden: usize,
    /// Epochs.
    epochs: u64,
}

impl BySize {
    /// For so many training tokens of a unit, and a softmax.
    fn of(unit: Unit, tokens: u64, softmax: Softmax) -> Self {
        let words = as_words(unit, tokens);
        let hidden = match words {
            w if w < 30_000.0 => 128,
            w if w < 3_000_000.0 => 256,
            _ => 384,
        };
        // From samples less is learnt of an epoch, in a fraction of its time.
        let more = if softmax == Softmax::Sampled { 1.5 } else { 1.0 };
        let epochs = (more * 8.0 * (TOKENS / words.max(1.0)).powf(0.45)).round().clamp(1.0, 24.0);
        Self { embedding: hidden / 2, hidden, epochs: epochs as u64 }
    }
}

/// About as many words as so many tokens of a unit.
pub(crate) fn as_words(unit: Unit, tokens: u64) -> f64 {
    let of_a_word = match unit {
        Unit::Word => 1.0,
        Unit::BytePair | Unit::Unigram => 1.3,
        Unit::Character | Unit::Grapheme | Unit::Byte => 5.0,
    };
    tokens as f64 / of_a_word
}

/// Dropout for a width and so many epochs of a text of so many tokens, to two places: the more, the more often a text is read for its length, but little as
/// long as little is learnt; less for characters, whose networks have few parameters beside their tokens.
pub(crate) fn dropout(hidden: usize, epochs: f64, unit: Unit, tokens: u64) -> f64 {
    let words = as_words(unit, tokens);
    let text = words.max(1.0) / TOKENS;
    let learnt = learnt(hidden, epochs, words);
    let rate = match unit {
        Unit::Word | Unit::BytePair | Unit::Unigram => {
            // A short text is known by heart sooner than its length alone says.
            let length = if text < 1.0 { text.powf(0.8) } else { text.sqrt() };
            by_repetition(epochs / length).min(0.38 * learnt.powf(0.7)).clamp(0.0, 0.6)
        }
        Unit::Character | Unit::Grapheme | Unit::Byte => {
            0.6 * by_repetition(epochs / text.sqrt()).min(0.25 * learnt.powf(0.55)).clamp(0.0, 0.5)
        }
    };
    (100.0 * rate).round() / 100.0
}

/// Dropout for so many epochs of a text of 185,000 words.
fn by_repetition(epochs: f64) -> f64 {
    0.08 + 0.14 * epochs.ln()
}

/// How much is learnt of a text of so many words: the words that are read, more of them where wide layers read them, in units of 185,000.
pub(crate) fn learnt(hidden: usize, epochs: f64, words: f64) -> f64 {
    epochs * (hidden as f64 / HIDDEN).powf(0.6) * words.max(1.0) / TOKENS
}

impl Plan {
    /// Gives the settings that follow from the unit, the vocabulary and the size of the training text their values, where they have none. Without a text, as for one
    /// of a million tokens. Dropout follows from the epochs that the plan has.
    pub fn settle(&mut self, vocabulary: usize, training_tokens: Option<u64>) {
        let tokens = training_tokens.unwrap_or(ASSUMED_TOKENS);
        let found = BySize::of(self.vocabulary.unit, tokens, self.softmax(vocabulary));
        if self.classifier.is_none() && self.vectors.is_none() {
            self.model.shared_vectors = Some(self.shares_vectors());
            self.model.softmax = Some(self.softmax(vocabulary));
            if self.vocabulary.file.is_none() && self.tune.is_none() {
                self.vocabulary.minimum_count = Some(self.vocabulary.minimum_count());
            }
        }
        self.model.embedding.get_or_insert(found.embedding);
        self.model.hidden.get_or_insert(found.hidden);
        self.training.epochs.get_or_insert(found.epochs);
        let dropout = self.dropout_of(tokens, found);
        self.training.dropout.get_or_insert(dropout);
    }

    /// Widths of the token vectors and of each layer. Before the text is read, as for a text of a million tokens.
    pub fn widths(&self) -> (usize, usize) {
        let found = self.assumed();
        (self.model.embedding.unwrap_or(found.embedding), self.model.hidden.unwrap_or(found.hidden))
    }

    /// The softmax over a vocabulary of so many tokens.
    pub fn softmax(&self, vocabulary: usize) -> Softmax {
        let suited = if self.suits_samples(vocabulary) { Softmax::Sampled } else { Softmax::Full };
        self.model.softmax.unwrap_or(suited)
    }

    /// Whether a sampled softmax suits a vocabulary of so many tokens.
    pub(crate) fn suits_samples(&self, vocabulary: usize) -> bool {
        // With label smoothing the whole distribution counts, which samples do not show.
        vocabulary >= SAMPLED_FROM && self.regularisation.label_smoothing == 0.0
    }

    /// Whether input and output share one table of token vectors.
    pub fn shares_vectors(&self) -> bool {
        // Of characters the vectors are few, and what they save is little; vectors of a file, or frozen ones, suit the input alone.
        let alike = matches!(self.vocabulary.unit, Unit::Word | Unit::BytePair | Unit::Unigram);
        let free = self.model.softmax != Some(Softmax::Clustered) && self.start.vectors.is_none();
        self.model.shared_vectors.unwrap_or(alike && free)
    }

    /// Dropout. Before the text is read, as for a text of a million tokens.
    pub(crate) fn dropout(&self) -> f64 {
        self.training.dropout.unwrap_or_else(|| self.dropout_of(ASSUMED_TOKENS, self.assumed()))
    }

    /// What suits a text that is not read yet.
    fn assumed(&self) -> BySize {
        BySize::of(self.vocabulary.unit, ASSUMED_TOKENS, self.model.softmax.unwrap_or_default())
    }

    fn dropout_of(&self, tokens: u64, found: BySize) -> f64 {
        let unit = self.vocabulary.unit;
        let steps = self.training.steps.map(|steps| {
            let step = (self.training.batch * self.training.window).max(1) as f64;
            steps as f64 * step / tokens.max(1) as f64
        });
        let epochs = self.training.epochs.unwrap_or(found.epochs);
        let hidden = self.model.hidden.unwrap_or(found.hidden);
        dropout(hidden, steps.unwrap_or(epochs as f64), unit, tokens)
    }
}

#[cfg(test)]
mod tests {
    use lalograph_net::heads::softmax::Softmax;
    use lalograph_text::Unit;

    use super::{BySize, dropout};
    use crate::Plan;

    fn plan(settings: &[&str]) -> Plan {
        Plan::with_settings(settings).unwrap()
    }

    #[test]
    fn a_longer_text_has_a_wider_network_and_fewer_epochs() {
        let sizes = [2_000, 50_000, 185_000, 1_000_000, 10_000_000, 1_000_000_000];
        let found = sizes.map(|tokens| BySize::of(Unit::Word, tokens, Softmax::Full));
        assert_eq!(found.map(|size| size.epochs), [24, 14, 8, 4, 1, 1]);
        assert_eq!(found.map(|size| size.hidden), [128, 256, 256, 256, 384, 384]);
        let alike = |unit, tokens| BySize::of(unit, tokens, Softmax::Full);
        assert_eq!(alike(Unit::Character, 925_000), alike(Unit::Word, 185_000));
        let sampled = sizes.map(|tokens| BySize::of(Unit::Word, tokens, Softmax::Sampled).epochs);
        assert_eq!(sampled, [24, 22, 12, 6, 2, 1]);
    }

    #[test]
    fn dropout_grows_with_the_epochs_and_falls_with_the_text() {
        let of = |epochs: &[f64], words| {
            epochs.iter().map(|&e| dropout(256, e, Unit::Word, words)).collect::<Vec<_>>()
        };
        assert_eq!(of(&[0.5, 3.0, 8.0, 15.0, 200.0], 185_000), [0.0, 0.23, 0.37, 0.46, 0.6]);
        assert_eq!(of(&[1.0, 3.0, 15.0], 1_000_000), [0.0, 0.12, 0.34]);
        // Of little text, or with narrow layers, little is learnt at first.
        assert_eq!(dropout(96, 4.0, Unit::Word, 28_000), 0.18);
        assert_eq!(dropout(256, 10.0, Unit::Word, 28_000), 0.51);
        // A third of the text needs as much after 5 epochs as the whole after 13.
        assert_eq!(
            (dropout(256, 5.0, Unit::Word, 61_667), dropout(256, 13.0, Unit::Word, 185_000)),
            (0.43, 0.44)
        );
        assert_eq!(dropout(512, 6.0, Unit::Character, 925_000), 0.2);
        assert_eq!(dropout(128, 19.0, Unit::Character, 140_000), 0.21);
    }

    #[test]
    fn vectors_are_shared_where_that_helps_and_can_be() {
        for (settings, shared) in [
            (&["vocabulary.unit=word"][..], true),
            (&["vocabulary.unit=byte_pair", "model.softmax=sampled"], true),
            (&["model.softmax=clustered"], false),
            (&["start.vectors=words.vec"], false),
            (&["vocabulary.unit=character"], false),
            (&["vocabulary.unit=character", "model.shared_vectors=true"], true),
            (&["model.shared_vectors=false"], false),
        ] {
            let mut plan = plan(settings);
            assert_eq!(plan.shape(100).tied, shared, "{settings:?}");
            plan.settle(100, None);
            assert_eq!(plan.model.shared_vectors, Some(shared), "{settings:?}");
        }
    }

    #[test]
    fn a_large_vocabulary_is_trained_on_samples_unless_a_plan_says_otherwise() {
        for (settings, vocabulary, softmax) in [
            (&[][..], 4_999, Softmax::Full),
            (&[], 5_000, Softmax::Sampled),
            (&["model.softmax=full"], 5_000, Softmax::Full),
            (&["model.softmax=clustered"], 100, Softmax::Clustered),
            (&["regularisation.label_smoothing=0.1"], 5_000, Softmax::Full),
        ] {
            let mut plan = plan(settings);
            plan.settle(vocabulary, None);
            assert_eq!(plan.model.softmax, Some(softmax), "{settings:?}");
            assert_eq!(plan.shape(vocabulary).softmax.kind, softmax, "{settings:?}");
            assert!(plan.check().is_ok(), "{settings:?}");
        }
    }

    #[test]
    fn what_a_plan_sets_stays_and_dropout_follows_from_its_epochs() {
        let mut set = plan(&["model.hidden=7", "training.epochs=3", "training.dropout=0.25"]);
        set.settle(4_999, Some(185_000));
        let found = (set.model.hidden, set.model.embedding, set.training.epochs, set.training.dropout);
        assert_eq!(found, (Some(7), Some(128), Some(3), Some(0.25)));
        assert_eq!(set.vocabulary.minimum_count, Some(2));
        let mut other = plan(&["vocabulary.unit=character"]);
        other.settle(100, None);
        assert_eq!(other.vocabulary.minimum_count, Some(1));
        let mut given = plan(&["vocabulary.file=words.json"]);
        given.settle(100, None);
        assert_eq!(given.vocabulary.minimum_count, None);
        let mut short = plan(&["training.epochs=3"]);
        short.settle(100, Some(185_000));
        assert_eq!(short.training.dropout, Some(0.23));
        // As many tokens in steps of 16 x 32.
        let mut stepped = plan(&["training.steps=1084"]);
        stepped.settle(100, Some(185_000));
        assert_eq!(stepped.training.dropout, Some(0.23));
    }
}
