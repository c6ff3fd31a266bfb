//! One text: what is asked for, how it comes together token by token, where it ends.

use lalograph_text::vocabulary::Decoder;
use lalograph_text::{Reserved, Vocabulary};
use serde::{Deserialize, Serialize};

use super::decoding::Decoding;
use crate::error::LabError;

/// Conditions that end a text before its document ends.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Stop {
    /// After a full stop, a question mark or an exclamation mark that ends a word.
    pub sentence: bool,
    /// Before the end of a line.
    pub line: bool,
    /// Before any of these.
    pub texts: Vec<String>,
}

/// Why a text ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ended {
    /// The document did.
    Document,
    /// An answer did.
    Answer,
    /// A sentence did.
    Sentence,
    /// A line did.
    Line,
    /// A text that it was to stop at came.
    Text,
    /// The text reached its maximum number of tokens.
    Limit,
    /// Nobody wanted more.
    Stopped,
}

/// How a text is written.
#[derive(Debug, Clone, PartialEq)]
pub struct Terms {
    /// Decoding.
    pub decoding: Decoding,
    /// Tokens at most.
    pub tokens: usize,
    /// Whether to continue another document where one ends.
    pub past_end: bool,
    /// Stop conditions.
    pub stop: Stop,
}

impl Terms {
    /// To the end of the document, or so many tokens.
    pub fn new(decoding: Decoding, tokens: usize) -> Self {
        Self { decoding, tokens, past_end: false, stop: Stop::default() }
    }
}

/// The request.
#[derive(Debug, Clone)]
pub struct Request<'a> {
    /// Seed text; empty for the start of a document.
    pub seed_text: &'a str,
    /// How the text is written.
    pub terms: Terms,
}

/// A text that was written.
#[derive(Debug, Clone, PartialEq)]
pub struct Sample {
    /// The text without the seed text, with the space that it needs after it.
    pub text: String,
    /// The tokens that were drawn, ends of documents included.
    pub indices: Vec<u32>,
    /// The natural logarithm of the probability of each under the model itself, whatever it was chosen by; of an unknown token that of the
    /// token, without its spelling.
    pub log_probabilities: Vec<f64>,
    /// Why it ended.
    pub ended: Ended,
}

impl Sample {
    /// A text with nothing in it.
    pub const NOTHING: Self = Self {
        text: String::new(),
        indices: Vec::new(),
        log_probabilities: Vec::new(),
        ended: Ended::Stopped,
    };

    /// Tokens drawn.
    pub fn tokens(&self) -> u64 {
        self.indices.len() as u64
    }

    /// The natural logarithm of the probability of all tokens together.
    pub fn log_probability(&self) -> f64 {
        self.log_probabilities.iter().sum()
    }
}

/// A text under way.
pub(super) struct Row<'v> {
    pub(super) decoder: Decoder<'v>,
    /// The token after which an answer is complete.
    pub(super) answer_end: Option<u32>,
    pub(super) text: String,
    /// Bytes of the text that somebody was given.
    pub(super) given: usize,
    pub(super) indices: Vec<u32>,
    pub(super) log_probabilities: Vec<f64>,
    pub(super) seen: Vec<bool>,
    pub(super) ended: Option<Ended>,
}

/// A decoder that has read tokens, the start token first, so that it knows whether a space follows.
///
/// # Errors
/// A token outside the vocabulary.
pub fn decoder_after<'v>(vocabulary: &'v Vocabulary, read: &[u32]) -> Result<Decoder<'v>, LabError> {
    let mut decoder = vocabulary.decoder();
    let mut seed = String::new();
    for &index in read.get(1..).unwrap_or_default() {
        decoder.push(index, &mut seed)?;
        if vocabulary.turns().is_some_and(|turns| turns.has(index)) {
            decoder.finish(&mut seed);
        }
    }
    Ok(decoder)
}

