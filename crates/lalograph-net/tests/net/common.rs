//! Batches for the tests.

use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::blocks::regularisation::LaneUse;
use lalograph_net::models::network::LaneRoom;
use lalograph_net::step::lanes::Lanes;
use lalograph_net::step::team::Team;
use lalograph_net::{LanguageModel, Real};

/// A whole batch, step-major.
#[derive(Clone, Copy)]
pub(crate) struct Batch<'a> {
    pub(crate) inputs: &'a [u32],
    pub(crate) targets: &'a [u32],
    pub(crate) resets: Option<&'a [bool]>,
}

/// All lanes of a batch in this process.
pub(crate) fn team<T: Real>(
    model: &LanguageModel,
    extent: Extent,
    lanes: usize,
    used_for: LaneUse,
    resets: bool,
) -> Team<LanguageModel, T> {
    let lanes = Lanes::new(extent.rows, lanes);
    let counts = || vec![3; model.shape().vocabulary];
    let room = LaneRoom { extent, used_for, resets };
    Team::new(model, room, lanes, 0..lanes.count(), model.shared(counts))
}

/// Deals a batch out to the lanes.
pub(crate) fn deal<T: Real>(team: &mut Team<LanguageModel, T>, batch: Batch<'_>) {
    let all = team.lanes().rows();
    for (rows, window) in team.windows_mut() {
        window.clear();
        let mut steps = batch.targets.chunks_exact(all).enumerate();
        for (step, targets) in &mut steps {
            let at = step * all + rows.start..step * all + rows.end;
            window.inputs.extend_from_slice(&batch.inputs[at.clone()]);
            window.targets.extend_from_slice(&targets[rows.clone()]);
            window.resets.extend_from_slice(batch.resets.map_or(&[], |resets| &resets[at]));
        }
    }
}
