//! Text, corpora and vocabularies from their public side.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test fails by panicking")]

mod common;
mod corpus;
mod groups;
mod mail;
mod sources;
mod splits;
mod survey;
mod vocabularies;
