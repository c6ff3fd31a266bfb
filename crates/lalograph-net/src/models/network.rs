//! The seam between training and networks of any kind.

use std::ops::Range;

use crate::blocks::recurrent::window::Extent;
use crate::blocks::regularisation::LaneUse;
use crate::heads::loss::Loss;
use crate::numbers::real::Real;
use crate::numbers::rooms::Rooms;
use crate::weights::gradient::{GradientParts, LaneGradient};
use crate::weights::layout::Layout;
use crate::weights::packed::Parameters;

/// Sizes of a lane.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LaneRoom {
    /// The largest window: steps, and the rows of the batch that the lane has.
    pub extent: Extent,
    /// Purpose of the lane.
    pub used_for: LaneUse,
    /// Whether rows may be reset inside a window.
    pub resets: bool,
}

impl LaneRoom {
    /// The same for another number of rows.
    #[must_use]
    pub fn with_rows(self, rows: usize) -> Self {
        Self { extent: Extent { rows, ..self.extent }, ..self }
    }
}

/// Random streams of a step.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Draw {
    /// The seed of the run.
    pub seed: u64,
    /// The step, so that each has masks and samples of its own.
    pub step: u64,
}

/// Training of one lane in one step.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LaneStep {
    /// Random streams.
    pub draw: Draw,
    /// The number of the lane among all lanes of the batch, on every thread and machine.
    pub lane: u64,
    /// Factor on the gradient of the summed loss: one over the targets of the whole batch.
    pub scale: f64,
}

/// A network that can be trained: it lays out its weights, and works on windows in lanes. It holds no weights; every method is given
/// them, with the copies that products read. Training, in [`crate::step`] and above, knows nothing else of it.
pub trait Network: Sync {
    /// The part of a batch for one lane. The source of windows fills it; it is used again for the next batch.
    type Window: Default + Send + Sync;

    /// The state of some rows of a batch and the memory to work on them. Nothing is allocated after its construction.
    type Lane<T: Real>: Send;

    /// Data shared by all lanes of a step besides weights, drawn once.
    type Shared<T: Real>: Send + Sync;

    /// The names and places of the weights.
    fn layout(&self) -> &Layout;

    /// The part of the layout with dense gradients; the parts before and after it have gradients by rows.
    fn dense(&self) -> Range<usize>;

    /// A lane, its state zero.
    fn lane<T: Real>(&self, room: LaneRoom, rooms: &mut Rooms) -> Self::Lane<T>;

    /// Memory for the gradient of a lane, dense over `dense`; empty for a lane that only reads.
    fn gradient<T: Real>(&self, room: LaneRoom, dense: Range<usize>, rooms: &mut Rooms) -> LaneGradient<T>;

    /// Draws what all lanes read in a step.
    fn draw<T: Real>(&self, shared: &mut Self::Shared<T>, draw: Draw);

    /// Targets in a window that are scored.
    fn scored(&self, window: &Self::Window) -> u64;

    /// Tokens or other steps in a window, without padding: what throughput is counted in.
    fn tokens(&self, window: &Self::Window) -> u64 {
        self.scored(window)
    }

    /// The table at the beginning of the layout of which a window reads few rows, if there is one, and the width of a row.
    fn table(&self) -> Option<(Range<usize>, usize)> {
        None
    }

    /// The rows of that table that a window reads; a row may come more than once.
    fn rows<'w>(&self, window: &'w Self::Window) -> &'w [u32] {
        let _ = window;
        &[]
    }

    /// Puts the state before a text into all rows of a lane.
    fn begin<T: Real>(&self, weights: Parameters<'_, T>, lane: &mut Self::Lane<T>);

    /// The summed loss of a window; the lane's state moves on.
    fn loss<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        window: &Self::Window,
        lane: &mut Self::Lane<T>,
    ) -> f64;

    /// The same in training, with the gradient of `step.scale` times loss and penalties. A network whose backward pass goes from the end of its layout to the beginning
    /// can [`finish`](crate::weights::gradient::Gradient::finish) parts of the gradient on its way.
    fn learn<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        window: &Self::Window,
        step: LaneStep,
        shared: &Self::Shared<T>,
        lane: &mut Self::Lane<T>,
        gradient: &mut GradientParts<'_, T>,
    ) -> Loss;

    /// Numbers of state that each row carries from window to window, layer by layer.
    fn state_widths(&self) -> Vec<usize>;

    /// The state that a lane carries, one array a layer.
    fn states<'l, T: Real>(&self, lane: &'l Self::Lane<T>) -> &'l [Vec<T>];

    /// The same, to be set.
    fn states_mut<'l, T: Real>(&self, lane: &'l mut Self::Lane<T>) -> &'l mut [Vec<T>];

    /// Bytes that a lane takes, without its gradient, and those of the gradient, without making either.
    fn lane_bytes(&self, room: LaneRoom) -> [usize; 2] {
        let (mut lane, mut gradient) = (Rooms::counting(), Rooms::counting());
        self.lane::<f32>(room, &mut lane);
        self.gradient::<f32>(room, self.dense(), &mut gradient);
        [lane.bytes(), gradient.bytes()]
    }
}
