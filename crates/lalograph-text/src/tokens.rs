//! A corpus as one long sequence of indices.

use crate::corpus::{Batch, Corpus, Document, ReadObserver, Reading};
use crate::error::TextError;
use crate::split::{Cutoffs, Part, Split};
use crate::vocabulary::{Encoder, Reserved, Vocabulary};

/// Below so many documents the split is made inside them, not between them.
const SPLIT_BY_DOCUMENT_FROM: u64 = 20;

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
    fn push(&mut self, indices: &[u32], bytes: u64) {
        self.indices.extend_from_slice(indices);
        self.unknown += indices.iter().filter(|&&i| i == Reserved::UNKNOWN).count() as u64;
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

/// What is held out of a corpus.
#[derive(Debug, Clone, PartialEq)]
pub enum HeldOut {
    /// Nothing.
    Nothing,
    /// About this share of the documents, by the seed; with fewer than 20 documents, this share of the tokens, at the end.
    Share {
        /// The seed of the positions.
        seed: u64,
        /// The share, 0 to 1.
        share: f64,
    },
    /// The validation part of a split. Its test part and what it sets aside are not used at all.
    BySplit(Box<Split>),
}

impl HeldOut {
    /// The split that this is, as far as it goes by documents.
    pub fn split(&self) -> Split {
        match self {
            Self::Nothing => Split::even(0, Cutoffs::shares(0.0, 0.0)),
            Self::Share { seed, share } => Split::even(*seed, Cutoffs::shares(*share, 0.0)),
            Self::BySplit(split) => (**split).clone(),
        }
    }

    /// Whether a corpus of so many documents is parted between them, and not inside them.
    pub fn parts_by_document(&self, documents: u64) -> bool {
        documents >= SPLIT_BY_DOCUMENT_FROM || !matches!(self, Self::Share { share, .. } if *share > 0.0)
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

/// Encodes a corpus with `threads` threads and parts it.
///
/// # Errors
/// As for [`Corpus::read`]; a stop by the observer.
pub fn encode_corpus(
    corpus: &Corpus,
    vocabulary: &Vocabulary,
    held_out: &HeldOut,
    threads: usize,
    observer: &mut dyn ReadObserver,
) -> Result<EncodedCorpus, TextError> {
    let split = held_out.split();
    let (mut training, mut validation) = (TokenSequence::default(), TokenSequence::default());
    let mut all = blake3::Hasher::new();
    // Documents of a corpus too small to be parted by document, put back in order below.
    let mut few: Vec<(String, u64)> = Vec::new();
    let work = |encoder: &mut Encoder<'_>, batch: &Batch| -> Vec<(Part, Vec<u32>)> {
        let encode = |document: Document<'_>| {
            let mut indices = Vec::new();
            let part = split.part_of(document.text, document.label);
            if matches!(part, Part::Training | Part::Validation) {
                encoder.encode_into(document.text, &mut indices);
            }
            (part, indices)
        };
        batch.documents().map(encode).collect()
    };
    let (mut reading, _) = corpus.process(
        threads,
        observer,
        || vocabulary.encoder(),
        work,
        |batch, encoded| {
            for (document, (part, indices)) in batch.documents().zip(encoded) {
                all.update(&(document.text.len() as u64).to_le_bytes());
                all.update(document.text.as_bytes());
                match part {
                    Part::Training => training.push(&indices, document.bytes),
                    Part::Validation => validation.push(&indices, document.bytes),
                    Part::Test | Part::SetAside => {}
                }
                if held_out.parts_by_document(document.number + 1) {
                    few = Vec::new();
                } else {
                    few.push((document.text.to_owned(), document.bytes));
                }
            }
            Ok(())
        },
    )?;
    let mut kind = SplitKind::Documents;
    if let HeldOut::Share { share, .. } = held_out
        && !held_out.parts_by_document(reading.documents)
    {
        kind = SplitKind::Tail;
        (training, validation) = part_tail(&few, vocabulary, *share);
    }
    reading.skipped.shrink_to_fit();
    let text_hash = all.finalize().to_hex().to_string();
    Ok(EncodedCorpus { training, validation, split: kind, reading, text_hash })
}

/// One sequence cut in two near `1 - share` of its tokens.
fn part_tail(
    documents: &[(String, u64)],
    vocabulary: &Vocabulary,
    share: f64,
) -> (TokenSequence, TokenSequence) {
    let mut whole = TokenSequence::default();
    let mut encoder = vocabulary.encoder();
    for (text, bytes) in documents {
        let mut indices = Vec::new();
        encoder.encode_into(text, &mut indices);
        whole.push(&indices, *bytes);
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
