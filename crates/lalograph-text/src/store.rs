//! Token stores: the indices of a corpus in a file that is read where they are wanted, so that training takes a corpus of any size from
//! disk. `docs/formats/tokens.md` describes the form.

use std::fs::File;
use std::io::{self, Read, Seek, Write};
use std::ops::Range;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

use lalograph_storage::WholeWriter;

use crate::error::TextError;
use crate::pages::PagedFile;
use crate::spelling::Remainder;
use crate::vocabulary::Vocabulary;

const MAGIC: [u8; 8] = *b"laloTOKS";
const VERSION: u32 = 2;
/// Magic, version, width, vocabulary hash, planes, and room.
const HEADER_BYTES: usize = 8 + 4 + 4 + 32 + 4 + 12;
/// Position of the planes in the header, a bit each.
const PLANES_AT: usize = 48;
const SCORED: u32 = 1;
const LABELS: u32 = 2;
/// Tokens, documents, unknown tokens, text bytes, documents that cleaning changed, bits of spelling, bits of spacing.
const FIGURES: usize = 7;
/// The figures, hash of the body, hash of the footer so far.
const FOOTER_BYTES: usize = FIGURES * 8 + 32 + 32;
/// End, text bytes and bits beside the tokens of a document.
const DOCUMENT_BYTES: usize = 24;
/// Vocabularies up to this size are stored in 16 bits.
const SMALL: usize = 1 << 16;

/// Planes of a store besides tokens.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Planes {
    /// Whether each token is a target that is scored.
    pub scored: bool,
    /// The class of each document.
    pub labels: bool,
}

impl Planes {
    fn bits(self) -> u32 {
        u32::from(self.scored) * SCORED + u32::from(self.labels) * LABELS
    }

    fn of(bits: u32) -> Option<Self> {
        (bits <= SCORED + LABELS).then_some(Self { scored: bits & SCORED != 0, labels: bits & LABELS != 0 })
    }

    /// Bytes of the planes and the table of documents behind the tokens.
    fn bytes(self, tokens: u64, documents: u64) -> Option<u64> {
        let scored = if self.scored { tokens.div_ceil(8).checked_next_multiple_of(8)? } else { 0 };
        let labels = if self.labels { documents.checked_mul(4)?.checked_next_multiple_of(8)? } else { 0 };
        documents.checked_mul(DOCUMENT_BYTES as u64)?.checked_add(scored)?.checked_add(labels)
    }
}

/// An error of the folder for temporary files, and not of the place that a store is to be in.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
pub(crate) struct Scratch(pub(crate) io::Error);

impl Scratch {
    fn marked(error: io::Error) -> io::Error {
        io::Error::new(error.kind(), Self(error))
    }
}

/// Path of a store, and the temporary file that it is written to.
pub struct StorePlace {
    /// The place.
    pub path: PathBuf,
    /// The file.
    pub file: Box<dyn WholeWriter>,
}

/// A document that is put into a store.
#[derive(Debug, Clone, Copy, Default)]
pub struct StoredDocument<'a> {
    /// Its indices with the end token.
    pub indices: &'a [u32],
    /// Number of unknown tokens.
    pub unknown: u64,
    /// The bytes of its text, its end counted as one.
    pub text_bytes: u64,
    /// Bits of what its tokens do not say.
    pub remainder: Remainder,
    /// Which of its tokens are targets that are scored, for [`Planes::scored`]; all if it has no mark.
    pub scored: Option<&'a [bool]>,
    /// Its class, for [`Planes::labels`].
    pub label: u32,
}

/// Position of a document's tokens, and the counts of its text.
#[derive(Debug, Clone, PartialEq)]
pub struct DocumentPlace {
    /// Its tokens, the end token included.
    pub tokens: Range<usize>,
    /// The bytes of its text.
    pub text_bytes: u64,
    /// Bits of what its tokens do not say.
    pub remainder_bits: f64,
}

/// Sums over all documents of a store.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Totals {
    /// Documents.
    pub documents: u64,
    /// UTF-8 bytes of their text before cleaning, plus one for the end of each.
    pub bytes: u64,
    /// Tokens that have no index of their own.
    pub unknown: u64,
    /// Documents whose text cleaning changed.
    pub changed: u64,
    /// Bits of the spelling of unknown tokens.
    pub spelling_bits: f64,
    /// Bits of the white space that tokens do not hold.
    pub spacing_bits: f64,
}

