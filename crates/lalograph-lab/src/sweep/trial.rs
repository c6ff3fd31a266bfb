//! One trial: its plan, its data, its run, trained as far as a rung.

use std::ops::ControlFlow;

use lalograph_net::Network;
use lalograph_net::step::exchange::{OneProcess, Rank};
use lalograph_net::weights::packed::PackedWeights;
use lalograph_storage::Existing;

use super::course::check_rungs;
use super::error::SweepError;
use super::ledger::{Reached, now};
use super::spec::Trial;
use super::turn::{Ended, Known, Place, Steps};
use super::vectors::train_vectors;
use crate::artefact::checkpoint::newest;
use crate::artefact::container::Container;
use crate::artefact::model_file::{KIND, read_weights};
use crate::data::token_cache::TokenCache;
use crate::error::LabError;
use crate::measure::cost::cost;
use crate::plan::Plan;
use crate::run::claim::Claim;
use crate::run::description::{RunDescription, RunStatus};
use crate::run::folder::RunFolder;
use crate::run::records::{Evaluation, Lines, MetricsRecord, read_lines};
use crate::run::shelf;
use crate::task::Task;
use crate::task::classifier::{
    PreparedClassifier, prepare_classifier, prepare_classifier_again, train_classifier,
};
use crate::task::events::PreparationEvent;
use crate::task::language::LanguageTask;
use crate::task::language::prepare::{prepare, prepare_again};
use crate::task::language::seam::train;
use crate::training::events::{TrainingEvent, TrainingObserver};
use crate::training::resume::{Changes, Resumable};
use crate::training::run_loop::{Running, TrainingOutcome};
use crate::training::settings::validates_after;

/// A trial's data, read.
pub(super) enum Prepared {
    Language(Box<LanguageTask>),
    Classifier(PreparedClassifier),
}

impl Prepared {
    fn of(
        place: &Place<'_>,
        plan: &Plan,
        threads: usize,
        stop: &(dyn Fn() -> bool + Sync),
    ) -> Result<Self, LabError> {
        let mut there = plan.clone();
        if let Some(base) = place.base {
            there.start_paths_at(base);
        }
        let cache = TokenCache { storage: place.storage, path: place.tokens };
        let mut observer = |_: &PreparationEvent<'_>| flow(stop());
        // The paths as given: a model file does not reveal where it was trained.
        let given = |own: &mut Plan| {
            own.paths_mut().zip(plan.clone().paths_mut()).for_each(|(path, given)| path.clone_from(given));
        };
        if plan.classifier.is_some() {
            let mut prepared = prepare_classifier(there, threads, &mut observer)?;
            given(&mut prepared.data_mut().plan);
            return Ok(Self::Classifier(prepared));
        }
        let mut task = prepare(there, threads, Some(cache), &mut observer)?;
        given(&mut task.plan);
        Ok(Self::Language(Box::new(task)))
    }

    /// The same for a run that goes on, with its own vocabulary.
    fn again(
        place: &Place<'_>,
        run: &RunFolder,
        plan: &Plan,
        threads: usize,
        stop: &(dyn Fn() -> bool + Sync),
    ) -> Result<Self, LabError> {
        let mut observer = |_: &PreparationEvent<'_>| flow(stop());
        if plan.classifier.is_some() {
            let prepared = prepare_classifier_again(run, plan, place.base, threads, &mut observer)?;
            return Ok(Self::Classifier(prepared));
        }
        let cache = TokenCache { storage: place.storage, path: place.tokens };
        let task = prepare_again(run, plan, place.base, threads, Some(cache), &mut observer)?;
        Ok(Self::Language(Box::new(task)))
    }

    fn steps(&self) -> u64 {
        match self {
            Self::Language(task) => task.steps,
            Self::Classifier(prepared) => prepared.steps(),
        }
    }

    fn parameters(&self) -> u64 {
        match self {
            Self::Language(task) => task.model.layout().len() as u64,
            Self::Classifier(prepared) => prepared.parameters() as u64,
        }
    }

    /// Bytes of memory that training needs.
    fn bytes(&self) -> Result<u64, LabError> {
        match self {
            Self::Language(task) => Ok(cost(&task.plan, task.vocabulary.len(), &|_| 0.0)?.bytes.total()),
            Self::Classifier(prepared) => Ok(prepared.bytes()),
        }
    }

    fn steps_per_epoch(&self) -> u64 {
        match self {
            Self::Language(task) => task.facts.steps_per_epoch,
            Self::Classifier(prepared) => prepared.data().facts.steps_per_epoch,
        }
    }

    fn has_test(&self) -> bool {
        match self {
            Self::Language(task) => !task.corpus.test.is_empty(),
            Self::Classifier(prepared) => !prepared.data().test.is_empty(),
        }
    }

