//! The hive diaries from their public side.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test fails by panicking")]

mod corpus;
mod grammar;