impl Totals {
    /// Counts one more document.
    pub(crate) fn add(&mut self, text_bytes: u64, unknown: u64, remainder: &Remainder) {
        self.documents += 1;
        self.bytes += text_bytes;
        self.unknown += unknown;
        self.changed += u64::from(remainder.changed);
        self.spelling_bits += remainder.spelling_bits;
        self.spacing_bits += remainder.spacing_bits;
    }
}

fn vocabulary_hash(vocabulary: &Vocabulary) -> Result<[u8; 32], TextError> {
    Ok(*blake3::hash(vocabulary.to_json()?.as_bytes()).as_bytes())
}

/// A writer that hashes the written bytes.
#[derive(Debug)]
struct Hashed<W> {
    inner: W,
    hash: blake3::Hasher,
}

impl<W: Write> Write for Hashed<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let written = self.inner.write(bytes)?;
        self.hash.update(&bytes[..written]);
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.inner.flush()
    }
}

impl<W: Write> Hashed<W> {
    /// Copies what was kept in a file of its own.
    fn append(&mut self, kept: io::BufWriter<File>) -> io::Result<u64> {
        let mut kept = kept.into_inner().map_err(|error| Scratch::marked(error.into_error()))?;
        kept.rewind().map_err(Scratch::marked)?;
        io::copy(&mut kept, self)
    }

    /// Pads a section with zeros to a multiple of eight bytes.
    fn pad(&mut self, written: u64) -> io::Result<()> {
        let zeros = written.next_multiple_of(8) - written;
        self.write_all(&[0; 8][..zeros as usize])
    }
}

/// Writes a store in one pass.
#[derive(Debug)]
pub struct StoreWriter<W> {
    out: Hashed<W>,
    width: usize,
    /// Bytes that were not passed on yet.
    block: Vec<u8>,
    planes: Planes,
    /// The sections after the tokens are kept in files of their own until all tokens are written: the bits of scored targets, ends and sizes of the
    /// documents, their classes.
    scored: io::BufWriter<File>,
    table: io::BufWriter<File>,
    labels: io::BufWriter<File>,
    /// Bits of the last byte of scored targets, which is not full.
    bits: u8,
    tokens: u64,
    totals: Totals,
}

impl<W: Write> StoreWriter<W> {
    /// Begins a store of indices of this vocabulary.
    ///
    /// # Errors
    /// An error of the file system.
    pub fn new(inner: W, vocabulary: &Vocabulary, planes: Planes) -> io::Result<Self> {
        let beside = || {
            let file = tempfile::tempfile().map_err(Scratch::marked)?;
            Ok::<_, io::Error>(io::BufWriter::with_capacity(1 << 16, file))
        };
        let width = if vocabulary.len() <= SMALL { 2 } else { 4 };
        let mut block = Vec::with_capacity(1 << 17);
        block.extend(MAGIC);
        block.extend(VERSION.to_le_bytes());
        block.extend((width as u32).to_le_bytes());
        block.extend(vocabulary_hash(vocabulary).map_err(io::Error::other)?);
        block.extend(planes.bits().to_le_bytes());
        block.resize(HEADER_BYTES, 0);
        Ok(Self {
            out: Hashed { inner, hash: blake3::Hasher::new() },
            width,
            block,
            planes,
            scored: beside()?,
            table: beside()?,
            labels: beside()?,
            bits: 0,
            tokens: 0,
            totals: Totals::default(),
        })
    }

