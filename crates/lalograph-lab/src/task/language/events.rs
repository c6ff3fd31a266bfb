//! Events of preparing a corpus, for observers.

use std::ops::ControlFlow;
use std::path::Path;

use lalograph_text::corpus::Skipped;

use crate::error::LabError;

/// Something that happened while a corpus was read for a run.
#[derive(Debug)]
pub enum PreparationEvent<'a> {
    /// The files of the corpus are being looked for.
    Finding,
    /// The corpus is being read: bytes so far, of how many; `pass` is 1 while words are counted and 2 while they are encoded.
    Reading {
        /// Which pass over the corpus.
        pass: u32,
        /// Bytes read.
        bytes: u64,
        /// Bytes in all; 0 when not known.
        total_bytes: u64,
    },
    /// Something of the corpus is left out.
    LeftOut(&'a Skipped),
    /// The encoded corpus of an earlier run is used, from this folder.
    Reused(&'a Path),
    /// The encoded corpus of an earlier run exists and is unusable; the corpus is encoded again.
    NotReused(&'a LabError),
}

/// Somebody who hears of what happens.
pub trait PreparationObserver {
    /// Hears of an event. Breaking stops the reading.
    fn event(&mut self, event: &PreparationEvent<'_>) -> ControlFlow<()>;
}

impl<F: FnMut(&PreparationEvent<'_>) -> ControlFlow<()>> PreparationObserver for F {
    fn event(&mut self, event: &PreparationEvent<'_>) -> ControlFlow<()> {
        self(event)
    }
}
