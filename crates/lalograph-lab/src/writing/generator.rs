//! Text token by token, many texts side by side.

use std::collections::BTreeMap;
use std::sync::Arc;

use lalograph_net::numbers::chance::{Stream, stream};
use lalograph_text::Reserved;

use super::batch::{Batch, Drawn, Joining};
use super::beam::{Beam, Hypothesis, search};
use super::conversation::Conversation;
use super::decoding::{Decoding, log_total};
use super::text::Row;
pub use super::text::{Ended, Request, Sample, Stop, Terms, decoder_after};
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
pub const SIDE_BY_SIDE: usize = 32;

/// The source of chance of a sample: each has its own by seed, temperature and number, from 1.
pub fn chance_of_sample(seed: u64, decoding: &Decoding, number: u64) -> Stream {
    stream(seed, "sampling", &[decoding.temperature.unwrap_or(0.0).to_bits(), number])
}

/// The source of chance of a stochastic beam search.
pub fn chance_of_beam(seed: u64) -> Stream {
    stream(seed, "beam", &[])
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

    /// All tokens of the seed text read last, the start token first.
    pub fn tokens(&self) -> &[u32] {
        self.conversation.tokens()
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
        self.read(request.seed_text)?;
        let (ready, start) = (self.conversation.ready(), Arc::new(self.conversation.mark()));
        let mut batch = Batch::new(&ready);
        let (mut waiting, mut finished, mut next) = (0..count, BTreeMap::new(), 0);
        loop {
            while batch.len() < SIDE_BY_SIDE {
                let Some(number) = waiting.next() else { break };
                let (terms, random) = (request.terms.clone(), random(number));
                let joining = Joining { terms, random, looked_into: false, continued: false };
                batch.join(number, Arc::clone(&start), joining)?;
            }
            let mut piece =
                |number: &usize, drawn: Drawn<'_>| drawn.text.is_empty() || each(*number, drawn.text);
            for ended in batch.draw(&mut piece)? {
                finished.insert(ended.key, ended.sample);
            }
            while let Some(sample) = finished.remove(&next) {
                next += 1;
                if !done(sample) {
                    waiting = count..count;
                }
            }
            // Where texts ended, the next ones draw before all go on.
            if batch.len() == SIDE_BY_SIDE || waiting.is_empty() {
                if batch.is_empty() {
                    return Ok(());
                }
                batch.advance();
            }
        }
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
        let start = self.conversation.mark();
        let row = |indices: &[u32], log_probabilities: &[f64]| -> Result<Row<'_>, LabError> {
            let mut row = Row::after(ready.vocabulary(), start.tokens())?;
            for (&index, &log) in indices.iter().zip(log_probabilities) {
                row.take(index, log, None, &request.terms)?;
            }
            Ok(row)
        };
        let stops = request.terms.stop != Stop::default() || ready.vocabulary().turns().is_some();
        // A token that has no text fails when the text is put together below.
        let ended = |indices: &[u32]| {
            stops && row(indices, &vec![0.0; indices.len()]).is_ok_and(|row| row.ended.is_some())
        };
        let found = search(
            &ready,
            start.states(),
            start.scores(),
            request.terms.tokens,
            beam,
            random,
            &ended,
            progress,
        );
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
