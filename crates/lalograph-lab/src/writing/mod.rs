//! Writing text with a model, and measuring the texts.

pub mod batch;
pub mod beam;
pub mod conversation;
pub mod copying;
pub mod decoding;
pub mod generator;
mod text;
pub mod trial;
pub mod turn;
