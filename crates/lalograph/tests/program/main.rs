//! The program, driven on files in a temporary folder.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test fails by panicking")]

mod classify;
mod code_length;
mod common;
mod corpora;
mod demo;
mod endurance;
mod export;
mod full_disk;
mod guide;
mod hostile;
mod judging;
mod kills;
mod planning;
mod processes;
mod rooms;
mod runs;
mod serve;
mod sweep;
mod terminal;
mod text;
mod training;
mod tune;
mod vectors;
mod vocabularies;
mod writing;
