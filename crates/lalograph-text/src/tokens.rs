//! A corpus as one long sequence of indices.

use std::io;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use lalograph_storage::WholeWriter;

use crate::corpus::{Batch, Corpus, ReadObserver, Reading};
use crate::error::TextError;
use crate::few::{FewDocuments, Piece};
use crate::pairs::{EncodedPair, PairCuts, PairRule};
use crate::spelling::Remainder;
use crate::split::{Cutoffs, Part, Split};
use crate::store::{DocumentPlace, Planes, Scratch, Store, StorePlace, StoreWriter, StoredDocument, Totals};
use crate::vocabulary::{Encoder, Reserved, Vocabulary};

/// With fewer documents than this, the split is made inside documents, not between them.
const SPLIT_BY_DOCUMENT_FROM: u64 = 20;

/// The tokens of some documents, each document closed by the end token.
#[derive(Debug, Clone)]
pub struct TokenSequence {
    indices: Indices,
    /// Sums over its documents.
    pub totals: Totals,
    /// For a sequence in memory: which tokens are targets that are scored, and the class of each document.
    scored: Option<Arc<Vec<bool>>>,
    labels: Option<Arc<Vec<u32>>>,
}

#[derive(Debug, Clone)]
enum Indices {
    /// All indices, and the documents in their order.
    Memory(Arc<Vec<u32>>, Arc<Vec<DocumentPlace>>),
    Stored(Arc<Store>),
}

impl Default for TokenSequence {
    fn default() -> Self {
        Self::from_indices(Vec::new())
    }
}

impl TokenSequence {
    /// A sequence in memory; documents are counted by their ends, and nothing is known of the text.
    pub fn from_indices(indices: Vec<u32>) -> Self {
        let count = |wanted: u32| indices.iter().filter(|&&index| index == wanted).count() as u64;
        let totals = Totals {
            documents: count(Reserved::END),
            unknown: count(Reserved::UNKNOWN),
            ..Totals::default()
        };
        let mut places = Vec::new();
        let mut from = 0;
        for (at, &index) in indices.iter().enumerate() {
            if index == Reserved::END || at + 1 == indices.len() {
                places.push(DocumentPlace { tokens: from..at + 1, text_bytes: 0, remainder_bits: 0.0 });
                from = at + 1;
            }
        }
        Self::in_memory(indices, places, totals)
    }

    fn in_memory(indices: Vec<u32>, places: Vec<DocumentPlace>, totals: Totals) -> Self {
        let indices = Indices::Memory(Arc::new(indices), Arc::new(places));
        Self { indices, totals, scored: None, labels: None }
    }

    /// The same with a flag for each token: whether it is a scored target.
    #[must_use]
    pub fn with_scored(self, scored: Vec<bool>) -> Self {
        Self { scored: Some(Arc::new(scored)), ..self }
    }

    /// The same with a class for each document.
    #[must_use]
    pub fn with_labels(self, labels: Vec<u32>) -> Self {
        Self { labels: Some(Arc::new(labels)), ..self }
    }

    /// Whether the token at a position is a target that is scored.
    #[inline]
    pub fn is_scored(&self, at: usize) -> bool {
        match (&self.scored, &self.indices) {
            (Some(scored), _) => scored.get(at).copied().unwrap_or(true),
            (None, Indices::Stored(store)) => store.is_scored(at),
            (None, Indices::Memory(..)) => true,
        }
    }

    /// Whether some targets may not be scored.
    fn has_masks(&self) -> bool {
        match (&self.scored, &self.indices) {
            (None, Indices::Memory(..)) => false,
            (None, Indices::Stored(store)) => store.planes().scored,
            (Some(_), _) => true,
        }
    }

    /// The number of targets that are scored.
    pub fn scored_tokens(&self) -> usize {
        if self.has_masks() { (0..self.len()).filter(|&at| self.is_scored(at)).count() } else { self.len() }
    }

    /// Count of each of `size` indices among the targets that are scored.
    pub fn scored_counts(&self, size: usize) -> Vec<u64> {
        if !self.has_masks() {
            return self.counts(size);
        }
        let mut counts = vec![0; size];
        let scored = (0..self.len()).filter(|&at| self.is_scored(at));
        scored.for_each(|at| counts[self.index(at) as usize] += 1);
        counts
    }

    /// The class of a document, if documents have classes.
    pub fn label(&self, document: u64) -> Option<u32> {
        match (&self.labels, &self.indices) {
            (Some(labels), _) => labels.get(document as usize).copied(),
            (None, Indices::Stored(store)) => store.label(document),
            (None, Indices::Memory(..)) => None,
        }
    }

