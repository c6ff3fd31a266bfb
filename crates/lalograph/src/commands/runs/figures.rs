//! Figures of runs in words.

use crate::output::number::{count, perplexity};

/// Steps made, of how many.
pub(super) fn steps(made: u64, planned: u64) -> String {
    if planned == 0 { count(made) } else { format!("{} of {}", count(made), count(planned)) }
}

/// A perplexity from a loss, if there is one.
pub(super) fn from_loss(loss: Option<f64>) -> String {
    loss.map_or_else(|| "-".to_owned(), |loss| perplexity(loss.exp()))
}
