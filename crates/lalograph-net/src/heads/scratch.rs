//! Room to work in for the heads.

use super::sampled::SampledScratch;

/// Room to work in, for windows up to the size that it was made for.
#[derive(Debug, Clone, Default)]
pub struct Scratch<T> {
    pub(super) scores: Vec<T>,
    /// Rows that belong together.
    pub(super) gathered: Vec<T>,
    pub(super) local: Vec<u32>,
    pub(super) rows: Vec<u32>,
    pub(super) own: Vec<f64>,
    pub(super) sampled: SampledScratch<T>,
    /// The rows that are scored, where some are not.
    pub(super) scored: Vec<T>,
    pub(super) d_scored: Vec<T>,
    pub(super) targets: Vec<u32>,
    pub(super) losses: Vec<f64>,
}
