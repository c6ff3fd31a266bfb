//! The network from its public side.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test fails by panicking")]

mod channels;
mod classifier;
mod common;
mod gradients;
mod layers;
mod linear;
mod memory;
mod model;
mod processes;
mod sampled;
