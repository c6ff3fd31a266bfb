//! Which documents are for training, which are held out, and which are left aside.
//!
//! A split is a rule over single documents: a hash of the text and the seed gives each a position between 0 and 1, the
//! lowest positions are for validation, the next for testing, the rest for training. So a document keeps its part whatever is added to
//! the corpus, and equal documents always are together. [`make`](super::partition::make) finds the rule for a corpus; where balance between classes or
//! nearly equal documents ask for it, single documents are listed as exceptions.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use crate::error::TextError;

const FORMAT: &str = "lalograph split";
const VERSION: u32 = 1;

/// Place of a document.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Part {
    /// Learnt from.
    Training,
    /// Held out, for validation during training.
    Validation,
    /// Held out, to be scored once, at the end.
    Test,
    /// Used for neither: its label is in dispute, or it resembles documents of two parts.
    SetAside,
}

impl Part {
    /// All parts.
    pub const ALL: [Self; 4] = [Self::Training, Self::Validation, Self::Test, Self::SetAside];

    /// The name used in files.
    pub fn name(self) -> &'static str {
        match self {
            Self::Training => "training",
            Self::Validation => "validation",
            Self::Test => "test",
            Self::SetAside => "set_aside",
        }
    }
}

/// Positions are whole numbers below this.
const POSITIONS: u64 = 1 << 53;

/// Boundaries of the parts, in positions from 0 to 2^53.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Cutoffs {
    /// Positions below this are for validation.
    pub validation_below: u64,
    /// Positions from there to below this are for testing.
    pub test_below: u64,
}

impl Cutoffs {
    /// The cutoffs that give these shares.
    pub fn shares(validation: f64, test: f64) -> Self {
        let cut = |share: f64| (share.clamp(0.0, 1.0) * POSITIONS as f64).ceil() as u64;
        Self { validation_below: cut(validation), test_below: cut(validation + test) }
    }

    pub(crate) fn part(self, position: u64) -> Part {
        match position {
            p if p < self.validation_below => Part::Validation,
            p if p < self.test_below => Part::Test,
            _ => Part::Training,
        }
    }
}

/// Position of a document, from the hash of its text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Fingerprint {
    /// Below 2^53.
    pub(crate) position: u64,
    /// A hash of the text: equal texts have equal keys, and others practically never.
    pub(crate) key: u128,
}

pub(crate) fn fingerprint(text: &str, seed: u64) -> Fingerprint {
    let mut hash = blake3::Hasher::new();
    hash.update(b"split");
    hash.update(&seed.to_le_bytes());
    hash.update(text.as_bytes());
    let bytes = hash.finalize();
    let (first, rest) = bytes.as_bytes().split_at(8);
    let position = first.first_chunk().map_or(0, |bytes| u64::from_le_bytes(*bytes) >> 11);
    let key = rest.first_chunk().map_or(0, |bytes| u128::from_be_bytes(*bytes));
    Fingerprint { position, key }
}

/// Documents and bytes of a part.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PartCount {
    /// Documents.
    pub documents: u64,
    /// Bytes of their text.
    pub bytes: u64,
}

/// The rule by which each document has its part.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Split {
    format: String,
    version: u32,
    /// The seed of the positions.
    pub seed: u64,
    /// The cutoffs of every class that has none of its own.
    pub cutoffs: Cutoffs,
    /// The cutoffs of single classes.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub class_cutoffs: BTreeMap<String, Cutoffs>,
    /// Labels whose documents are set aside.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub set_aside_labels: BTreeSet<String>,
    /// Documents and bytes of each part when the split was made, by class; the class of documents without a label is empty.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub counted: BTreeMap<Part, BTreeMap<String, PartCount>>,
    /// Documents whose part is not that of their position, by the hash of their text.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub exceptions: BTreeMap<TextKey, Part>,
}

/// Key of a text in a split: bytes 8 to 23 of the hash whose first eight give the position, in hexadecimal.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct TextKey(pub(crate) u128);

impl TryFrom<String> for TextKey {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        let key = (text.len() == 32).then(|| u128::from_str_radix(&text, 16).ok()).flatten();
        key.map(Self).ok_or_else(|| format!("`{text}` is not 32 hexadecimal digits"))
    }
}

impl From<TextKey> for String {
    fn from(key: TextKey) -> Self {
        format!("{:032x}", key.0)
    }
}

impl Split {
    /// A split with these cutoffs for all and no exceptions.
    pub fn even(seed: u64, cutoffs: Cutoffs) -> Self {
        Self {
            format: FORMAT.into(),
            version: VERSION,
            seed,
            cutoffs,
            class_cutoffs: BTreeMap::new(),
            set_aside_labels: BTreeSet::new(),
            counted: BTreeMap::new(),
            exceptions: BTreeMap::new(),
        }
    }

