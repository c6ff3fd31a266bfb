//! Text token by token, many texts side by side.

use std::collections::BTreeMap;
use std::sync::Arc;

use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::numbers::chance::Stream;
use lalograph_text::Reserved;

use super::beam::{Beam, Hypothesis, search};
use super::conversation::Conversation;
use super::decoding::{choose, log_total, quick_log_total};
use super::text::Row;
pub use super::text::{Ended, Request, Sample, Stop};
use crate::data::filler::resets_before;
use crate::error::LabError;
use crate::task::language::model::ReadyModel;

/// One token that may come next.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct NextToken {
    /// Its index.
    pub index: u32,
    /// Its probability.
    pub probability: f64,
}

/// Texts that are written side by side, at most.
const SIDE_BY_SIDE: usize = 32;

/// A text under way, and its chance.
struct Writer<'v> {
    number: usize,
    row: Row<'v>,
    random: Stream,
}

impl Writer<'_> {
    /// Chooses the next token by its scores, and gives the text that came of it.
    fn step(
        &mut self,
        scores: &[f32],
        request: &Request<'_>,
        ready: &ReadyModel,
        each: &mut dyn FnMut(usize, &str) -> bool,
    ) -> Result<u32, LabError> {
        let Self { number, row, random } = self;
        let token = choose(scores, request.decoding, &row.seen, random);
        let log = f64::from(scores[token as usize]) - quick_log_total(scores);
        let spelling = request.decoding.spelling_of(token, ready.vocabulary(), random);
        row.take(token, log, spelling.as_deref(), request)?;
        let piece = row.give(row.sure(request));
        if !piece.is_empty() && !each(*number, &piece) && row.ended.is_none() {
            row.ended = Some(Ended::Stopped);
        }
        Ok(token)
    }
}

/// Writes texts with one model, one after another. It owns what it needs: many can be at work at once.
pub struct Generator {
    conversation: Conversation,
}

impl Generator {
    /// Makes room to work in.
    pub fn new(ready: Arc<ReadyModel>) -> Self {
        Self { conversation: Conversation::new(ready) }
    }

    /// The tokens of a seed text that the vocabulary does not know, in order.
    pub fn unknown_tokens(&self, seed_text: &str) -> Vec<String> {
        let known = |(token, index): (String, u32)| (index == Reserved::UNKNOWN).then_some(token);
        self.conversation.ready().vocabulary().encode(seed_text).into_iter().filter_map(known).collect()
    }

    /// Reads a seed text to its end, from the start of a document.
    fn read(&mut self, seed_text: &str) -> Result<(), LabError> {
        self.conversation.restart();
        self.conversation.read(seed_text)
    }

    /// The distribution of the token after a text, the most probable first; padding and start are not among them, since no model predicts them.
    ///
    /// # Errors
    /// A seed text with no known token in it.
    pub fn next(&mut self, seed_text: &str) -> Result<Vec<NextToken>, LabError> {
        self.read(seed_text)?;
        let scores = self.conversation.scores();
        let total = log_total(scores);
        let mut all: Vec<NextToken> = scores
            .iter()
            .zip(0..)
            .filter(|(_, index)| !Reserved::NEVER_PREDICTED.contains(index))
            .map(|(&score, index)| NextToken { index, probability: (f64::from(score) - total).exp() })
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
        random: Stream,
        mut each: impl FnMut(&str) -> bool,
    ) -> Result<Sample, LabError> {
        let mut written = None;
        let mut done = |sample| {
            written = Some(sample);
            true
        };
        self.write_many(request, 1, &|_| random.clone(), &mut |_, piece| each(piece), &mut done)?;
        written.ok_or(LabError::SeedUnknown)
    }