impl<'v> Row<'v> {
    /// A text that continues after tokens that were read, the start token first.
    pub(super) fn after(vocabulary: &'v Vocabulary, read: &[u32]) -> Result<Self, LabError> {
        let mut seen = vec![false; vocabulary.len()];
        read.iter().for_each(|&index| seen[index as usize] = true);
        Ok(Self {
            decoder: decoder_after(vocabulary, read)?,
            answer_end: vocabulary.turns().map(|turns| turns.answer_end),
            text: String::new(),
            given: 0,
            indices: Vec::new(),
            log_probabilities: Vec::new(),
            seen,
            ended: None,
        })
    }

    /// The written text, which leaves the row without one.
    pub(super) fn take_sample(&mut self) -> Sample {
        Sample {
            text: std::mem::take(&mut self.text),
            indices: std::mem::take(&mut self.indices),
            log_probabilities: std::mem::take(&mut self.log_probabilities),
            ended: self.ended.unwrap_or(Ended::Limit),
        }
    }

    /// The written text.
    pub(super) fn sample(mut self) -> Sample {
        self.take_sample()
    }

    /// Adds a token, and sees whether the text ends with it. An unknown token is written as `spelling`, if there is one.
    pub(super) fn take(
        &mut self,
        token: u32,
        log_probability: f64,
        spelling: Option<&str>,
        terms: &Terms,
    ) -> Result<(), LabError> {
        self.indices.push(token);
        self.log_probabilities.push(log_probability);
        self.seen[token as usize] = true;
        let from = self.text.len();
        if self.answer_end == Some(token) && !terms.past_end {
            self.ended = Some(Ended::Answer);
        } else if token != Reserved::END {
            match spelling {
                Some(word) => self.decoder.push_unlisted(word, &mut self.text),
                None => self.decoder.push(token, &mut self.text)?,
            }
        } else if terms.past_end {
            self.decoder.finish(&mut self.text);
            self.text.push('\n');
        } else {
            self.ended = Some(Ended::Document);
        }
        if self.ended.is_none() {
            self.ended = self.stopped(&terms.stop, from);
        }
        if self.ended.is_none() && self.indices.len() >= terms.tokens {
            self.ended = Some(Ended::Limit);
        }
        if self.ended.is_some_and(|ended| matches!(ended, Ended::Document | Ended::Answer | Ended::Limit)) {
            self.decoder.finish(&mut self.text);
        }
        Ok(())
    }

    /// Bytes that will not be cut off any more: the longest text to stop at may have started in what is held back.
    pub(super) fn sure(&self, terms: &Terms) -> usize {
        let hold = terms.stop.texts.iter().map(String::len).max().unwrap_or(1).saturating_sub(1);
        if self.ended.is_some() { self.text.len() } else { self.text.len().saturating_sub(hold) }
    }

    /// Whether what came after byte `from` ends the text; what is beyond the end is cut off.
    fn stopped(&mut self, stop: &Stop, from: usize) -> Option<Ended> {
        // A text to stop at may have started before.
        let before = stop.texts.iter().map(String::len).max().unwrap_or(0);
        let start =
            (0..=from.saturating_sub(before)).rev().find(|&at| self.text.is_char_boundary(at)).unwrap_or(0);
        let found = stop
            .texts
            .iter()
            .filter(|text| !text.is_empty())
            .filter_map(|text| self.text[start..].find(text.as_str()));
        if let Some(at) = found.min() {
            self.text.truncate(start + at);
            return Some(Ended::Text);
        }
        if let (true, Some(at)) = (stop.line, self.text[from..].find('\n')) {
            self.text.truncate(from + at);
            return Some(Ended::Line);
        }
        let ends =
            self.text.trim_end_matches(['"', '\u{201d}', '\'', '\u{2019}', ')']).ends_with(['.', '!', '?']);
        (stop.sentence && ends).then_some(Ended::Sentence)
    }

    /// The text up to byte `end` that was not given before.
    pub(super) fn give(&mut self, end: usize) -> String {
        let end =
            (0..=end.min(self.text.len())).rev().find(|&at| self.text.is_char_boundary(at)).unwrap_or(0);
        if end <= self.given {
            return String::new();
        }
        let piece = self.text[self.given..end].to_owned();
        self.given = end;
        piece
    }
}
