//! Text token by token, many texts side by side.

use std::sync::Arc;

use lalograph_net::Network;
use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::models::language::LanguageLane;
use lalograph_net::numbers::chance::Stream;
use lalograph_text::vocabulary::Decoder;
use lalograph_text::{Reserved, Vocabulary};
use serde::{Deserialize, Serialize};

use super::beam::{Beam, Hypothesis, search};
use super::decoding::{Decoding, choose, log_total, quick_log_total};
use crate::data::filler::resets_before;
use crate::error::LabError;
use crate::task::language::model::ReadyModel;

/// Where a text ends, besides where its document does.
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
    /// A sentence did.
    Sentence,
    /// A line did.
    Line,
    /// A text that it was to stop at came.
    Text,
    /// It had as many tokens as it may.
    Limit,
    /// Nobody wanted more.
    Stopped,
}

/// What to write.
#[derive(Debug, Clone, Copy)]
pub struct Request<'a> {
    /// What to go on from; empty for the start of a document.
    pub seed_text: &'a str,
    /// How tokens are chosen.
    pub decoding: &'a Decoding,
    /// Tokens at most.
    pub tokens: usize,
    /// Whether to go on with another document where one ends.
    pub past_end: bool,
    /// Where to stop before that.
    pub stop: &'a Stop,
}

/// A text that was written.
#[derive(Debug, Clone, PartialEq)]
pub struct Sample {
    /// The text without the seed text, with the space that it needs after it.
    pub text: String,
    /// The tokens that were drawn, ends of documents included.
    pub indices: Vec<u32>,
    /// The natural logarithm of the probability of each under the model itself, whatever it was chosen by.
    pub log_probabilities: Vec<f64>,
    /// Why it ended.
    pub ended: Ended,
}

impl Sample {
    /// Tokens drawn.
    pub fn tokens(&self) -> u64 {
        self.indices.len() as u64
    }

    /// The natural logarithm of the probability of all tokens together.
    pub fn log_probability(&self) -> f64 {
        self.log_probabilities.iter().sum()
    }
}

/// One token that may come next.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct NextToken {
    /// Its index.
    pub index: u32,
    /// Its probability.
    pub probability: f64,
}

/// Steps in which a seed text is read; no result depends on it.
const WINDOW: usize = 32;

/// Writes texts with one model, one after another. It owns what it needs: many can be at work at once.
pub struct Generator {
    ready: Arc<ReadyModel>,
    reader: LanguageLane<f32>,
}

/// A text under way.
struct Row<'v> {
    decoder: Decoder<'v>,
    text: String,
    /// Bytes of the text that somebody was given.
    given: usize,
    indices: Vec<u32>,
    log_probabilities: Vec<f64>,
    seen: Vec<bool>,
    ended: Option<Ended>,
}

impl Generator {
    /// Makes room to work in.
    pub fn new(ready: Arc<ReadyModel>) -> Self {
        let reader = ready.model().reading_lane(Extent { steps: WINDOW, rows: 1 }, false);
        Self { ready, reader }
    }

    /// The tokens of a seed text that the vocabulary does not know, in order.
    pub fn unknown_tokens(&self, seed_text: &str) -> Vec<String> {
        let known = |(token, index): (String, u32)| (index == Reserved::UNKNOWN).then_some(token);
        self.ready.vocabulary().encode(seed_text).into_iter().filter_map(known).collect()
    }

    /// Reads a seed text to its end; returns what was read, the start token first, and the scores of what may come next.
    fn read(&mut self, seed_text: &str) -> Result<(Vec<u32>, Vec<f32>), LabError> {
        let mut read = vec![Reserved::START];
        self.ready.vocabulary().encoder().encode_into(seed_text, &mut read);
        if read.len() > 1 && read[1..].iter().all(|&index| index == Reserved::UNKNOWN) {
            return Err(LabError::SeedUnknown);
        }
        let (model, weights) = (self.ready.model(), self.ready.parameters());
        model.begin(weights, &mut self.reader);
        for window in read.chunks(WINDOW) {
            model.forward(weights, window, None, &mut self.reader, None);
        }
        let mut scores = vec![0.0; model.shape().vocabulary];
        model.last_scores(weights, &mut self.reader, &mut scores);
        Ok((read, scores))
    }

