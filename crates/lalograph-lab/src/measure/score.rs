//! Scoring text: how surprised is a model by it?

use std::f64::consts::LN_2;

use lalograph_net::step::exchange::{Exchange, OneProcess};
use lalograph_text::store::Totals;
use lalograph_text::tokens::TokenSequence;
use lalograph_text::{Reserved, TextError, Unit, Vocabulary};
use serde::{Deserialize, Serialize};

use super::baseline::Predictor;
use super::documents::Documents;
use super::token_losses::Reader;
use crate::error::LabError;
use crate::run::records::{Evaluation, Figures};
use crate::task::language::model::ModelFile;

/// Score of a text. The end of every document is a predicted token.
///
/// Bits per byte are the length of a code from which the text, as cleaned, can be put together again, over the bytes of the text before
/// cleaning: the bits of all tokens, those of the spelling of unknown ones, and those of the white space that tokens do not hold. An
/// unknown token so costs what its letters cost, and a small vocabulary gains nothing by it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Score {
    /// Documents.
    pub documents: u64,
    /// UTF-8 bytes of their text before cleaning, plus one for the end of each.
    pub bytes: u64,
    /// Documents that cleaning changed: bits per byte are then those of another text, and compare models of the same cleaning only.
    pub changed_documents: u64,
    /// Tokens predicted.
    pub tokens: u64,
    /// Number of unknown tokens.
    pub unknown_tokens: u64,
    /// Bits of the spelling of the unknown tokens.
    pub spelling_bits: f64,
    /// Bits of the white space between words, where tokens do not hold it.
    pub spacing_bits: f64,
    /// Mean natural-log cross-entropy per token.
    pub loss: f64,
    /// e to the power of the loss.
    pub perplexity: f64,
    /// The same over the tokens that are not unknown, where each token's loss was looked at.
    pub known_perplexity: Option<f64>,
    /// The loss over ln 2.
    pub bits_per_token: f64,
    /// The bits of tokens, spelling and spacing over the bytes.
    pub bits_per_byte: f64,
}

impl Score {
    /// The score of `text` at a summed loss, over the tokens that are scored.
    pub fn new(text: &TokenSequence, total_loss: f64) -> Self {
        let tokens = text.scored_tokens();
        let loss = total_loss / tokens as f64;
        let Totals { documents, bytes, unknown, changed, spelling_bits, spacing_bits } = text.totals;
        let bits = total_loss / LN_2 + spelling_bits + spacing_bits;
        Self {
            documents,
            bytes,
            changed_documents: changed,
            tokens: tokens as u64,
            unknown_tokens: unknown,
            spelling_bits,
            spacing_bits,
            loss,
            perplexity: loss.exp(),
            known_perplexity: None,
            bits_per_token: loss / LN_2,
            bits_per_byte: bits / bytes.max(1) as f64,
        }
    }

    /// The figures that a run records: the loss and the measures computed from it. The counts of the text are known before the run.
    pub fn evaluation(&self) -> Evaluation {
        let figures = Figures::of([("perplexity", self.perplexity), ("bits_per_byte", self.bits_per_byte)]);
        Evaluation { loss: self.loss, figures }
    }
}

/// Steps of a window while scoring, by default; no result depends on it.
pub const WINDOW: usize = 64;

/// Settings of scoring.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Scoring {
    /// Tokens read at once.
    pub window: usize,
    /// Whether the state is reset where a document begins; none for as in training.
    pub resets: Option<bool>,
    /// Whether every token's loss is kept, and not only every document's.
    pub tokens: bool,
}

impl Scoring {
    fn reader(self, file: &ModelFile) -> Reader<'_> {
        let resets = self.resets.unwrap_or(file.plan.training.reset_at_documents);
        Reader { model: &file.model, weights: &file.weights, window: self.window.max(1), resets }
    }
}

impl Default for Scoring {
    fn default() -> Self {
        Self { window: WINDOW, resets: None, tokens: false }
    }
}

