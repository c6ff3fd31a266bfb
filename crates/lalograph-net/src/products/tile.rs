//! What a tile needs to know.

/// Positions of a tile's factors and of its product.
pub(crate) struct Tile<T> {
    /// Products added up for each number.
    pub(crate) depth: usize,
    /// Left factor: the first number, the distance between rows, and between numbers along the depth.
    pub(crate) left: *const T,
    pub(crate) left_row: isize,
    pub(crate) left_depth: isize,
    /// Right factor, packed: as many numbers as a whole tile has columns for each place along the depth.
    pub(crate) right: *const T,
    /// Output: the first number and the distance between rows.
    pub(crate) out: *mut T,
    pub(crate) out_row: isize,
}
