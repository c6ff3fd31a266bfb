//! From a gradient to new weights: measuring and clipping it, and the optimisers.

pub mod clipping;
pub mod late_rows;
pub mod optimiser;
pub(crate) mod piece;
mod rule;
