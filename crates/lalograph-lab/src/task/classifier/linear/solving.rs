//! A linear classifier's run: the penalty from strong to weak, each solution from the one before, and the one with the best validation kept.

use std::time::Instant;

use lalograph_net::linear::solver::Iteration;
use lalograph_net::linear::{Reached, Solver, SolverSettings};
use lalograph_storage::{Existing, WholeFile};

use super::learner::LinearTask;
use crate::artefact::model_file::{Trained, save_model};
use crate::error::LabError;
use crate::run::description::{RunDescription, RunStatus};
use crate::run::records::{Evaluation, Figures, MetricsRecord};
use crate::task::classifier::evaluate::criterion;
use crate::task::classifier::model::classifier_assets;
use crate::training::events::{TrainingEvent, TrainingObserver};
use crate::training::hints::{Evidence, Hint, Stage, hints};
use crate::training::notebook::Notebook;
use crate::training::run_loop::{Running, TrainingOutcome};
use crate::training::selection::Selection;

/// A validation loss above the lowest by this share is worse...
const RISE: f64 = 0.1;
/// ...and after so many worse strengths, one after another, no weaker one is tried.
const WORSE: u64 = 2;

/// Solves a run from its first step: the same numbers come of it however often it is started again.
pub(in crate::task::classifier) fn solve(
    task: &LinearTask,
    running: Running,
    threads: usize,
    observer: &mut (dyn TrainingObserver<()> + Send),
) -> Result<TrainingOutcome, LabError> {
    let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build()?;
    pool.install(|| {
        let notebook = Notebook::open(&running.claim, [], &Default::default())?;
        let mut solving = Solving {
            task,
            running,
            notebook,
            observer,
            started: Instant::now(),
            iterations: 0,
            selection: Selection::default(),
            best: None,
            worse: 0,
            stopped: false,
        };
        let outcome = solving.run();
        if let Err(error) = &outcome {
            solving.running.description.failure = Some(error.to_string());
            // A disk that is full takes no description either: the first error is the one to report.
            let _ = solving.describe(RunStatus::Failed);
        }
        outcome
    })
}

struct Solving<'a> {
    task: &'a LinearTask,
    running: Running,
    notebook: Notebook<()>,
    observer: &'a mut (dyn TrainingObserver<()> + Send),
    started: Instant,
    iterations: u64,
    selection: Selection,
    /// The parameters of the best strength so far.
    best: Option<Vec<f64>>,
    /// The last strengths one after another with a worse validation loss.
    worse: u64,
    stopped: bool,
}

