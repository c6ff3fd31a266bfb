//! The laboratory from its public side.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test fails by panicking")]

mod baselines;
#[path = "../../../lalograph-net/tests/net/channels.rs"]
mod channels;
mod classifier;
mod common;
mod company;
mod crash;
mod design;
mod folder;
mod generation;
mod lost_store;
mod plan_page;
mod resume;
mod runs;
mod scoring;
mod second_task;
mod start;
mod sweep;
mod tune;
mod vectors;
