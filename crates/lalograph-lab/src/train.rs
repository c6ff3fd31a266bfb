//! The training loop: steps, and what is done after each of them.

use std::ops::ControlFlow;
use std::path::Path;
use std::time::Instant;

use lalograph_net::LanguageModel;
use lalograph_net::random::stream;
use lalograph_text::corpus::Skipped;
use lalograph_text::tokens::TokenSequence;

use crate::checkpoint::{self, Checkpoint, Duty, Position, Recent, RecordBytes};
use crate::error::LabError;
use crate::files::Existing;
use crate::flow::FlowMeter;
use crate::generate::{Decoding, Ended, Generator, Request, Stop};
use crate::hints::{Evidence, Hint, Stage, hints};
use crate::model_file::{ModelContent, Progress};
use crate::plan::Plan;
use crate::prepare::Prepared;
use crate::records::{FlowRecord, Lines, MetricsRecord, SampleRecord, read_lines};
use crate::run::{Claim, RunDescription, RunFolder, RunStatus};
use crate::schedule::Schedule;
use crate::score::{Judge, Score};
use crate::trainer::Trainer;
use crate::vector_start::fill_embedding;

/// Streams side by side while held-out text is judged.
pub(crate) const JUDGED_ROWS: usize = 16;

/// Something that happened while a run was prepared or trained.
#[derive(Debug)]
pub enum TrainingEvent<'a> {
    /// The corpus is being read: bytes so far, of how many; `pass` is 1 while words are counted and 2 while they are encoded.
    Reading {
        /// Which pass over the corpus.
        pass: u32,
        /// Bytes read.
        bytes: u64,
        /// Bytes in all; 0 when not known.
        total_bytes: u64,
    },
    /// Something of the corpus is left out.
    LeftOut(&'a Skipped),
    /// The encoded corpus of an earlier run is used, from this folder.
    Reused(&'a Path),
    /// An encoded corpus of an earlier run is there and cannot be used; it is made anew.
    NotReused(&'a LabError),
    /// The first step is about to be made.
    Started {
        /// Steps planned.
        steps: u64,
        /// Steps made already.
        made: u64,
        /// Numbers that are learnt.
        parameters: usize,
    },
    /// A step was made.
    Step {
        /// Its number, from 1.
        step: u64,
        /// Tokens in it.
        tokens: u64,
        /// Its mean loss on training text.
        training_loss: f64,
    },
    /// A record was written.
    Metrics(&'a MetricsRecord),
    /// How far back in time gradients reach was measured.
    Flow(&'a FlowRecord),
    /// The validation text is being judged: the share done.
    Judging(f64),
    /// A sample was written.
    Sample(&'a SampleRecord),
    /// A checkpoint was written after this step.
    Checkpoint(u64),
    /// The figures say something that they did not say before.
    Hint(&'a Hint),
}

/// Somebody who is told what happens.
pub trait TrainingObserver {
    /// Told of an event. Breaking ends the run after the step in hand, with everything so far kept.
    fn event(&mut self, event: &TrainingEvent<'_>) -> ControlFlow<()>;
}

impl<F: FnMut(&TrainingEvent<'_>) -> ControlFlow<()>> TrainingObserver for F {
    fn event(&mut self, event: &TrainingEvent<'_>) -> ControlFlow<()> {
        self(event)
    }
}

/// What came of a run.
#[derive(Debug, Clone, PartialEq)]
pub struct TrainingOutcome {
    /// Finished or interrupted.
    pub status: RunStatus,
    /// Steps made.
    pub steps: u64,
    /// Whether it ended before its last step because nothing was gained any more.
    pub stopped_early: bool,
    /// The step whose weights were kept.
    pub kept_step: u64,
    /// The validation text at that step, where there is one.
    pub validation: Option<Score>,
    /// The test text under the weights that were kept, where there is one and the run was finished.
    pub test: Option<Score>,
    /// Mean loss on training text over the last steps, with dropout.
    pub training_loss: f64,
    /// Seconds from first step to last, samples and validation included, over all the times that it was resumed.
    pub seconds: f64,
    /// Tokens learnt from in a second of training alone.
    pub tokens_per_second: f64,
    /// What its figures say.
    pub hints: Vec<Hint>,
}

/// What a run is trained in, and from where on.
#[derive(Debug)]
pub struct Running {
    /// The folder.
    pub run: RunFolder,
    /// The right to write to it, until training ends.
    pub claim: Claim,
    /// Its description so far.
    pub description: RunDescription,
    /// Where to go on from; none from the beginning.
    pub from: Option<Checkpoint>,
}

/// Trains a run from where it stands.
///
/// # Errors
/// Numbers that are no longer finite (the best model so far is kept); a checkpoint of another model; anything the file system refuses.
pub fn train(
    prepared: &Prepared,
    running: Running,
    threads: usize,
    observer: &mut (dyn TrainingObserver + Send),
) -> Result<TrainingOutcome, LabError> {
    let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build()?;
    pool.install(|| Loop::new(prepared, running, observer)?.run())
}

/// The best weights so far.
struct Best {
    step: u64,
    /// Tokens learnt from until then.
    tokens: u64,
    score: Score,
    weights: Vec<f32>,
}

struct Loop<'a> {
    prepared: &'a Prepared,
    run: RunFolder,
    _claim: Claim,
    description: RunDescription,
    observer: &'a mut (dyn TrainingObserver + Send),
    trainer: Trainer<'a>,
    schedule: Schedule,
    /// The validation text, or the part of it that is judged while training.
    validation: TokenSequence,
    judge: Option<Judge>,
    flow: FlowMeter,
    metrics: Lines,
    samples: Lines,
    flow_lines: Lines,
    /// All records so far, for what they say together.
    metrics_so_far: Vec<MetricsRecord>,
    flow_so_far: Vec<FlowRecord>,
    hinted: Vec<&'static str>,
    started: Instant,
    /// Seconds before it was last resumed.
    seconds_before: f64,
    last_checkpoint: Instant,
    next: Duty,
    tokens: u64,
    training_seconds: f64,
    recent: Recent,
    training_loss: Option<f64>,
    best: Option<Best>,
    last_validation: Option<Score>,
    gain: Option<f64>,
    waited: u64,
    stopped: bool,
}

impl<'a> Loop<'a> {
    fn new(
        prepared: &'a Prepared,
        running: Running,
        observer: &'a mut (dyn TrainingObserver + Send),
    ) -> Result<Self, LabError> {
        let Prepared { plan, corpus, model, vocabulary, steps, .. } = prepared;
        let Running { run, claim, description, from } = running;
        let training = &plan.training;
        let counts = || corpus.training.counts(vocabulary.len());
        let mut trainer = Trainer::new(plan, model, &corpus.training, *steps, counts);
        let mut schedule = Schedule::new(training, *steps);
        let validation = corpus.validation.beginning(training.validate_share);
        let bytes = from.as_ref().map_or(RecordBytes::default(), |from| from.position.record_bytes);
        match (&prepared.vectors, &plan.model.vectors, &from) {
            (Some(table), _, None) => {
                fill_embedding(model, &mut trainer.weights, vocabulary, table)?;
            }
            (None, Some(path), None) => {
                return Err(LabError::at(path)(std::io::ErrorKind::NotFound.into()));
            }
            _ => {}
        }
        if let Some(from) = &from {
            from.restore(&mut trainer)
                .map_err(|what| LabError::BadCheckpoint { path: run.checkpoints(), what })?;
            schedule.plateau = from.position.plateau;
        }
        let metrics = Lines::after(&run.metrics(), bytes.metrics)?;
        let samples = Lines::after(&run.samples(), bytes.samples)?;
        let flow_lines = Lines::after(&run.flow(), bytes.flow)?;
        let (metrics_so_far, flow_so_far) = (read_lines(&run.metrics())?, read_lines(&run.flow())?);
        let mut this = Self {
            prepared,
            run,
            _claim: claim,
            description,
            observer,
            trainer,
            schedule,
            judge: judge(plan, model, &validation),
            validation,
            flow: FlowMeter::new(model, training),
            metrics,
            samples,
            flow_lines,
            metrics_so_far,
            flow_so_far,
            hinted: Vec::new(),
            started: Instant::now(),
            seconds_before: 0.0,
            last_checkpoint: Instant::now(),
            next: Duty::Step,
            tokens: 0,
            training_seconds: 0.0,
            recent: Recent::default(),
            training_loss: None,
            best: None,
            last_validation: None,
            gain: None,
            waited: 0,
            stopped: false,
        };
        if let Some(from) = from {
            this.go_on(from)?;
        }
        Ok(this)
    }

    /// Takes over what a checkpoint holds besides the trainer's part.
    fn go_on(&mut self, from: Checkpoint) -> Result<(), LabError> {
        let Checkpoint { position, best, .. } = from;
        self.seconds_before = position.seconds;
        self.next = position.next;
        self.tokens = position.tokens;
        self.training_seconds = position.training_seconds;
        self.recent = position.recent;
        self.training_loss = position.training_loss;
        self.last_validation = position.last_validation;
        self.gain = position.gain;
        self.waited = position.waited;
        if let (Some((step, tokens, score)), Some(weights)) = (position.best, best) {
            self.best = Some(Best { step, tokens, score, weights });
            // The model file may be of a step after the checkpoint, that is made again now.
            self.save_model()?;
        }
        Ok(())
    }

    fn tell(&mut self, event: &TrainingEvent<'_>) {
        self.stopped |= self.observer.event(event).is_break();
    }

    fn seconds(&self) -> f64 {
        self.seconds_before + self.started.elapsed().as_secs_f64()
    }

    fn run(mut self) -> Result<TrainingOutcome, LabError> {
        self.describe(RunStatus::Running)?;
        let outcome = self.steps().and_then(|()| self.end());
        if let Err(error) = &outcome {
            // Nothing was judged before it failed: then the weights in hand are the best there are.
            if self.best.is_none() && self.trainer.weights.iter().all(|w| w.is_finite()) {
                let _ = self.save_model();
            }
            self.description.failure = Some(error.to_string());
            if let LabError::NotFinite { step, .. } | LabError::Diverged { step, .. } = *error {
                self.description.not_finite_step = Some(step);
                self.hint(Stage::NotFinite(step));
            }
            // A disk that is full takes no description either: the first error is the one to tell.
            let _ = self.describe(RunStatus::Failed);
        }
        outcome
    }

    fn plan(&self) -> &'a Plan {
        &self.prepared.plan
    }

    /// Whether no step is left to make.
    fn is_over(&self) -> bool {
        self.trainer.step >= self.prepared.steps || self.out_of_patience()
    }

    fn out_of_patience(&self) -> bool {
        let patience = self.plan().training.patience;
        patience > 0 && self.waited >= patience
    }

    fn steps(&mut self) -> Result<(), LabError> {
        let (steps, parameters) = (self.prepared.steps, self.trainer.weights.len());
        self.tell(&TrainingEvent::Started { steps, made: self.trainer.step, parameters });
        self.hint(Stage::UnderWay);
        while !self.stopped {
            if self.next == Duty::Step {
                if self.is_over() {
                    break;
                }
                self.make_step()?;
                self.next = Duty::Flow;
            }
            self.duties()?;
            if !self.stopped && self.is_checkpoint_due() {
                self.checkpoint()?;
            }
        }
        Ok(())
    }

    /// Does what is due after the step in hand, as far as it is not done. A stop leaves the rest for later.
    fn duties(&mut self) -> Result<(), LabError> {
        let Plan { training, samples, .. } = self.plan();
        let step = self.trainer.step;
        let every = |every: u64| every > 0 && step.is_multiple_of(every);
        while !self.stopped {
            // Whether it is over may only be known after the validation.
            let over = self.is_over();
            self.next = match self.next {
                Duty::Flow => {
                    if every(training.flow_every) {
                        self.measure_flow()?;
                    }
                    Duty::Record
                }
                Duty::Record => {
                    if over || every(training.record_every) {
                        self.record()?;
                    }
                    Duty::Validate
                }
                Duty::Validate => {
                    if (over || self.is_validation_due()) && !self.validate()? {
                        return Ok(());
                    }
                    Duty::Sample
                }
                Duty::Sample => {
                    if over || every(samples.every) || samples.at.contains(&step) {
                        self.sample()?;
                    }
                    Duty::Step
                }
                Duty::Step => return Ok(()),
            };
        }
        Ok(())
    }

    fn is_validation_due(&self) -> bool {
        let (training, step) = (&self.plan().training, self.trainer.step);
        if training.validate_epochs > 0.0 {
            let span = training.validate_epochs * self.trainer.steps_per_epoch() as f64;
            return (step as f64 / span).floor() > ((step - 1) as f64 / span).floor();
        }
        training.validate_every > 0 && step.is_multiple_of(training.validate_every)
    }

    fn is_checkpoint_due(&self) -> bool {
        let plan = &self.plan().checkpoints;
        (plan.every > 0 && self.trainer.step.is_multiple_of(plan.every))
            || (plan.minutes > 0.0 && self.last_checkpoint.elapsed().as_secs_f64() >= plan.minutes * 60.0)
    }

    /// Ends in good order: a checkpoint, the model, the test text, the description.
    fn end(&mut self) -> Result<TrainingOutcome, LabError> {
        let finished = !self.stopped && self.is_over();
        // Without validation, or before the first, the weights in hand are the ones to keep.
        if self.best.is_none() {
            self.save_model()?;
        }
        self.checkpoint()?;
        let test = if finished { self.test()? } else { None };
        let stage = if finished { Stage::Ended } else { Stage::UnderWay };
        let hints = self.hint(stage);
        let status = if finished { RunStatus::Finished } else { RunStatus::Interrupted };
        let stopped_early = finished && self.trainer.step < self.prepared.steps;
        self.description.stopped_early = stopped_early;
        self.description.test = test;
        self.describe(status)?;
        let recent = self.recent.loss / self.recent.steps as f64;
        Ok(TrainingOutcome {
            status,
            steps: self.trainer.step,
            stopped_early,
            kept_step: self.best.as_ref().map_or(self.trainer.step, |best| best.step),
            validation: self.best.as_ref().map(|best| best.score),
            test,
            training_loss: self.training_loss.unwrap_or(recent),
            seconds: self.seconds(),
            tokens_per_second: self.tokens as f64 / self.training_seconds.max(1e-9),
            hints,
        })
    }

    /// Writes down how the run stands.
    fn describe(&mut self, status: RunStatus) -> Result<(), LabError> {
        let description = &mut self.description;
        description.status = status;
        description.steps = self.trainer.step;
        description.planned_steps = self.prepared.steps;
        description.text = self.prepared.facts;
        description.best_step = self.best.as_ref().map(|best| best.step);
        description.best_validation_loss = self.best.as_ref().map(|best| best.score.loss);
        self.run.describe(description)
    }

    fn make_step(&mut self) -> Result<(), LabError> {
        let begun = Instant::now();
        let learnt = self.trainer.learn();
        let step = self.trainer.step + 1;
        if !learnt.clipped.norm_before.is_finite() {
            let parameter = self.trainer.first_not_finite().unwrap_or_default().to_owned();
            return Err(LabError::NotFinite { step, parameter });
        }
        self.refuse_diverged(step, "training", learnt.loss)?;
        self.trainer.apply(self.schedule.rate(step), &learnt);

        let seconds = begun.elapsed().as_secs_f64();
        self.tokens += learnt.tokens;
        self.training_seconds += seconds;
        let recent = &mut self.recent;
        recent.steps += 1;
        recent.loss += learnt.loss;
        recent.norm += learnt.clipped.norm_before;
        recent.norm_after += learnt.clipped.norm_after;
        recent.clipped += u64::from(learnt.clipped.any());
        recent.tokens += learnt.tokens;
        recent.seconds += seconds;
        self.tell(&TrainingEvent::Step { step, tokens: learnt.tokens, training_loss: learnt.loss });
        Ok(())
    }

    /// An error that names the parameter that grew furthest where a loss has no perplexity any more.
    fn refuse_diverged(&self, step: u64, text: &'static str, loss: f64) -> Result<(), LabError> {
        if loss.exp().is_finite() {
            return Ok(());
        }
        let size = |range: std::ops::Range<usize>| {
            self.trainer.weights[range]
                .iter()
                .map(|w| if w.is_nan() { f32::INFINITY } else { w.abs() })
                .fold(0.0, f32::max)
        };
        let tensors = self.prepared.model.layout().tensors();
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

    fn measure_flow(&mut self) -> Result<(), LabError> {
        let (window, weights) = self.trainer.last_window_and_weights();
        let mut record = self.flow.measure(&self.prepared.model, weights, window);
        record.step = self.trainer.step;
        self.flow_lines.push(&record)?;
        self.tell(&TrainingEvent::Flow(&record));
        self.flow_so_far.push(record);
        Ok(())
    }

    fn epoch(&self) -> f64 {
        self.trainer.step as f64 / self.trainer.steps_per_epoch() as f64
    }

    fn push_metrics(&mut self, record: MetricsRecord) -> Result<(), LabError> {
        self.metrics.push(&record)?;
        self.tell(&TrainingEvent::Metrics(&record));
        self.metrics_so_far.push(record);
        Ok(())
    }

    fn record(&mut self) -> Result<(), LabError> {
        let recent = std::mem::take(&mut self.recent);
        let steps = recent.steps as f64;
        let training_loss = recent.loss / steps;
        self.training_loss = Some(training_loss);
        self.push_metrics(MetricsRecord::Training {
            step: self.trainer.step,
            epoch: self.epoch(),
            tokens: self.tokens,
            seconds: self.seconds(),
            training_loss,
            // Against a sample of the vocabulary the loss is no perplexity's logarithm.
            training_perplexity: self.prepared.model.samples().is_none().then(|| training_loss.exp()),
            learning_rate: self.schedule.rate(self.trainer.step),
            gradient_norm: recent.norm / steps,
            clipped_gradient_norm: recent.norm_after / steps,
            clipped_share: recent.clipped as f64 / steps,
            tokens_per_second: recent.tokens as f64 / recent.seconds.max(1e-9),
        })
    }

    /// Judges the validation text; `false` if it was stopped meanwhile.
    fn validate(&mut self) -> Result<bool, LabError> {
        let Some(judge) = &mut self.judge else {
            return Ok(true);
        };
        let observer = &mut self.observer;
        let total =
            judge.total_loss(&self.prepared.model, self.trainer.settled(), &self.validation, |share| {
                observer.event(&TrainingEvent::Judging(share)).is_continue()
            });
        let Some(total) = total else {
            self.stopped = true;
            return Ok(false);
        };
        let (step, score) = (self.trainer.step, Score::new(&self.validation, total));
        self.refuse_diverged(step, "validation", score.loss)?;
        self.schedule.observe(score.loss);
        self.last_validation = Some(score);
        if self.gain.is_none_or(|gain| score.loss < gain - self.plan().training.minimum_gain) {
            (self.gain, self.waited) = (Some(score.loss), 0);
        } else {
            self.waited += 1;
        }
        let best = self.best.as_ref().is_none_or(|best| score.loss < best.score.loss);
        if best {
            let settled = self.trainer.optimiser.settled(&self.trainer.weights);
            let mut weights = self.best.take().map_or_else(|| vec![0.0; settled.len()], |best| best.weights);
            weights.copy_from_slice(settled);
            self.best = Some(Best { step, tokens: self.tokens, score, weights });
            self.save_model()?;
        }
        self.push_metrics(MetricsRecord::Validation {
            step,
            epoch: self.epoch(),
            seconds: self.seconds(),
            validation_loss: score.loss,
            validation_perplexity: score.perplexity,
            bits_per_byte: score.bits_per_byte,
            best,
        })?;
        self.hint(Stage::UnderWay);
        self.describe(RunStatus::Running)?;
        Ok(true)
    }

    /// Judges the test text with the weights that are kept.
    fn test(&mut self) -> Result<Option<Score>, LabError> {
        let Prepared { plan, model, corpus, .. } = self.prepared;
        let Some(mut judge) = judge(plan, model, &corpus.test) else {
            return Ok(None);
        };
        let kept = self.best.as_ref().map(|best| best.weights.clone());
        let weights = match &kept {
            Some(kept) => self.trainer.pack(kept),
            None => self.trainer.settled(),
        };
        let observer = &mut self.observer;
        let total = judge.total_loss(model, weights, &corpus.test, |share| {
            // It is the last that is done: there is nothing to stop for.
            let _ = observer.event(&TrainingEvent::Judging(share));
            true
        });
        let score = Score::new(&corpus.test, total.unwrap_or(f64::NAN));
        self.refuse_diverged(self.trainer.step, "test", score.loss)?;
        self.push_metrics(MetricsRecord::Test {
            step: self.best.as_ref().map_or(self.trainer.step, |best| best.step),
            test_loss: score.loss,
            test_perplexity: score.perplexity,
            bits_per_byte: score.bits_per_byte,
        })?;
        Ok(Some(score))
    }

    /// What the figures say now; the observer is told of what it was not told before.
    fn hint(&mut self, stage: Stage) -> Vec<Hint> {
        let found = hints(&Evidence {
            plan: self.plan(),
            text: &self.prepared.facts,
            metrics: &self.metrics_so_far,
            flow: &self.flow_so_far,
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

    fn content<'c>(&'c self, progress: &'c Progress, weights: &'c [f32]) -> ModelContent<'c> {
        let Prepared { plan, vocabulary, model, .. } = self.prepared;
        ModelContent { plan, vocabulary, progress, model, weights }
    }

    /// Writes the best weights, or those in hand if none were judged.
    fn save_model(&self) -> Result<(), LabError> {
        let (step, loss, weights) = match &self.best {
            Some(best) => (best.step, Some(best.score.loss), &best.weights[..]),
            None => (self.trainer.step, None, self.trainer.optimiser.settled(&self.trainer.weights)),
        };
        let tokens = self.best.as_ref().map_or(self.tokens, |best| best.tokens);
        let progress = Progress { step, tokens, validation_loss: loss };
        self.content(&progress, weights).save(&self.run.model(), Existing::Replace)
    }

    /// Writes a checkpoint and lets go of the oldest.
    fn checkpoint(&mut self) -> Result<(), LabError> {
        let position = Position {
            step: self.trainer.step,
            next: self.next,
            tokens: self.tokens,
            seconds: self.seconds(),
            training_seconds: self.training_seconds,
            recent: self.recent,
            training_loss: self.training_loss,
            plateau: self.schedule.plateau,
            best: self.best.as_ref().map(|best| (best.step, best.tokens, best.score)),
            last_validation: self.last_validation,
            gain: self.gain,
            waited: self.waited,
            // Synced before the checkpoint that counts on them.
            record_bytes: RecordBytes {
                metrics: self.metrics.synced_bytes()?,
                samples: self.samples.synced_bytes()?,
                flow: self.flow_lines.synced_bytes()?,
            },
            optimiser_steps: self.trainer.optimiser.steps(),
        };
        let folder = self.run.checkpoints();
        std::fs::create_dir_all(&folder).map_err(LabError::at(&folder))?;
        let path = checkpoint::path_of(&folder, position.step);
        let progress = Progress {
            step: position.step,
            tokens: position.tokens,
            validation_loss: self.last_validation.map(|score| score.loss),
        };
        let best = self.best.as_ref().map(|best| &best.weights[..]);
        checkpoint::save(
            &path,
            &self.content(&progress, &self.trainer.weights),
            &position,
            &self.trainer,
            best,
        )?;
        checkpoint::keep_newest(&folder, self.plan().checkpoints.keep)?;
        self.last_checkpoint = Instant::now();
        self.describe(RunStatus::Running)?;
        self.tell(&TrainingEvent::Checkpoint(position.step));
        Ok(())
    }

    fn sample(&mut self) -> Result<(), LabError> {
        let Prepared { plan, model, vocabulary, seed_texts, .. } = self.prepared;
        let mut records = Vec::with_capacity(plan.samples.temperatures.len() * seed_texts.len());
        let step = self.trainer.step;
        let weights = self.trainer.settled();
        let mut generator = Generator::new(model, weights, vocabulary, plan.training.reset_at_documents);
        let mut number = 0;
        for seed_text in seed_texts {
            for &temperature in &plan.samples.temperatures {
                let decoding = &Decoding::at_temperature(temperature);
                let tokens = plan.samples.tokens;
                let request =
                    Request { seed_text, decoding, tokens, past_end: false, stop: &Stop::default() };
                let mut random = stream(plan.training.seed, "sampling", &[step, number]);
                number += 1;
                let sample = generator.write(&request, &mut random, |_| true)?;
                records.push(SampleRecord {
                    step,
                    validation_perplexity: self.last_validation.map(|score| score.perplexity),
                    temperature,
                    seed_text: seed_text.clone(),
                    tokens: sample.tokens(),
                    ended: sample.ended == Ended::Document,
                    text: sample.text,
                });
            }
        }
        for record in &records {
            self.samples.push(record)?;
            self.tell(&TrainingEvent::Sample(record));
        }
        Ok(())
    }
}

/// Room to judge a text in, if there is any text.
fn judge(plan: &Plan, model: &LanguageModel, text: &TokenSequence) -> Option<Judge> {
    let training = &plan.training;
    (!text.is_empty()).then(|| {
        let size = (JUDGED_ROWS, training.window);
        Judge::new(model, text, size, training.lanes, training.reset_at_documents)
    })
}
