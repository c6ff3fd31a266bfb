//! Counting a corpus and choosing tokens.

use super::{Counted, Method, Reserved, Token, Vocabulary};
use crate::byte_pair::{self, BYTES, Merges};
use crate::cleaning::Cleaning;
use crate::corpus::{Batch, Corpus, Document, ReadObserver, Reading};
use crate::error::TextError;
use crate::spelling::spacing::each_gap;
use crate::spelling::{Rest, SpacingModel};
use crate::tally::{MostFrequent, Sample, Tally};
use crate::unigram::{self, CutTable};
use crate::unit::Unit;

/// Settings of a vocabulary.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct VocabularySpec {
    /// Unit of a token.
    pub unit: Unit,
    /// Cleaning.
    pub cleaning: Cleaning,
    /// Tokens at most, reserved ones not counted; none means all. Subwords need a size; the 256 bytes are among it.
    pub size: Option<usize>,
    /// Tokens that occur less often get no index. For subwords by merging, pairs that occur less often are not merged.
    pub minimum_count: u64,
    /// Spellings of the reserved tokens.
    pub reserved: Reserved,
    /// Tokens that get an index however rare they are.
    pub include: Vec<String>,
    /// Tokens that get none however common they are.
    pub exclude: Vec<String>,
}

/// Distinct words without an index that are kept to learn spelling from, at most: the most frequent where there are more.
pub(super) const UNLISTED_WORDS: usize = 1 << 16;

/// Subwords when no size is given.
const USUAL_SUBWORDS: usize = 8192;

/// Counts tokens, and then keeps the most frequent; for subwords, counts the pieces that they are learnt from. Counts that do not fit in
/// memory wait in temporary files.
#[derive(Debug)]
pub struct VocabularyBuilder {
    spec: VocabularySpec,
    tally: Tally,
    spacing: SpacingModel,
    /// Counts of the merged builders.
    others: Vec<Tally>,
    bytes: [u64; 256],
    documents: u64,
    tokens: u64,
}

impl VocabularyBuilder {
    /// Starts with nothing counted.
    pub fn new(spec: &VocabularySpec) -> Self {
        Self {
            spec: spec.clone(),
            tally: Tally::new(),
            spacing: SpacingModel::default(),
            others: Vec::new(),
            bytes: [0; 256],
            documents: 0,
            tokens: 0,
        }
    }

    /// Counts one document's tokens.
    pub fn add(&mut self, text: &str) {
        self.documents += 1;
        let text = self.spec.cleaning.apply(text);
        let (tally, tokens) = (&mut self.tally, &mut self.tokens);
        let mut count = |token: &str| {
            *tokens += 1;
            tally.add(token);
        };
        match self.spec.unit {
            Unit::Byte => {
                self.tokens += text.len() as u64;
                text.bytes().for_each(|byte| self.bytes[usize::from(byte)] += 1);
            }
            Unit::Word => {
                let spacing = &mut self.spacing;
                each_gap(&text, |gap| {
                    spacing.count(&gap);
                    gap.word.into_iter().for_each(&mut count);
                });
            }
            unit => unit.parts(&text, &mut count),
        }
    }

