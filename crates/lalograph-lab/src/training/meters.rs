//! Running sums of training.

use serde::{Deserialize, Serialize};

/// Sums over the whole run, and over the steps since the last line of training figures.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Meters {
    /// Tokens trained on.
    pub(crate) tokens: u64,
    /// Seconds in steps alone.
    pub(crate) training_seconds: f64,
    /// Mean training loss of the last line of figures.
    pub(crate) training_loss: Option<f64>,
    /// The steps since that line.
    pub(crate) recent: Recent,
}

/// Sums over some steps.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Recent {
    pub(crate) steps: u64,
    pub(crate) loss: f64,
    pub(crate) right: f64,
    pub(crate) norm: f64,
    pub(crate) norm_after: f64,
    pub(crate) clipped: u64,
    pub(crate) tokens: u64,
    pub(crate) seconds: f64,
}

impl Meters {
    /// Adds a step.
    pub(crate) fn add(&mut self, step: Recent) {
        self.tokens += step.tokens;
        self.training_seconds += step.seconds;
        let recent = &mut self.recent;
        recent.steps += step.steps;
        recent.loss += step.loss;
        recent.right += step.right;
        recent.norm += step.norm;
        recent.norm_after += step.norm_after;
        recent.clipped += step.clipped;
        recent.tokens += step.tokens;
        recent.seconds += step.seconds;
    }

    /// The sums since the last line of figures, which begin again.
    pub(crate) fn take_recent(&mut self) -> Recent {
        let recent = std::mem::take(&mut self.recent);
        self.training_loss = Some(recent.loss / recent.steps as f64);
        recent
    }

    /// The mean training loss over the last steps.
    pub(crate) fn last_loss(&self) -> f64 {
        self.training_loss.unwrap_or(self.recent.loss / self.recent.steps as f64)
    }

    /// Tokens trained on in a second of training.
    pub(crate) fn tokens_per_second(&self) -> f64 {
        self.tokens as f64 / self.training_seconds.max(1e-9)
    }
}