    /// Appends a document.
    ///
    /// # Errors
    /// An error of the file system.
    pub fn push(&mut self, document: StoredDocument<'_>) -> io::Result<()> {
        let StoredDocument { indices, unknown, text_bytes, remainder, scored, label } = document;
        if self.width == 2 {
            self.block.extend(indices.iter().flat_map(|index| (*index as u16).to_le_bytes()));
        } else {
            self.block.extend(indices.iter().flat_map(|index| index.to_le_bytes()));
        }
        if self.planes.scored {
            for at in 0..indices.len() {
                let is_scored = scored.is_none_or(|scored| scored.get(at).copied().unwrap_or(true));
                let place = self.tokens + at as u64;
                self.bits |= u8::from(is_scored) << (place % 8);
                if place % 8 == 7 {
                    self.scored.write_all(&[std::mem::take(&mut self.bits)]).map_err(Scratch::marked)?;
                }
            }
        }
        if self.planes.labels {
            self.labels.write_all(&label.to_le_bytes()).map_err(Scratch::marked)?;
        }
        self.tokens += indices.len() as u64;
        self.totals.add(text_bytes, unknown, &remainder);
        for figure in [self.tokens, text_bytes, remainder.bits().to_bits()] {
            self.table.write_all(&figure.to_le_bytes()).map_err(Scratch::marked)?;
        }
        if self.block.len() >= 1 << 16 { self.flush() } else { Ok(()) }
    }

    fn flush(&mut self) -> io::Result<()> {
        self.out.write_all(&self.block)?;
        self.block.clear();
        Ok(())
    }

    /// Writes what comes behind the tokens, and gives the writer back.
    ///
    /// # Errors
    /// An error of the file system.
    pub fn finish(mut self) -> io::Result<W> {
        self.flush()?;
        let Self { mut out, width, planes, mut scored, table, labels, bits, tokens, totals, .. } = self;
        out.pad(tokens * width as u64)?;
        if planes.scored {
            if !tokens.is_multiple_of(8) {
                scored.write_all(&[bits]).map_err(Scratch::marked)?;
            }
            let written = out.append(scored)?;
            out.pad(written)?;
        }
        out.append(table)?;
        if planes.labels {
            let written = out.append(labels)?;
            out.pad(written)?;
        }
        let mut footer = Vec::with_capacity(FOOTER_BYTES);
        let Totals { documents, bytes, unknown, changed, spelling_bits, spacing_bits } = totals;
        let [spelling, spacing] = [spelling_bits, spacing_bits].map(f64::to_bits);
        for figure in [tokens, documents, unknown, bytes, changed, spelling, spacing] {
            footer.extend(figure.to_le_bytes());
        }
        footer.extend(out.hash.finalize().as_bytes());
        let own = blake3::hash(&footer);
        footer.extend(own.as_bytes());
        out.inner.write_all(&footer)?;
        Ok(out.inner)
    }
}

/// A store that was opened and found whole.
#[derive(Debug)]
pub struct Store {
    path: PathBuf,
    file: PagedFile,
    width: usize,
    tokens: usize,
    totals: Totals,
    planes: Planes,
    counts: Vec<u64>,
}

