//! The training loop.

use std::ops::ControlFlow;
use std::path::Path;
use std::time::Instant;

use lalograph_net::LanguageModel;
use lalograph_net::initial::initial_weights;
use lalograph_net::model::Purpose;
use lalograph_net::optimiser::{Adam, AdamSettings, clip_factor, norm};
use lalograph_net::random::stream;
use lalograph_net::recurrent::Extent;
use lalograph_net::step::{AddLanes, DropoutDraw, Team};
use lalograph_text::corpus::{ReadObserver, Skipped};
use lalograph_text::tokens::{EncodedCorpus, HeldOut, encode_corpus};
use lalograph_text::{Corpus, Part, Vocabulary, VocabularyBuilder};

use crate::baseline::unigram_loss;
use crate::error::LabError;
use crate::files::{Existing, read_split, read_vocabulary, write_whole};
use crate::generate::{Choice, Generator, Request};
use crate::model_file::{ModelFile, Progress};
use crate::plan::{Plan, Schedule};
use crate::records::{Lines, MetricsRecord, SampleRecord};
use crate::run::{RunDescription, RunFolder, RunStatus};
use crate::score::{Judge, Score};
use crate::streams::TrainingStreams;
use crate::token_cache::CacheEntry;

/// Streams side by side while the validation text is judged.
const JUDGED_ROWS: usize = 16;

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
    /// The validation text is being judged: the share done.
    Judging(f64),
    /// A sample was written.
    Sample(&'a SampleRecord),
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

/// A plan with its corpus read and its model laid out: ready to train.
pub struct Prepared {
    /// The plan, resolved.
    pub plan: Plan,
    /// The vocabulary, counted on the training part or read from the plan's file.
    pub vocabulary: Vocabulary,
    /// The corpus in two parts.
    pub corpus: EncodedCorpus,
    /// The architecture.
    pub model: LanguageModel<f32>,
    /// Steps to make.
    pub steps: u64,
    /// Mean loss of the unigram model on the validation text, where there is one.
    pub unigram_loss: Option<f64>,
}

/// Reads the corpus with `threads` threads and lays the model out. In `cache`, a folder, encoded corpora are kept; what was encoded before and has
/// not changed since is taken from there.
///
/// # Errors
/// An unusable plan, corpus or vocabulary; text too short for one batch; a stop.
pub fn prepare(
    mut plan: Plan,
    threads: usize,
    cache: Option<&Path>,
    observer: &mut dyn TrainingObserver,
) -> Result<Prepared, LabError> {
    plan.check()?;
    let corpus = Corpus::find(&plan.corpus.spec())?;
    let share = plan.corpus.validation_share;
    let held_out = match &plan.corpus.split {
        Some(path) => HeldOut::BySplit(Box::new(read_split(path)?)),
        None => HeldOut::Share { seed: plan.training.seed, share },
    };
    let mut entry = cache.map(|cache| CacheEntry::of(cache, &plan, &corpus)).transpose()?;
    // A strict reading is to happen, not to be remembered.
    let kept = match entry.as_ref().filter(|_| !plan.corpus.strict).map(CacheEntry::load) {
        None | Some(Ok(None)) => None,
        Some(Ok(kept)) => kept,
        Some(Err(error)) => {
            let _ = observer.event(&TrainingEvent::NotReused(&error));
            None
        }
    };
    let (vocabulary, corpus) = match kept {
        Some(kept) => {
            let folder = entry.as_ref().map(CacheEntry::folder).unwrap_or(Path::new(""));
            let _ = observer.event(&TrainingEvent::Reused(folder));
            kept
        }
        None => encode(&plan, &corpus, &held_out, entry.as_mut(), threads, observer)?,
    };
    plan.vocabulary.unit = vocabulary.unit();
    plan.vocabulary.cleaning.clone_from(&vocabulary.cleaning().steps);
    plan.vocabulary.reserved.clone_from(vocabulary.reserved());
    if share > 0.0 && plan.corpus.split.is_none() && corpus.validation.is_empty() {
        return Err(LabError::NoValidation { documents: corpus.reading.documents, share });
    }
    let (rows, window) = (plan.training.batch, plan.training.window);
    if corpus.training.len() < rows * window {
        return Err(LabError::TooShort {
            tokens: corpus.training.len(),
            rows,
            window,
            needed: rows * window,
        });
    }
    let model = LanguageModel::new(plan.shape(vocabulary.len()))?;
    let windows = TrainingStreams::new(&corpus.training, rows, window).windows() as u64;
    let steps = plan.training.steps.unwrap_or(plan.training.epochs * windows);
    let unigram = (!corpus.validation.is_empty())
        .then(|| unigram_loss(&vocabulary, &corpus.training, &corpus.validation));
    Ok(Prepared { plan, vocabulary, corpus, model, steps, unigram_loss: unigram })
}

/// Reads the corpus: once for the vocabulary, unless the plan names one, and once for the tokens.
fn encode(
    plan: &Plan,
    corpus: &Corpus,
    held_out: &HeldOut,
    mut entry: Option<&mut CacheEntry>,
    threads: usize,
    observer: &mut dyn TrainingObserver,
) -> Result<(Vocabulary, EncodedCorpus), LabError> {
    let mut pass = Pass { number: 1, total_bytes: corpus.bytes(), observer };
    let vocabulary = match &plan.vocabulary.file {
        Some(path) => read_vocabulary(path)?,
        None => count_vocabulary(plan, corpus, held_out, threads, &mut pass)?,
    };
    pass.number = 2;
    let places = entry.as_mut().map(|entry| entry.places()).transpose()?;
    let stores = places.as_ref().map(|[training, validation]| [training.as_path(), validation.as_path()]);
    let encoded = encode_corpus(corpus, &vocabulary, held_out, stores, threads, &mut pass);
    match (entry, &encoded) {
        (Some(entry), Ok(encoded)) => entry.keep(&vocabulary, encoded)?,
        (Some(entry), Err(_)) => entry.discard(),
        (None, _) => {}
    }
    Ok((vocabulary, encoded?))
}

/// One pass over the corpus, told to the observer of the training.
struct Pass<'a> {
    number: u32,
    total_bytes: u64,
    observer: &'a mut dyn TrainingObserver,
}