    /// The distribution of the token after a text, the likeliest first.
    ///
    /// # Errors
    /// A seed text with no known token in it.
    pub fn next(&mut self, seed_text: &str) -> Result<Vec<NextToken>, LabError> {
        let (_, scores) = self.read(seed_text)?;
        let total = log_total(&scores);
        let mut all: Vec<NextToken> = scores
            .iter()
            .enumerate()
            .map(|(index, &score)| NextToken {
                index: index as u32,
                probability: (f64::from(score) - total).exp(),
            })
            .collect();
        all.sort_by(|a, b| b.probability.total_cmp(&a.probability).then(a.index.cmp(&b.index)));
        Ok(all)
    }

    /// Writes one text. `each` is given the text as it comes and stops the writing by returning `false`.
    ///
    /// # Errors
    /// A seed text with no known token in it; a way to choose that is none.
    pub fn write(
        &mut self,
        request: &Request<'_>,
        random: &mut Stream,
        mut each: impl FnMut(&str) -> bool,
    ) -> Result<Sample, LabError> {
        let samples = self.write_all(request, std::slice::from_mut(random), &mut |_, piece| each(piece))?;
        samples.into_iter().next().ok_or(LabError::SeedUnknown)
    }

    /// Writes as many texts as there are sources of chance, side by side: each is the text that [`Generator::write`] would have written with
    /// its source. `each` is told of every piece of text and whose it is, and stops that text by returning `false`.
    ///
    /// # Errors
    /// As for [`Generator::write`].
    pub fn write_all(
        &mut self,
        request: &Request<'_>,
        randoms: &mut [Stream],
        each: &mut dyn FnMut(usize, &str) -> bool,
    ) -> Result<Vec<Sample>, LabError> {
        let ready = Arc::clone(&self.ready);
        let (model, weights, size) = (ready.model(), ready.parameters(), ready.model().shape().vocabulary);
        request.decoding.check(size)?;
        let (read, first) = self.read(request.seed_text)?;
        let count = randoms.len();
        let mut seen = vec![false; size];
        read.iter().for_each(|&index| seen[index as usize] = true);
        let mut rows: Vec<Row<'_>> = (0..count)
            .map(|_| {
                Ok(Row {
                    decoder: decoder_after(ready.vocabulary(), &read)?,
                    text: String::new(),
                    given: 0,
                    indices: Vec::new(),
                    log_probabilities: Vec::new(),
                    seen: seen.clone(),
                    ended: (request.tokens == 0).then_some(Ended::Limit),
                })
            })
            .collect::<Result<_, LabError>>()?;
        let mut lane = model.reading_lane(Extent { steps: 1, rows: count }, true);
        lane.carry_from(self.reader.states(), 1, &vec![0; count]);
        let mut scores = first.repeat(count);
        let (mut tokens, mut resets) = (vec![Reserved::PADDING; count], vec![false; count]);
        // The longest text to stop at may have begun in what is held back.
        let hold = request.stop.texts.iter().map(String::len).max().unwrap_or(1).saturating_sub(1);
        while rows.iter().any(|row| row.ended.is_none()) {
            for (number, (row, random)) in rows.iter_mut().zip(randoms.iter_mut()).enumerate() {
                let scores = &scores[number * size..(number + 1) * size];
                if row.ended.is_some() {
                    continue;
                }
                let token = choose(scores, request.decoding, &row.seen, random);
                row.take(token, f64::from(scores[token as usize]) - quick_log_total(scores), request)?;
                let sure =
                    if row.ended.is_some() { row.text.len() } else { row.text.len().saturating_sub(hold) };
                let piece = row.give(sure);
                if !piece.is_empty() && !each(number, &piece) && row.ended.is_none() {
                    row.ended = Some(Ended::Stopped);
                }
                tokens[number] = if token == Reserved::END { Reserved::START } else { token };
                resets[number] = resets_before(tokens[number], false, ready.resets());
            }
            if rows.iter().all(|row| row.ended.is_some()) {
                break;
            }
            model.forward(weights, &tokens, Some(&resets), &mut lane, None);
            model.last_scores(weights, &mut lane, &mut scores);
        }
        Ok(rows
            .into_iter()
            .map(|row| Sample {
                text: row.text,
                indices: row.indices,
                log_probabilities: row.log_probabilities,
                ended: row.ended.unwrap_or(Ended::Limit),
            })
            .collect())
    }

