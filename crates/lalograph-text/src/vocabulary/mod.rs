//! Vocabularies: which tokens have an index, and what was done to the text to find them.

mod build;
mod combine;
mod encoder;
mod file;
mod parts;
mod turns;

use std::borrow::Cow;

use foldhash::fast::FixedState;
use hashbrown::HashMap;
use serde::{Deserialize, Serialize};

pub use build::{VocabularyBuilder, VocabularySpec};
pub use combine::{Comparison, OneSided};
pub use encoder::{Decoder, Encoder};
pub use parts::TextParts;

use crate::byte_pair::{Merges, Pair};
use crate::cleaning::Cleaning;
use crate::error::TextError;
use crate::packed::pack;
use crate::spelling::{Costs, LazyCosts, Rest, SpellingModel};
use crate::unigram::CutTable;
use crate::unit::Unit;

/// More tokens than this are no vocabulary.
const MOST_TOKENS: usize = 1 << 24;
/// Words drawn before the name of the unknown token has to do.
const DRAWN: usize = 1000;
/// Bytes of a drawn word, at most.
const LONGEST_DRAWN: usize = 64;
/// More than this was never counted; so sums of a few such numbers do not overflow.
pub(crate) const MOST_COUNTED: u64 = 1 << 60;

/// The tokens that represent no text of their own. Their indices are 0 to 3, in this order.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Reserved {
    /// Fills up to a fixed length.
    pub padding: String,
    /// Index of every token without an index of its own.
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
    /// Their number.
    pub const COUNT: u32 = 4;
    /// Index of the padding token.
    pub const PADDING: u32 = 0;
    /// Index of the unknown token.
    pub const UNKNOWN: u32 = 1;
    /// Index of the start token.
    pub const START: u32 = 2;
    /// Index of the end token.
    pub const END: u32 = 3;
    /// The indices that no text continues with: models give them no probability.
    pub const NEVER_PREDICTED: [u32; 2] = [Self::PADDING, Self::START];

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

/// Indices of the tokens that mark the ends of prompts and answers. No text has them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Turns {
    /// Read after a prompt: the answer follows.
    pub prompt_end: u32,
    /// Predicted after an answer.
    pub answer_end: u32,
}

/// Text that a vocabulary was counted on.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Counted {
    /// Documents read.
    pub documents: u64,
    /// Tokens in them.
    pub tokens: u64,
    /// Distinct tokens among these.
    pub distinct_tokens: u64,
    /// Number of running tokens that have an index.
    pub tokens_covered: u64,
}

/// A text with its tokens in their places.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Located {
    /// The text, cleaned.
    pub text: String,
    /// For each token its bytes in the text, and its index. A token may be a part of a character.
    pub tokens: Vec<(std::ops::Range<usize>, u32)>,
}

/// A token and how often it was counted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Token {
    /// Its bytes: UTF-8, except for parts of characters.
    pub bytes: Box<[u8]>,
    /// Its count.
    pub count: u64,
}

impl Token {
    pub(crate) fn new(bytes: impl Into<Box<[u8]>>, count: u64) -> Self {
        Self { bytes: bytes.into(), count }
    }

    /// As it can be shown: parts of characters as bytes in hexadecimal.
    pub fn shown(&self) -> Cow<'_, str> {
        shown(&self.bytes)
    }
}

/// The bytes of a token as text; those of a part of a character in hexadecimal digits.
pub fn shown(bytes: &[u8]) -> Cow<'_, str> {
    match std::str::from_utf8(bytes) {
        Ok(text) => Cow::Borrowed(text),
        Err(_) => {
            let hex: Vec<String> = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
            Cow::Owned(format!("\u{2039}{}\u{203a}", hex.join(" ")))
        }
    }
}

/// Data of a unit besides its tokens.
#[derive(Debug, Clone, PartialEq)]
enum Method {
    /// Tokens are found as they are.
    Listed,
    /// Pairs of indices, in the order in which they are merged.
    BytePair { pairs: Vec<Pair>, merges: Merges },
    /// The logarithms of the tokens' probabilities; bytes that are no character of their own have none.
    Unigram { scores: Vec<Option<f64>>, pieces: CutTable },
}

/// From tokens to indices.
#[derive(Debug, Clone, Default, PartialEq)]
struct Lookup {
    short: HashMap<u128, u32, FixedState>,
    long: HashMap<Box<[u8]>, u32, FixedState>,
}