impl ReadObserver for Pass<'_> {
    fn progress(&mut self, bytes: u64) -> bool {
        let event = TrainingEvent::Reading { pass: self.number, bytes, total_bytes: self.total_bytes };
        self.observer.event(&event).is_continue()
    }

    fn left_out(&mut self, skipped: &Skipped) {
        // Every pass meets the same places; the last is the one that always takes place.
        if self.number == 2 {
            let _ = self.observer.event(&TrainingEvent::LeftOut(skipped));
        }
    }
}

/// Counts the training part only, so that validation text shows how much of unseen text is unknown.
fn count_vocabulary(
    plan: &Plan,
    corpus: &Corpus,
    held_out: &HeldOut,
    threads: usize,
    pass: &mut Pass<'_>,
) -> Result<Vocabulary, LabError> {
    let (spec, split) = (plan.vocabulary.spec(), held_out.split());
    let (mut builder, reading) = VocabularyBuilder::count(&spec, corpus, threads, pass, |document| {
        split.part_of(document.text, document.label) == Part::Training
    })?;
    if !held_out.parts_by_document(reading.documents) {
        // Too few documents to be parted whole: then the part held out cannot be told apart here.
        (builder, _) = VocabularyBuilder::count(&spec, corpus, 1, pass, |_| true)?;
    }
    Ok(builder.finish(threads)?)
}

/// What came of a run.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TrainingOutcome {
    /// Finished or interrupted.
    pub status: RunStatus,
    /// Steps made.
    pub steps: u64,
    /// The step whose weights were kept.
    pub kept_step: u64,
    /// The validation text at that step, where there is one.
    pub validation: Option<Score>,
    /// Mean loss on training text over the last steps, with dropout.
    pub training_loss: f64,
    /// Seconds from first step to last, samples and validation included.
    pub seconds: f64,
    /// Tokens learnt from in a second of training alone.
    pub tokens_per_second: f64,
}

