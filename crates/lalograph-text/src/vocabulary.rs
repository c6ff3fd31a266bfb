//! Vocabularies: which tokens have an index, and what was done to the text to find them.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};

use crate::cleaning::Cleaning;
use crate::corpus::{Batch, Corpus, Document, ReadObserver, Reading};
use crate::error::TextError;
use crate::tally::{Commonest, Tally};
use crate::unit::{Joiner, Unit};

const FORMAT: &str = "lalograph vocabulary";
const VERSION: u32 = 1;

/// The tokens that stand for no text of their own. Their indices are 0 to 3, in this order.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Reserved {
    /// Fills up to a fixed length.
    pub padding: String,
    /// Stands for every token that has no index.
    pub unknown: String,
    /// Read before a document's first token.
    pub start: String,
    /// Predicted after a document's last token.
    pub end: String,
}

impl Default for Reserved {
    fn default() -> Self {
        let own = |name: &str| format!("\u{2039}{name}\u{203a}");
        Self { padding: own("padding"), unknown: own("unknown"), start: own("start"), end: own("end") }
    }
}

impl Reserved {
    /// How many there are.
    pub const COUNT: u32 = 4;
    /// Index of the padding token.
    pub const PADDING: u32 = 0;
    /// Index of the unknown token.
    pub const UNKNOWN: u32 = 1;
    /// Index of the start token.
    pub const START: u32 = 2;
    /// Index of the end token.
    pub const END: u32 = 3;

    fn spelling(&self, index: u32) -> Option<&str> {
        match index {
            Self::PADDING => Some(&self.padding),
            Self::UNKNOWN => Some(&self.unknown),
            Self::START => Some(&self.start),
            Self::END => Some(&self.end),
            _ => None,
        }
    }
}

/// What a vocabulary was counted on.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Counted {
    /// Documents read.
    pub documents: u64,
    /// Tokens in them.
    pub tokens: u64,
    /// Distinct tokens among these.
    pub distinct_tokens: u64,
    /// How many of all the tokens have an index.
    pub tokens_covered: u64,
}

/// A vocabulary: each token's index and count, and the cleaning and unit that make tokens of a text.
#[derive(Debug, Clone, PartialEq)]
pub struct Vocabulary {
    unit: Unit,
    cleaning: Cleaning,
    reserved: Reserved,
    counted: Counted,
    tokens: Vec<(Box<str>, u64)>,
    index: HashMap<Box<str>, u32>,
}

/// The file's shape.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct VocabularyFile {
    format: String,
    version: u32,
    unit: Unit,
    cleaning: Cleaning,
    reserved: Reserved,
    counted: Counted,
    tokens: Vec<(Box<str>, u64)>,
}

impl Vocabulary {
    fn assemble(
        unit: Unit,
        cleaning: Cleaning,
        reserved: Reserved,
        counted: Counted,
        tokens: Vec<(Box<str>, u64)>,
    ) -> Result<Self, TextError> {
        let bad = |what: String| Err(TextError::BadVocabulary(what));
        if tokens.is_empty() {
            return bad("it holds nothing but reserved tokens".into());
        }
        if tokens.len() >= (1 << 24) {
            return bad(format!("{} tokens are more than there may be", tokens.len()));
        }
        let mut index = HashMap::with_capacity(tokens.len());
        for (position, (token, _)) in tokens.iter().enumerate() {
            if token.is_empty() {
                return bad(format!("token {position} is empty"));
            }
            if index.insert(token.clone(), position as u32 + Reserved::COUNT).is_some() {
                return bad(format!("the token `{token}` stands in it twice"));
            }
        }
        Ok(Self { unit, cleaning, reserved, counted, tokens, index })
    }

    /// Token indices in all, the reserved ones included.
    pub fn len(&self) -> usize {
        self.tokens.len() + Reserved::COUNT as usize
    }