impl Lookup {
    #[inline]
    fn get(&self, bytes: &[u8]) -> Option<u32> {
        match pack(bytes) {
            Some(packed) => self.short.get(&packed).copied(),
            None => self.long.get(bytes).copied(),
        }
    }

    /// Gives the index that was there before.
    fn insert(&mut self, bytes: &[u8], index: u32) -> Option<u32> {
        match pack(bytes) {
            Some(packed) => self.short.insert(packed, index),
            None => self.long.insert(bytes.into(), index),
        }
    }
}

/// A vocabulary: each token's index and count, and the cleaning and unit that make tokens of a text.
#[derive(Debug, Clone, PartialEq)]
pub struct Vocabulary {
    unit: Unit,
    cleaning: Cleaning,
    reserved: Reserved,
    counted: Counted,
    tokens: Vec<Token>,
    method: Method,
    lookup: Lookup,
    turns: Option<Turns>,
    rest: Rest,
    costs: LazyCosts,
}

impl Vocabulary {
    /// Builds a vocabulary from its parts; an error carries the position of its token.
    fn assemble(
        unit: Unit,
        cleaning: Cleaning,
        reserved: Reserved,
        counted: Counted,
        tokens: Vec<Token>,
        method: Method,
        mut rest: Rest,
    ) -> Result<Self, (Option<usize>, String)> {
        if tokens.is_empty() {
            return Err((None, "it has reserved tokens only".into()));
        }
        if tokens.len() >= MOST_TOKENS {
            return Err((None, format!("{} tokens are too many", tokens.len())));
        }
        let listed = tokens.iter().map(|token| token.count);
        let total = listed.chain(rest.words.iter().map(|(_, count)| *count)).try_fold(0, u64::checked_add);
        let Counted { documents, tokens: read, distinct_tokens, tokens_covered } = counted;
        let counts = [documents, read, distinct_tokens, tokens_covered];
        if total.is_none_or(|total| total > MOST_COUNTED) || counts.iter().any(|count| *count > MOST_COUNTED)
        {
            return Err((None, "its counts are larger than any text".into()));
        }
        let spellings: Vec<&str> =
            (0..Reserved::COUNT).filter_map(|index| reserved.spelling(index)).collect();
        for (at, spelling) in spellings.iter().enumerate() {
            if spelling.is_empty() || spellings[..at].contains(spelling) {
                return Err((None, "its reserved tokens are not four different ones".into()));
            }
        }
        let mut lookup = Lookup::default();
        for (position, token) in tokens.iter().enumerate() {
            if token.bytes.is_empty() {
                return Err((Some(position), "an empty token".into()));
            }
            if spellings.iter().any(|spelling| spelling.as_bytes() == &*token.bytes) {
                return Err((Some(position), format!("`{}` is also a reserved token", token.shown())));
            }
            if let Some(before) = lookup.insert(&token.bytes, position as u32 + Reserved::COUNT) {
                return Err((Some(position), format!("`{}` has index {before} already", token.shown())));
            }
        }
        rest.words.retain(|(word, _)| lookup.get(word.as_bytes()).is_none());
        let costs = LazyCosts::default();
        let turns = None;
        Ok(Self { unit, cleaning, reserved, counted, tokens, method, lookup, turns, rest, costs })
    }

    /// Token indices in all, the reserved ones included.
    pub fn len(&self) -> usize {
        self.tokens.len() + Reserved::COUNT as usize
    }

    /// Never: a vocabulary holds at least one token besides the reserved ones.
    pub fn is_empty(&self) -> bool {
        false
    }

    /// Unit of a token.
    pub fn unit(&self) -> Unit {
        self.unit
    }

    /// Cleaning.
    pub fn cleaning(&self) -> &Cleaning {
        &self.cleaning
    }

    /// The reserved tokens' spellings.
    pub fn reserved(&self) -> &Reserved {
        &self.reserved
    }

    /// Text that it was counted on.
    pub fn counted(&self) -> Counted {
        self.counted
    }

    /// The tokens with their counts; the first has index 4.
    pub fn tokens(&self) -> &[Token] {
        &self.tokens
    }

    /// The index of a token; of the unknown token if it has none.
    pub fn index_of(&self, token: impl AsRef<[u8]>) -> u32 {
        self.lookup.get(token.as_ref()).unwrap_or(Reserved::UNKNOWN)
    }