/// Trains into `run`, which holds nothing but its plan and description.
///
/// # Errors
/// Numbers that are no longer finite (the best model so far is kept); anything the file system refuses.
pub fn train(
    prepared: &Prepared,
    run: &RunFolder,
    description: RunDescription,
    threads: usize,
    observer: &mut (dyn TrainingObserver + Send),
) -> Result<TrainingOutcome, LabError> {
    let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build()?;
    write_whole(&run.vocabulary(), prepared.vocabulary.to_json().as_bytes(), Existing::Keep)?;
    let mut description = RunDescription { status: RunStatus::Running, ..description };
    let outcome = pool.install(|| Loop::new(prepared, run, observer)?.run());
    match &outcome {
        Ok(outcome) => {
            description.status = outcome.status;
            description.steps = outcome.steps;
            description.best_validation_loss = outcome.validation.map(|score| score.loss);
        }
        Err(_) => description.status = RunStatus::Failed,
    }
    run.describe(&description)?;
    outcome
}

/// Sums over the steps since the last record.
#[derive(Default)]
struct Recent {
    steps: u64,
    loss: f64,
    norm: f64,
    clipped: u64,
    tokens: u64,
    seconds: f64,
}

struct Loop<'a> {
    prepared: &'a Prepared,
    run: &'a RunFolder,
    observer: &'a mut (dyn TrainingObserver + Send),
    metrics: Lines,
    samples: Lines,
    streams: TrainingStreams<'a>,
    judge: Option<Judge>,
    team: Team<f32>,
    weights: Vec<f32>,
    adam: Adam<f32>,
    started: Instant,
    step: u64,
    tokens: u64,
    training_seconds: f64,
    recent: Recent,
    training_loss: f64,
    best: Option<(u64, Score)>,
    last_validation: Option<Score>,
    stopped: bool,
}

impl<'a> Loop<'a> {
    fn new(
        prepared: &'a Prepared,
        run: &'a RunFolder,
        observer: &'a mut (dyn TrainingObserver + Send),
    ) -> Result<Self, LabError> {
        let Prepared { plan, corpus, model, .. } = prepared;
        let training = &plan.training;
        let extent = Extent { steps: training.window, rows: training.batch };
        let purpose = Purpose::Training { dropout: training.dropout > 0.0 };
        let weights = initial_weights(model.layout(), training.seed);
        let validation = &corpus.validation;
        Ok(Self {
            prepared,
            run,
            observer,
            metrics: Lines::create(&run.metrics())?,
            samples: Lines::create(&run.samples())?,
            streams: TrainingStreams::new(&corpus.training, training.batch, training.window),
            judge: (!validation.is_empty())
                .then(|| Judge::new(model, validation, JUDGED_ROWS, training.window, training.lanes)),
            team: Team::new(model, extent, training.lanes, purpose),
            adam: Adam::new(AdamSettings::default(), weights.len()),
            weights,
            started: Instant::now(),
            step: 0,
            tokens: 0,
            training_seconds: 0.0,
            recent: Recent::default(),
            training_loss: f64::NAN,
            best: None,
            last_validation: None,
            stopped: false,
        })
    }

    fn tell(&mut self, event: &TrainingEvent<'_>) {
        self.stopped |= self.observer.event(event).is_break();
    }

    fn run(mut self) -> Result<TrainingOutcome, LabError> {
        let steps = self.prepared.steps;
        self.tell(&TrainingEvent::Started { steps, parameters: self.weights.len() });
        let Plan { training, samples, .. } = &self.prepared.plan;
        let due = |every: u64, step: u64| step == steps || (every > 0 && step.is_multiple_of(every));
        let (mut inputs, mut targets) = (Vec::new(), Vec::new());
        while self.step < steps && !self.stopped {
            self.make_step(&mut inputs, &mut targets)?;
            if due(training.record_every, self.step) || self.stopped {
                self.record()?;
            }
            if due(training.validate_every, self.step) && !self.stopped {
                self.validate()?;
            }
            if due(samples.every, self.step) && !self.stopped {
                self.sample()?;
            }
        }
        // Without validation, or before the first, the weights in hand are the ones to keep.
        if self.best.is_none() {
            self.save(None)?;
        }
        let finished = self.step == steps;
        Ok(TrainingOutcome {
            status: if finished { RunStatus::Finished } else { RunStatus::Interrupted },
            steps: self.step,
            kept_step: self.best.map_or(self.step, |(step, _)| step),
            validation: self.best.map(|(_, score)| score),
            training_loss: self.training_loss,
            seconds: self.started.elapsed().as_secs_f64(),
            tokens_per_second: self.tokens as f64 / self.training_seconds.max(1e-9),
        })
    }

