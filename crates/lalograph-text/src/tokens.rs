//! A corpus as one long sequence of indices.

use crate::corpus::{Corpus, Reading};
use crate::error::TextError;
use crate::split::{Side, side_of};
use crate::vocabulary::{Reserved, Vocabulary};

/// Below so many documents the split is made inside them, not between them.
const SPLIT_BY_DOCUMENT_FROM: u64 = 20;

/// Whether a corpus of so many documents is parted between them, and not inside them.
pub fn parts_by_document(documents: u64) -> bool {
    documents >= SPLIT_BY_DOCUMENT_FROM
}

/// The tokens of some documents, each document closed by the end token.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct TokenSequence {
    /// Indices, document after document.
    pub indices: Vec<u32>,
    /// Documents.
    pub documents: u64,
    /// Raw bytes of their text, for bits per byte.
    pub bytes: u64,
    /// Tokens that have no index of their own.
    pub unknown: u64,
}

impl TokenSequence {
    fn push(&mut self, vocabulary: &Vocabulary, text: &str, bytes: u64) {
        let before = self.indices.len();
        vocabulary.encode_into(text, &mut self.indices);
        self.unknown += self.indices[before..].iter().filter(|&&i| i == Reserved::UNKNOWN).count() as u64;
        self.indices.push(Reserved::END);
        self.documents += 1;
        self.bytes += bytes;
    }

    /// What is read before position `at`: the token there, or the start token at a document's beginning.
    #[inline]
    pub fn input(&self, at: usize) -> u32 {
        match at.checked_sub(1).map(|before| self.indices[before]) {
            None | Some(Reserved::END) => Reserved::START,
            Some(index) => index,
        }
    }

    /// Tokens to be predicted, ends included.
    pub fn len(&self) -> usize {
        self.indices.len()
    }

    /// Whether there is nothing to predict.
    pub fn is_empty(&self) -> bool {
        self.indices.is_empty()
    }
}

/// How the held-out part was chosen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SplitKind {
    /// Whole documents, by the hash of their text.
    Documents,
    /// The end of the text, because there are too few documents to choose among.
    Tail,
}

/// A corpus encoded in two parts.
#[derive(Debug, Clone)]
pub struct EncodedCorpus {
    /// To learn from.
    pub training: TokenSequence,
    /// Held out.
    pub validation: TokenSequence,
    /// How the parts were chosen.
    pub split: SplitKind,
    /// What was read and what was left out.
    pub reading: Reading,
    /// A hash of every document's text, in order, in hexadecimal.
    pub text_hash: String,
}

/// Encodes a corpus and parts it: about `share` of the documents (or, with fewer than 20 of them, of the tokens) are held out.
/// `progress` is told the raw bytes read so far and stops the work by returning `false`.
///
/// # Errors
/// No text at all; a stop.
pub fn encode_corpus(
    corpus: &Corpus,
    vocabulary: &Vocabulary,
    seed: u64,
    share: f64,
    progress: impl FnMut(u64) -> bool,
) -> Result<EncodedCorpus, TextError> {
    let (mut training, mut validation) = (TokenSequence::default(), TokenSequence::default());
    let mut all = blake3::Hasher::new();
    // Held-out documents of a corpus too small to be parted by document, put back in order below.
    let mut few: Vec<(String, u64)> = Vec::new();
    let mut reading = corpus.read_through(progress, |document| {
        all.update(&(document.text.len() as u64).to_le_bytes());
        all.update(document.text.as_bytes());
        match side_of(document.text, seed, share) {
            Side::Training => training.push(vocabulary, document.text, document.bytes),
            Side::Validation => validation.push(vocabulary, document.text, document.bytes),
        }
        if parts_by_document(training.documents + validation.documents) {
            few.clear();
        } else {
            few.push((document.text.to_owned(), document.bytes));
        }
    })?;
    let mut split = SplitKind::Documents;
    if !parts_by_document(reading.documents) && share > 0.0 {
        split = SplitKind::Tail;
        (training, validation) = part_tail(&few, vocabulary, share);
    }
    reading.skipped.shrink_to_fit();
    Ok(EncodedCorpus { training, validation, split, reading, text_hash: all.finalize().to_hex().to_string() })
}

/// One sequence cut in two near `1 - share` of its tokens.
fn part_tail(
    documents: &[(String, u64)],
    vocabulary: &Vocabulary,
    share: f64,
) -> (TokenSequence, TokenSequence) {
    let mut whole = TokenSequence::default();
    for (text, bytes) in documents {
        whole.push(vocabulary, text, *bytes);
    }
    let tokens = whole.indices.len();
    let cut = ((tokens as f64) * (1.0 - share)).round() as usize;
    let tail = whole.indices.split_off(cut.min(tokens));
    let part = |indices: Vec<u32>| {
        let bytes = (whole.bytes as f64 * indices.len() as f64 / tokens.max(1) as f64).round() as u64;
        let unknown = indices.iter().filter(|&&i| i == Reserved::UNKNOWN).count() as u64;
        let documents = indices.iter().filter(|&&i| i == Reserved::END).count() as u64;
        TokenSequence { indices, documents, bytes, unknown }
    };
    (part(std::mem::take(&mut whole.indices)), part(tail))
}
