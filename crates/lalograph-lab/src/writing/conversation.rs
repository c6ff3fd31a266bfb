//! A text that continues, turn by turn: what was read and written stays in the state.

use std::sync::Arc;

use lalograph_net::Network;
use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::models::language::LanguageLane;
use lalograph_net::numbers::chance::Stream;
use lalograph_text::{Reserved, TextError};

use super::decoding::{choose, quick_log_total};
use super::text::{Ended, Request, Row, Sample};
use crate::error::LabError;
use crate::task::language::model::ReadyModel;

/// Steps in which a text is read; no result depends on it.
const WINDOW: usize = 32;

/// The state of one text, and all that is needed to continue it. Many conversations share one model and know nothing of each other.
pub struct Conversation {
    ready: Arc<ReadyModel>,
    lane: LanguageLane<f32>,
    /// All tokens so far, the start token first.
    tokens: Vec<u32>,
    /// Natural log-probabilities of what may come next, up to a constant.
    scores: Vec<f32>,
}

/// A place in a text: any conversation with the same model can continue from it.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Mark {
    states: Vec<Vec<f32>>,
    tokens: Vec<u32>,
    scores: Vec<f32>,
}

impl Mark {
    /// The state, one array a layer.
    pub fn states(&self) -> &[Vec<f32>] {
        &self.states
    }

    /// All tokens so far, the start token first.
    pub fn tokens(&self) -> &[u32] {
        &self.tokens
    }

    /// Natural log-probabilities of what may come next, up to a constant.
    pub fn scores(&self) -> &[f32] {
        &self.scores
    }

    /// The place after tokens that were read from this one, with the state there. The scores are those of no token, until another is read.
    pub(super) fn followed(&self, states: Vec<Vec<f32>>, read: &[u32]) -> Self {
        let read = read.iter().map(|&token| if token == Reserved::END { Reserved::START } else { token });
        let tokens = self.tokens.iter().copied().chain(read).collect();
        Self { states, tokens, scores: vec![f32::NEG_INFINITY; self.scores.len()] }
    }
}

impl Conversation {
    /// The place that the conversation is at.
    pub fn mark(&self) -> Mark {
        Mark { states: self.lane.states().to_vec(), tokens: self.tokens.clone(), scores: self.scores.clone() }
    }

    /// Goes to a place, and forgets what was before.
    pub fn return_to(&mut self, mark: &Mark) {
        self.lane.carry_from(&mark.states, 1, &[0]);
        self.tokens.clone_from(&mark.tokens);
        self.scores.clone_from(&mark.scores);
    }

    /// A conversation at the start of a document.
    pub fn new(ready: Arc<ReadyModel>) -> Self {
        let model = ready.model();
        let lane = model.reading_lane(Extent { steps: WINDOW, rows: 1 }, false);
        let scores = vec![0.0; model.shape().vocabulary];
        let mut this = Self { lane, tokens: Vec::new(), scores, ready };
        this.restart();
        this
    }

    /// Forgets everything: a document starts.
    pub fn restart(&mut self) {
        self.ready.model().begin(self.ready.parameters(), &mut self.lane);
        self.tokens.clear();
        self.feed(&[Reserved::START]);
    }

    /// Reads tokens, moving the state on.
    fn feed(&mut self, tokens: &[u32]) {
        self.feed_while(tokens, &|| true);
    }

    /// The same as long as somebody wants it; whether all were read.
    fn feed_while(&mut self, tokens: &[u32], go_on: &dyn Fn() -> bool) -> bool {
        let (model, weights) = (self.ready.model(), self.ready.parameters());
        for window in tokens.chunks(WINDOW) {
            if !go_on() {
                return false;
            }
            model.forward(weights, window, None, &mut self.lane, None);
        }
        model.last_scores(weights, &mut self.lane, &mut self.scores);
        self.tokens.extend_from_slice(tokens);
        true
    }

