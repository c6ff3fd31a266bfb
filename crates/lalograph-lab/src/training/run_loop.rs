//! The training loop: steps, and what is done after each of them. It knows no task but by [`Task`].

use std::time::Instant;

use lalograph_net::Network;
use lalograph_net::step::exchange::{Exchange, OneProcess};
use lalograph_storage::{Existing, WholeFile};

use super::company::{Command, lead, send, send_position};
use super::events::{TrainingEvent, TrainingObserver};
use super::hints::{Evidence, Hint, Stage, hints};
use super::meters::{Meters, Recent};
use super::notebook::Notebook;
use super::schedule::RateSchedule;
use super::selection::Selection;
use super::settings::{trainer_settings, validates_after};
use super::time_limit::TimeLimit;
use super::trainer::Trainer;
use crate::artefact::checkpoint::{self, Checkpoint, Position};
use crate::artefact::model_file::{Trained, save_model};
use crate::error::LabError;
use crate::plan::Plan;
use crate::run::claim::Claim;
use crate::run::description::{EarlyEnd, RunDescription, RunStatus};
use crate::run::folder::{CHECKPOINTS, RunFolder};
use crate::run::records::{Evaluation, MetricsRecord};
use crate::task::{Duty, Evaluator, Moment, Task, flow_of};

/// The outcome of a run.
#[derive(Debug, Clone, PartialEq)]
pub struct TrainingOutcome {
    /// Finished or interrupted.
    pub status: RunStatus,
    /// Steps made.
    pub steps: u64,
    /// Why it ended before its last step, if it did.
    pub ended_early: Option<EarlyEnd>,
    /// The step whose weights were kept.
    pub kept_step: u64,
    /// The validation part before the first step, where it was read then.
    pub base: Option<Evaluation>,
    /// The validation part at that step, where there is one.
    pub validation: Option<Evaluation>,
    /// The test part under the weights that were kept, where there is one and the run was finished.
    pub test: Option<Evaluation>,
    /// Mean training loss over the last steps, with dropout.
    pub training_loss: f64,
    /// Seconds from first step to last, samples and validation included, over all the times that it was resumed.
    pub seconds: f64,
    /// Tokens trained on in a second of training alone.
    pub tokens_per_second: f64,
    /// Its hints.
    pub hints: Vec<Hint>,
}

/// The claim of a run, and its starting point.
#[derive(Debug)]
pub struct Running {
    /// The folder.
    pub run: RunFolder,
    /// The right to write to it, until training ends.
    pub claim: Claim,
    /// Its description so far.
    pub description: RunDescription,
    /// Checkpoint to continue from; `None` starts at the first step.
    pub from: Option<Checkpoint>,
    /// Whether the test part is scored when the run is finished. The runs of a sweep leave that to the best of them.
    pub scores_test: bool,
    /// What brings its lanes together, wherever they are computed.
    pub exchange: Box<dyn Exchange<f32>>,
}

impl Running {
    /// A run that begins with its first step, all of it in this process.
    pub fn new(run: RunFolder, claim: Claim, description: RunDescription) -> Self {
        let exchange = Box::new(OneProcess::default());
        Self { run, claim, description, from: None, scores_test: true, exchange }
    }
}

/// Trains a run from its position.
///
/// # Errors
/// Numbers that are no longer finite (the best model so far is kept); a checkpoint of another model; anything the file system refuses.
pub fn train<T: Task>(
    task: &T,
    running: Running,
    threads: usize,
    observer: &mut (dyn TrainingObserver<T::Note> + Send),
) -> Result<TrainingOutcome, LabError> {
    let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build()?;
    pool.install(|| Loop::new(task, running, observer)?.run())
}

/// Names of the work after a step, done in this order: the duties that come first, a line of figures, a validation, the other duties, and
/// then the next step. Each is done once for a step, however often the run is stopped.
const RECORD: &str = "record";
const VALIDATE: &str = "validate";
const STEP: &str = "step";

