//! A turn of a trial: where it is trained, what is known of it beforehand, how it ended.

use std::ops::ControlFlow;
use std::path::Path;

use lalograph_storage::Storage;

use super::folder::SweepFolder;
use super::ledger::Reached;

/// Where and by whom trials are trained.
pub(super) struct Place<'p> {
    pub(super) storage: &'p dyn Storage,
    pub(super) sweep: &'p SweepFolder,
    /// The folder of encoded corpora.
    pub(super) tokens: &'p Path,
    /// The folder that the plan's paths are meant from, if it is not the current one.
    pub(super) base: Option<&'p Path>,
    pub(super) program_version: &'p str,
    /// The time, as a run's description has it.
    pub(super) clock: &'p (dyn Fn() -> String + Sync),
}

/// How a trial ended at a rung.
pub(super) enum Ended {
    /// It came there.
    Reached(Box<Reached>),
    /// Somebody stopped it.
    Stopped,
}

/// Hears of the steps of a trial; a break stops it after the step.
pub(super) type Steps<'s> = dyn FnMut(u64, u64) -> ControlFlow<()> + Send + 's;

/// What is known of a trial before its first step.
pub(super) struct Known {
    /// The steps that it is going to make.
    pub(super) steps: u64,
    /// Bytes of memory that it needs.
    pub(super) bytes: u64,
}