impl Store {
    /// Opens a store that was made with this vocabulary, and checks all of it.
    ///
    /// # Errors
    /// The file cannot be read; [`TextError::OtherVocabulary`]; [`TextError::BadStore`] with what is wrong.
    pub fn open(path: &Path, vocabulary: &Vocabulary) -> Result<Self, TextError> {
        let failed = |source| TextError::Io { path: path.to_owned(), source };
        let mut file = File::open(path).map_err(failed)?;
        let size = file.metadata().map_err(failed)?.len();
        let Some(body) = size.checked_sub(FOOTER_BYTES as u64).filter(|&body| body >= HEADER_BYTES as u64)
        else {
            return Err(bad(path, "it is cut short"));
        };
        let mut header = [0; HEADER_BYTES];
        let mut footer = [0; FOOTER_BYTES];
        file.read_exact_at(&mut header, 0).map_err(failed)?;
        file.read_exact_at(&mut footer, body).map_err(failed)?;
        let small = |at: usize| header[at..].first_chunk().map_or(0, |bytes| u32::from_le_bytes(*bytes));
        if header[..8] != MAGIC {
            return Err(bad(path, "not a token store"));
        }
        if small(8) != VERSION {
            let what = format!("its version is {}, and this program reads version {VERSION}", small(8));
            return Err(bad(path, what));
        }
        if blake3::hash(&footer[..FOOTER_BYTES - 32]).as_bytes() != &footer[FOOTER_BYTES - 32..] {
            return Err(bad(path, "it is cut short or damaged at its end"));
        }
        if header[16..48] != vocabulary_hash(vocabulary)? {
            return Err(TextError::OtherVocabulary(path.to_owned()));
        }
        let width = small(12) as usize;
        let number = |at: usize| footer[at..].first_chunk().map_or(0, |bytes| u64::from_le_bytes(*bytes));
        let [tokens, documents, unknown, bytes, changed, spelling, spacing] =
            std::array::from_fn::<u64, FIGURES, _>(|figure| number(8 * figure));
        let [spelling_bits, spacing_bits] = [spelling, spacing].map(f64::from_bits);
        let totals = Totals { documents, bytes, unknown, changed, spelling_bits, spacing_bits };
        let Some(planes) = Planes::of(small(PLANES_AT)) else {
            return Err(bad(path, "it has planes of an unknown kind"));
        };
        let expected = (width == 2 || width == 4)
            .then(|| {
                let size = tokens.checked_mul(width as u64)?.checked_next_multiple_of(8)?;
                size.checked_add(planes.bytes(tokens, documents)?)?.checked_add(HEADER_BYTES as u64)
            })
            .flatten();
        if expected != Some(body) {
            return Err(bad(path, "its size differs from its header"));
        }
        let mut counts = vec![0; vocabulary.len()];
        let (hash, outside) = read_through(&mut file, body, tokens, width, &mut counts).map_err(failed)?;
        if hash.as_bytes() != &footer[FIGURES * 8..][..32] {
            return Err(bad(
                path,
                "its content does not match its hash: it was changed after it was written",
            ));
        }
        if outside {
            return Err(bad(path, "it holds an index outside the vocabulary"));
        }
        // A foreign program that changes the file meanwhile can change the indices read; every use of an index checks its range.
        let (path, file) = (path.to_owned(), PagedFile::new(file, body));
        Ok(Self { path, file, width, tokens: tokens as usize, totals, planes, counts })
    }

    /// Whether all that was asked for since it was opened could be read. What could not be was given as zeros.
    ///
    /// # Errors
    /// [`TextError::StoreLost`].
    pub fn check(&self) -> Result<(), TextError> {
        match self.file.lost() {
            None => Ok(()),
            Some(error) => Err(TextError::StoreLost { path: self.path.clone(), why: error.to_string() }),
        }
    }

    /// Count of each index of the vocabulary.
    pub fn counts(&self) -> &[u64] {
        &self.counts
    }

    /// Tokens, ends of documents included.
    pub fn tokens(&self) -> usize {
        self.tokens
    }

    /// Sums over all its documents.
    pub fn totals(&self) -> Totals {
        self.totals
    }

    /// The index at a position below [`Store::tokens`].
    #[inline]
    pub fn get(&self, at: usize) -> u32 {
        let from = (HEADER_BYTES + at * self.width) as u64;
        if self.width == 2 {
            u32::from(u16::from_le_bytes(self.file.bytes(from)))
        } else {
            u32::from_le_bytes(self.file.bytes(from))
        }
    }

    /// Its planes.
    pub fn planes(&self) -> Planes {
        self.planes
    }

    fn scored_at(&self) -> usize {
        HEADER_BYTES + (self.tokens * self.width).next_multiple_of(8)
    }

    fn table_at(&self) -> usize {
        let scored = if self.planes.scored { self.tokens.div_ceil(8).next_multiple_of(8) } else { 0 };
        self.scored_at() + scored
    }

    /// Whether the token at a position below [`Store::tokens`] is a target that is scored.
    #[inline]
    pub fn is_scored(&self, at: usize) -> bool {
        !self.planes.scored || {
            let [byte] = self.file.bytes((self.scored_at() + at / 8) as u64);
            byte >> (at % 8) & 1 == 1
        }
    }

    /// The class of a document, if classes are stored.
    pub fn label(&self, number: u64) -> Option<u32> {
        if !self.planes.labels || number >= self.totals.documents {
            return None;
        }
        let labels = self.table_at() + self.totals.documents as usize * DOCUMENT_BYTES;
        Some(u32::from_le_bytes(self.file.bytes((labels + number as usize * 4) as u64)))
    }