/// Score of a document or of a part of one.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PassageScore {
    /// Number of the document, or of the passage's document, from 0.
    pub document: u64,
    /// Position of its first token.
    pub start: u64,
    /// Tokens predicted; the document's end is one of its last passage's.
    pub tokens: u64,
    /// Number of unknown tokens.
    pub unknown_tokens: u64,
    /// Mean natural-log cross-entropy per token.
    pub loss: f64,
}

/// Score of a text, in all and by document.
#[derive(Debug, Clone)]
pub struct Judgement {
    /// The whole.
    pub score: Score,
    /// The standard error of the loss over documents, each weighing as much as it has tokens; none for a single document.
    pub loss_standard_error: Option<f64>,
    /// Each document.
    pub documents: Vec<PassageScore>,
    /// The code of each document.
    pub codes: Vec<Code>,
    /// The loss of each token, if it was asked for.
    pub token_losses: Vec<f64>,
}

/// The code of one document.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Code {
    /// Bits of its tokens, spelling and spacing.
    pub bits: f64,
    /// Bytes of its text.
    pub bytes: u64,
}

/// A judgement with its text.
#[derive(Debug, Clone)]
pub struct TextScore {
    /// Its score.
    pub judgement: Judgement,
    /// Its tokens.
    pub text: TokenSequence,
}

/// A judgement in the making.
struct Scorer<'t> {
    text: &'t TokenSequence,
    keep_tokens: bool,
    total: f64,
    /// The part of unknown tokens in it.
    unknown: f64,
    open: PassageScore,
    documents: Vec<PassageScore>,
    token_losses: Vec<f64>,
}

impl PassageScore {
    fn empty(document: u64, start: u64) -> Self {
        Self { document, start, tokens: 0, unknown_tokens: 0, loss: 0.0 }
    }

    /// Adds a token; the loss is a sum until [`PassageScore::close`].
    fn add(&mut self, index: u32, loss: f64) {
        self.tokens += 1;
        self.loss += loss;
        self.unknown_tokens += u64::from(index == Reserved::UNKNOWN);
    }

    fn close(self) -> Self {
        Self { loss: self.loss / self.tokens.max(1) as f64, ..self }
    }
}

impl<'t> Scorer<'t> {
    fn new(text: &'t TokenSequence, keep_tokens: bool) -> Self {
        let open = PassageScore::empty(0, 0);
        Self {
            text,
            keep_tokens,
            total: 0.0,
            unknown: 0.0,
            open,
            documents: Vec::new(),
            token_losses: Vec::new(),
        }
    }

    fn add(&mut self, at: usize, loss: f64) {
        let index = self.text.index(at);
        self.total += loss;
        self.unknown += if index == Reserved::UNKNOWN { loss } else { 0.0 };
        self.open.add(index, loss);
        if index == Reserved::END || at + 1 == self.text.len() {
            let next = PassageScore::empty(self.open.document + 1, at as u64 + 1);
            self.documents.push(std::mem::replace(&mut self.open, next).close());
        }
        if self.keep_tokens {
            self.token_losses.push(loss);
        }
    }

    fn finish(self) -> Judgement {
        let mut score = Score::new(self.text, self.total);
        let known = score.tokens - score.unknown_tokens.min(score.tokens);
        score.known_perplexity = (known > 0).then(|| ((self.total - self.unknown) / known as f64).exp());
        let code = |document: &PassageScore| {
            let place = self.text.document(document.document);
            let beside = place.as_ref().map_or(0.0, |place| place.remainder_bits);
            let bits = document.loss * document.tokens as f64 / LN_2 + beside;
            Code { bits, bytes: place.map_or(0, |place| place.text_bytes) }
        };
        let codes = self.documents.iter().map(code).collect();
        let loss_standard_error = standard_error(&self.documents, score.loss);
        Judgement {
            score,
            loss_standard_error,
            documents: self.documents,
            codes,
            token_losses: self.token_losses,
        }
    }
}

