//! Writing text with a model, and what can be said of the texts.

pub mod beam;
pub mod copying;
pub mod decoding;
pub mod generator;
pub mod trial;