    fn make_step(&mut self, inputs: &mut Vec<u32>, targets: &mut Vec<u32>) -> Result<(), LabError> {
        let Prepared { plan, model, steps, .. } = self.prepared;
        let begun = Instant::now();
        let window = (self.step % self.streams.windows() as u64) as usize;
        if window == 0 {
            self.team.reset_state();
        }
        self.streams.window(window, inputs, targets);
        let training = &plan.training;
        let dropout = (training.dropout > 0.0).then_some(DropoutDraw {
            rate: training.dropout,
            seed: training.seed,
            step: self.step,
        });
        let total = self.team.learn(model, &self.weights, inputs, targets, dropout, &mut AddLanes);
        self.step += 1;
        let gradient_norm = norm(self.team.gradient());
        for (value, what) in [(total, "training loss"), (gradient_norm, "gradient")] {
            if !value.is_finite() {
                return Err(LabError::NotFinite { step: self.step, what });
            }
        }
        let limit = (training.clip_norm > 0.0).then_some(training.clip_norm);
        let factor = clip_factor(gradient_norm, limit);
        let rate = learning_rate(plan, self.step, *steps);
        self.adam.step(&mut self.weights, self.team.gradient(), rate, factor);

        let tokens = targets.len() as u64;
        let training_loss = total / tokens as f64;
        let seconds = begun.elapsed().as_secs_f64();
        self.tokens += tokens;
        self.training_seconds += seconds;
        let recent = &mut self.recent;
        recent.steps += 1;
        recent.loss += training_loss;
        recent.norm += gradient_norm;
        recent.clipped += u64::from(factor < 1.0);
        recent.tokens += tokens;
        recent.seconds += seconds;
        self.tell(&TrainingEvent::Step { step: self.step, tokens, training_loss });
        Ok(())
    }

    fn epoch(&self) -> f64 {
        self.step as f64 / self.streams.windows() as f64
    }

    fn record(&mut self) -> Result<(), LabError> {
        let recent = std::mem::take(&mut self.recent);
        let steps = recent.steps as f64;
        self.training_loss = recent.loss / steps;
        let record = MetricsRecord::Training {
            step: self.step,
            epoch: self.epoch(),
            tokens: self.tokens,
            seconds: self.started.elapsed().as_secs_f64(),
            training_loss: self.training_loss,
            training_perplexity: self.training_loss.exp(),
            learning_rate: learning_rate(&self.prepared.plan, self.step, self.prepared.steps),
            gradient_norm: recent.norm / steps,
            clipped_share: recent.clipped as f64 / steps,
            tokens_per_second: recent.tokens as f64 / recent.seconds.max(1e-9),
        };
        self.metrics.push(&record)?;
        self.tell(&TrainingEvent::Metrics(&record));
        Ok(())
    }

