//! Texts that one model writes side by side; others join and leave at any token.

use std::sync::Arc;

use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::models::language::LanguageLane;
use lalograph_net::numbers::chance::Stream;
use lalograph_text::Reserved;
use lalograph_text::vocabulary::Decoder;

use super::conversation::Mark;
use super::decoding::{choose, most_probable, quick_log_total};
use super::text::{Ended, Row, Sample, Terms};
use crate::data::filler::resets_before;
use crate::error::LabError;
use crate::task::language::model::ReadyModel;

/// Another token that could have come, with the text that it would have added.
#[derive(Debug, Clone, PartialEq)]
pub struct Alternative {
    /// Its index.
    pub index: u32,
    /// Its probability.
    pub probability: f64,
    /// The text that it would have added; empty for the end of the document.
    pub text: String,
}

/// A token that was drawn.
#[derive(Debug)]
pub struct Drawn<'d> {
    /// Its index.
    pub index: u32,
    /// The natural logarithm of its probability under the model itself.
    pub log_probability: f64,
    /// Text that is sure now, often that of this token: what may still become a text to stop at, or part of a character, is held back.
    pub text: &'d str,
    scores: &'d [f32],
    before: Option<Decoder<'d>>,
}

impl Drawn<'_> {
    /// The most probable tokens at this place, the most probable first; none unless the text was joined to be looked into.
    pub fn alternatives(&self, count: usize) -> Vec<Alternative> {
        let Some(before) = &self.before else { return Vec::new() };
        let total = quick_log_total(self.scores);
        let alternative = |(index, score): (u32, f32)| {
            let mut text = String::new();
            // A token without a text is shown as none.
            let _ = before.clone().push(index, &mut text);
            Alternative { index, probability: (f64::from(score) - total).exp(), text }
        };
        most_probable(self.scores, count).into_iter().map(alternative).collect()
    }
}

/// A text that ended.
#[derive(Debug)]
pub struct Finished<K> {
    /// Whose it is.
    pub key: K,
    /// The text.
    pub sample: Sample,
    /// The place before its last token, if the text was joined to be continued; none for a text without tokens.
    pub before_last: Option<Mark>,
}

/// How a text joins a batch.
#[derive(Debug, Clone)]
pub struct Joining {
    /// Decoding, length and stop conditions.
    pub terms: Terms,
    /// The source of chance.
    pub random: Stream,
    /// Whether alternatives will be asked for.
    pub looked_into: bool,
    /// Whether the place where it ends is wanted.
    pub continued: bool,
}

/// Where the state and the scores of a text are.
enum Source {
    /// In this row of the lane, after the last step.
    Row(usize),
    /// Where the text began.
    Start(Arc<Mark>),
}

struct Place<'m, K> {
    key: K,
    row: Row<'m>,
    start: Arc<Mark>,
    source: Source,
    joining: Joining,
    /// Whether a token was drawn that has not been read yet.
    drawn: bool,
}

impl<K> Place<'_, K> {
    /// The token to be read next.
    fn token(&self) -> u32 {
        match self.row.indices.last() {
            Some(&Reserved::END) | None => Reserved::START,
            Some(&token) => token,
        }
    }
}

/// Texts under way, each known by a key. What one text becomes does not depend on the others: every row of a product is computed alike,
/// whatever rows are beside it.
pub struct Batch<'m, K> {
    ready: &'m ReadyModel,
    places: Vec<Place<'m, K>>,
    /// The lane of the last step, and its scores (rows x vocabulary).
    lane: LanguageLane<f32>,
    scores: Vec<f32>,
    /// The lane of the next step, where its rows are others.
    next: LanguageLane<f32>,
}

impl<'m, K> Batch<'m, K> {
    /// A batch without texts.
    pub fn new(ready: &'m ReadyModel) -> Self {
        let [lane, next] = [1, 1].map(|rows| Self::lane(ready, rows));
        Self { ready, places: Vec::new(), lane, scores: Vec::new(), next }
    }

    fn lane(ready: &ReadyModel, rows: usize) -> LanguageLane<f32> {
        ready.model().reading_lane(Extent { steps: 1, rows }, true)
    }

    /// Texts under way.
    pub fn len(&self) -> usize {
        self.places.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.places.is_empty()
    }