    /// The tokens of texts in memory, each text a document.
    ///
    /// # Errors
    /// None for texts that fit in memory.
    pub fn of_texts<'t>(
        vocabulary: &Vocabulary,
        texts: impl IntoIterator<Item = &'t str>,
    ) -> Result<Self, TextError> {
        encode_pieces(texts.into_iter().map(|text| Piece { text, ends: true }), vocabulary)
    }

    /// A sequence that lies in a store.
    pub fn from_store(store: Store) -> Self {
        let totals = store.totals();
        Self { indices: Indices::Stored(Arc::new(store)), totals, scored: None, labels: None }
    }

    /// Whether all that was asked for so far could be read; where a store is cut short while it is used, what is missing was given as
    /// padding, and nothing made of it may be kept.
    ///
    /// # Errors
    /// [`TextError::StoreLost`].
    pub fn check(&self) -> Result<(), TextError> {
        match &self.indices {
            Indices::Memory(..) => Ok(()),
            Indices::Stored(store) => store.check(),
        }
    }

    /// The index at a position below the length.
    #[inline]
    pub fn index(&self, at: usize) -> u32 {
        match &self.indices {
            Indices::Memory(indices, _) => indices[at],
            Indices::Stored(store) => store.get(at),
        }
    }

    /// Count of each of `size` indices.
    pub fn counts(&self, size: usize) -> Vec<u64> {
        let mut counts = vec![0; size];
        match &self.indices {
            Indices::Stored(store) => counts.copy_from_slice(store.counts()),
            Indices::Memory(indices, _) => indices.iter().for_each(|&index| counts[index as usize] += 1),
        }
        counts
    }

    /// All indices, in order.
    pub fn iter(&self) -> impl Iterator<Item = u32> {
        (0..self.len()).map(|at| self.index(at))
    }

    /// The model's input before position `at`: the token there, or the start token at a document's beginning.
    #[inline]
    pub fn input(&self, at: usize) -> u32 {
        match at.checked_sub(1).map(|before| self.index(before)) {
            None | Some(Reserved::END) => Reserved::START,
            Some(index) => index,
        }
    }

    /// Tokens to be predicted, ends included.
    pub fn len(&self) -> usize {
        match &self.indices {
            Indices::Memory(indices, _) => indices.len(),
            Indices::Stored(store) => store.tokens(),
        }
    }

    /// Whether there is nothing to predict.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The first documents, as many as make up about this share of the tokens, at least one; all of them for a share of 1.
    pub fn beginning(&self, share: f64) -> Self {
        if share >= 1.0 {
            return self.clone();
        }
        let wanted = (self.len() as f64 * share).ceil() as usize;
        let mut places = Vec::new();
        while places.last().is_none_or(|place: &DocumentPlace| place.tokens.end < wanted) {
            let Some(place) = self.document(places.len() as u64) else {
                break;
            };
            places.push(place);
        }
        let end = places.last().map_or(0, |place| place.tokens.end);
        let indices: Vec<u32> = (0..end).map(|at| self.index(at)).collect();
        let unknown = indices.iter().filter(|&&index| index == Reserved::UNKNOWN).count() as u64;
        // What is known of sums only is shared out by tokens.
        let part = end as f64 / self.len().max(1) as f64;
        let totals = Totals {
            documents: places.len() as u64,
            bytes: places.iter().map(|place| place.text_bytes).sum(),
            unknown,
            changed: (self.totals.changed as f64 * part).ceil() as u64,
            ..self.remainders(&places)
        };
        let scored = self.has_masks().then(|| Arc::new((0..end).map(|at| self.is_scored(at)).collect()));
        let labels = (0..totals.documents).map(|document| self.label(document)).collect::<Option<Vec<u32>>>();
        let labels = labels.filter(|labels| !labels.is_empty()).map(Arc::new);
        Self { scored, labels, ..Self::in_memory(indices, places, totals) }
    }

    /// The bits beside the tokens of some documents, parted into spelling and spacing as they are in the whole text.
    fn remainders(&self, places: &[DocumentPlace]) -> Totals {
        let bits: f64 = places.iter().map(|place| place.remainder_bits).sum();
        let all = self.totals.spelling_bits + self.totals.spacing_bits;
        let spelling = if all > 0.0 { self.totals.spelling_bits / all } else { 0.0 };
        Totals { spelling_bits: bits * spelling, spacing_bits: bits * (1.0 - spelling), ..Totals::default() }
    }

    /// A document, from 0; a text in memory may end with one that has no end.
    pub fn document(&self, number: u64) -> Option<DocumentPlace> {
        match &self.indices {
            Indices::Memory(_, places) => places.get(number as usize).cloned(),
            Indices::Stored(store) => store.document(number),
        }
    }

    /// The number of documents, counting a last one without an end mark.
    pub fn documents(&self) -> u64 {
        match &self.indices {
            Indices::Memory(_, places) => places.len() as u64,
            Indices::Stored(store) => store.totals().documents,
        }
    }

    /// The number of the document, from 0, that a position lies in.
    pub fn document_at(&self, at: usize) -> u64 {
        let (mut low, mut high) = (0, self.documents());
        while low + 1 < high {
            let middle = u64::midpoint(low, high);
            let begins = self.document(middle).is_none_or(|place| place.tokens.start <= at);
            if begins { low = middle } else { high = middle }
        }
        low
    }

    /// The documents, each from one position to before another; the last may have no end.
    pub fn bounds(&self) -> impl Iterator<Item = Range<usize>> {
        (0..self.documents()).map_while(|number| self.document(number)).map(|place| place.tokens)
    }
}