/// Scores documents as one text read in order, the state carried from document to document or reset. `progress` is called with the share
/// done and stops the work by returning `false`.
///
/// # Errors
/// No text; a stop.
pub fn score(
    file: &ModelFile,
    documents: &Documents,
    scoring: Scoring,
    progress: &mut dyn FnMut(f64) -> bool,
) -> Result<TextScore, LabError> {
    score_together(file, documents, scoring, &mut OneProcess::default(), progress)
}

/// The same by several processes, of which this is the first and the others [`follow`](super::token_losses::follow_scoring): documents are divided
/// among them if the state is reset before each. The score is that of one process, to the bit.
///
/// # Errors
/// As for [`score`].
pub fn score_together(
    file: &ModelFile,
    documents: &Documents,
    scoring: Scoring,
    exchange: &mut dyn Exchange<f32>,
    progress: &mut dyn FnMut(f64) -> bool,
) -> Result<TextScore, LabError> {
    let text = documents.encode(&file.vocabulary)?;
    let losses = scoring.reader(file).losses(&file.plan, &text, exchange, progress)?;
    let losses = losses.ok_or(TextError::Stopped)?;
    let mut scorer = Scorer::new(&text, scoring.tokens);
    losses.into_iter().enumerate().for_each(|(at, loss)| scorer.add(at, loss));
    Ok(TextScore { judgement: scorer.finish(), text })
}

/// The loss of every token of a text that begins with a document.
pub fn token_losses(file: &ModelFile, text: &TokenSequence) -> Vec<f64> {
    let read = Scoring::default().reader(file).read(text, &mut OneProcess::default(), &mut |_| true);
    read.unwrap_or_default()
}

/// Scores a text under the mean of the probabilities that several models give each token: an ensemble whose members see the same tokens. The
/// losses of all tokens must have been kept ([`Scoring::tokens`]), of the same text under the same vocabulary.
///
/// The mean of probabilities is never worse than the mean of losses (Jensen's inequality). `None` for no models, or for texts of other lengths.
pub fn average(found: &[TextScore]) -> Option<Judgement> {
    let first = found.first()?;
    let losses: Vec<&[f64]> = found.iter().map(|one| &one.judgement.token_losses[..]).collect();
    if losses.iter().any(|losses| losses.len() != first.text.len()) {
        return None;
    }
    let mean = |at: usize| {
        // By way of the least loss, so that no probability is rounded to zero.
        let least = losses.iter().map(|losses| losses[at]).fold(f64::INFINITY, f64::min);
        let sum: f64 = losses.iter().map(|losses| (least - losses[at]).exp()).sum();
        least - (sum / losses.len() as f64).ln()
    };
    Some(judged(&first.text, (0..first.text.len()).map(mean)))
}

/// Scores a text that was read already under a model that is no network.
pub fn score_baseline(text: &TokenSequence, predictor: &mut dyn Predictor) -> Judgement {
    judged(text, text.iter().map(|token| -predictor.probability(token).ln()))
}

/// The score of a text whose tokens have these losses.
pub(super) fn judged(text: &TokenSequence, losses: impl Iterator<Item = f64>) -> Judgement {
    let mut scorer = Scorer::new(text, false);
    losses.enumerate().for_each(|(at, loss)| scorer.add(at, loss));
    scorer.finish()
}