    /// Moves the state on by one token; behind the end of a document the next one starts, with `resets` from the first state.
    pub fn follow(&mut self, token: u32, resets: bool) {
        if token == Reserved::END && resets {
            self.ready.model().begin(self.ready.parameters(), &mut self.lane);
        }
        self.feed(&[if token == Reserved::END { Reserved::START } else { token }]);
    }

    /// Reads a text, continuing from what was there. For a model of prompts and answers it is a prompt: what follows is its answer, and what was there
    /// before are the earlier turns.
    ///
    /// # Errors
    /// A text with no known token in it, unless it is a prompt.
    pub fn read(&mut self, text: &str) -> Result<(), LabError> {
        self.read_while(text, &|| true)
    }

    /// The same as long as `go_on` says so; the conversation is of no use after a stop.
    ///
    /// # Errors
    /// As for [`Conversation::read`]; a stop.
    pub fn read_while(&mut self, text: &str, go_on: &dyn Fn() -> bool) -> Result<(), LabError> {
        let (mut tokens, ready) = (Vec::new(), Arc::clone(&self.ready));
        let mut encoder = ready.vocabulary().encoder();
        if let Some(turns) = ready.vocabulary().turns() {
            let longest = ready.file().plan.pair_rule().and_then(|rule| rule.longest_prompt);
            encoder.encode_prompt(text, turns, longest, &mut tokens);
            if tokens.len() > 1 {
                // A prompt begins as in training, but with the state of the earlier turns.
                if self.tokens.last() == Some(&turns.answer_end) {
                    self.feed(&[Reserved::START]);
                }
                return self.feed_all(&tokens, go_on);
            }
            return Ok(());
        }
        encoder.encode_into(text, &mut tokens);
        if tokens.is_empty() {
            return Ok(());
        }
        if tokens.iter().all(|&index| index == Reserved::UNKNOWN) {
            return Err(LabError::SeedUnknown);
        }
        self.feed_all(&tokens, go_on)
    }

    fn feed_all(&mut self, tokens: &[u32], go_on: &dyn Fn() -> bool) -> Result<(), LabError> {
        if self.feed_while(tokens, go_on) { Ok(()) } else { Err(TextError::Stopped.into()) }
    }

    /// Takes a turn: reads the request's seed text and continues from there. `each` is given the text as it comes and stops
    /// the writing by returning `false`. The state has read every token that was drawn, also what was cut off where the text ended.
    ///
    /// # Errors
    /// A seed text with no known token in it; a way to choose that is none.
    pub fn write(
        &mut self,
        request: &Request<'_>,
        random: &mut Stream,
        mut each: impl FnMut(&str) -> bool,
    ) -> Result<Sample, LabError> {
        let terms = &request.terms;
        terms.decoding.check(self.scores.len())?;
        self.read(request.seed_text)?;
        let ready = Arc::clone(&self.ready);
        let mut row = Row::after(ready.vocabulary(), &self.tokens)?;
        if terms.tokens == 0 {
            row.ended = Some(Ended::Limit);
        }
        while row.ended.is_none() {
            let token = choose(&self.scores, &terms.decoding, &row.seen, random);
            let log = f64::from(self.scores[token as usize]) - quick_log_total(&self.scores);
            let spelling = terms.decoding.spelling_of(token, ready.vocabulary(), random);
            row.take(token, log, spelling.as_deref(), terms)?;
            self.follow(token, ready.resets());
            let piece = row.give(row.sure(terms));
            if !piece.is_empty() && !each(&piece) && row.ended.is_none() {
                row.ended = Some(Ended::Stopped);
            }
        }
        Ok(row.sample())
    }

    /// The model.
    pub fn ready(&self) -> Arc<ReadyModel> {
        Arc::clone(&self.ready)
    }

    /// All tokens so far, the start token first.
    pub fn tokens(&self) -> &[u32] {
        &self.tokens
    }

    /// Natural log-probabilities of what may come next, up to a constant.
    pub fn scores(&self) -> &[f32] {
        &self.scores
    }
}
