//! Windows of parallel rows of tokens, or of other steps in time.

/// The size of a window of text: `steps` tokens of each of `rows` parallel streams. Arrays over it are
/// step-major: number `(step * rows + row) * width + i`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Extent {
    /// Tokens along each stream.
    pub steps: usize,
    /// Streams side by side.
    pub rows: usize,
}

impl Extent {
    /// Tokens in all.
    pub fn tokens(self) -> usize {
        self.steps * self.rows
    }
}

/// A window that is being read: its size, and where rows are reset.
#[derive(Debug, Clone, Copy)]
pub struct Window<'a> {
    /// Its size.
    pub extent: Extent,
    /// For each token whether its row's state is reset before it, to the layers' first state; none if nowhere.
    pub resets: Option<&'a [bool]>,
}
