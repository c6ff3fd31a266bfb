//! `[samples]` and `[checkpoints]`: what a run leaves behind as it goes.

use serde::de::{SeqAccess, Visitor};
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use super::section::section;

/// One text or several: in a plan a string, or a list of strings.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Texts(pub Vec<String>);

impl Serialize for Texts {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match &self.0[..] {
            [one] => serializer.serialize_str(one),
            all => all.serialize(serializer),
        }
    }
}

impl<'de> Deserialize<'de> for Texts {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct OneOrMore;

        impl<'de> Visitor<'de> for OneOrMore {
            type Value = Texts;

            fn expecting(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                formatter.write_str("a text or a list of texts")
            }

            fn visit_str<E>(self, text: &str) -> Result<Texts, E> {
                Ok(Texts(vec![text.to_owned()]))
            }

            fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<Texts, A::Error> {
                let mut texts = Vec::new();
                while let Some(text) = items.next_element()? {
                    texts.push(text);
                }
                Ok(Texts(texts))
            }
        }

        deserializer.deserialize_any(OneOrMore)
    }
}

section! {
    /// samples during training.
    pub struct SamplesPlan in "samples" {
        /// Sampling temperatures, above 0; one sample for each, and for each seed text.
        pub temperatures: Vec<f64> = vec![0.3, 0.7, 1.0],
        /// Write samples every N steps, and at the end; 0 = not by steps.
        pub every: u64 = 200,
        /// Write samples every N epochs too, such as 1 or 0.5; 0 = not by epochs.
        pub every_epochs: f64 = 0.0,
        /// Steps after which samples are written too, such as `[10, 100, 1000]`.
        pub at: Vec<u64> = Vec::new(),
        /// Maximum number of tokens of a sample; a sample also stops at the end of a document.
        pub tokens: usize = 60,
        /// Seed text that samples continue, or a list of seed texts; empty for the start of a document.
        pub from: Texts = Texts(vec![String::new()]),
        /// Number of seed texts drawn from the validation text too: the first tokens of documents, the same in the whole run.
        pub drawn_seeds: usize = 0,
        /// Length of each of these seed texts, in tokens.
        pub drawn_seed_tokens: usize = 8,
    }
}

section! {
    /// checkpoints.
    pub struct CheckpointsPlan in "checkpoints" {
        /// Write a checkpoint every N steps; 0 = by time only. There is always a checkpoint at the end and at an interruption.
        pub every: u64 = 0,
        /// Write a checkpoint every N minutes; 0 = by steps only.
        pub minutes: f64 = 5.0,
        /// Number of last checkpoints to keep. The best model is kept separately.
        pub keep: usize = 2,
    }
}