    fn validate(&mut self) -> Result<(), LabError> {
        let Prepared { model, corpus, .. } = self.prepared;
        let Some(judge) = &mut self.judge else {
            return Ok(());
        };
        let observer = &mut self.observer;
        let total = judge.total_loss(model, &self.weights, &corpus.validation, |share| {
            observer.event(&TrainingEvent::Judging(share)).is_continue()
        });
        let Some(total) = total else {
            self.stopped = true;
            return Ok(());
        };
        if !total.is_finite() {
            return Err(LabError::NotFinite { step: self.step, what: "validation loss" });
        }
        let score = Score::new(&corpus.validation, total);
        let best = self.best.is_none_or(|(_, best)| score.loss < best.loss);
        self.last_validation = Some(score);
        if best {
            self.save(Some(score))?;
            self.best = Some((self.step, score));
        }
        let record = MetricsRecord::Validation {
            step: self.step,
            epoch: self.epoch(),
            seconds: self.started.elapsed().as_secs_f64(),
            validation_loss: score.loss,
            validation_perplexity: score.perplexity,
            bits_per_byte: score.bits_per_byte,
            best,
        };
        self.metrics.push(&record)?;
        self.tell(&TrainingEvent::Metrics(&record));
        Ok(())
    }

    fn save(&self, score: Option<Score>) -> Result<(), LabError> {
        let Prepared { plan, vocabulary, .. } = self.prepared;
        let file = ModelFile {
            plan: plan.clone(),
            vocabulary: vocabulary.clone(),
            progress: Progress {
                step: self.step,
                tokens: self.tokens,
                validation_loss: score.map(|score| score.loss),
            },
            model: LanguageModel::new(self.prepared.model.shape())?,
            weights: self.weights.clone(),
        };
        file.save(&self.run.model(), Existing::Replace)
    }

    fn sample(&mut self) -> Result<(), LabError> {
        let Prepared { plan, model, vocabulary, .. } = self.prepared;
        let mut records = Vec::with_capacity(plan.samples.temperatures.len());
        let mut generator = Generator::new(model, &self.weights, vocabulary);
        for (index, &temperature) in plan.samples.temperatures.iter().enumerate() {
            let request = Request {
                seed_text: &plan.samples.seed_text,
                choice: Choice::at_temperature(temperature)?,
                tokens: plan.samples.tokens,
                past_end: false,
            };
            let mut random = stream(plan.training.seed, "sampling", &[self.step, index as u64]);
            let sample = generator.write(&request, &mut random, |_| true)?;
            records.push(SampleRecord {
                step: self.step,
                validation_perplexity: self.last_validation.map(|score| score.perplexity),
                temperature,
                seed_text: plan.samples.seed_text.clone(),
                text: sample.text,
                tokens: sample.tokens,
                ended: sample.ended,
            });
        }
        for record in &records {
            self.samples.push(record)?;
            self.tell(&TrainingEvent::Sample(record));
        }
        Ok(())
    }
}

/// The learning rate of a step, from 1: a straight rise over the warm-up, then the schedule.
fn learning_rate(plan: &Plan, step: u64, steps: u64) -> f64 {
    let training = &plan.training;
    if step <= training.warmup_steps {
        return training.learning_rate * step as f64 / training.warmup_steps as f64;
    }
    match training.schedule {
        Schedule::Constant => training.learning_rate,
        Schedule::Cosine => {
            let done = (step - training.warmup_steps) as f64;
            let share = done / steps.saturating_sub(training.warmup_steps).max(1) as f64;
            let fall = 0.5 * (1.0 + (std::f64::consts::PI * share.min(1.0)).cos());
            training.learning_rate * (0.01 + 0.99 * fall)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::learning_rate;
    use crate::plan::{Plan, Schedule};

    #[test]
    fn the_learning_rate_rises_and_falls_as_documented() {
        let mut plan = Plan::default();
        plan.training.learning_rate = 0.5;
        plan.training.warmup_steps = 10;
        let at = |plan: &Plan, step| learning_rate(plan, step, 110);
        assert!((at(&plan, 1) - 0.05).abs() < 1e-12);
        assert!((at(&plan, 10) - 0.5).abs() < 1e-12);
        assert!((at(&plan, 60) - 0.5 * (0.01 + 0.99 * 0.5)).abs() < 1e-12);
        assert!((at(&plan, 110) - 0.005).abs() < 1e-12);
        plan.training.schedule = Schedule::Constant;
        assert!((at(&plan, 110) - 0.5).abs() < 1e-12);
        plan.training.warmup_steps = 0;
        assert!((at(&plan, 1) - 0.5).abs() < 1e-12);
    }
}