    /// Never: a vocabulary holds at least one token besides the reserved ones.
    pub fn is_empty(&self) -> bool {
        false
    }

    /// What a token is.
    pub fn unit(&self) -> Unit {
        self.unit
    }

    /// What is done to a text first.
    pub fn cleaning(&self) -> &Cleaning {
        &self.cleaning
    }

    /// The reserved tokens' spellings.
    pub fn reserved(&self) -> &Reserved {
        &self.reserved
    }

    /// What it was counted on.
    pub fn counted(&self) -> Counted {
        self.counted
    }

    /// The tokens with their counts, by rank; the first has index 4.
    pub fn tokens(&self) -> &[(Box<str>, u64)] {
        &self.tokens
    }

    /// The index of a token; of the unknown token if it has none.
    pub fn index_of(&self, token: &str) -> u32 {
        self.index.get(token).copied().unwrap_or(Reserved::UNKNOWN)
    }

    /// The token at an index.
    ///
    /// # Errors
    /// An index outside the vocabulary.
    pub fn token(&self, index: u32) -> Result<&str, TextError> {
        self.reserved
            .spelling(index)
            .or_else(|| {
                let position = index.checked_sub(Reserved::COUNT)? as usize;
                self.tokens.get(position).map(|(token, _)| &**token)
            })
            .ok_or(TextError::IndexOutside { index, last: self.len() as u32 - 1 })
    }

    /// Cleans a text, cuts it and appends the indices of its tokens.
    pub fn encode_into(&self, text: &str, indices: &mut Vec<u32>) {
        self.unit.tokenise(&self.cleaning.apply(text), |token| indices.push(self.index_of(token)));
    }

    /// The same, with each token as it was found.
    pub fn encode(&self, text: &str) -> Vec<(String, u32)> {
        let mut pairs = Vec::new();
        self.unit.tokenise(&self.cleaning.apply(text), |token| {
            pairs.push((token.to_owned(), self.index_of(token)));
        });
        pairs
    }

    /// Indices back to text. Padding, start and end print nothing; unknown prints as it is spelt.
    ///
    /// # Errors
    /// An index outside the vocabulary.
    pub fn decode(&self, indices: &[u32]) -> Result<String, TextError> {
        let mut out = String::new();
        let mut joiner = Joiner::new(self.unit);
        for &index in indices {
            if !matches!(index, Reserved::PADDING | Reserved::START | Reserved::END) {
                joiner.push(self.token(index)?, &mut out);
            }
        }
        Ok(out)
    }

    /// The file's text: JSON, with one token a line.
    pub fn to_json(&self) -> String {
        let mut out = format!(
            "{{\n  \"format\": \"{FORMAT}\",\n  \"version\": {VERSION},\n  \"unit\": {},\n  \"cleaning\": {},\n  \
             \"reserved\": {},\n  \"counted\": {},\n  \"tokens\": [",
            json(&self.unit),
            json(&self.cleaning),
            json(&self.reserved),
            json(&self.counted),
        );
        for (position, token) in self.tokens.iter().enumerate() {
            out.push_str(if position == 0 { "\n    " } else { ",\n    " });
            out.push_str(&json(token));
        }
        out.push_str("\n  ]\n}\n");
        out
    }

    /// Reads what [`Vocabulary::to_json`] wrote.
    ///
    /// # Errors
    /// [`TextError::BadVocabulary`] with what is wrong and where.
    pub fn from_json(text: &str) -> Result<Self, TextError> {
        let file: VocabularyFile =
            serde_json::from_str(text).map_err(|error| TextError::BadVocabulary(error.to_string()))?;
        if file.format != FORMAT {
            return Err(TextError::BadVocabulary(format!("its format is `{}`, not `{FORMAT}`", file.format)));
        }
        if file.version != VERSION {
            return Err(TextError::BadVocabulary(format!(
                "its version is {}, and this program reads version {VERSION}",
                file.version
            )));
        }
        Self::assemble(file.unit, file.cleaning, file.reserved, file.counted, file.tokens)
    }