/// The sentences of a text whose tokens' losses were kept. A sentence ends with a full stop, a question mark or an exclamation mark that ends a word,
/// and with its document; closing quotation marks and brackets belong to it.
pub fn sentences(found: &TextScore, vocabulary: &Vocabulary) -> Vec<PassageScore> {
    let text = &found.text;
    let token = |at: usize| {
        let index = (at < text.len()).then(|| text.index(at)).filter(|&index| index != Reserved::END)?;
        vocabulary.token(index).ok()
    };
    // Tokens of words hold no spaces; elsewhere a word continues unless a space follows.
    let spaced = vocabulary.unit() != Unit::Word;
    let goes_on = |next: &[u8]| {
        CLOSING.contains(&next) || (spaced && !next.first().is_some_and(u8::is_ascii_whitespace))
    };
    let (mut sentences, mut open, mut ended) = (Vec::new(), PassageScore::empty(0, 0), false);
    for (at, &loss) in found.judgement.token_losses.iter().enumerate() {
        let index = text.index(at);
        open.add(index, loss);
        let spelling = token(at).unwrap_or_default();
        let stops = matches!(spelling.last(), Some(b'.' | b'?' | b'!'));
        ended = stops || (ended && CLOSING.contains(&spelling));
        let next = token(at + 1);
        let last = index == Reserved::END || at + 1 == text.len();
        // Before the end of a document a sentence stays open for it.
        if last || (ended && next.is_some_and(|next| !goes_on(next))) {
            let document = open.document + u64::from(index == Reserved::END);
            let next = PassageScore::empty(document, at as u64 + 1);
            sentences.push(std::mem::replace(&mut open, next).close());
            ended = false;
        }
    }
    sentences
}

/// Tokens that belong to the sentence before them.
const CLOSING: [&[u8]; 6] = [b"\"", b"'", b")", b"]", "\u{201d}".as_bytes(), "\u{2019}".as_bytes()];

/// Difference in bits per byte between two models on the same documents.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Difference {
    /// The difference.
    pub bits_per_byte: f64,
    /// Its standard error over documents, each of which both have scored; none for a single document.
    pub standard_error: Option<f64>,
}

impl Difference {
    /// The difference of `other` and `base` in bits per byte: the ratio of summed differences to summed bytes, and its linear standard error (Cochran, 1977).
    /// Costs that both share cancel, so the error is smaller than that of either figure.
    pub fn between(other: &Judgement, base: &Judgement) -> Self {
        let pairs = || other.codes.iter().zip(&base.codes);
        let bytes = base.codes.iter().map(|code| code.bytes).sum::<u64>().max(1) as f64;
        let ratio = pairs().map(|(other, base)| other.bits - base.bits).sum::<f64>() / bytes;
        let square =
            |(other, base): (&Code, &Code)| (other.bits - base.bits - ratio * base.bytes as f64).powi(2);
        let (count, squares) = (base.codes.len() as f64, pairs().map(square).sum::<f64>());
        let error = || (squares * count / (count - 1.0)).sqrt() / bytes;
        Self { bits_per_byte: ratio, standard_error: (base.codes.len() > 1).then(error) }
    }

    /// The range that holds the difference with a confidence of 95 %.
    pub fn interval(&self) -> Option<(f64, f64)> {
        let half = 1.96 * self.standard_error?;
        Some((self.bits_per_byte - half, self.bits_per_byte + half))
    }
}

/// The standard error of a ratio of sums over documents, by its linear part (Cochran, 1977).
fn standard_error(documents: &[PassageScore], loss: f64) -> Option<f64> {
    let count = documents.len() as f64;
    let tokens: f64 = documents.iter().map(|document| document.tokens as f64).sum();
    let squares: f64 =
        documents.iter().map(|document| ((document.loss - loss) * document.tokens as f64).powi(2)).sum();
    (documents.len() > 1).then(|| (squares * count / (count - 1.0)).sqrt() / tokens)
}

#[cfg(test)]
mod tests {
    use super::{PassageScore, Scorer, TextScore, average, sentences, standard_error};
    use lalograph_text::tokens::TokenSequence;
    use lalograph_text::vocabulary::VocabularySpec;
    use lalograph_text::{Reserved, Unit, VocabularyBuilder};