struct Loop<'a, T: Task> {
    task: &'a T,
    run: RunFolder,
    claim: Claim,
    description: RunDescription,
    observer: &'a mut (dyn TrainingObserver<T::Note> + Send),
    trainer: Trainer<'a, T::Net>,
    schedule: RateSchedule,
    limit: TimeLimit,
    validation: Option<Box<dyn Evaluator<T::Net> + 'a>>,
    duties: Vec<Box<dyn Duty<T> + 'a>>,
    notebook: Notebook<T::Note>,
    scores_test: bool,
    hinted: Vec<&'static str>,
    meters: Meters,
    selection: Selection,
    /// The weights of the best step.
    best: Option<Vec<f32>>,
    started: Instant,
    /// Seconds before it was last resumed.
    seconds_before: f64,
    last_checkpoint: Instant,
    /// The next action: the name of a duty, or one of the names above.
    next: String,
    stopped: bool,
    /// Whether the run ends after this step since its time is up.
    out_of_time: bool,
}

impl<'a, T: Task> Loop<'a, T> {
    fn new(
        task: &'a T,
        running: Running,
        observer: &'a mut (dyn TrainingObserver<T::Note> + Send),
    ) -> Result<Self, LabError> {
        let (plan, steps) = (task.plan(), task.steps());
        let Running { run, claim, description, from, scores_test, exchange } = running;
        let rank = exchange.rank();
        let mut trainer =
            Trainer::new(task.net(), trainer_settings(plan, steps), task.windows(), exchange, task.shared());
        let mut schedule = RateSchedule::new(&plan.training, steps);
        let position = match &from {
            Some(from) => {
                from.restore(&mut trainer, run.checkpoints())?;
                schedule.plateau = from.position.plateau;
                if plan.training.end_after_minutes > 0.0 {
                    schedule.shortened = from.position.shortened;
                }
                from.position.clone()
            }
            None => {
                task.start(trainer.weights_mut())?;
                let next = if task.validates_first() { VALIDATE } else { STEP };
                Position { next: next.to_owned(), ..Position::default() }
            }
        };
        let names = trainer.state_lengths().into_iter().map(|(name, _)| name);
        let states = from.as_ref().map(|from| from.states(names)).unwrap_or_default();
        send_position(&mut trainer, &states);
        if let Some(step) = schedule.shortened.averaged_after {
            trainer.optimiser_mut().average_after(step);
            lead(trainer.exchange(), Command::Average(step));
        }
        let duties = task.duties();
        let names: Vec<&'static str> = duties.iter().map(|duty| duty.name()).collect();
        let mut this = Self {
            task,
            notebook: Notebook::open(&claim, names, &position.record_bytes)?,
            run,
            claim,
            description,
            observer,
            trainer,
            schedule,
            limit: TimeLimit::new(plan.training.end_after_minutes, position.seconds),
            validation: task.validation(rank),
            duties,
            scores_test,
            hinted: Vec::new(),
            meters: position.meters,
            selection: position.selection,
            best: from.and_then(|from| from.best),
            started: Instant::now(),
            seconds_before: position.seconds,
            last_checkpoint: Instant::now(),
            next: position.next,
            stopped: false,
            out_of_time: false,
        };
        if this.best.is_some() {
            // The model file may be of a step after the checkpoint, that is made again now.
            this.save_model()?;
        }
        Ok(this)
    }

    /// Tells the other processes what comes next.
    fn lead(&mut self, command: Command) {
        lead(self.trainer.exchange(), command);
    }

    fn tell(&mut self, event: &TrainingEvent<'_, T::Note>) {
        self.stopped |= self.observer.event(event).is_break();
    }

    fn seconds(&self) -> f64 {
        self.seconds_before + self.started.elapsed().as_secs_f64()
    }

