//! Cost and coverage of vocabulary sizes, on text that was not counted.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};

use crate::corpus::{Batch, Corpus, Document, ReadObserver, Reading};
use crate::error::TextError;
use crate::split::{Part, Split};
use crate::tally::Tally;
use crate::unit::Unit;
use crate::vocabulary::{Reserved, Vocabulary, VocabularyBuilder, VocabularySpec};
use crate::words::each_word;

/// A vocabulary of one size on the held-out text.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CoveragePoint {
    /// Tokens besides the reserved ones.
    pub size: u64,
    /// Tokens that the held-out text is cut into.
    pub tokens: u64,
    /// Number of them without an index.
    pub unknown_tokens: u64,
    /// Different tokens without an index.
    pub distinct_unknown: u64,
    /// Tokens for each word or punctuation mark.
    pub tokens_per_word: f64,
    /// Bytes of cleaned text for each token.
    pub bytes_per_token: f64,
}

/// Coverage at several sizes.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Coverage {
    /// Unit of a token.
    pub unit: Unit,
    /// Documents that the vocabularies were counted on.
    pub training_documents: u64,
    /// Documents that they were tried on.
    pub held_out_documents: u64,
    /// Words and punctuation marks of the held-out text.
    pub held_out_words: u64,
    /// Bytes of the held-out text after its cleaning.
    pub held_out_bytes: u64,
    /// From the smallest size up.
    pub points: Vec<CoveragePoint>,
}

/// Counts of one thread.
struct Counting {
    builder: VocabularyBuilder,
    held_out: Tally,
    documents: u64,
    words: u64,
    bytes: u64,
}

/// Counts on the training part of the split and tries on its validation part, at each of the sizes and at the largest there is, up to
/// the size of `spec`.
///
/// # Errors
/// As for [`Corpus::read`] and [`VocabularyBuilder::finish`]; a held-out part without text.
pub fn coverage(
    corpus: &Corpus,
    spec: &VocabularySpec,
    split: &Split,
    sizes: &[usize],
    threads: usize,
    observer: &mut dyn ReadObserver,
) -> Result<(Coverage, Reading), TextError> {
    let new = || Counting {
        builder: VocabularyBuilder::new(spec),
        held_out: Tally::new(),
        documents: 0,
        words: 0,
        bytes: 0,
    };
    let look = |counting: &mut Counting, document: Document<'_>| match split
        .part_of(document.parted_by(), document.label)
    {
        Part::Training => counting.builder.add(document.text),
        Part::Validation => {
            let text = spec.cleaning.apply(document.text);
            counting.documents += 1;
            counting.bytes += text.len() as u64;
            each_word(&text, |_| counting.words += 1);
            spec.unit.parts(&text, |part| counting.held_out.add(part));
        }
        Part::Test | Part::SetAside => {}
    };
    let work = |counting: &mut Counting, batch: &Batch| {
        batch.documents().for_each(|document| look(counting, document));
    };
    let (reading, counted) = corpus.process(threads, observer, new, work, |_, ()| Ok(()))?;
    let mut whole = new();
    let mut tallies = Vec::new();
    for counting in counted {
        whole.builder.take_in(counting.builder);
        tallies.push(counting.held_out);
        whole.documents += counting.documents;
        whole.words += counting.words;
        whole.bytes += counting.bytes;
    }
    if whole.documents == 0 {
        return Err(TextError::NothingHeldOut);
    }
    let training_documents = reading.documents - whole.documents;
    let mut held_out: Vec<(Box<str>, u64)> = Vec::new();
    Tally::merge(tallies, |part, count| held_out.push((part.into(), count))).map_err(TextError::Scratch)?;
    let point = |size: usize, tokens: u64, unknown_tokens: u64, distinct_unknown: u64| CoveragePoint {
        size: size as u64,
        tokens,
        unknown_tokens,
        distinct_unknown,
        tokens_per_word: tokens as f64 / whole.words.max(1) as f64,
        bytes_per_token: whole.bytes as f64 / tokens.max(1) as f64,
    };
    let mut points = Vec::new();
    if spec.unit.is_subword() {
        for vocabulary in whole.builder.finish_sizes(sizes, threads)? {
            let mut encoder = vocabulary.encoder();
            let tokens =
                held_out.iter().map(|(piece, count)| encoder.piece(piece).len() as u64 * count).sum();
            points.push(point(vocabulary.tokens().len(), tokens, 0, 0));
        }
    } else {
        let vocabulary = whole.builder.finish(threads)?;
        // A smaller vocabulary is the beginning of a larger one, so one look at each token's rank serves all sizes.
        let mut by_rank: HashMap<usize, (u64, u64)> = HashMap::new();
        let mut tokens = 0;
        for (token, count) in &held_out {
            let rank = match vocabulary.index_of(&**token) {
                Reserved::UNKNOWN => usize::MAX,
                index => (index - Reserved::COUNT) as usize,
            };
            let at = by_rank.entry(rank).or_default();
            *at = (at.0 + count, at.1 + 1);
            tokens += count;
        }
        if spec.unit.knows_everything() {
            points.push(point(vocabulary.tokens().len(), whole.bytes, 0, 0));
        } else {
            let largest = vocabulary.tokens().len();
            let smaller = sizes.iter().copied().filter(|&size| size > 0 && size < largest);
            for size in smaller.chain(std::iter::once(largest)) {
                let beyond = by_rank.iter().filter(|(rank, _)| **rank >= size);
                let (unknown, distinct) = beyond.fold((0, 0), |sum, (_, at)| (sum.0 + at.0, sum.1 + at.1));
                points.push(point(size, tokens, unknown, distinct));
            }
        }
    }
    let coverage = Coverage {
        unit: spec.unit,
        training_documents,
        held_out_documents: whole.documents,
        held_out_words: whole.words,
        held_out_bytes: whole.bytes,
        points,
    };
    Ok((coverage, reading))
}

/// The vocabularies of a subword unit at several sizes.
impl VocabularyBuilder {
    fn finish_sizes(self, sizes: &[usize], threads: usize) -> Result<Vec<Vocabulary>, TextError> {
        let (pieces, largest, spec, documents) = self.into_pieces()?;
        let mut wanted: Vec<usize> =
            sizes.iter().copied().filter(|&size| size > 256 && size < largest).collect();
        wanted.push(largest);
        wanted.sort_unstable();
        wanted.dedup();
        let mut made: Vec<Vocabulary> = Vec::new();
        for size in wanted {
            let spec = VocabularySpec { size: Some(size), ..spec.clone() };
            let vocabulary = Self::learn_subwords(&pieces, spec, documents, threads)?;
            // Text that gives no more subwords gives the same vocabulary again.
            if made.last().is_none_or(|last| last.tokens().len() < vocabulary.tokens().len()) {
                made.push(vocabulary);
            }
        }
        Ok(made)
    }
}
