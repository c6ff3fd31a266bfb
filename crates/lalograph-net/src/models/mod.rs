//! Whole networks, and what training knows of them.

pub mod classifier;
pub mod language;
pub mod network;