    /// Counts a corpus with `threads` threads; only the documents for which `wanted` is true.
    ///
    /// # Errors
    /// As for [`Corpus::read`]; a stop by the observer.
    pub fn count(
        spec: &VocabularySpec,
        corpus: &Corpus,
        threads: usize,
        observer: &mut dyn ReadObserver,
        wanted: impl Fn(&Document<'_>) -> bool + Sync,
    ) -> Result<(Self, Reading), TextError> {
        let new = || Self::new(spec);
        let work = |builder: &mut Self, batch: &Batch| {
            batch.documents().filter(&wanted).for_each(|document| builder.add(document.text));
        };
        let (reading, builders) = corpus.process(threads, observer, new, work, |_, ()| Ok(()))?;
        let mut whole = new();
        builders.into_iter().for_each(|builder| whole.take_in(builder));
        Ok((whole, reading))
    }

    /// Adds what another has counted.
    pub(crate) fn take_in(&mut self, other: Self) {
        self.documents += other.documents;
        self.tokens += other.tokens;
        self.bytes.iter_mut().zip(other.bytes).for_each(|(sum, count)| *sum += count);
        self.spacing.add(&other.spacing);
        self.others.push(other.tally);
        self.others.extend(other.others);
    }

    /// Chooses the tokens; subwords are learnt with `threads` threads. The most frequent first, equal counts in the order of their code points; merged
    /// subwords in the order of merging, behind all bytes; subwords of the unigram model behind all bytes, the most probable first.
    ///
    /// # Errors
    /// [`TextError::EmptyVocabulary`] when nothing is left; included or excluded tokens that are none; a size that is too small for subwords; a
    /// temporary file that cannot be read.
    pub fn finish(self, threads: usize) -> Result<Vocabulary, TextError> {
        let unit = self.spec.unit;
        if unit.knows_everything() && !(self.spec.include.is_empty() && self.spec.exclude.is_empty()) {
            return Err(TextError::BadToken(format!(
                "tokens of words and characters can be included and excluded, not {}",
                unit.plural()
            )));
        }
        match unit {
            Unit::Word | Unit::Character | Unit::Grapheme => self.finish_listed(),
            Unit::Byte => self.finish_bytes(),
            Unit::BytePair | Unit::Unigram => {
                let (pieces, size, spec, documents) = self.into_pieces()?;
                let spec = VocabularySpec { size: Some(size), ..spec };
                Self::learn_subwords(&pieces, spec, documents, threads)
            }
        }
    }

    fn finish_listed(mut self) -> Result<Vocabulary, TextError> {
        let spec = &self.spec;
        for token in spec.include.iter().chain(&spec.exclude) {
            let mut found = Vec::new();
            spec.unit.tokenise(&spec.cleaning.apply(token), |part| found.push(part.to_owned()));
            if found != [token.as_str()] {
                let instead = if found.is_empty() { "nothing".to_owned() } else { found.join(" + ") };
                return Err(TextError::BadToken(format!(
                    "the {} `{token}` cannot occur: cleaning and tokenising make {instead} of it",
                    spec.unit.noun()
                )));
            }
        }
        let included: Vec<&str> = {
            let mut included: Vec<&str> = spec.include.iter().map(String::as_str).collect();
            included.sort_unstable();
            included.dedup();
            included
        };
        let mut excluded: Vec<&str> = spec.exclude.iter().map(String::as_str).collect();
        excluded.sort_unstable();
        if let Some(both) = included.iter().find(|token| excluded.binary_search(token).is_ok()) {
            return Err(TextError::BadToken(format!("`{both}` is both included and excluded")));
        }
        let free = spec.size.unwrap_or(usize::MAX).saturating_sub(included.len());
        let mut distinct_tokens = 0;
        let (mut most_frequent, mut unlisted) = (MostFrequent::new(free), Sample::new(UNLISTED_WORDS));
        let mut forced: Vec<(Box<str>, u64)> = included.iter().map(|token| ((*token).into(), 0)).collect();
        self.others.push(self.tally);
        Tally::merge(self.others, |token, count| {
            distinct_tokens += 1;
            if let Ok(at) = included.binary_search(&token) {
                forced[at].1 = count;
            } else if count >= spec.minimum_count && excluded.binary_search(&token).is_err() {
                most_frequent.offer(token, count, |refused, count| unlisted.offer(refused, count));
            } else {
                unlisted.offer(token, count);
            }
        })
        .map_err(TextError::Scratch)?;
        let mut ranked = most_frequent.ranked();
        ranked.append(&mut forced);
        ranked.sort_unstable_by(|(a, m), (b, n)| n.cmp(m).then_with(|| a.cmp(b)));
        if ranked.is_empty() {
            return Err(TextError::EmptyVocabulary {
                unit: spec.unit.noun(),
                minimum_count: spec.minimum_count,
            });
        }
        let counted = Counted {
            documents: self.documents,
            tokens: self.tokens,
            distinct_tokens,
            tokens_covered: ranked.iter().map(|(_, count)| count).sum(),
        };
        let tokens =
            ranked.into_iter().map(|(token, count)| Token::new(token.into_boxed_bytes(), count)).collect();
        let rest = Rest { words: unlisted.sorted(), spacing: self.spacing };
        assembled(self.spec, counted, tokens, Method::Listed, rest)
    }

    fn finish_bytes(self) -> Result<Vocabulary, TextError> {
        if self.spec.size.is_some_and(|size| size < BYTES as usize) {
            return Err(TextError::TooFewTokens { least: BYTES as usize });
        }
        let tokens: Vec<Token> =
            (0..=255u8).zip(self.bytes).map(|(byte, count)| Token::new([byte], count)).collect();
        let counted = counted(self.documents, &tokens);
        assembled(self.spec, counted, tokens, Method::Listed, Rest::default())
    }

    /// The counted pieces, the most frequent first; the size of the vocabulary, its other properties, and the number of documents.
    #[allow(clippy::type_complexity, reason = "four values that go their own ways")]
    pub(crate) fn into_pieces(
        mut self,
    ) -> Result<(Vec<(Box<str>, u64)>, usize, VocabularySpec, u64), TextError> {
        let size = self.spec.size.unwrap_or(USUAL_SUBWORDS);
        if size <= BYTES as usize {
            return Err(TextError::TooFewTokens { least: BYTES as usize + 1 });
        }
        let mut pieces: Vec<(Box<str>, u64)> = Vec::new();
        self.others.push(self.tally);
        Tally::merge(self.others, |piece, count| pieces.push((Box::from(piece), count)))
            .map_err(TextError::Scratch)?;
        if pieces.is_empty() {
            return Err(TextError::EmptyVocabulary { unit: self.spec.unit.noun(), minimum_count: 1 });
        }
        pieces.sort_unstable_by(|(a, m), (b, n)| n.cmp(m).then_with(|| a.cmp(b)));
        Ok((pieces, size, self.spec, self.documents))
    }

    /// The subword vocabulary that these pieces give.
    pub(crate) fn learn_subwords(
        pieces: &[(Box<str>, u64)],
        spec: VocabularySpec,
        documents: u64,
        threads: usize,
    ) -> Result<Vocabulary, TextError> {
        let size = spec.size.unwrap_or(USUAL_SUBWORDS);
        let (tokens, method) = match spec.unit {
            Unit::BytePair => {
                let learnt = byte_pair::learn(pieces, size, spec.minimum_count);
                let tokens: Vec<Token> = learnt
                    .tokens
                    .into_iter()
                    .zip(learnt.counts)
                    .map(|(b, count)| Token::new(b, count))
                    .collect();
                let method = byte_pair_method(&tokens, learnt.merges);
                (tokens, method)
            }
            _ => unigram_tokens(pieces, size, spec.minimum_count, threads),
        };
        assembled(spec, counted(documents, &tokens), tokens, method, Rest::default())
    }
}

fn unigram_tokens(
    pieces: &[(Box<str>, u64)],
    size: usize,
    minimum_count: u64,
    threads: usize,
) -> (Vec<Token>, Method) {
    // Characters of one byte share the byte's index, so they take no room of their own.
    let mut shared = [false; 256];
    pieces.iter().flat_map(|(piece, _)| piece.bytes()).filter(u8::is_ascii).for_each(|byte| {
        shared[usize::from(byte)] = true;
    });
    let room = size - BYTES as usize + shared.iter().filter(|&&shared| shared).count();
    let (learnt, bytes) = unigram::learn(pieces, room, minimum_count, threads);
    let mut tokens: Vec<Token> =
        (0..=255u8).zip(bytes).map(|(byte, count)| Token::new([byte], count)).collect();
    let mut scores = vec![None; tokens.len()];
    for token in learnt {
        match token.text.as_bytes() {
            [byte] => {
                tokens[usize::from(*byte)].count += token.count;
                scores[usize::from(*byte)] = Some(token.score);
            }
            _ => {
                tokens.push(Token::new(token.text.into_boxed_bytes(), token.count));
                scores.push(Some(token.score));
            }
        }
    }
    let method = unigram_method(&tokens, scores);
    (tokens, method)
}

/// The merges of a vocabulary whose tokens are these. Positions represent symbols.
pub(super) fn byte_pair_method(tokens: &[Token], pairs: Vec<byte_pair::Pair>) -> Method {
    let mut symbols: std::collections::HashMap<&[u8], u32> = std::collections::HashMap::new();
    for (token, symbol) in tokens.iter().zip(0..) {
        symbols.insert(&token.bytes, symbol);
    }
    let made = pairs.iter().map(|pair| {
        let merged = [&*tokens[pair.0 as usize].bytes, &*tokens[pair.1 as usize].bytes].concat();
        (*pair, symbols.get(merged.as_slice()).copied().unwrap_or(pair.0))
    });
    let merges = Merges::new(made);
    Method::BytePair { pairs, merges }
}

/// The model of a vocabulary whose tokens have these scores.
pub(super) fn unigram_method(tokens: &[Token], scores: Vec<Option<f64>>) -> Method {
    let pieces = CutTable::new(tokens.iter().map(|token| &*token.bytes).zip(scores.iter().copied()));
    Method::Unigram { scores, pieces }
}

fn counted(documents: u64, tokens: &[Token]) -> Counted {
    let sum = tokens.iter().map(|token| token.count).sum();
    let distinct_tokens = tokens.iter().filter(|token| token.count > 0).count() as u64;
    Counted { documents, tokens: sum, distinct_tokens, tokens_covered: sum }
}

fn assembled(
    spec: VocabularySpec,
    counted: Counted,
    tokens: Vec<Token>,
    method: Method,
    rest: Rest,
) -> Result<Vocabulary, TextError> {
    Vocabulary::assemble(spec.unit, spec.cleaning, spec.reserved, counted, tokens, method, rest)
        .map_err(|(_, what)| TextError::BadVocabulary(what))
}