    fn run(mut self) -> Result<TrainingOutcome, LabError> {
        self.describe(RunStatus::Running)?;
        let outcome = self.steps().and_then(|()| self.end());
        if let Err(error) = &outcome {
            // Nothing was validated before it failed: then the current weights are the best there are.
            self.trainer.settle();
            if self.best.is_none() && self.trainer.weights().iter().all(|w| w.is_finite()) {
                let _ = self.save_model();
            }
            self.description.failure = Some(error.to_string());
            if let LabError::NotFinite { step, .. } | LabError::Diverged { step, .. } = *error {
                self.description.not_finite_step = Some(step);
                self.hint(Stage::NotFinite(step));
            }
            // A disk that is full takes no description either: the first error is the one to report.
            let _ = self.describe(RunStatus::Failed);
        }
        outcome
    }

    fn plan(&self) -> &'a Plan {
        self.task.plan()
    }

    /// Whether no step is left to make.
    fn is_over(&self) -> bool {
        self.trainer.step() >= self.task.steps() || self.early_end().is_some()
    }

    /// Why the run ends before its last step.
    fn early_end(&self) -> Option<EarlyEnd> {
        if self.trainer.step() >= self.task.steps() {
            None
        } else if self.selection.is_out_of_patience(self.plan().training.patience) {
            Some(EarlyEnd::Patience)
        } else {
            self.out_of_time.then_some(EarlyEnd::Time)
        }
    }

    fn steps(&mut self) -> Result<(), LabError> {
        let (steps, parameters) = (self.task.steps(), self.trainer.weights().len());
        self.tell(&TrainingEvent::Started { steps, made: self.trainer.step(), parameters });
        self.hint(Stage::UnderWay);
        let order = self.order();
        while !self.stopped {
            if self.next == STEP {
                if self.is_over() {
                    break;
                }
                self.make_step()?;
                self.next = order[0].to_owned();
            }
            self.do_what_is_due(&order)?;
            self.lead(Command::Agree);
            self.stopped = self.trainer.agree(self.stopped);
            if !self.stopped && self.is_checkpoint_due() {
                self.checkpoint()?;
            }
        }
        Ok(())
    }

    /// The names of what is done after a step, in order; the step last.
    fn order(&self) -> Vec<&'static str> {
        let names = |first: bool| {
            let chosen = self.duties.iter().filter(move |duty| duty.comes_first() == first);
            chosen.map(|duty| duty.name()).collect::<Vec<_>>()
        };
        [names(true), vec![RECORD, VALIDATE], names(false), vec![STEP]].concat()
    }

    /// Does the work that is due after the current step and not yet done. If it is stopped, the rest is done later.
    fn do_what_is_due(&mut self, order: &[&'static str]) -> Result<(), LabError> {
        let step = self.trainer.step();
        let from = order.iter().position(|name| *name == self.next).unwrap_or(0);
        for pair in order[from..].windows(2) {
            if self.stopped {
                return Ok(());
            }
            // Early stopping is known only after the validation.
            let over = self.is_over();
            match pair[0] {
                RECORD if over || step.is_multiple_of(self.plan().training.record_every) => self.record()?,
                VALIDATE if over || step == 0 || self.is_validation_due() => {
                    if !self.validate()? {
                        return Ok(());
                    }
                }
                name => {
                    if !self.perform(name, over)? {
                        return Ok(());
                    }
                }
            }
            self.next = pair[1].to_owned();
        }
        Ok(())
    }

    /// Performs the duty of this name if it is due; returns `false` if it was stopped.
    fn perform(&mut self, name: &str, over: bool) -> Result<bool, LabError> {
        let step = self.trainer.step();
        let Some(number) = self.duties.iter().position(|duty| duty.name() == name) else {
            return Ok(true);
        };
        let duty = &mut self.duties[number];
        if !duty.is_due(step, over) {
            return Ok(true);
        }
        if duty.needs_all() {
            lead(self.trainer.exchange(), Command::Perform(number));
        }
        let observer = &mut self.observer;
        let moment = Moment {
            trainer: &mut self.trainer,
            validation: self.selection.last.as_ref(),
            go_on: &mut || observer.event(&TrainingEvent::AtWork).is_continue(),
        };
        let name = duty.name();
        let Some(notes) = duty.perform(moment)? else {
            self.stopped = true;
            return Ok(false);
        };
        for note in notes {
            self.tell(&TrainingEvent::Note(&note));
            self.notebook.push_note(name, note)?;
        }
        Ok(true)
    }

    fn is_validation_due(&self) -> bool {
        validates_after(&self.plan().training, self.trainer.step(), self.trainer.steps_per_epoch())
    }

    fn is_checkpoint_due(&self) -> bool {
        let plan = &self.plan().checkpoints;
        (plan.every > 0 && self.trainer.step().is_multiple_of(plan.every))
            || (plan.minutes > 0.0 && self.last_checkpoint.elapsed().as_secs_f64() >= plan.minutes * 60.0)
    }

    /// Ends in good order: a checkpoint, the model, the test part, the description.
    fn end(&mut self) -> Result<TrainingOutcome, LabError> {
        let finished = !self.stopped && self.is_over();
        // Without validation, or before the first, the current weights are the ones to keep.
        if self.best.is_none() {
            self.save_model()?;
        }
        self.checkpoint()?;
        let test = if finished && self.scores_test { self.test()? } else { None };
        let hints = self.hint(if finished { Stage::Ended } else { Stage::UnderWay });
        let status = if finished { RunStatus::Finished } else { RunStatus::Interrupted };
        let ended_early = self.early_end().filter(|_| finished);
        self.description.ended_early = ended_early;
        self.description.test.clone_from(&test);
        self.describe(status)?;
        let best = self.selection.best.as_ref();
        Ok(TrainingOutcome {
            status,
            steps: self.trainer.step(),
            ended_early,
            kept_step: best.map_or(self.trainer.step(), |best| best.step),
            base: self.notebook.first_validation(),
            validation: best.map(|best| best.evaluation.clone()),
            test,
            training_loss: self.meters.last_loss(),
            seconds: self.seconds(),
            tokens_per_second: self.meters.tokens_per_second(),
            hints,
        })
    }

    /// Writes down the state of the run.
    fn describe(&mut self, status: RunStatus) -> Result<(), LabError> {
        let best = self.selection.best.as_ref();
        let description = &mut self.description;
        description.status = status;
        description.steps = self.trainer.step();
        description.planned_steps = self.task.steps();
        description.text = self.task.facts();
        description.best_step = best.map(|best| best.step);
        description.best_validation_loss = best.map(|best| best.evaluation.loss);
        description.best_figures = best.map(|best| best.evaluation.figures.clone());
        self.claim.describe(description)
    }

    fn make_step(&mut self) -> Result<(), LabError> {
        let started_at = Instant::now();
        self.keep_to_time();
        self.lead(Command::Learn);
        let learnt = self.trainer.learn()?;
        let step = self.trainer.step() + 1;
        let clipped = self.trainer.clipped();
        let (norm, norm_after, any) = (clipped.norm_before, clipped.norm_after, clipped.any());
        if !norm.is_finite() {
            let parameter = self.trainer.first_not_finite().map(ToOwned::to_owned);
            return Err(LabError::NotFinite { step, parameter: parameter.unwrap_or_else(|| "loss".into()) });
        }
        self.refuse_diverged(step, "training", learnt.loss)?;
        let rate = self.schedule.rate(step);
        self.lead(Command::Apply(rate.to_bits()));
        self.trainer.apply(rate);
        self.out_of_time = self.limit.is_up(self.seconds());
        self.meters.add(Recent {
            steps: 1,
            loss: learnt.loss,
            right: learnt.right,
            norm,
            norm_after,
            clipped: u64::from(any),
            tokens: learnt.tokens,
            seconds: started_at.elapsed().as_secs_f64(),
        });
        self.tell(&TrainingEvent::Step { step, tokens: learnt.tokens, loss: learnt.loss });
        Ok(())
    }

    /// Shortens the rest of the schedule, the mean of the weights included, if the time will be up before its last step.
    fn keep_to_time(&mut self) {
        let (seconds, made) = (self.seconds(), self.trainer.step());
        let shortened = &mut self.schedule.shortened;
        let left = (self.task.steps() - made) as f64 - shortened.ahead;
        shortened.ahead += self.limit.ahead(seconds, left, shortened.ahead > 0.0);
        let position = made as f64 + shortened.ahead;
        let due = self
            .trainer
            .optimiser()
            .averages_after()
            .is_some_and(|after| made < after && position >= after as f64);
        if due {
            shortened.averaged_after = Some(made);
            self.trainer.optimiser_mut().average_after(made);
            self.lead(Command::Average(made));
        }
    }

    /// An error that names the parameter that grew furthest where a loss has no perplexity any more.
    fn refuse_diverged(&self, step: u64, text: &'static str, loss: f64) -> Result<(), LabError> {
        if loss.exp().is_finite() {
            return Ok(());
        }
        let size = |range: std::ops::Range<usize>| {
            self.trainer.weights()[range]
                .iter()
                .map(|w| if w.is_nan() { f32::INFINITY } else { w.abs() })
                .fold(0.0, f32::max)
        };
        let tensors = self.task.net().layout().tensors();
        let sizes = tensors.iter().map(|tensor| (&tensor.name, size(tensor.range.clone())));
        let (parameter, greatest) =
            sizes.fold(
                (String::new(), 0.0),
                |best, (name, size)| {
                    if size > best.1 { (name.clone(), size) } else { best }
                },
            );
        Err(LabError::Diverged { step, text, parameter, greatest })
    }

    fn epoch(&self) -> f64 {
        self.trainer.step() as f64 / self.trainer.steps_per_epoch() as f64
    }

    fn push_metrics(&mut self, record: MetricsRecord) -> Result<(), LabError> {
        self.tell(&TrainingEvent::Metrics(&record));
        self.notebook.push_metrics(record)
    }

    fn record(&mut self) -> Result<(), LabError> {
        let recent = self.meters.take_recent();
        let steps = recent.steps as f64;
        let loss = recent.loss / steps;
        self.push_metrics(MetricsRecord::Training {
            step: self.trainer.step(),
            epoch: self.epoch(),
            tokens: self.meters.tokens,
            seconds: self.seconds(),
            loss,
            figures: self.task.training_figures(loss, recent.right / steps),
            learning_rate: self.schedule.rate(self.trainer.step()),
            gradient_norm: recent.norm / steps,
            clipped_gradient_norm: recent.norm_after / steps,
            clipped_share: recent.clipped as f64 / steps,
            tokens_per_second: recent.tokens as f64 / recent.seconds.max(1e-9),
        })
    }

    /// Reads the validation part; `false` if it was stopped meanwhile.
    fn validate(&mut self) -> Result<bool, LabError> {
        let Some(validation) = &mut self.validation else {
            return Ok(true);
        };
        lead(self.trainer.exchange(), Command::Validate);
        let observer = &mut self.observer;
        let found = self.trainer.evaluate(validation.as_mut(), None, &mut |share| {
            observer.event(&TrainingEvent::Validating(share)).is_continue()
        })?;
        let Some(found) = found else {
            self.stopped = true;
            return Ok(false);
        };
        let step = self.trainer.step();
        self.refuse_diverged(step, "validation", found.loss)?;
        let criterion = self.task.criterion(&found);
        self.schedule.observe(criterion);
        let minimum_gain = self.plan().training.minimum_gain;
        let best = self.selection.observe(step, self.meters.tokens, &found, criterion, minimum_gain);
        if best {
            let settled = self.trainer.settled();
            let weights = self.best.get_or_insert_with(|| vec![0.0; settled.len()]);
            weights.copy_from_slice(settled);
            self.save_model()?;
        }
        let (epoch, seconds) = (self.epoch(), self.seconds());
        let Evaluation { loss, figures } = found;
        self.push_metrics(MetricsRecord::Validation { step, epoch, seconds, loss, figures, best })?;
        self.hint(Stage::UnderWay);
        self.describe(RunStatus::Running)?;
        Ok(true)
    }

    /// Reads the test part with the weights that are kept.
    fn test(&mut self) -> Result<Option<Evaluation>, LabError> {
        let Some(mut test) = self.task.test(self.trainer.exchange().rank()) else {
            return Ok(None);
        };
        let weights = match &self.best {
            Some(kept) => kept.clone(),
            None => self.trainer.settled().to_vec(),
        };
        self.lead(Command::Test);
        send(self.trainer.exchange(), &weights);
        let observer = &mut self.observer;
        let found = self.trainer.evaluate(test.as_mut(), Some(&weights), &mut |share| {
            // It is the last that is done: there is nothing to stop for.
            let _ = observer.event(&TrainingEvent::Validating(share));
            true
        })?;
        let Some(found) = found else {
            return Ok(None);
        };
        self.refuse_diverged(self.trainer.step(), "test", found.loss)?;
        let step = self.selection.best.as_ref().map_or(self.trainer.step(), |best| best.step);
        let Evaluation { loss, figures } = found.clone();
        self.push_metrics(MetricsRecord::Test { step, loss, figures })?;
        Ok(Some(found))
    }

    /// Computes the hints; the observer receives those that are new.
    fn hint(&mut self, stage: Stage) -> Vec<Hint> {
        let found = hints(&Evidence {
            plan: self.plan(),
            text: &self.task.facts(),
            metrics: &self.notebook.so_far,
            flow: flow_of(&self.notebook.last),
            stage,
        });
        for hint in &found {
            if !self.hinted.contains(&hint.name()) {
                self.hinted.push(hint.name());
                self.tell(&TrainingEvent::Hint(hint));
            }
        }
        found
    }

    /// Writes the best weights, or the current ones if none were validated.
    fn save_model(&mut self) -> Result<(), LabError> {
        let (trained, weights) = match (&self.selection.best, &self.best) {
            (Some(best), Some(weights)) => {
                let validation_loss = Some(best.evaluation.loss);
                (Trained { step: best.step, tokens: best.tokens, validation_loss }, &weights[..])
            }
            _ => {
                let (step, tokens) = (self.trainer.step(), self.meters.tokens);
                (Trained { step, tokens, validation_loss: None }, self.trainer.settled())
            }
        };
        let (assets, layout) = (self.task.assets()?, self.task.net().layout());
        let path = self.run.model();
        let name = path.file_name().unwrap_or_default();
        let file = WholeFile::within(self.claim.folder(), name, Existing::Replace)?;
        save_model(file, assets, &trained, layout, weights)
    }

    /// Writes a checkpoint and lets go of the oldest.
    fn checkpoint(&mut self) -> Result<(), LabError> {
        self.trainer.settle();
        let position = Position {
            step: self.trainer.step(),
            next: self.next.clone(),
            seconds: self.seconds(),
            meters: self.meters,
            plateau: self.schedule.plateau,
            shortened: self.schedule.shortened,
            selection: self.selection.clone(),
            // Synced before the checkpoint that counts on them.
            record_bytes: self.notebook.synced_bytes()?,
            optimiser_steps: self.trainer.optimiser().steps(),
        };
        let folder = self.claim.folder().make_folder(CHECKPOINTS)?;
        let assets = self.task.assets()?;
        self.lead(Command::States);
        checkpoint::save(&folder, assets, &position, &mut self.trainer, self.best.as_deref())?;
        checkpoint::keep_newest(&folder, self.plan().checkpoints.keep.max(1))?;
        self.last_checkpoint = Instant::now();
        self.describe(RunStatus::Running)?;
        self.tell(&TrainingEvent::Checkpoint(position.step));
        Ok(())
    }
}