    /// A document; `None` beyond the last, and where the table cannot be read.
    pub fn document(&self, number: u64) -> Option<DocumentPlace> {
        if number >= self.totals.documents {
            return None;
        }
        let table = self.table_at();
        let figure = |at: usize| u64::from_le_bytes(self.file.bytes(at as u64));
        let entry = table + number as usize * DOCUMENT_BYTES;
        let start = if number == 0 { 0 } else { figure(entry - DOCUMENT_BYTES) };
        let found = DocumentPlace {
            tokens: start as usize..figure(entry) as usize,
            text_bytes: figure(entry + 8),
            remainder_bits: f64::from_bits(figure(entry + 16)),
        };
        self.file.lost().is_none().then_some(found)
    }
}

/// The hash of a store's body; counts its indices, and finds whether any lies outside the vocabulary.
fn read_through(
    file: &mut File,
    body: u64,
    tokens: u64,
    width: usize,
    counts: &mut [u64],
) -> io::Result<(blake3::Hash, bool)> {
    let mut hash = blake3::Hasher::new();
    let mut outside = false;
    let mut block = vec![0; 1 << 20];
    let mut read = 0u64;
    let end_of_tokens = HEADER_BYTES as u64 + tokens * width as u64;
    while read < body {
        // Blocks are multiples of eight bytes, as the header is: no index lies across two.
        let size = block.len().min((body - read) as usize);
        file.read_exact(&mut block[..size])?;
        hash.update(&block[..size]);
        let start = (HEADER_BYTES as u64).saturating_sub(read).min(size as u64) as usize;
        let end = end_of_tokens.saturating_sub(read).min(size as u64) as usize;
        let mut count = |index: usize| match counts.get_mut(index) {
            Some(count) => *count += 1,
            None => outside = true,
        };
        let indices = block.get(start..end).unwrap_or_default();
        if width == 2 {
            indices
                .as_chunks::<2>()
                .0
                .iter()
                .for_each(|bytes| count(usize::from(u16::from_le_bytes(*bytes))));
        } else {
            indices.as_chunks::<4>().0.iter().for_each(|bytes| count(u32::from_le_bytes(*bytes) as usize));
        }
        read += size as u64;
    }
    Ok((hash.finalize(), outside))
}

