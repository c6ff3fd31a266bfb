//! Data on its way to the network: windows, token stores between runs, overlap of parts.

pub(crate) mod copies;
pub mod documents;
pub(crate) mod filler;
pub(crate) mod mixed;
pub mod numbers;
pub(crate) mod order;
pub(crate) mod overlap;
pub(crate) mod reading_rows;
pub(crate) mod scratch_stores;
pub mod source;
pub mod token_cache;
pub(crate) mod windows;

use crate::plan::TrainingPlan;

/// The streams of a batch that read old text, at this share of all.
pub fn old_streams(plan: &TrainingPlan, keep_old: f64) -> usize {
    mixed::old_rows(plan.batch, keep_old)
}