    fn begin(&self, place: &Place<'_>, trial: Trial) -> Result<Running, LabError> {
        let (name, version) = (place.sweep.spec().name(trial), place.program_version);
        let folder = place.sweep.spec().working_folder.clone();
        let (plan, description, files) = match self {
            Self::Language(task) => {
                (&task.plan, task.describe(&name, (place.clock)(), version, folder)?, task.run_files()?)
            }
            Self::Classifier(prepared) => {
                let data = prepared.data();
                (&data.plan, prepared.describe(&name, (place.clock)(), version, folder)?, data.run_files()?)
            }
        };
        let (run, claim, description) =
            shelf::create(place.storage, &place.sweep.trials(), plan, description, &files, Existing::Keep)?;
        Ok(Running { scores_test: false, ..Running::new(run, claim, description) })
    }

    fn resumed(&self, resumable: Resumable, time: String) -> Result<Running, LabError> {
        let running = match self {
            Self::Language(task) => resumable.running(&**task, time, |_| {}),
            Self::Classifier(prepared) => resumable.running(prepared, time, |_| {}),
        };
        Ok(Running { scores_test: false, ..running? })
    }

    fn train(
        &self,
        running: Running,
        threads: usize,
        watch: &mut Watch<'_, '_>,
    ) -> Result<TrainingOutcome, LabError> {
        match self {
            Self::Language(task) => train(task, running, threads, watch),
            Self::Classifier(prepared) => train_classifier(prepared, running, threads, watch),
        }
    }
}

