//! From text to indices and back, one text after another.

use foldhash::fast::FixedState;
use hashbrown::HashMap;

use super::{Method, Reserved, Vocabulary};
use crate::error::TextError;
use crate::packed::pack;
use crate::pieces::each_piece;
use crate::spelling::Remainder;
use crate::spelling::spacing::each_gap;
use crate::unigram::{Cut, Lattice};
use crate::unit::{Joiner, Unit};

/// Pieces whose cuts are remembered, at most.
const REMEMBERED: usize = 1 << 18;

/// Cuts texts into the indices of one vocabulary.
#[derive(Debug)]
pub struct Encoder<'v> {
    vocabulary: &'v Vocabulary,
    known: Known,
    symbols: Vec<u32>,
    lattice: Lattice,
    /// Cached bits of the spelling of words without an index.
    spelt: HashMap<Box<str>, f64, FixedState>,
}

/// Cache of pieces cut before.
#[derive(Debug, Default)]
struct Known {
    short: HashMap<u128, (u32, u32), FixedState>,
    long: HashMap<Box<[u8]>, (u32, u32), FixedState>,
    indices: Vec<u32>,
}

impl Known {
    #[inline]
    fn get(&self, piece: &[u8]) -> Option<(u32, u32)> {
        match pack(piece) {
            Some(packed) => self.short.get(&packed).copied(),
            None => self.long.get(piece).copied(),
        }
    }

    /// Remembers the indices that were appended from `start` on, and gives their range.
    fn insert(&mut self, piece: &[u8], start: usize) -> (u32, u32) {
        let range = (start as u32, self.indices.len() as u32);
        match pack(piece) {
            Some(packed) => drop(self.short.insert(packed, range)),
            None => drop(self.long.insert(piece.into(), range)),
        }
        range
    }

    fn make_room(&mut self) {
        if self.short.len() + self.long.len() >= REMEMBERED {
            self.short.clear();
            self.long.clear();
            self.indices.clear();
        }
    }
}

impl<'v> Encoder<'v> {
    pub(super) fn new(vocabulary: &'v Vocabulary) -> Self {
        Self {
            vocabulary,
            known: Known::default(),
            symbols: Vec::new(),
            lattice: Lattice::default(),
            spelt: HashMap::default(),
        }
    }

    /// Cleans a text, cuts it and appends the indices of its tokens.
    pub fn encode_into(&mut self, text: &str, indices: &mut Vec<u32>) {
        let text = self.vocabulary.cleaning.apply(text);
        self.encode_cleaned(&text, indices);
    }

    pub(super) fn encode_cleaned(&mut self, text: &str, indices: &mut Vec<u32>) {
        let vocabulary = self.vocabulary;
        match vocabulary.unit {
            Unit::Word | Unit::Character | Unit::Grapheme => {
                let lookup = &vocabulary.lookup;
                vocabulary.unit.tokenise(text, |token| {
                    indices.push(lookup.get(token.as_bytes()).unwrap_or(Reserved::UNKNOWN));
                });
            }
            Unit::Byte => indices.extend(text.bytes().map(index_of_byte)),
            Unit::BytePair | Unit::Unigram => {
                each_piece(text, |piece| indices.extend_from_slice(self.piece(piece)));
            }
        }
    }

    /// The same, with the bits of what the tokens do not say.
    pub fn encode_whole(&mut self, text: &str, indices: &mut Vec<u32>) -> Remainder {
        let vocabulary = self.vocabulary;
        let cleaned = vocabulary.cleaning.apply(text);
        let mut remainder = Remainder { changed: cleaned != text, ..Remainder::default() };
        if vocabulary.unit.knows_everything() {
            self.encode_cleaned(&cleaned, indices);
            return remainder;
        }
        let mut token = |token: &str| {
            let index = vocabulary.lookup.get(token.as_bytes());
            indices.push(index.unwrap_or(Reserved::UNKNOWN));
            if index.is_none() {
                remainder.spelling_bits += self.spelling_bits(token);
            }
        };
        if vocabulary.unit.is_exact() {
            vocabulary.unit.tokenise(&cleaned, token);
        } else {
            let costs = &vocabulary.costs().spacing;
            let mut spacing_bits = 0.0;
            each_gap(&cleaned, |gap| {
                spacing_bits += costs.of(&gap);
                gap.word.into_iter().for_each(&mut token);
            });
            remainder.spacing_bits = spacing_bits;
        }
        remainder
    }

