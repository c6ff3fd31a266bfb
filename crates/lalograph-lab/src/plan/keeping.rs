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
    /// what the network writes while it learns.
    pub struct SamplesPlan in "samples" {
        /// One sample for each, and for each seed text; above 0.
        pub temperatures: Vec<f64> = vec![0.3, 0.7, 1.0],
        /// Write samples every so many steps; 0 for never by steps. There are always samples at the end.
        pub every: u64 = 200,
        /// Write samples every so many epochs too, such as 1 or 0.5; 0 for never by epochs.
        pub every_epochs: f64 = 0.0,
        /// Steps after which samples are written too, such as `[10, 100, 1000]`.
        pub at: Vec<u64> = Vec::new(),
        /// Tokens of a sample, at most: it also stops where a document ends.
        pub tokens: usize = 60,
        /// The text that samples go on from, or a list of such texts; empty for the start of a document.
        pub seed_text: Texts = Texts(vec![String::new()]),
        /// So many seed texts besides, drawn from the validation text: the beginnings of documents, the same throughout a run.
        pub drawn_seeds: usize = 0,
        /// Tokens of each of those.
        pub drawn_seed_tokens: usize = 8,
    }
}

section! {
    /// what a run is resumed from.
    pub struct CheckpointsPlan in "checkpoints" {
        /// Write one every so many steps; 0 for by time only. There is always one at the end and where a run is interrupted.
        pub every: u64 = 0,
        /// Write one when so many minutes have passed since the last; 0 for by steps only.
        pub minutes: f64 = 5.0,
        /// How many of the last are kept, so that one that is damaged has another before it. The best model is kept besides.
        pub keep: usize = 2,
    }
}
