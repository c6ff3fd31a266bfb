//! From a plan to the settings of a trainer.

use super::trainer::TrainerSettings;
use crate::plan::{Plan, TrainingPlan};

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

/// Whether a validation is due after a step that is not the last.
pub(crate) fn validates_after(plan: &TrainingPlan, step: u64, steps_per_epoch: u64) -> bool {
    if plan.validate_epochs > 0.0 {
        let span = plan.validate_epochs * steps_per_epoch as f64;
        return (step as f64 / span).floor() > ((step - 1) as f64 / span).floor();
    }
    plan.validate_every > 0 && step.is_multiple_of(plan.validate_every)
}

#[cfg(test)]
mod tests {
    use super::validates_after;
    use crate::plan::TrainingPlan;

    #[test]
    fn validations_come_by_steps_or_by_epochs() {
        let due = |plan: &TrainingPlan| -> Vec<u64> {
            (1..=20).filter(|&step| validates_after(plan, step, 8)).collect()
        };
        let by_steps = TrainingPlan { validate_every: 7, validate_epochs: 0.0, ..TrainingPlan::default() };
        assert_eq!(due(&by_steps), [7, 14]);
        let by_epochs = TrainingPlan { validate_epochs: 0.75, ..by_steps };
        assert_eq!(due(&by_epochs), [6, 12, 18]);
        let never = TrainingPlan { validate_every: 0, validate_epochs: 0.0, ..TrainingPlan::default() };
        assert!(due(&never).is_empty());
    }
}
