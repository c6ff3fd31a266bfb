//! The size of the pieces in which long arrays are worked on.

/// Numbers handled as one piece: fixed, so that sums are added in the same order on any number of threads.
pub(crate) const PIECE: usize = 1 << 14;
