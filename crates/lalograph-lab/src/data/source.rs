//! The source of a trainer's windows.

use std::ops::Range;

use lalograph_net::blocks::recurrent::window::Extent;

use crate::error::LabError;

/// Source of the windows of batches, epoch by epoch. `W` is the window that one lane works on.
pub trait Windows<W>: Send {
    /// Windows in an epoch, the same for all.
    fn count(&self) -> usize;

    /// The size of the longest window over all rows of the batch.
    fn extent(&self) -> Extent;

    /// Whether rows may be reset inside a window, which then says where. If not, all start again with the epoch.
    fn resets(&self) -> bool;

    /// Fills the windows of lanes, each with the rows that it has, with window `index` of an epoch. Windows are asked for in order, from
    /// the one after [`Windows::go_to`] on.
    ///
    /// # Errors
    /// The data cannot be read any more.
    fn fill(
        &mut self,
        epoch: u64,
        index: usize,
        lanes: &mut dyn Iterator<Item = (Range<usize>, &mut W)>,
    ) -> Result<(), LabError>;

    /// Has window `index` of an epoch be the next to be asked for, as if those before it had been.
    fn go_to(&mut self, epoch: u64, index: usize);
}