    fn spelling_bits(&mut self, word: &str) -> f64 {
        if let Some(bits) = self.spelt.get(word) {
            return *bits;
        }
        let bits = self.vocabulary.spelling_bits(word);
        if self.spelt.len() >= REMEMBERED {
            self.spelt.clear();
        }
        self.spelt.insert(word.into(), bits);
        bits
    }

    /// The same, with each token's text and index.
    pub(super) fn each(&mut self, text: &str, mut each: impl FnMut(&[u8], u32)) {
        let vocabulary = self.vocabulary;
        if vocabulary.unit.knows_everything() {
            let mut indices = Vec::new();
            self.encode_into(text, &mut indices);
            indices.into_iter().for_each(|index| each(vocabulary.token(index).unwrap_or_default(), index));
        } else {
            vocabulary.unit.tokenise(&vocabulary.cleaning.apply(text), |token| {
                each(token.as_bytes(), vocabulary.index_of(token));
            });
        }
    }

    /// The indices of a piece.
    #[inline]
    pub(crate) fn piece(&mut self, piece: &str) -> &[u32] {
        let (start, end) = match self.known.get(piece.as_bytes()) {
            Some(range) => range,
            None => self.cut(piece),
        };
        &self.known.indices[start as usize..end as usize]
    }

    #[inline(never)]
    fn cut(&mut self, piece: &str) -> (u32, u32) {
        self.known.make_room();
        let start = self.known.indices.len();
        match &self.vocabulary.method {
            Method::Listed => {}
            Method::BytePair { merges, .. } => {
                merges.cut(piece.as_bytes(), &mut self.symbols);
                self.known.indices.extend(self.symbols.iter().map(|symbol| symbol + Reserved::COUNT));
            }
            Method::Unigram { pieces, .. } => {
                let parts = pieces.cut(piece, &mut self.lattice);
                self.known.indices.extend(parts.iter().map(|part| match part {
                    Cut::Token(token) => token + Reserved::COUNT,
                    Cut::Byte(byte) => index_of_byte(*byte),
                }));
            }
        }
        self.known.insert(piece.as_bytes(), start)
    }
}

/// The index of a byte, in units whose first tokens are all bytes.
#[inline]
fn index_of_byte(byte: u8) -> u32 {
    u32::from(byte) + Reserved::COUNT
}

/// Decodes indices to text that can be shown at once. The bytes of a character are held back until it is complete.
#[derive(Debug, Clone)]
pub struct Decoder<'v> {
    vocabulary: &'v Vocabulary,
    joiner: Joiner,
    held: Vec<u8>,
}

impl<'v> Decoder<'v> {
    pub(super) fn new(vocabulary: &'v Vocabulary) -> Self {
        Self { vocabulary, joiner: Joiner::new(), held: Vec::new() }
    }

    /// Appends the token at an index to `out`, with the space before it that it needs.
    ///
    /// # Errors
    /// An index outside the vocabulary.
    pub fn push(&mut self, index: u32, out: &mut String) -> Result<(), TextError> {
        let token = self.vocabulary.token(index)?;
        if self.vocabulary.is_silent(index) {
            return Ok(());
        }
        self.push_bytes(token, out);
        Ok(())
    }

    /// Appends a token without an index, as spelt.
    pub fn push_unlisted(&mut self, token: &str, out: &mut String) {
        self.push_bytes(token.as_bytes(), out);
    }

    fn push_bytes(&mut self, token: &[u8], out: &mut String) {
        if !self.vocabulary.unit.is_exact() {
            self.joiner.push(&String::from_utf8_lossy(token), out);
            return;
        }
        self.held.extend_from_slice(token);
        loop {
            match std::str::from_utf8(&self.held) {
                Ok(text) => {
                    out.push_str(text);
                    self.held.clear();
                    return;
                }
                Err(error) => {
                    let valid = error.valid_up_to();
                    out.push_str(&String::from_utf8_lossy(&self.held[..valid]));
                    match error.error_len() {
                        // A character that may continue.
                        None => {
                            self.held.drain(..valid);
                            return;
                        }
                        Some(wrong) => {
                            out.push(char::REPLACEMENT_CHARACTER);
                            self.held.drain(..valid + wrong);
                        }
                    }
                }
            }
        }
    }

    /// Ends a text: what was held back will not become whole any more. The next begins like a new one.
    pub fn finish(&mut self, out: &mut String) {
        if !self.held.is_empty() {
            out.push(char::REPLACEMENT_CHARACTER);
            self.held.clear();
        }
        self.joiner = Joiner::new();
    }
}