    /// The part of a document.
    ///
    /// ```
    /// use lalograph_text::split::{Cutoffs, Part, Split};
    /// let split = Split::even(1, Cutoffs::shares(0.0, 1.0));
    /// assert_eq!(split.part_of("Quiet, so far.", None), Part::Test);
    /// ```
    pub fn part_of(&self, text: &str, label: Option<&str>) -> Part {
        if label.is_some_and(|label| self.set_aside_labels.contains(label)) {
            return Part::SetAside;
        }
        let found = fingerprint(text, self.seed);
        match self.exceptions.get(&TextKey(found.key)) {
            Some(part) => *part,
            None => self.cutoffs_of(label).part(found.position),
        }
    }

    pub(crate) fn cutoffs_of(&self, label: Option<&str>) -> Cutoffs {
        label.and_then(|label| self.class_cutoffs.get(label)).copied().unwrap_or(self.cutoffs)
    }

    /// The file's text: JSON.
    ///
    /// # Errors
    /// [`TextError::Unwritable`].
    pub fn to_json(&self) -> Result<String, TextError> {
        let mut text =
            serde_json::to_string_pretty(self).map_err(|error| TextError::Unwritable(error.to_string()))?;
        text.push('\n');
        Ok(text)
    }

    /// Reads what [`Split::to_json`] wrote.
    ///
    /// # Errors
    /// [`TextError::BadSplit`] with what is wrong and where.
    pub fn from_json(text: &str) -> Result<Self, TextError> {
        let split: Self =
            serde_json::from_str(text).map_err(|error| TextError::BadSplit(error.to_string()))?;
        if split.format != FORMAT {
            return Err(TextError::BadSplit(format!("its format is `{}`, not `{FORMAT}`", split.format)));
        }
        if split.version != VERSION {
            return Err(TextError::BadSplit(format!(
                "its version is {}, and this program reads version {VERSION}",
                split.version
            )));
        }
        let ordered = |c: &Cutoffs| c.validation_below <= c.test_below && c.test_below <= POSITIONS;
        if !std::iter::once(&split.cutoffs).chain(split.class_cutoffs.values()).all(ordered) {
            return Err(TextError::BadSplit("its cutoffs are out of order".into()));
        }
        Ok(split)
    }

    /// Documents and bytes of a part when the split was made, all classes together.
    pub fn count_of(&self, part: Part) -> PartCount {
        let classes = self.counted.get(&part).into_iter().flat_map(BTreeMap::values);
        classes.fold(PartCount::default(), |sum, class| PartCount {
            documents: sum.documents + class.documents,
            bytes: sum.bytes + class.bytes,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::{Cutoffs, Part, Split, TextKey};
    use crate::TextError;

    #[test]
    fn shares_are_close_to_the_request_and_seeds_differ() {
        let parts = |seed, validation, test| -> Vec<Part> {
            let split = Split::even(seed, Cutoffs::shares(validation, test));
            (0..20_000).map(|i| split.part_of(&format!("entry {i}"), None)).collect()
        };
        for (validation, test) in [(0.0, 0.0), (0.05, 0.2), (0.5, 0.5), (1.0, 0.0)] {
            let found = parts(1, validation, test);
            for (part, share) in [(Part::Validation, validation), (Part::Test, test)] {
                let count = found.iter().filter(|&&p| p == part).count() as f64 / 20_000.0;
                assert!((count - share).abs() < 0.02, "{part:?} {share}: {count}");
            }
        }
        assert_ne!(parts(1, 0.5, 0.0), parts(2, 0.5, 0.0));
    }

    #[test]
    fn a_split_file_reads_back_and_damage_is_refused() {
        let mut split = Split::even(7, Cutoffs::shares(0.1, 0.1));
        split.class_cutoffs.insert("failing".into(), Cutoffs::shares(0.2, 0.0));
        split.set_aside_labels.insert("disputed".into());
        split.exceptions.insert(TextKey(u128::MAX / 3), Part::SetAside);
        let json = split.to_json().unwrap();
        assert_eq!(Split::from_json(&json).unwrap(), split);
        assert_eq!(split.part_of("x", Some("disputed")), Part::SetAside);
        for (from, to, word) in [
            ("lalograph split", "something", "format"),
            ("\"version\": 1", "\"version\": 9", "version"),
            ("\"validation_below\"", "\"validation\"", "validation"),
            ("\"validation_below\": 0", "\"validation_below\": 0.5", "line"),
            ("55555555", "5", "hexadecimal"),
            ("\"test_below\": 1801439850948199", "\"test_below\": 1", "order"),
        ] {
            let damaged = json.replacen(from, to, 1);
            if damaged == json {
                continue;
            }
            match Split::from_json(&damaged) {
                Err(TextError::BadSplit(what)) => assert!(what.contains(word), "{word}: {what}"),
                other => panic!("{from}: {other:?}"),
            }
        }
        assert!(Split::from_json(&json[..json.len() / 2]).is_err());
    }
}