    /// Adds a text that continues from a place.
    ///
    /// # Errors
    /// Decoding that is impossible for the vocabulary.
    pub fn join(&mut self, key: K, start: Arc<Mark>, joining: Joining) -> Result<(), LabError> {
        joining.terms.decoding.check(self.ready.vocabulary().len())?;
        let mut row = Row::after(self.ready.vocabulary(), start.tokens())?;
        row.ended = (joining.terms.tokens == 0).then_some(Ended::Limit);
        let source = Source::Start(Arc::clone(&start));
        self.places.push(Place { key, row, start, source, joining, drawn: false });
        Ok(())
    }

    /// Draws the next token of every text that has not drawn it, and takes out the texts that ended. `each` is called with every token that
    /// was drawn and ends that text by returning `false`.
    ///
    /// # Errors
    /// A token that has no text.
    pub fn draw(
        &mut self,
        each: &mut dyn FnMut(&K, Drawn<'_>) -> bool,
    ) -> Result<Vec<Finished<K>>, LabError> {
        let Self { ready, places, lane, scores, .. } = self;
        let size = ready.vocabulary().len();
        for place in places.iter_mut().filter(|place| !place.drawn) {
            place.drawn = true;
            let Place { key, row, source, joining: Joining { terms, random, looked_into, .. }, .. } = place;
            if row.ended.is_some() {
                continue;
            }
            let scores = match source {
                Source::Row(row) => &scores[*row * size..][..size],
                Source::Start(mark) => mark.scores(),
            };
            let before = looked_into.then(|| row.decoder.clone());
            let index = choose(scores, &terms.decoding, &row.seen, random);
            let log_probability = f64::from(scores[index as usize]) - quick_log_total(scores);
            let spelling = terms.decoding.spelling_of(index, ready.vocabulary(), random);
            row.take(index, log_probability, spelling.as_deref(), terms)?;
            let text = &row.give(row.sure(terms));
            if !each(key, Drawn { index, log_probability, text, scores, before }) && row.ended.is_none() {
                row.ended = Some(Ended::Stopped);
            }
        }
        let ended = places.extract_if(.., |place| place.row.ended.is_some());
        let finish = |mut place: Place<'m, K>| {
            let sample = place.row.take_sample();
            let before_last = (place.joining.continued && !sample.indices.is_empty()).then(|| {
                let read = &sample.indices[..sample.indices.len() - 1];
                match place.source {
                    Source::Start(mark) => (*mark).clone(),
                    Source::Row(row) => place.start.followed(lane.row_states(row), read),
                }
            });
            Finished { key: place.key, sample, before_last }
        };
        Ok(ended.map(finish).collect())
    }

    /// Reads the tokens that were drawn: every text then has the scores of its next token. All texts must have drawn theirs.
    pub fn advance(&mut self) {
        let rows = self.places.len();
        if rows == 0 {
            return;
        }
        let in_order =
            (0..).zip(&self.places).all(|(row, place)| matches!(place.source, Source::Row(r) if r == row));
        if !in_order || self.lane.capacity().rows != rows {
            if self.next.rows_made() < rows {
                self.next = Self::lane(self.ready, rows.next_power_of_two());
            }
            self.next.use_rows(rows);
            let before = self.lane.capacity().rows;
            for (row, place) in self.places.iter_mut().enumerate() {
                match &place.source {
                    Source::Row(old) => self.next.carry_row(row, self.lane.states(), before, *old),
                    Source::Start(mark) => self.next.carry_row(row, mark.states(), 1, 0),
                }
                place.source = Source::Row(row);
            }
            std::mem::swap(&mut self.lane, &mut self.next);
        }
        let tokens: Vec<u32> = self.places.iter().map(Place::token).collect();
        let resets: Vec<bool> =
            tokens.iter().map(|&token| resets_before(token, false, self.ready.resets())).collect();
        let (model, weights) = (self.ready.model(), self.ready.parameters());
        model.forward(weights, &tokens, Some(&resets), &mut self.lane, None);
        self.scores.resize(rows * self.ready.vocabulary().len(), 0.0);
        model.last_scores(weights, &mut self.lane, &mut self.scores);
        self.places.iter_mut().for_each(|place| place.drawn = false);
    }
}
