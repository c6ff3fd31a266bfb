//! Settings of training word vectors.

use serde::{Deserialize, Serialize};

use crate::error::VectorError;
use crate::pieces::Pieces;

lalograph_net::choice! {
    /// Direction of prediction.
    pub enum Direction = WordToContext {
        /// Predict the word from the mean of its context.
        ContextToWord = "context_to_word",
        /// Predict each word of the context from the word.
        WordToContext = "word_to_context",
    }
}

/// Settings of training vectors.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Settings {
    /// Which predicts which.
    pub direction: Direction,
    /// Numbers of a vector.
    pub dimensions: usize,
    /// Words to either side that are the context, at most.
    pub window: usize,
    /// Whether the window has a fixed width instead of one drawn from 1 to that for every word.
    pub fixed_window: bool,
    /// Negative samples for each prediction; 0 for a full softmax.
    pub negative_samples: usize,
    /// The share of the text above which words are left out now and then; 0 for none.
    pub subsample: f64,
    /// The learning rate at the beginning; it falls to almost nothing along a line.
    pub learning_rate: f64,
    /// Passes over the text.
    pub epochs: u64,
    /// Pieces of words that have rows of their own.
    pub pieces: Option<Pieces>,
    /// The seed of initial values and draws.
    pub seed: u64,
    /// Workers that wait for each other and add up their changes in order; none for the fast exchange, a worker a thread.
    pub lanes: Option<usize>,
}

impl Default for Settings {
    fn default() -> Self {
        Self {
            direction: Direction::WordToContext,
            dimensions: 128,
            window: 4,
            fixed_window: false,
            negative_samples: 6,
            subsample: 0.004,
            learning_rate: 0.06,
            epochs: 8,
            pieces: None,
            seed: 1,
            lanes: Some(2),
        }
    }
}

impl Settings {
    /// Bytes at most of the numbers that so many workers learn vectors of so many words with: those in common, each worker's own, and with the
    /// fast exchange a copy that is shared and what the rows were that each has changed since it exchanged them.
    pub fn bytes(&self, words: usize, workers: usize) -> u64 {
        let pieces = self.pieces.as_ref().map_or(0, |pieces| u64::from(pieces.rows));
        let rows = (2 * words as u64).saturating_add(pieces);
        let numbers = rows.saturating_mul(self.dimensions.next_multiple_of(16) as u64);
        let workers = workers as u64;
        let copies = if self.lanes.is_some() { 1 + workers } else { 2 + 2 * workers };
        numbers.saturating_mul(4).saturating_mul(copies)
    }

    /// Refuses what cannot be learnt by.
    ///
    /// # Errors
    /// A setting outside its range.
    pub fn check(&self) -> Result<(), VectorError> {
        let refuse = |setting, value: String, must| Err(VectorError::Setting { setting, value, must });
        let Self { dimensions, window, negative_samples, subsample, learning_rate, epochs, .. } = *self;
        if !(1..=4096).contains(&dimensions) {
            return refuse("the number of dimensions", dimensions.to_string(), "1 to 4096");
        }
        if !(1..=1000).contains(&window) {
            return refuse("the window", window.to_string(), "1 to 1000");
        }
        if negative_samples > 1000 {
            return refuse("the number of negative samples", negative_samples.to_string(), "at most 1000");
        }
        if !(0.0..=1.0).contains(&subsample) {
            return refuse("the subsampling share", subsample.to_string(), "0 to 1");
        }
        if !(learning_rate > 0.0 && learning_rate.is_finite()) {
            return refuse("the learning rate", learning_rate.to_string(), "above 0");
        }
        if epochs == 0 {
            return refuse("the number of epochs", epochs.to_string(), "1 or more");
        }
        if let Some(lanes) = self.lanes.filter(|lanes| !(1..=64).contains(lanes)) {
            return refuse("the number of lanes", lanes.to_string(), "1 to 64");
        }
        self.pieces.as_ref().map_or(Ok(()), Pieces::check)
    }
}
