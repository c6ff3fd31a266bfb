//! Text token by token, many texts side by side.

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
        random: &mut Stream,
        mut each: impl FnMut(&str) -> bool,
    ) -> Result<Sample, LabError> {
        let samples = self.write_all(request, std::slice::from_mut(random), &mut |_, piece| each(piece))?;
        samples.into_iter().next().ok_or(LabError::SeedUnknown)
    }

    /// Writes as many texts as there are sources of chance, side by side: each is the text that [`Generator::write`] would have written with
    /// its source. `each` is given every piece of text and whose it is, and stops that text by returning `false`.
    ///
    /// # Errors
    /// As for [`Generator::write`].
    pub fn write_all(
        &mut self,
        request: &Request<'_>,
        randoms: &mut [Stream],
        each: &mut dyn FnMut(usize, &str) -> bool,
    ) -> Result<Vec<Sample>, LabError> {
        let ready = self.conversation.ready();
        let (model, weights, size) = (ready.model(), ready.parameters(), ready.model().shape().vocabulary);
        request.decoding.check(size)?;
        self.read(request.seed_text)?;
        let (read, first) = (self.conversation.tokens(), self.conversation.scores());
        let count = randoms.len();
        let mut rows: Vec<Row<'_>> = Vec::with_capacity(count);
        for _ in 0..count {
            let ended = (request.tokens == 0).then_some(Ended::Limit);
            rows.push(Row { ended, ..Row::after(ready.vocabulary(), read)? });
        }
        let mut lane = model.reading_lane(Extent { steps: 1, rows: count }, true);
        lane.carry_from(self.conversation.states(), 1, &vec![0; count]);
        let mut scores = first.repeat(count);
        let (mut tokens, mut resets) = (vec![Reserved::PADDING; count], vec![false; count]);
        while rows.iter().any(|row| row.ended.is_none()) {
            for (number, (row, random)) in rows.iter_mut().zip(randoms.iter_mut()).enumerate() {
                let scores = &scores[number * size..(number + 1) * size];
                if row.ended.is_some() {
                    continue;
                }
                let token = choose(scores, request.decoding, &row.seen, random);
                let log = f64::from(scores[token as usize]) - quick_log_total(scores);
                let spelling = request.decoding.spelling_of(token, ready.vocabulary(), random);
                row.take(token, log, spelling.as_deref(), request)?;
                let piece = row.give(row.sure(request));
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
        Ok(rows.into_iter().map(Row::sample).collect())
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
