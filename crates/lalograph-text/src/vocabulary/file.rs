//! The vocabulary's file: JSON that people can read, one token a line. `docs/formats/vocabulary.md` is its description.

use std::collections::HashSet;

use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;

use super::build::{UNLISTED_WORDS, byte_pair_method, unigram_method};
use super::{Counted, Method, Reserved, Token, Turns, Vocabulary};
use crate::byte_pair::Pair;
use crate::cleaning::Cleaning;
use crate::error::TextError;
use crate::spelling::{Rest, SpacingModel};
use crate::unit::Unit;

const FORMAT: &str = "lalograph vocabulary";
const VERSION: u32 = 2;

/// The file's shape.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct VocabularyFile<'t> {
    format: String,
    version: u32,
    unit: Unit,
    cleaning: Cleaning,
    reserved: Reserved,
    counted: Counted,
    #[serde(default)]
    turns: Option<Turns>,
    #[serde(borrow)]
    tokens: Vec<&'t RawValue>,
    #[serde(borrow, default)]
    merges: Option<Vec<&'t RawValue>>,
    /// Words without an index and their counts, to learn spelling from.
    #[serde(default)]
    unlisted: Vec<(Box<str>, u64)>,
    #[serde(default)]
    spacing: SpacingModel,
}

/// Spelling of a token in the file: text, or bytes in hexadecimal if it is a part of a character.
#[derive(Serialize, Deserialize)]
#[serde(untagged)]
enum TokenText {
    Text(String),
    Bytes(HexBytes),
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct HexBytes {
    bytes: String,
}

impl TokenText {
    fn of(bytes: &[u8]) -> Self {
        match std::str::from_utf8(bytes) {
            Ok(text) => Self::Text(text.to_owned()),
            Err(_) => {
                Self::Bytes(HexBytes { bytes: bytes.iter().map(|byte| format!("{byte:02x}")).collect() })
            }
        }
    }

    fn into_bytes(self) -> Option<Box<[u8]>> {
        let hex = match self {
            Self::Text(text) => return Some(text.into_bytes().into()),
            Self::Bytes(HexBytes { bytes }) => bytes,
        };
        let digits: Option<Vec<u8>> = hex.chars().map(|c| Some(c.to_digit(16)? as u8)).collect();
        let (pairs, rest) = digits.as_deref()?.as_chunks::<2>();
        rest.is_empty().then(|| pairs.iter().map(|[high, low]| high << 4 | low).collect())
    }
}

impl Vocabulary {
    /// The file's text: JSON, with one token a line.
    ///
    /// # Errors
    /// [`TextError::Unwritable`].
    pub fn to_json(&self) -> Result<String, TextError> {
        let mut out = format!(
            "{{\n  \"format\": \"{FORMAT}\",\n  \"version\": {VERSION},\n  \"unit\": {},\n  \"cleaning\": {},\n  \
             \"reserved\": {},\n  \"counted\": {},\n  {}\"tokens\": [",
            json(&self.unit)?,
            json(&self.cleaning)?,
            json(&self.reserved)?,
            json(&self.counted)?,
            match &self.turns {
                Some(turns) => format!("\"turns\": {},\n  ", json(turns)?),
                None => String::new(),
            },
        );
        let scores = self.log_probabilities().unwrap_or_default();
        for (position, token) in self.tokens.iter().enumerate() {
            let index = position as u32 + Reserved::COUNT;
            let text = TokenText::of(&token.bytes);
            let line = match scores.get(position) {
                Some(score) => json(&(index, text, token.count, score))?,
                None => json(&(index, text, token.count))?,
            };
            out.push_str(if position == 0 { "\n    " } else { ",\n    " });
            out.push_str(&line);
        }
        out.push_str("\n  ]");
        if let Some(merges) = self.merges() {
            out.push_str(",\n  \"merges\": [");
            for (position, pair) in merges.iter().enumerate() {
                out.push_str(if position == 0 { "\n    " } else { ",\n    " });
                out.push_str(&json(pair)?);
            }
            out.push_str("\n  ]");
        }
        lines(&mut out, "unlisted", &self.rest.words)?;
        lines(&mut out, "spacing", &self.rest.spacing.lines())?;
        out.push_str("\n}\n");
        Ok(out)
    }