    /// Searches for likely texts; the best first, by the beam's own measure.
    ///
    /// # Errors
    /// As for [`Generator::write`]; a beam without width.
    pub fn search(
        &mut self,
        request: &Request<'_>,
        beam: &Beam,
        random: &mut Stream,
        progress: &mut dyn FnMut(usize) -> bool,
    ) -> Result<Vec<(Sample, f64)>, LabError> {
        let ready = Arc::clone(&self.ready);
        let size = ready.model().shape().vocabulary;
        beam.check()?;
        let (read, first) = self.read(request.seed_text)?;
        let found = search(&ready, self.reader.states(), &first, request.tokens, beam, random, progress);
        let mut samples = Vec::with_capacity(found.len());
        for Hypothesis { indices, log_probabilities, .. } in &found {
            let mut row = Row {
                decoder: decoder_after(ready.vocabulary(), &read)?,
                text: String::new(),
                given: 0,
                indices: Vec::new(),
                log_probabilities: Vec::new(),
                seen: vec![false; size],
                ended: None,
            };
            for (&index, &log) in indices.iter().zip(log_probabilities) {
                if row.ended.is_none() {
                    row.take(index, log, request)?;
                }
            }
            let sample = Sample {
                text: row.text,
                indices: row.indices,
                log_probabilities: row.log_probabilities,
                ended: row.ended.unwrap_or(Ended::Limit),
            };
            let score = beam.score(sample.log_probability(), sample.indices.len());
            samples.push((sample, score));
        }
        Ok(samples)
    }
}

/// A decoder that has seen the seed text, so that it knows whether a space follows; the seed text itself is shown as it was given.
fn decoder_after<'v>(vocabulary: &'v Vocabulary, read: &[u32]) -> Result<Decoder<'v>, LabError> {
    let mut decoder = vocabulary.decoder();
    let mut seed = String::new();
    for &index in &read[1..] {
        decoder.push(index, &mut seed)?;
    }
    Ok(decoder)
}

impl Row<'_> {
    /// Adds a token, and sees whether the text ends with it.
    fn take(&mut self, token: u32, log_probability: f64, request: &Request<'_>) -> Result<(), LabError> {
        self.indices.push(token);
        self.log_probabilities.push(log_probability);
        self.seen[token as usize] = true;
        let from = self.text.len();
        if token != Reserved::END {
            self.decoder.push(token, &mut self.text)?;
        } else if request.past_end {
            self.decoder.finish(&mut self.text);
            self.text.push('\n');
        } else {
            self.ended = Some(Ended::Document);
        }
        let stop = request.stop;
        if self.ended.is_none() {
            self.ended = self.stopped(stop, from);
        }
        if self.ended.is_none() && self.indices.len() >= request.tokens {
            self.ended = Some(Ended::Limit);
        }
        if self.ended.is_some_and(|ended| matches!(ended, Ended::Document | Ended::Limit)) {
            self.decoder.finish(&mut self.text);
        }
        Ok(())
    }

    /// Whether what came after byte `from` ends the text; what is beyond the end is cut off.
    fn stopped(&mut self, stop: &Stop, from: usize) -> Option<Ended> {
        // A text to stop at may have begun before.
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
    fn give(&mut self, end: usize) -> String {
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