/// Takes the documents of one part, in order.
enum Sink {
    Memory { indices: Vec<u32>, places: Vec<DocumentPlace>, totals: Totals, planes: MemoryPlanes },
    Store { writer: StoreWriter<Box<dyn WholeWriter>>, place: PathBuf, document: Vec<u32> },
}

/// Planes beside tokens in memory.
#[derive(Default)]
struct MemoryPlanes {
    scored: Option<Vec<bool>>,
    labels: Option<Vec<u32>>,
}

/// A document, or a part of one, for a sink.
#[derive(Clone, Copy, Default)]
struct Pushed<'a> {
    indices: &'a [u32],
    /// For each index whether it is scored; all are if there is none.
    scored: Option<&'a [bool]>,
    /// Whether the document ends here, and whether its end is scored.
    end: Option<bool>,
    /// The size of its text; its end counts as one more.
    bytes: usize,
    remainder: Remainder,
    label: u32,
}

impl Sink {
    fn in_memory(planes: Planes) -> Self {
        let planes =
            MemoryPlanes { scored: planes.scored.then(Vec::new), labels: planes.labels.then(Vec::new) };
        Self::Memory { indices: Vec::new(), places: Vec::new(), totals: Totals::default(), planes }
    }

    fn new(place: Option<StorePlace>, vocabulary: &Vocabulary, planes: Planes) -> Result<Self, TextError> {
        let Some(StorePlace { path, file }) = place else {
            return Ok(Self::in_memory(planes));
        };
        let writer = StoreWriter::new(file, vocabulary, planes).map_err(at(&path))?;
        Ok(Self::Store { writer, place: path, document: Vec::new() })
    }

    /// Adds a document, or a part of one without its end.
    fn push(&mut self, pushed: Pushed<'_>) -> Result<(), TextError> {
        let Pushed { indices: found, scored, end, bytes, remainder, label } = pushed;
        let text_bytes = bytes as u64 + u64::from(end.is_some());
        let unknown = found.iter().filter(|&&index| index == Reserved::UNKNOWN).count() as u64;
        let end_token = end.map(|_| Reserved::END);
        let scored = scored.map(|scored| scored.iter().copied().chain(end).collect::<Vec<bool>>());
        match self {
            Self::Memory { indices, places, totals, planes } => {
                let start = indices.len();
                indices.extend(found.iter().copied().chain(end_token));
                let (tokens, remainder_bits) = (start..indices.len(), remainder.bits());
                if let Some(plane) = &mut planes.scored {
                    match scored {
                        Some(scored) => plane.extend(scored),
                        None => plane.resize(indices.len(), true),
                    }
                }
                places.push(DocumentPlace { tokens, text_bytes, remainder_bits });
                totals.add(text_bytes, unknown, &remainder);
                if let Some(labels) = &mut planes.labels {
                    labels.push(label);
                }
                Ok(())
            }
            Self::Store { writer, place, document } => {
                document.clear();
                document.extend(found.iter().copied().chain(end_token));
                let scored = scored.as_deref();
                let stored =
                    StoredDocument { indices: document, unknown, text_bytes, remainder, scored, label };
                writer.push(stored).map_err(at(place))
            }
        }
    }