impl Solving<'_> {
    fn run(&mut self) -> Result<TrainingOutcome, LabError> {
        let task = self.task;
        let own = task.data.plan.classifier.clone().unwrap_or_default();
        let settings = SolverSettings {
            terms: task.loss.clone(),
            penalty: own.penalty,
            tolerance: own.tolerance,
            iterations: own.iterations,
        };
        self.describe(RunStatus::Running)?;
        let parameters = task.shape.parameters();
        self.tell(&TrainingEvent::Started { steps: task.steps(), made: 0, parameters });
        self.hint(Stage::UnderWay);
        let mut solver = Solver::new(&task.parts[0], task.shape, settings);
        for &strength in &task.strengths {
            let mut failure = None;
            let mut last = None;
            let reached = solver.solve(strength, &mut |iteration| {
                last = Some(*iteration);
                failure = self.note(iteration).err();
                failure.is_none() && !self.stopped
            });
            if let Some(failure) = failure {
                return Err(failure);
            }
            if let Some(last) = &last {
                self.record(last)?;
            }
            if self.stopped {
                break;
            }
            self.validate(strength, &solver, reached)?;
            if self.worse >= WORSE {
                break;
            }
        }
        self.end(&solver)
    }

    fn tell(&mut self, event: &TrainingEvent<'_, ()>) {
        self.stopped |= self.observer.event(event).is_break();
    }

    fn seconds(&self) -> f64 {
        self.started.elapsed().as_secs_f64()
    }

    /// Notes an iteration, and records it where a record is due.
    fn note(&mut self, iteration: &Iteration) -> Result<(), LabError> {
        self.iterations += 1;
        let tokens = self.task.data.training.steps();
        self.tell(&TrainingEvent::Step { step: self.iterations, tokens, loss: iteration.loss.loss });
        match self.iterations.is_multiple_of(self.task.data.plan.training.record_every) {
            true => self.record(iteration),
            false => Ok(()),
        }
    }

    fn record(&mut self, iteration: &Iteration) -> Result<(), LabError> {
        let step = self.iterations;
        if self.notebook.so_far.last().is_some_and(|record| record.step() == step) {
            return Ok(());
        }
        let tokens = step * self.task.data.training.steps();
        let seconds = self.seconds();
        let right = iteration.loss.right as f64 / self.task.data.training.count().max(1) as f64;
        self.push(MetricsRecord::Training {
            step,
            epoch: step as f64,
            tokens,
            seconds,
            loss: iteration.loss.loss,
            figures: Figures::of([("accuracy", right)]),
            learning_rate: 0.0,
            gradient_norm: iteration.gradient_norm,
            clipped_gradient_norm: iteration.gradient_norm,
            clipped_share: 0.0,
            tokens_per_second: tokens as f64 / seconds.max(1e-9),
        })
    }

    fn push(&mut self, record: MetricsRecord) -> Result<(), LabError> {
        self.tell(&TrainingEvent::Metrics(&record));
        self.notebook.push_metrics(record)
    }

    /// Validates the solution of a strength, and keeps it if it is the best so far.
    fn validate(&mut self, strength: f64, solver: &Solver<'_>, reached: Reached) -> Result<(), LabError> {
        let task = self.task;
        let Some(mut found) = task.evaluate(1, solver.parameters()) else { return Ok(()) };
        let solved = f64::from(u8::from(reached != Reached::Iterations));
        let further =
            [("strength", strength), ("nonzero_weights", solver.nonzero() as f64), ("solved", solved)];
        found.figures = found.figures.with(further);
        let step = self.iterations;
        let tokens = step * task.data.training.steps();
        let best = self.selection.observe(step, tokens, &found, criterion(&task.data.plan, &found), 0.0);
        if best {
            self.best = Some(solver.parameters().to_vec());
            self.save_model(solver)?;
        }
        let lowest = self.selection.best.as_ref().map_or(f64::INFINITY, |best| best.evaluation.loss);
        self.worse = if found.loss > lowest * (1.0 + RISE) { self.worse + 1 } else { 0 };
        let Evaluation { loss, figures } = found;
        let seconds = self.seconds();
        self.push(MetricsRecord::Validation { step, epoch: step as f64, seconds, loss, figures, best })?;
        self.hint(Stage::UnderWay);
        self.describe(RunStatus::Running)
    }

    fn end(&mut self, solver: &Solver<'_>) -> Result<TrainingOutcome, LabError> {
        if self.best.is_none() {
            self.save_model(solver)?;
        }
        let test = match (&self.best, self.stopped) {
            (Some(best), false) if self.running.scores_test => self.task.evaluate(2, best),
            _ => None,
        };
        let step = self.selection.best.as_ref().map_or(self.iterations, |best| best.step);
        if let Some(Evaluation { loss, figures }) = test.clone() {
            self.push(MetricsRecord::Test { step, loss, figures })?;
        }
        let hints = self.hint(if self.stopped { Stage::UnderWay } else { Stage::Ended });
        let status = if self.stopped { RunStatus::Interrupted } else { RunStatus::Finished };
        self.running.description.test.clone_from(&test);
        self.describe(status)?;
        let seconds = self.seconds();
        let tokens = self.iterations * self.task.data.training.steps();
        Ok(TrainingOutcome {
            base: None,
            status,
            steps: self.iterations,
            ended_early: None,
            kept_step: step,
            validation: self.selection.best.as_ref().map(|best| best.evaluation.clone()),
            test,
            training_loss: solver.loss().loss,
            seconds,
            tokens_per_second: tokens as f64 / seconds.max(1e-9),
            hints,
        })
    }

    fn describe(&mut self, status: RunStatus) -> Result<(), LabError> {
        let best = self.selection.best.as_ref();
        let description: &mut RunDescription = &mut self.running.description;
        description.status = status;
        description.steps = self.iterations;
        // How many it takes is known only at the end.
        description.planned_steps =
            if status == RunStatus::Finished { self.iterations } else { self.task.steps() };
        description.text = self.task.data.facts;
        description.best_step = best.map(|best| best.step);
        description.best_validation_loss = best.map(|best| best.evaluation.loss);
        description.best_figures = best.map(|best| best.evaluation.figures.clone());
        self.running.claim.describe(description)
    }

    fn hint(&mut self, stage: Stage) -> Vec<Hint> {
        let found = hints(&Evidence {
            plan: &self.task.data.plan,
            text: &self.task.data.facts,
            metrics: &self.notebook.so_far,
            flow: None,
            stage,
        });
        if stage == Stage::Ended {
            found.iter().for_each(|hint| self.tell(&TrainingEvent::Hint(hint)));
        }
        found
    }

    /// Writes the best solution so far, or the current parameters if there is none.
    fn save_model(&self, solver: &Solver<'_>) -> Result<(), LabError> {
        let task = self.task;
        let parameters = self.best.as_deref().unwrap_or_else(|| solver.parameters());
        let weights: Vec<f32> = parameters.iter().map(|&weight| weight as f32).collect();
        let trained = match &self.selection.best {
            Some(best) => {
                Trained { step: best.step, tokens: best.tokens, validation_loss: Some(best.evaluation.loss) }
            }
            None => Trained { step: self.iterations, tokens: 0, validation_loss: None },
        };
        let data = &task.data;
        let assets = classifier_assets(&data.plan, &data.input, &data.classes, Some(&task.form))?;
        let path = self.running.run.model();
        let name = path.file_name().unwrap_or_default();
        let file = WholeFile::within(self.running.claim.folder(), name, Existing::Replace)?;
        save_model(file, assets, &trained, &task.layout(), &weights)
    }
}
