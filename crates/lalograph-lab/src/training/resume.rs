//! Going on with a run: its plan, its text, its newest checkpoint that is whole.

use std::path::Path;

use lalograph_storage::Storage;

use super::run_loop::Running;
use super::schedule::depends_on_length;
use crate::artefact::checkpoint::{checkpoints, keep_newest, newest};
use crate::error::LabError;
use crate::plan::Plan;
use crate::run::claim::Claim;
use crate::run::description::{Resumption, RunDescription, RunStatus};
use crate::run::folder::{CHECKPOINTS, RunFolder};
use crate::task::Startable;

/// Changes of a plan that are allowed when a run continues.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Changes {
    /// Passes over the training text, from the beginning of the run.
    pub epochs: Option<u64>,
    /// Steps instead, from the beginning of the run.
    pub steps: Option<u64>,
    /// The learning rate at its height.
    pub learning_rate: Option<f64>,
    /// Validations without a gain to wait for.
    pub patience: Option<u64>,
    /// Seed texts of samples; unchanged if empty.
    pub seed_texts: Vec<String>,
}

impl Changes {
    /// Changes a plan; returns what is different now, as `section.key = value`.
    fn apply(&self, plan: &mut Plan) -> Vec<String> {
        let Plan { training, samples, .. } = plan;
        let mut changed = Vec::new();
        if !self.seed_texts.is_empty() && self.seed_texts != samples.from.0 {
            samples.from.0.clone_from(&self.seed_texts);
            changed.push(format!("samples.from = {:?}", self.seed_texts));
        }
        let mut say = |key: &str, value: String| changed.push(format!("training.{key} = {value}"));
        if let Some(epochs) =
            self.epochs.filter(|&epochs| Some(epochs) != training.epochs || training.steps.is_some())
        {
            (training.epochs, training.steps) = (Some(epochs), None);
            say("epochs", epochs.to_string());
        }
        if let Some(steps) = self.steps.filter(|&steps| Some(steps) != training.steps) {
            training.steps = Some(steps);
            say("steps", steps.to_string());
        }
        // Steps that are asked for now are not for the time of before.
        if (self.epochs.is_some() || self.steps.is_some()) && training.end_after_minutes > 0.0 {
            training.end_after_minutes = 0.0;
            say("end_after_minutes", "0".to_owned());
        }
        if let Some(rate) = self.learning_rate.filter(|&rate| rate != training.learning_rate) {
            training.learning_rate = rate;
            say("learning_rate", rate.to_string());
        }
        if let Some(patience) = self.patience.filter(|&patience| patience != training.patience) {
            training.patience = patience;
            say("patience", patience.to_string());
        }
        changed
    }
}

/// A run that this process has claimed to continue.
#[derive(Debug)]
pub struct Resumable {
    run: RunFolder,
    claim: Claim,
    description: RunDescription,
    plan: Plan,
    changed: Vec<String>,
    from_start: bool,
}

impl Resumable {
    /// Claims the run in a folder. `from_start` has it begin from its first step.
    ///
    /// # Errors
    /// It is not a run, is being trained, or has completed all its steps and no change gives it more; a plan that the changes make unusable.
    pub fn open(
        storage: &dyn Storage,
        path: &Path,
        changes: &Changes,
        from_start: bool,
    ) -> Result<Self, LabError> {
        let run = RunFolder::open(path)?;
        run.description()?;
        let claim = Claim::of(storage, &run)?;
        // The description is read again, now that no other process can change it.
        let description = run.description()?;
        let mut plan = run.read_plan()?;
        let original = plan.clone();
        let changed = changes.apply(&mut plan);
        plan.expect_only_of(&original);
        plan.check()?;
        let made = if from_start { 0 } else { description.steps };
        let steps_per_epoch = description.text.steps_per_epoch;
        let by_epochs = || changes.epochs?.checked_mul(steps_per_epoch).filter(|&steps| steps > 0);
        let asked = changes.steps.or_else(by_epochs);
        if let Some(asked) = asked.filter(|&asked| asked < made) {
            return Err(LabError::FewerSteps { run: path.to_owned(), made, asked });
        }
        if description.status == RunStatus::Finished && changed.is_empty() && !from_start {
            return Err(LabError::AllDone(path.to_owned()));
        }
        Ok(Self { run, claim, description, plan, changed, from_start })
    }

    /// Its description.
    pub fn description(&self) -> &RunDescription {
        &self.description
    }

    /// Its plan, with the changes.
    pub fn plan(&self) -> &Plan {
        &self.plan
    }

    /// Whether the learning rates of the steps to come depend on the number of steps of the run.
    pub fn rate_depends_on_length(&self) -> bool {
        depends_on_length(&self.plan.training, self.description().steps)
    }

    /// Its folder.
    pub fn run(&self) -> &RunFolder {
        &self.run
    }

    /// Finds where to continue its task, and writes down that it does, at `time`. `damaged` is given checkpoints that cannot be used.
    ///
    /// # Errors
    /// Checkpoints, all of them damaged; the file system refuses.
    pub fn running<T: Startable>(
        self,
        task: &T,
        time: String,
        damaged: impl FnMut(&LabError),
    ) -> Result<Running, LabError> {
        let Self { run, claim, mut description, plan, changed, from_start } = self;
        let folder = run.checkpoints();
        let from = if from_start { None } else { newest(&folder, damaged)? };
        if let (None, false, Some((_, path))) = (&from, from_start, checkpoints(&folder)?.into_iter().next())
        {
            return Err(LabError::BadCheckpoint {
                path,
                what: "all checkpoints of the run are damaged".into(),
            });
        }
        if from.is_none() {
            task.check_start()?;
        }
        let step = from.as_ref().map_or(0, |from| from.step());
        let change = !changed.is_empty();
        description.resumed.push(Resumption { time, step, changed });
        description.status = RunStatus::Running;
        (description.failure, description.not_finite_step) = (None, None);
        if from_start {
            description.steps = 0;
            (description.best_step, description.best_validation_loss) = (None, None);
            description.best_figures = None;
            (description.test, description.ended_early) = (None, None);
            // Else the old ones, of later steps, would be continued.
            if claim.folder().entry(CHECKPOINTS)?.is_some() {
                keep_newest(&claim.folder().folder(CHECKPOINTS)?, 0)?;
            }
        }
        if change {
            claim.change_plan(&plan, &mut description)?;
        } else {
            claim.describe(&description)?;
        }
        Ok(Running { from, ..Running::new(run, claim, description) })
    }
}