    /// The sequence. A store is put in its place, opened and checked.
    fn finish(self, vocabulary: &Vocabulary) -> Result<TokenSequence, TextError> {
        match self {
            Self::Memory { indices, places, totals, planes: MemoryPlanes { scored, labels } } => {
                let sequence = TokenSequence::in_memory(indices, places, totals);
                Ok(TokenSequence { scored: scored.map(Arc::new), labels: labels.map(Arc::new), ..sequence })
            }
            Self::Store { writer, place, .. } => {
                writer.finish().and_then(WholeWriter::finish).map_err(at(&place))?;
                Ok(TokenSequence::from_store(Store::open(&place, vocabulary)?))
            }
        }
    }
}

fn at(path: &Path) -> impl FnOnce(io::Error) -> TextError + '_ {
    move |source| match source.downcast::<Scratch>() {
        Ok(Scratch(source)) => TextError::Scratch(source),
        Err(source) => TextError::Io { path: path.to_owned(), source },
    }
}

/// Held-out parts of a corpus.
#[derive(Debug, Clone, PartialEq)]
pub enum HeldOut {
    /// Nothing.
    Nothing,
    /// About these shares of the documents, by the seed; with fewer than 20 documents, these shares of their text, at the end.
    Share {
        /// The seed of the positions.
        seed: u64,
        /// The share for validation, 0 to 1.
        share: f64,
        /// The share for testing, 0 to 1.
        test: f64,
    },
    /// The validation and test parts of a split. What it sets aside is not used at all.
    BySplit(Box<Split>),
}

impl HeldOut {
    /// The split that this is, as far as it goes by documents.
    pub fn split(&self) -> Split {
        match self {
            Self::Nothing => Split::even(0, Cutoffs::shares(0.0, 0.0)),
            Self::Share { seed, share, test } => Split::even(*seed, Cutoffs::shares(*share, *test)),
            Self::BySplit(split) => (**split).clone(),
        }
    }

    /// Whether a corpus of this many documents is split between them, and not inside them.
    pub fn parts_by_document(&self, documents: u64) -> bool {
        documents >= SPLIT_BY_DOCUMENT_FROM
            || !matches!(self, Self::Share { share, test, .. } if share + test > 0.0)
    }
}

/// Rule of the held-out part.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SplitKind {
    /// Whole documents, by the hash of their text.
    Documents,
    /// The end of the text, because there are too few documents to choose among.
    Tail,
}

/// A corpus encoded in parts.
#[derive(Debug, Clone)]
pub struct EncodedCorpus {
    /// To learn from.
    pub training: TokenSequence,
    /// Held out, for validation during training.
    pub validation: TokenSequence,
    /// Held out, to be scored once, at the end.
    pub test: TokenSequence,
    /// Rule of the split.
    pub split: SplitKind,
    /// Counts of read and left out documents.
    pub reading: Reading,
    /// A hash of every document's text, in order, in hexadecimal.
    pub text_hash: String,
    /// Pairs of a prompt and an answer that were cut.
    pub cuts: PairCuts,
}

/// What is learnt from the documents of a corpus.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Learnt<'c> {
    /// Their text.
    Text,
    /// Their classes, which are these in ascending order. A label that is none of them has the class `u32::MAX`.
    Classes(&'c [String]),
    /// The answers of pairs.
    Answers(PairRule),
}