    /// The spellings of all indices, reserved ones first; bytes that are no text are replaced.
    pub fn spellings(&self) -> Vec<String> {
        let spelling = |index| String::from_utf8_lossy(self.token(index).unwrap_or_default()).into_owned();
        (0..self.len() as u32).map(spelling).collect()
    }

    /// The count of each token, in the order of [`Vocabulary::tokens`].
    pub fn counts(&self) -> Vec<u64> {
        self.tokens.iter().map(|token| token.count).collect()
    }

    /// The bytes of the token at an index.
    ///
    /// # Errors
    /// An index outside the vocabulary.
    pub fn token(&self, index: u32) -> Result<&[u8], TextError> {
        if let Some(spelling) = self.reserved.spelling(index) {
            return Ok(spelling.as_bytes());
        }
        let position = (index - Reserved::COUNT) as usize;
        self.tokens
            .get(position)
            .map(|token| &*token.bytes)
            .ok_or(TextError::IndexOutside { index, last: self.len() as u32 - 1 })
    }

    /// The same as it can be shown.
    ///
    /// # Errors
    /// An index outside the vocabulary.
    pub fn shown(&self, index: u32) -> Result<Cow<'_, str>, TextError> {
        self.token(index).map(shown)
    }

    /// Whether the index represents a part of a character.
    pub fn is_fragment(&self, index: u32) -> bool {
        self.token(index).is_ok_and(|bytes| std::str::from_utf8(bytes).is_err())
    }

    /// Whether the index prints nothing: it marks a place in a text.
    pub fn is_silent(&self, index: u32) -> bool {
        matches!(index, Reserved::PADDING | Reserved::START | Reserved::END)
            || self.turns.is_some_and(|turns| turns.has(index))
    }

    /// Something that cuts texts; it remembers how, so one for many texts is quick.
    pub fn encoder(&self) -> Encoder<'_> {
        Encoder::new(self)
    }

    /// Something that puts a text together token by token.
    pub fn decoder(&self) -> Decoder<'_> {
        Decoder::new(self)
    }

    /// The pairs of indices of byte-pair merging, in the order in which they are merged.
    pub fn merges(&self) -> Option<Vec<(u32, u32)>> {
        match &self.method {
            Method::BytePair { pairs, .. } => {
                let index = |symbol: u32| symbol + Reserved::COUNT;
                Some(pairs.iter().map(|&(left, right)| (index(left), index(right))).collect())
            }
            _ => None,
        }
    }

    /// The natural logarithms of the probabilities of a unigram model, in the order of [`Vocabulary::tokens`]; `None` for tokens that no text is
    /// cut into.
    pub fn log_probabilities(&self) -> Option<&[Option<f64>]> {
        match &self.method {
            Method::Unigram { scores, .. } => Some(scores),
            _ => None,
        }
    }

    /// Cleans a text, cuts it, and gives each token's text with its index.
    ///
    /// ```
    /// use lalograph_text::{Cleaning, Unit, VocabularyBuilder, vocabulary::VocabularySpec};
    /// let spec = VocabularySpec { unit: Unit::Word, ..VocabularySpec::default() };
    /// let mut builder = VocabularyBuilder::new(&spec);
    /// builder.add("the bee and the hive");
    /// let vocabulary = builder.finish(1)?;
    /// assert_eq!(vocabulary.encode("the wasp"), [("the".to_owned(), 4), ("wasp".to_owned(), 1)]);
    /// # Ok::<(), lalograph_text::TextError>(())
    /// ```
    pub fn encode(&self, text: &str) -> Vec<(String, u32)> {
        let mut pairs = Vec::new();
        self.encoder().each(text, |found, index| pairs.push((shown(found).into_owned(), index)));
        pairs
    }

    /// Cleans a text and finds its tokens in it, so that it can be shown with every token in its place, those without an index too.
    ///
    /// ```
    /// use lalograph_text::{Unit, VocabularyBuilder, vocabulary::VocabularySpec};
    /// let mut builder = VocabularyBuilder::new(&VocabularySpec { unit: Unit::Word, ..VocabularySpec::default() });
    /// builder.add("the bee and the hive");
    /// let located = builder.finish(1)?.locate("the  wasp");
    /// assert_eq!(located.tokens, [(0..3, 4), (5..9, 1)]);
    /// # Ok::<(), lalograph_text::TextError>(())
    /// ```
    pub fn locate(&self, text: &str) -> Located {
        let cleaned = self.cleaning.apply(text);
        let mut tokens = Vec::new();
        if self.unit.knows_everything() {
            let (mut indices, mut from) = (Vec::new(), 0);
            self.encoder().encode_cleaned(&cleaned, &mut indices);
            for index in indices {
                let end = from + self.token(index).map_or(0, <[u8]>::len);
                tokens.push((from..end, index));
                from = end;
            }
        } else {
            self.unit.tokenise(&cleaned, |token| {
                let from = token.as_ptr().addr() - cleaned.as_ptr().addr();
                tokens.push((from..from + token.len(), self.index_of(token)));
            });
        }
        Located { text: cleaned.into_owned(), tokens }
    }

    /// Indices back to bytes: exactly the cleaned text, unless the unit is the word; words are put together
    /// readably. Padding, start and end print nothing; unknown prints as it is spelt.
    ///
    /// # Errors
    /// An index outside the vocabulary.
    pub fn decode(&self, indices: &[u32]) -> Result<Vec<u8>, TextError> {
        if !self.unit.is_exact() {
            let mut out = String::new();
            let mut decoder = self.decoder();
            for &index in indices {
                decoder.push(index, &mut out)?;
            }
            return Ok(out.into_bytes());
        }
        let mut out = Vec::new();
        for &index in indices {
            if !self.is_silent(index) {
                out.extend_from_slice(self.token(index)?);
            }
        }
        Ok(out)
    }

    /// The bits of what is not in tokens; computed at the first call.
    fn costs(&self) -> &Costs {
        self.costs.get(|| {
            // A word without an index will be like those that had none: they count as often as they came, and others once. On manuals in
            // English this costs less for every size of the vocabulary than either all of them once or all by their counts.
            let listed = self.spelt().map(|token| (&*token.bytes, 1));
            let unlisted = self.rest.words.iter().map(|(word, count)| (word.as_bytes(), *count));
            Costs { spelling: SpellingModel::new(listed.chain(unlisted)), spacing: self.rest.spacing.costs() }
        })
    }

    /// The bits of a word's spelling: what it takes besides the unknown token where it has no index.
    pub fn spelling_bits(&self, word: &str) -> f64 {
        self.costs().spelling.bits(word.as_bytes())
    }

    /// Draws a token that has no index from the spelling model: a word, or whatever one token of the unit is. `uniform` gives numbers from 0 to
    /// below 1. Where nothing of that kind comes up, it is the name of the unknown token.
    ///
    /// ```
    /// use lalograph_text::{Unit, VocabularyBuilder, vocabulary::VocabularySpec};
    /// let mut builder = VocabularyBuilder::new(&VocabularySpec { size: Some(2), ..VocabularySpec::default() });
    /// builder.add("the the hive hive hives hiver");
    /// let vocabulary = builder.finish(1)?;
    /// let mut state = 1u64;
    /// let mut uniform = || {
    ///     state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
    ///     (state >> 11) as f64 / (1u64 << 53) as f64
    /// };
    /// let word = vocabulary.draw_unlisted(&mut uniform);
    /// assert_eq!(vocabulary.encode(&word), [(word.clone(), lalograph_text::Reserved::UNKNOWN)]);
    /// # Ok::<(), lalograph_text::TextError>(())
    /// ```
    pub fn draw_unlisted(&self, uniform: &mut dyn FnMut() -> f64) -> String {
        let spelling = &self.costs().spelling;
        for _ in 0..DRAWN {
            let Some(word) =
                spelling.draw(LONGEST_DRAWN, uniform).and_then(|word| String::from_utf8(word).ok())
            else {
                continue;
            };
            // Only what a text that was cut would have had here.
            let (mut tokens, mut whole) = (0, false);
            self.unit.tokenise(&word, |token| (tokens, whole) = (tokens + 1, token == word));
            if tokens == 1 && whole && self.index_of(&word) == Reserved::UNKNOWN {
                return word;
            }
        }
        self.reserved.unknown.clone()
    }

    /// A hash of everything that decides which index a text gets, in hexadecimal.
    ///
    /// # Errors
    /// [`TextError::Unwritable`].
    pub fn hash(&self) -> Result<String, TextError> {
        Ok(blake3::hash(self.to_json()?.as_bytes()).to_hex().to_string())
    }
}
