//! From a plan to the settings of a trainer.

use super::trainer::TrainerSettings;
use crate::plan::Plan;

/// How a network is trained by a plan, in a run of so many steps.
pub(crate) fn trainer_settings(plan: &Plan, steps: u64) -> TrainerSettings {
    TrainerSettings {
        seed: plan.training.seed,
        lanes: plan.training.lanes,
        regularisation: plan.regularisation(),
        clipping: plan.clipping(),
        optimiser: plan.optimiser(steps),
    }
}