    /// The sentences of documents over which every token has the loss of its position, as ranges and mean losses.
    fn ranges(unit: Unit, documents: &[&str]) -> Vec<(u64, u64, u64, f64)> {
        let spec = VocabularySpec { unit, ..VocabularySpec::default() };
        let mut builder = VocabularyBuilder::new(&spec);
        documents.iter().for_each(|text| builder.add(text));
        let vocabulary = builder.finish(1).unwrap();
        let mut indices = Vec::new();
        for text in documents {
            vocabulary.encoder().encode_into(text, &mut indices);
            indices.push(Reserved::END);
        }
        let text = TokenSequence::from_indices(indices);
        let mut scorer = Scorer::new(&text, true);
        (0..text.len()).for_each(|at| scorer.add(at, at as f64));
        let found = TextScore { judgement: scorer.finish(), text: text.clone() };
        let all = sentences(&found, &vocabulary);
        assert_eq!(all.iter().map(|sentence| sentence.tokens).sum::<u64>(), found.text.len() as u64);
        all.iter()
            .map(|sentence| (sentence.document, sentence.start, sentence.tokens, sentence.loss))
            .collect()
    }

    #[test]
    fn sentences_end_where_a_reader_ends_them() {
        // Two sentences, then a document without a full stop; ends belong to the last sentence.
        let found = ranges(Unit::Word, &["bees flew . all was well !", "a cold day"]);
        assert_eq!(found, [(0, 0, 3, 1.0), (0, 3, 5, 5.0), (1, 8, 4, 9.5)]);
        // What closes belongs to what it closes.
        let found = ranges(Unit::Word, &["( she said . ) we went ."]);
        assert_eq!(found.iter().map(|sentence| sentence.2).collect::<Vec<_>>(), [5, 4]);
        // A point inside a number ends nothing, where units hold spaces.
        let found = ranges(Unit::Character, &["3.5 kg. Ah."]);
        assert_eq!(found.iter().map(|sentence| sentence.2).collect::<Vec<_>>(), [7, 5]);
    }

    #[test]
    fn the_standard_error_of_equally_long_documents_is_that_of_a_mean() {
        let document = |loss| PassageScore { document: 0, start: 0, tokens: 10, unknown_tokens: 0, loss };
        let losses = [1.0, 2.0, 4.0, 5.0];
        let documents: Vec<_> = losses.iter().map(|&loss| document(loss)).collect();
        // By hand: deviations 2, 1, 1, 2; variance 10 / 3; over the root of four.
        let expected = (10.0f64 / 3.0).sqrt() / 2.0;
        assert!((standard_error(&documents, 3.0).unwrap() - expected).abs() < 1e-12);
        assert!(standard_error(&documents[..1], 1.0).is_none());
    }

    #[test]
    fn an_average_is_that_of_probabilities() {
        let text = TokenSequence::from_indices(vec![5, 6, Reserved::END]);
        let scored = |losses: &[f64]| {
            let mut scorer = Scorer::new(&text, true);
            losses.iter().enumerate().for_each(|(at, &loss)| scorer.add(at, loss));
            TextScore { judgement: scorer.finish(), text: text.clone() }
        };
        let (one, two) = ([0.5f64, 0.125, 0.25], [0.25f64, 0.375, 0.75]);
        let losses = |of: [f64; 3]| of.map(|probability| -probability.ln());
        let found = average(&[scored(&losses(one)), scored(&losses(two))]).unwrap();
        // Of 3/8, 1/4 and 1/2.
        assert!((found.score.loss + (0.375f64 * 0.25 * 0.5).ln() / 3.0).abs() < 1e-12, "{found:?}");
        // Probabilities that are no numbers by themselves.
        let far = average(&[scored(&[900.0, 800.0, 1.0]), scored(&[901.0, 2000.0, 1.0])]).unwrap();
        let expected = (900.0 - (1.0 + (-1.0f64).exp()).ln() + 800.0 + 1.0 + 2.0 * 2.0f64.ln()) / 3.0;
        assert!((far.score.loss - expected).abs() < 1e-9, "{} {expected}", far.score.loss);
        assert!(average(&[]).is_none());
    }
}