/// Encodes a corpus with `threads` threads and parts it. With `stores`, the places of three files, the parts are written there and read from
/// there, and memory does not grow with the corpus. Pairs are parted by document however few they are.
///
/// # Errors
/// As for [`Corpus::read`]; a stop by the observer; stores that cannot be written; pairs and a vocabulary without marks for them.
pub fn encode_corpus(
    corpus: &Corpus,
    vocabulary: &Vocabulary,
    held_out: &HeldOut,
    learnt: Learnt<'_>,
    stores: Option<[StorePlace; 3]>,
    threads: usize,
    observer: &mut dyn ReadObserver,
) -> Result<EncodedCorpus, TextError> {
    let split = held_out.split();
    let places = stores.map_or([None, None, None], |places| places.map(Some));
    let planes =
        Planes { scored: matches!(learnt, Learnt::Answers(_)), labels: matches!(learnt, Learnt::Classes(_)) };
    let [training, validation, test] = places.map(|place| Sink::new(place, vocabulary, planes));
    let (mut training, mut validation, mut test) = (training?, validation?, test?);
    let mut all = blake3::Hasher::new();
    // Documents of a corpus too small to be parted by document.
    let mut few = FewDocuments::default();
    let turns = vocabulary.turns();
    if planes.scored && turns.is_none() {
        let what = "it has no tokens that mark the ends of prompts and answers";
        return Err(TextError::BadVocabulary(what.into()));
    }
    let work = |encoder: &mut Encoder<'_>, batch: &Batch| -> EncodedBatch {
        let mut found = EncodedBatch::default();
        for document in batch.documents() {
            let part = split.part_of(document.parted_by(), document.label);
            let encoded = match (part, learnt, document.pair(), turns) {
                (Part::SetAside, ..) => EncodedPair::default(),
                (_, Learnt::Answers(rule), Some(pair), Some(turns)) => {
                    encoder.encode_pair(pair, turns, rule, &mut found.indices, &mut found.scored)
                }
                _ => EncodedPair {
                    remainder: encoder.encode_whole(document.text, &mut found.indices),
                    bytes: document.text.len(),
                    ..EncodedPair::default()
                },
            };
            found.documents.push((part, found.indices.len(), encoded));
        }
        found
    };
    let new = || vocabulary.encoder();
    let mut cuts = PairCuts::default();
    let (mut reading, _) = corpus.process(threads, observer, new, work, |batch, found| {
        let mut start = 0;
        for (document, (part, end, encoded)) in batch.documents().zip(found.documents) {
            all.update(&(document.text.len() as u64).to_le_bytes());
            all.update(document.text.as_bytes());
            let sink = match part {
                Part::Training => Some(&mut training),
                Part::Validation => Some(&mut validation),
                Part::Test => Some(&mut test),
                Part::SetAside => None,
            };
            if let Some(sink) = sink {
                let (label, scores_ends) = match learnt {
                    Learnt::Text => (0, true),
                    Learnt::Classes(classes) => (class_of(classes, document.label), true),
                    Learnt::Answers(rule) => (0, rule.loss_on_prompts),
                };
                sink.push(Pushed {
                    indices: &found.indices[start..end],
                    scored: planes.scored.then(|| &found.scored[start..end]),
                    end: Some(scores_ends),
                    bytes: encoded.bytes,
                    remainder: encoded.remainder,
                    label,
                })?;
                cuts.add(encoded.cuts);
            }
            start = end;
            if planes.scored || held_out.parts_by_document(document.number + 1) {
                few = FewDocuments::default();
            } else {
                few.push(document.text);
            }
        }
        Ok(())
    })?;
    reading.skipped.shrink_to_fit();
    let text_hash = all.finalize().to_hex().to_string();
    let by_document = planes.scored || held_out.parts_by_document(reading.documents);
    let ([training, validation, test], split) = match held_out {
        HeldOut::Share { share, test, .. } if !by_document => {
            let [training, validation, test] = few.parts(*share, *test);
            let encode = |pieces: Vec<Piece<'_>>| encode_pieces(pieces, vocabulary);
            ([encode(training)?, encode(validation)?, encode(test)?], SplitKind::Tail)
        }
        _ => {
            let parts =
                [training.finish(vocabulary)?, validation.finish(vocabulary)?, test.finish(vocabulary)?];
            (parts, SplitKind::Documents)
        }
    };
    Ok(EncodedCorpus { training, validation, test, split, reading, text_hash, cuts })
}

/// The documents of a batch as indices.
#[derive(Default)]
struct EncodedBatch {
    indices: Vec<u32>,
    /// For each index whether it is scored; empty where all are.
    scored: Vec<bool>,
    /// For each document its part, where its indices end, and what they do not say.
    documents: Vec<(Part, usize, EncodedPair)>,
}

/// The number of a label among the classes.
fn class_of(classes: &[String], label: Option<&str>) -> u32 {
    let found = classes.binary_search_by(|class| class.as_str().cmp(label.unwrap_or_default()));
    found.map_or(u32::MAX, |class| class as u32)
}

/// The tokens of some stretches of documents, each of which counts as one.
fn encode_pieces<'t>(
    pieces: impl IntoIterator<Item = Piece<'t>>,
    vocabulary: &Vocabulary,
) -> Result<TokenSequence, TextError> {
    let (mut sink, mut encoder, mut indices) =
        (Sink::in_memory(Planes::default()), vocabulary.encoder(), Vec::new());
    for piece in pieces {
        indices.clear();
        let remainder = encoder.encode_whole(piece.text, &mut indices);
        let (end, bytes) = (piece.ends.then_some(true), piece.text.len());
        sink.push(Pushed { indices: &indices, end, bytes, remainder, ..Pushed::default() })?;
    }
    sink.finish(vocabulary)
}