fn bad(path: &Path, what: impl Into<String>) -> TextError {
    TextError::BadStore { path: path.to_owned(), what: what.into() }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::{DocumentPlace, HEADER_BYTES, Planes, Store, StoreWriter, StoredDocument, Totals};
    use crate::spelling::Remainder;
    use crate::tokens::TokenSequence;
    use crate::vocabulary::VocabularySpec;
    use crate::{TextError, Vocabulary, VocabularyBuilder};

    fn vocabulary(words: usize) -> Vocabulary {
        let mut builder = VocabularyBuilder::new(&VocabularySpec::default());
        builder.add(&(0..words).map(|i| format!("w{i} ")).collect::<String>());
        builder.finish(1).unwrap()
    }

    fn written(documents: &[Vec<u32>], vocabulary: &Vocabulary, planes: Planes) -> Vec<u8> {
        let mut writer = StoreWriter::new(Vec::new(), vocabulary, planes).unwrap();
        for (number, indices) in documents.iter().enumerate() {
            let scored: Vec<bool> = indices.iter().map(|index| index % 3 != 0).collect();
            let number = number as u64;
            let document = StoredDocument {
                indices,
                unknown: number % 3,
                text_bytes: number * 7,
                remainder: remainder(number),
                scored: (number != 1).then_some(&scored),
                label: number as u32 * 5,
            };
            writer.push(document).unwrap();
        }
        writer.finish().unwrap()
    }

    fn remainder(number: u64) -> Remainder {
        let bits = number as f64;
        Remainder { spelling_bits: bits * 0.25, spacing_bits: bits * 1.5, changed: number.is_multiple_of(2) }
    }

    /// The place of the document with this number and these tokens.
    fn place(number: u64, tokens: std::ops::Range<usize>) -> Option<DocumentPlace> {
        Some(DocumentPlace { tokens, text_bytes: number * 7, remainder_bits: number as f64 * 1.75 })
    }

    const BOTH: Planes = Planes { scored: true, labels: true };

    fn open(bytes: &[u8], vocabulary: &Vocabulary) -> Result<Store, TextError> {
        let mut file = tempfile::NamedTempFile::new().unwrap();
        std::io::Write::write_all(&mut file, bytes).unwrap();
        Store::open(file.path(), vocabulary)
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]
        #[test]
        fn written_values_are_read_back(
            documents in prop::collection::vec(prop::collection::vec(0u32..24, 0..30), 0..30), wide in any::<bool>(),
            scored: bool, labels: bool,
        ) {
            let planes = Planes { scored, labels };
            let vocabulary = vocabulary(if wide { 66_000 } else { 20 });
            let bytes = written(&documents, &vocabulary, planes);
            let store = open(&bytes, &vocabulary).unwrap();
            let all: Vec<u32> = (0..store.tokens()).map(|at| store.get(at)).collect();
            prop_assert_eq!(all, documents.concat());
            let count = documents.len() as u64;
            let mut totals = Totals::default();
            (0..count).for_each(|number| totals.add(number * 7, number % 3, &remainder(number)));
            prop_assert_eq!(store.totals(), totals);
            prop_assert_eq!((totals.documents, totals.changed), (count, count.div_ceil(2)));
            let mut start = 0;
            for (number, document) in documents.iter().enumerate() {
                let end = start + document.len();
                prop_assert_eq!(store.document(number as u64), place(number as u64, start..end));
                prop_assert_eq!(store.label(number as u64), labels.then_some(number as u32 * 5));
                for at in start..end {
                    let expected = !scored || number == 1 || !store.get(at).is_multiple_of(3);
                    prop_assert_eq!(store.is_scored(at), expected);
                }
                start = end;
            }
            prop_assert_eq!(store.document(documents.len() as u64), None);
        }

        #[test]
        fn any_damage_is_found(at in 0usize..500, bit in 0u8..8, cut in 0usize..500) {
            let vocabulary = vocabulary(20);
            let bytes = written(&[vec![4, 5, 3], vec![6; 40], vec![3]], &vocabulary, BOTH);
            let mut flipped = bytes.clone();
            let place = at % bytes.len();
            flipped[place] ^= 1 << bit;
            prop_assert!(open(&flipped, &vocabulary).is_err(), "bit {} of byte {}", bit, place);
            prop_assert!(open(&bytes[..cut % bytes.len()], &vocabulary).is_err());
        }
    }

    #[test]
    fn a_shrinking_store_is_reported_without_a_crash() {
        let vocabulary = vocabulary(20);
        let documents: Vec<Vec<u32>> = (0..4000).map(|number| vec![4 + number % 9, 5, 3]).collect();
        let mut file = tempfile::NamedTempFile::new().unwrap();
        std::io::Write::write_all(&mut file, &written(&documents, &vocabulary, BOTH)).unwrap();
        let store = Store::open(file.path(), &vocabulary).unwrap();
        assert_eq!((store.get(0), store.document(1)), (4, place(1, 3..6)));
        store.check().unwrap();
        file.as_file().set_len(5000).unwrap();
        // What was read already is still there; the rest is zeros, and reported as lost.
        assert_eq!((store.get(0), store.get(11_000), store.document(3000)), (4, 0, None));
        let error = store.check().unwrap_err();
        assert!(matches!(error, TextError::StoreLost { .. }), "{error}");
        let text = TokenSequence::from_store(store);
        assert!(text.bounds().count() <= 4000 && text.beginning(0.5).len() <= text.len());
        assert!(text.check().is_err());
    }

    #[test]
    fn another_vocabulary_and_indices_outside_are_refused() {
        let (own, other) = (vocabulary(20), vocabulary(21));
        let bytes = written(&[vec![4, 3]], &own, BOTH);
        let error = open(&bytes, &other).unwrap_err();
        assert!(matches!(error, TextError::OtherVocabulary(_)), "{error}");
        assert!(error.to_string().contains("made with another vocabulary"), "{error}");
        let error = open(&written(&[vec![99]], &own, BOTH), &own).unwrap_err();
        assert!(error.to_string().contains("outside the vocabulary"), "{error}");
        assert!(open(b"short", &own).unwrap_err().to_string().contains("cut short"));
        let mut foreign = bytes.clone();
        foreign[..HEADER_BYTES].fill(b'x');
        assert!(open(&foreign, &own).unwrap_err().to_string().contains("not a token store"));
    }
}
