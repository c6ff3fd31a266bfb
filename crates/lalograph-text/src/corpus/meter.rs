//! State shared by the reading thread and its caller.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

/// Progress of the reading, and whether it should stop.
#[derive(Debug, Default)]
pub(super) struct Meter {
    bytes: AtomicU64,
    stopped: AtomicBool,
}

impl Meter {
    /// Bytes taken from the disk.
    pub(super) fn bytes(&self) -> u64 {
        self.bytes.load(Ordering::Relaxed)
    }

    pub(super) fn add(&self, bytes: usize) {
        self.bytes.fetch_add(bytes as u64, Ordering::Relaxed);
    }

    /// Nobody wants more: what waits for something to read gives up.
    pub(super) fn stop(&self) {
        self.stopped.store(true, Ordering::Relaxed);
    }

    pub(super) fn is_stopped(&self) -> bool {
        self.stopped.load(Ordering::Relaxed)
    }
}