    /// Reads what [`Vocabulary::to_json`] wrote.
    ///
    /// # Errors
    /// [`TextError::BadVocabulary`] with what is wrong and on which line.
    pub fn from_json(text: &str) -> Result<Self, TextError> {
        let bad = |what: String| TextError::BadVocabulary(what);
        let file: VocabularyFile<'_> = serde_json::from_str(text).map_err(|error| bad(error.to_string()))?;
        if file.format != FORMAT {
            return Err(bad(format!("its format is `{}`, not `{FORMAT}`", file.format)));
        }
        if file.version != VERSION {
            return Err(bad(format!(
                "its version is {}, and this program reads version {VERSION}",
                file.version
            )));
        }
        let line = |value: &RawValue| {
            let offset = value.get().as_ptr().addr().saturating_sub(text.as_ptr().addr());
            text.as_bytes()[..offset.min(text.len())].iter().filter(|&&byte| byte == b'\n').count() + 1
        };
        let at = |value: &RawValue, what: String| bad(format!("line {}: {what}", line(value)));
        let mut tokens = Vec::with_capacity(file.tokens.len());
        let mut scores = Vec::new();
        for value in &file.tokens {
            let (index, text, count) = if file.unit == Unit::Unigram {
                let (index, text, count, score): (u32, TokenText, u64, Option<f64>) = entry(value)
                    .ok_or_else(|| at(value, "not an index, a token, a count and a score".into()))?;
                if score.is_some_and(|score| !(score.is_finite() && score <= 0.0)) {
                    return Err(at(value, "the score is the logarithm of no probability".into()));
                }
                scores.push(score);
                (index, text, count)
            } else {
                entry(value).ok_or_else(|| at(value, "not an index, a token and a count".into()))?
            };
            let expected = tokens.len() as u32 + Reserved::COUNT;
            if index != expected {
                let why = match index {
                    _ if index < Reserved::COUNT => "which is a reserved token's".to_owned(),
                    _ if index < expected => "which a token above it has already".to_owned(),
                    _ => format!("and index {expected} is missing"),
                };
                return Err(at(value, format!("a token has index {index}, {why}")));
            }
            let bytes =
                text.into_bytes().ok_or_else(|| at(value, "the bytes are not in hexadecimal".into()))?;
            tokens.push(Token { bytes, count });
        }
        if file.unit.knows_everything() {
            for byte in 0..=255u8 {
                if tokens.get(usize::from(byte)).is_none_or(|token| *token.bytes != [byte]) {
                    let index = u32::from(byte) + Reserved::COUNT;
                    return Err(bad(format!("index {index} is not the byte {byte:02x}")));
                }
            }
        }
        let method = match (file.unit, &file.merges) {
            (Unit::BytePair, None) => return Err(bad("it has no merges".into())),
            (Unit::BytePair, Some(merges)) => {
                let known: HashSet<&[u8]> = tokens.iter().map(|token| &*token.bytes).collect();
                let pairs = merges
                    .iter()
                    .map(|value| pair(value, &tokens, &known).map_err(|what| at(value, what)))
                    .collect::<Result<Vec<Pair>, TextError>>()?;
                byte_pair_method(&tokens, pairs)
            }
            (_, Some(_)) => return Err(bad(format!("a vocabulary of {} has no merges", file.unit.plural()))),
            (Unit::Unigram, None) => unigram_method(&tokens, scores),
            (_, None) => Method::Listed,
        };
        let values = &file.tokens;
        if file.unlisted.len() > UNLISTED_WORDS || !file.unlisted.is_sorted_by(|a, b| a.0 < b.0) {
            return Err(bad(format!(
                "its words without an index are more than {UNLISTED_WORDS}, or not sorted, or one is there twice"
            )));
        }
        let rest = Rest { words: file.unlisted, spacing: file.spacing };
        let (counted, turns) = (file.counted, file.turns);
        Self::assemble(file.unit, file.cleaning, file.reserved, counted, tokens, method, rest)
            .map_err(|(position, what)| match position.and_then(|position| values.get(position)) {
                Some(value) => at(value, what),
                None => bad(what),
            })
            .and_then(|vocabulary| vocabulary.marked(turns).map_err(bad))
    }
}

fn entry<'t, T: Deserialize<'t>>(value: &'t RawValue) -> Option<T> {
    serde_json::from_str(value.get()).ok()
}

/// A pair of indices as a pair of symbols whose merged bytes are a token.
fn pair(value: &RawValue, tokens: &[Token], known: &HashSet<&[u8]>) -> Result<Pair, String> {
    let (left, right): (u32, u32) = entry(value).ok_or("not a pair of indices")?;
    let symbol = |index: u32| {
        let symbol = index.checked_sub(Reserved::COUNT);
        let symbol = symbol.filter(|&symbol| (symbol as usize) < tokens.len());
        symbol.ok_or_else(|| format!("no token has index {index}"))
    };
    let pair = (symbol(left)?, symbol(right)?);
    let merged = [&*tokens[pair.0 as usize].bytes, &*tokens[pair.1 as usize].bytes].concat();
    if known.contains(merged.as_slice()) {
        Ok(pair)
    } else {
        Err(format!("the tokens {left} and {right} together are no token"))
    }
}

/// A list with one element a line; an empty list stays on one line.
fn lines<T: Serialize>(out: &mut String, key: &str, list: &[T]) -> Result<(), TextError> {
    for (position, element) in list.iter().enumerate() {
        let before = if position == 0 { format!(",\n  \"{key}\": [\n    ") } else { ",\n    ".to_owned() };
        out.push_str(&before);
        out.push_str(&json(element)?);
    }
    if !list.is_empty() {
        out.push_str("\n  ]");
    }
    Ok(())
}

fn json<T: Serialize>(value: &T) -> Result<String, TextError> {
    serde_json::to_string(value).map_err(|error| TextError::Unwritable(error.to_string()))
}