    /// A hash of everything that decides which index a text gets, in hexadecimal.
    pub fn hash(&self) -> String {
        blake3::hash(self.to_json().as_bytes()).to_hex().to_string()
    }
}

/// Plain data with string keys: serialising it cannot fail.
fn json<T: Serialize>(value: &T) -> String {
    serde_json::to_string(value).unwrap_or_default()
}

/// How many tokens may enter a vocabulary.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Admission {
    /// The commonest so many, reserved ones not counted.
    pub size: Option<usize>,
    /// Those that occur at least so often.
    pub minimum_count: u64,
}

/// Counts tokens, and then keeps the commonest. Counts that do not fit in memory wait in temporary files.
#[derive(Debug)]
pub struct VocabularyBuilder {
    unit: Unit,
    cleaning: Cleaning,
    tally: Tally,
    /// Those of the builders taken in.
    others: Vec<Tally>,
    documents: u64,
    tokens: u64,
}

impl VocabularyBuilder {
    /// Starts with nothing counted.
    pub fn new(unit: Unit, cleaning: Cleaning) -> Self {
        Self { unit, cleaning, tally: Tally::new(), others: Vec::new(), documents: 0, tokens: 0 }
    }

    /// Counts one document's tokens.
    pub fn add(&mut self, text: &str) {
        self.documents += 1;
        let (tally, tokens) = (&mut self.tally, &mut self.tokens);
        self.unit.tokenise(&self.cleaning.apply(text), |token| {
            *tokens += 1;
            tally.add(token);
        });
    }

    /// Counts a corpus with `threads` threads; only the documents that `wanted` says yes to.
    ///
    /// # Errors
    /// As for [`Corpus::read`]; a stop by the observer.
    pub fn count(
        unit: Unit,
        cleaning: &Cleaning,
        corpus: &Corpus,
        threads: usize,
        observer: &mut dyn ReadObserver,
        wanted: impl Fn(&Document<'_>) -> bool + Sync,
    ) -> Result<(Self, Reading), TextError> {
        let new = || Self::new(unit, cleaning.clone());
        let work = |builder: &mut Self, batch: &Batch| {
            batch.documents().filter(&wanted).for_each(|document| builder.add(document.text));
        };
        let (reading, builders) = corpus.process(threads, observer, new, work, |_, ()| Ok(()))?;
        let mut whole = new();
        for mut builder in builders {
            whole.documents += builder.documents;
            whole.tokens += builder.tokens;
            whole.others.push(builder.tally);
            whole.others.append(&mut builder.others);
        }
        Ok((whole, reading))
    }

    /// Keeps the tokens that are admitted, the commonest first, equal counts in the order of their code points.
    ///
    /// # Errors
    /// [`TextError::EmptyVocabulary`] when none is; a temporary file that cannot be read.
    pub fn finish(mut self, admission: Admission) -> Result<Vocabulary, TextError> {
        let mut distinct_tokens = 0;
        let mut commonest = Commonest::new(admission.size.unwrap_or(usize::MAX));
        self.others.push(self.tally);
        Tally::merge(self.others, |token, count| {
            distinct_tokens += 1;
            if count >= admission.minimum_count {
                commonest.offer(token, count);
            }
        })
        .map_err(TextError::Scratch)?;
        let ranked = commonest.ranked();
        if ranked.is_empty() {
            return Err(TextError::EmptyVocabulary {
                unit: self.unit.name(),
                minimum_count: admission.minimum_count,
            });
        }
        let counted = Counted {
            documents: self.documents,
            tokens: self.tokens,
            distinct_tokens,
            tokens_covered: ranked.iter().map(|(_, count)| count).sum(),
        };
        Vocabulary::assemble(self.unit, self.cleaning, Reserved::default(), counted, ranked)
    }
}