    /// Writes `count` texts, each with the source of chance that `random` gives for its number: the text that [`Generator::write`] would write
    /// with it. Some are written side by side; where one ends, the next begins. `each` is given every piece of text and whose it is, and stops
    /// that text by returning `false`. `done` is given the texts in the order of their numbers; `false` begins no others.
    ///
    /// # Errors
    /// As for [`Generator::write`].
    pub fn write_many(
        &mut self,
        request: &Request<'_>,
        count: usize,
        random: &dyn Fn(usize) -> Stream,
        each: &mut dyn FnMut(usize, &str) -> bool,
        done: &mut dyn FnMut(Sample) -> bool,
    ) -> Result<(), LabError> {
        let ready = self.conversation.ready();
        let (model, weights, size) = (ready.model(), ready.parameters(), ready.model().shape().vocabulary);
        request.decoding.check(size)?;
        self.read(request.seed_text)?;
        let (read, first) = (self.conversation.tokens(), self.conversation.scores());
        let seed = self.conversation.states();
        let begin = |number: usize| -> Result<Writer<'_>, LabError> {
            let ended = (request.tokens == 0).then_some(Ended::Limit);
            let row = Row { ended, ..Row::after(ready.vocabulary(), read)? };
            Ok(Writer { number, row, random: random(number) })
        };
        let mut waiting = 0..count;
        let mut writers = waiting.by_ref().take(SIDE_BY_SIDE).map(begin).collect::<Result<Vec<_>, _>>()?;
        let mut lane = model.reading_lane(Extent { steps: 1, rows: writers.len().max(1) }, true);
        lane.carry_from(seed, 1, &vec![0; lane.capacity().rows]);
        let mut scores = first.repeat(writers.len());
        let (mut finished, mut next) = (BTreeMap::new(), 0);
        while !writers.is_empty() {
            let mut kept = Vec::with_capacity(writers.len());
            let (mut tokens, mut resets) = (Vec::new(), Vec::new());
            for (place, writer) in writers.iter_mut().enumerate() {
                let own = &mut scores[place * size..(place + 1) * size];
                loop {
                    if writer.row.ended.is_none() {
                        let token = writer.step(own, request, &ready, each)?;
                        if writer.row.ended.is_none() {
                            kept.push(place);
                            tokens.push(if token == Reserved::END { Reserved::START } else { token });
                            resets.push(resets_before(tokens[tokens.len() - 1], false, ready.resets()));
                            break;
                        }
                    }
                    // Its place is the next one's.
                    let Some(number) = waiting.next() else {
                        finished.insert(writer.number, writer.row.take_sample());
                        break;
                    };
                    let ended = std::mem::replace(writer, begin(number)?);
                    finished.insert(ended.number, ended.row.sample());
                    own.copy_from_slice(first);
                    lane.carry_row(place, seed, 1, 0);
                }
                while let Some(sample) = finished.remove(&next) {
                    next += 1;
                    if !done(sample) {
                        waiting = count..count;
                    }
                }
            }
            if kept.len() < writers.len() {
                // The places of ended texts are closed up.
                let rows = writers.len();
                let mut narrower = model.reading_lane(Extent { steps: 1, rows: kept.len().max(1) }, true);
                if !kept.is_empty() {
                    narrower.carry_from(lane.states(), rows, &kept);
                }
                lane = narrower;
                let mut place = 0;
                writers.retain(|_| {
                    place += 1;
                    kept.contains(&(place - 1))
                });
                scores.truncate(kept.len() * size);
            }
            if !writers.is_empty() {
                model.forward(weights, &tokens, Some(&resets), &mut lane, None);
                model.last_scores(weights, &mut lane, &mut scores);
            }
        }
        Ok(())
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
        let ready = self.conversation.ready();
        beam.check()?;
        self.read(request.seed_text)?;
        let (read, first) = (self.conversation.tokens(), self.conversation.scores());
        let states = self.conversation.states();
        let row = |indices: &[u32], log_probabilities: &[f64]| -> Result<Row<'_>, LabError> {
            let mut row = Row::after(ready.vocabulary(), read)?;
            for (&index, &log) in indices.iter().zip(log_probabilities) {
                row.take(index, log, None, request)?;
            }
            Ok(row)
        };
        let stops = *request.stop != Stop::default() || ready.vocabulary().turns().is_some();
        // A token that has no text fails when the text is put together below.
        let ended = |indices: &[u32]| {
            stops && row(indices, &vec![0.0; indices.len()]).is_ok_and(|row| row.ended.is_some())
        };
        let found = search(&ready, states, first, request.tokens, beam, random, &ended, progress);
        let mut samples: Vec<(Sample, f64)> = Vec::with_capacity(beam.best);
        for Hypothesis { indices, log_probabilities, .. } in &found {
            let sample = row(indices, log_probabilities)?.sample();
            // What is cut off where a text stops is all that two texts may differ in.
            if samples.len() < beam.best
                && !(stops && samples.iter().any(|(earlier, _)| earlier.text == sample.text))
            {
                let score = beam.score(sample.log_probability(), sample.indices.len());
                samples.push((sample, score));
            }
        }
        Ok(samples)
    }
}
