//! Division of a batch's rows into lanes.

use std::ops::Range;

/// The lanes of a batch: some of its rows each. The cut is a property of the batch and not of the machine, so that one thread or many,
/// one process or many, compute the same numbers.
///
/// ```
/// let lanes = lalograph_net::step::lanes::Lanes::new(8, 3);
/// assert_eq!((0..3).map(|lane| lanes.rows_of(lane)).collect::<Vec<_>>(), [0..2, 2..5, 5..8]);
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Lanes {
    rows: usize,
    count: usize,
}

impl Lanes {
    /// Cuts `rows` into at most `count` lanes of nearly equal size.
    pub fn new(rows: usize, count: usize) -> Self {
        Self { rows, count: count.clamp(1, rows.max(1)) }
    }

    /// Lanes.
    pub fn count(self) -> usize {
        self.count
    }

    /// Rows of the whole batch.
    pub fn rows(self) -> usize {
        self.rows
    }

    /// The rows of one lane.
    pub fn rows_of(self, lane: usize) -> Range<usize> {
        lane * self.rows / self.count..(lane + 1) * self.rows / self.count
    }
}