fn flow(stop: bool) -> ControlFlow<()> {
    if stop { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
}

/// Lets a run go as far as the validation that its rung is decided by.
struct Watch<'w, 's> {
    /// The step from which the next validation ends it; none for its own end.
    until: Option<u64>,
    reached: bool,
    steps: u64,
    each: &'w mut Steps<'s>,
}

impl<N> TrainingObserver<N> for Watch<'_, '_> {
    fn event(&mut self, event: &TrainingEvent<'_, N>) -> ControlFlow<()> {
        match event {
            TrainingEvent::Metrics(MetricsRecord::Validation { step, .. })
                if self.until.is_some_and(|until| *step >= until) =>
            {
                self.reached = true;
                ControlFlow::Break(())
            }
            TrainingEvent::Step { step, .. } => (self.each)(*step, self.steps),
            TrainingEvent::Validating(_) | TrainingEvent::AtWork => (self.each)(0, self.steps),
            _ => ControlFlow::Continue(()),
        }
    }
}

/// Trains a trial as far as a rung, from where it is. `admit` hears what is known of it before it begins.
pub(super) fn train_trial(
    place: &Place<'_>,
    (trial, rung): (Trial, usize),
    threads: usize,
    stop: &(dyn Fn() -> bool + Sync),
    admit: &mut dyn FnMut(&Known) -> Result<(), SweepError>,
    each: &mut Steps<'_>,
) -> Result<Ended, SweepError> {
    let spec = place.sweep.spec();
    let number = spec.number(trial);
    if spec.plan.vectors.is_some() {
        return train_vectors(place, trial, &spec.plan_of(trial)?, threads, stop, admit, each);
    }
    let (prepared, running) = match RunFolder::open(&place.sweep.run(trial)) {
        Err(_) => {
            let plan = spec.plan_of(trial)?;
            let prepared = Prepared::of(place, &plan, threads, stop)?;
            let (steps, epoch) = (prepared.steps(), prepared.steps_per_epoch());
            admit(&Known { steps, bytes: prepared.bytes()? })?;
            if spec.rungs() > 1 {
                check_rungs(spec, steps, |step| validates_after(&plan.training, step, epoch))?;
            }
            let running = prepared.begin(place, trial)?;
            (prepared, running)
        }
        Ok(run) => {
            // Its process may have died before the ledger heard of it.
            if let Some(reached) = reached_already(place, number, rung, &run)? {
                return Ok(Ended::Reached(Box::new(reached)));
            }
            let resumable = Resumable::open(place.storage, run.path(), &Changes::default(), false)?;
            let prepared = Prepared::again(place, &run, resumable.plan(), threads, stop)?;
            admit(&Known { steps: prepared.steps(), bytes: prepared.bytes()? })?;
            let running = prepared.resumed(resumable, (place.clock)())?;
            (prepared, running)
        }
    };
    let steps = prepared.steps();
    let mut watch = Watch { until: until(place, rung, steps), reached: false, steps, each };
    let outcome = prepared.train(running, threads, &mut watch)?;
    let finished = outcome.status == RunStatus::Finished;
    match outcome.validation {
        Some(evaluation) if finished || watch.reached => Ok(Ended::Reached(Box::new(Reached {
            trial: number,
            rung,
            steps: outcome.steps,
            finished,
            evaluation,
            seconds: outcome.seconds,
            tokens_per_second: outcome.tokens_per_second,
            parameters: prepared.parameters(),
            time: now(),
        }))),
        None if finished => Err(SweepError::NoValidation),
        _ => Ok(Ended::Stopped),
    }
}

/// The step from which the next validation ends a rung; none for the last.
fn until(place: &Place<'_>, rung: usize, steps: u64) -> Option<u64> {
    let spec = place.sweep.spec();
    (rung + 1 < spec.rungs()).then(|| spec.rung_step(rung, steps))
}

/// What a run that is not being trained has reached at a rung by itself, if it came there.
fn reached_already(
    place: &Place<'_>,
    trial: usize,
    rung: usize,
    run: &RunFolder,
) -> Result<Option<Reached>, SweepError> {
    let description = run.description()?;
    if description.status == RunStatus::Finished {
        return of_finished(trial, rung, run, &description).map(Some);
    }
    let Some(until) = until(place, rung, description.planned_steps) else { return Ok(None) };
    let Some(checkpoint) = newest(&run.checkpoints(), |_| {})? else { return Ok(None) };
    let position = &checkpoint.position;
    let path = run.metrics();
    let bytes = std::fs::read(&path).map_err(LabError::at(&path))?;
    // Records after the checkpoint are made again.
    let kept = position.record_bytes.get("metrics").map_or(0, |&kept| kept as usize).min(bytes.len());
    let validated = bytes[..kept].split(|&byte| byte == b'\n').rev().find_map(|line| {
        match serde_json::from_slice(line) {
            Ok(MetricsRecord::Validation { step, .. }) => Some(step),
            _ => None,
        }
    });
    let best = position.selection.best.as_ref().filter(|_| validated.is_some_and(|step| step >= until));
    Ok(best.map(|best| Reached {
        trial,
        rung,
        steps: position.step,
        finished: false,
        evaluation: best.evaluation.clone(),
        seconds: position.seconds,
        tokens_per_second: position.meters.tokens_per_second(),
        parameters: description.parameters,
        time: now(),
    }))
}

/// What a run reached that had been trained to its end when its process died.
fn of_finished(
    trial: usize,
    rung: usize,
    run: &RunFolder,
    description: &RunDescription,
) -> Result<Reached, SweepError> {
    let loss = description.best_validation_loss.ok_or(SweepError::NoValidation)?;
    let records: Vec<MetricsRecord> = read_lines(&run.metrics())?;
    let pace = records.iter().rev().find_map(|record| match record {
        MetricsRecord::Training { seconds, tokens_per_second, .. } => Some((*seconds, *tokens_per_second)),
        _ => None,
    });
    let (seconds, tokens_per_second) = pace.unwrap_or_default();
    Ok(Reached {
        trial,
        rung,
        steps: description.steps,
        finished: true,
        evaluation: Evaluation { loss, figures: description.best_figures.clone().unwrap_or_default() },
        seconds,
        tokens_per_second,
        parameters: description.parameters,
        time: now(),
    })
}

/// Scores the test part under the model of a trial that was trained to its end, and writes it into the records of its run; `None` if the
/// plan has no test part.
pub(super) fn test_trial(
    place: &Place<'_>,
    trial: Trial,
    threads: usize,
    stop: &(dyn Fn() -> bool + Sync),
) -> Result<Option<Evaluation>, SweepError> {
    if place.sweep.spec().plan.vectors.is_some() {
        return Ok(None);
    }
    let run = RunFolder::open(&place.sweep.run(trial))?;
    let claim = Claim::of(place.storage, &run)?;
    let mut description = run.description()?;
    let prepared = Prepared::again(place, &run, &run.read_plan()?, threads, stop)?;
    if !prepared.has_test() {
        return Ok(None);
    }
    let path = run.model();
    let bad = |what| LabError::BadModel { path: path.clone(), what };
    let file = Container::open(&path, KIND, bad)?;
    let bad = |what| LabError::BadModel { path: path.clone(), what };
    let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().map_err(LabError::from)?;
    let found = pool.install(|| match &prepared {
        Prepared::Language(task) => {
            tested(&**task, &read_weights(file, task.model.layout()).map_err(bad)?, stop)
        }
        Prepared::Classifier(PreparedClassifier::Network(task)) => {
            tested(&**task, &read_weights(file, task.net.layout()).map_err(bad)?, stop)
        }
        Prepared::Classifier(PreparedClassifier::Linear(task)) => task.test_of(file).map_err(bad),
    })?;
    let Some(found) = found else { return Ok(None) };
    let step = description.best_step.unwrap_or(description.steps);
    let Evaluation { loss, figures } = found.clone();
    let metrics = run.metrics();
    let length = std::fs::metadata(&metrics).map_err(LabError::at(&metrics))?.len();
    // The process that tested it may have died before the ledger heard of it.
    if description.test.is_none() {
        let name = metrics.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let mut lines = Lines::after(claim.folder(), &name, length)?;
        lines.push(&MetricsRecord::Test { step, loss, figures })?;
        lines.synced_bytes()?;
    }
    description.test = Some(found.clone());
    claim.describe(&description)?;
    Ok(Some(found))
}

/// The test part of a task under weights; `None` if it was stopped.
fn tested<T: Task>(
    task: &T,
    weights: &[f32],
    stop: &(dyn Fn() -> bool + Sync),
) -> Result<Option<Evaluation>, LabError> {
    let Some(mut test) = task.test(Rank::ALONE) else { return Ok(None) };
    let packed = PackedWeights::reading(task.net().layout(), weights);
    test.evaluate(task.net(), packed.with(weights), &mut OneProcess::default(), &mut |_| !stop())
}
