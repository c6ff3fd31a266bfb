//! From a plan to the settings of a trainer.

use super::trainer::TrainerSettings;
use crate::plan::{Plan, TrainingPlan};

/// Training settings of a plan, for a run of so many steps.
pub(crate) fn trainer_settings(plan: &Plan, steps: u64) -> TrainerSettings {
    TrainerSettings {
        seed: plan.training.seed,
        lanes: plan.training.lanes,
        gradient_sum: plan.training.gradient_sum,
        regularisation: plan.regularisation(),
        clipping: plan.clipping(),
        optimiser: plan.optimiser(steps),
    }
}

/// Whether something that is done every `every` steps and every `every_epochs` epochs is due after this step; 0 of either for never.
pub(crate) fn is_due(step: u64, (every, every_epochs): (u64, f64), steps_per_epoch: u64) -> bool {
    let by_steps = every > 0 && step.is_multiple_of(every);
    let span = every_epochs * steps_per_epoch as f64;
    let passed = |step: u64| (step as f64 / span).floor();
    let by_epochs = span > 0.0 && step > 0 && passed(step) > passed(step - 1);
    by_steps || by_epochs
}

/// Whether a validation is due after a step that is not the last.
pub(crate) fn validates_after(plan: &TrainingPlan, step: u64, steps_per_epoch: u64) -> bool {
    is_due(step, (plan.validate_every, plan.validate_every_epochs), steps_per_epoch)
}

#[cfg(test)]
mod tests {
    use super::is_due;

    #[test]
    fn repeated_work_is_due_by_steps_by_epochs_or_by_both() {
        let due =
            |spans: (u64, f64)| -> Vec<u64> { (1..=20).filter(|&step| is_due(step, spans, 8)).collect() };
        assert_eq!(due((7, 0.0)), [7, 14]);
        assert_eq!(due((0, 0.75)), [6, 12, 18]);
        assert_eq!(due((7, 1.0)), [7, 8, 14, 16]);
        // More often than there are steps is after every step.
        assert_eq!(due((0, 0.01)).len(), 20);
        assert!(due((0, 0.0)).is_empty());
    }
}
