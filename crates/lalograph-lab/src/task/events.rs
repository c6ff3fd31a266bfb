//! Events of preparing a corpus, for observers.

use std::ops::ControlFlow;
use std::path::Path;

use lalograph_text::corpus::{ReadObserver, Skipped};

use crate::error::LabError;

/// A pass over the corpus.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pass {
    /// Finding the part of every document.
    Splitting,
    /// Counting the tokens of the training part.
    Counting,
    /// Encoding all parts.
    Encoding,
}

/// Something that happened while a corpus was read for a run.
#[derive(Debug)]
pub enum PreparationEvent<'a> {
    /// The files of the corpus are being looked for.
    Finding,
    /// The corpus is being read: bytes so far, of how many.
    Reading {
        /// Which pass over the corpus.
        pass: Pass,
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

/// Reads the corpus once, with progress for the observer of the preparation.
pub(crate) struct ReadingOf<'a> {
    pub(crate) pass: Pass,
    pub(crate) total_bytes: u64,
    pub(crate) observer: &'a mut dyn PreparationObserver,
}

impl ReadObserver for ReadingOf<'_> {
    fn progress(&mut self, bytes: u64) -> bool {
        let event = PreparationEvent::Reading { pass: self.pass, bytes, total_bytes: self.total_bytes };
        self.observer.event(&event).is_continue()
    }

    fn left_out(&mut self, skipped: &Skipped) {
        // Every pass meets the same places; the last is the one that always takes place.
        if self.pass == Pass::Encoding {
            let _ = self.observer.event(&PreparationEvent::LeftOut(skipped));
        }
    }
}
