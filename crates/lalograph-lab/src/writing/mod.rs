//! Writing text with a model, and what can be said of the texts.

pub mod beam;
pub mod conversation;
pub mod copying;
pub mod decoding;
pub mod generator;
mod text;
pub mod trial;
