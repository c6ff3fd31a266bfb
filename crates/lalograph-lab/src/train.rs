//! The training loop.

use std::ops::ControlFlow;
use std::path::Path;
use std::time::Instant;

use lalograph_net::LanguageModel;
use lalograph_net::clipping::{Clipping, GradientMeter};
use lalograph_net::initial::initial_weights;
use lalograph_net::model::Purpose;
use lalograph_net::optimiser::Optimiser;
use lalograph_net::parameters::PackedWeights;
use lalograph_net::random::stream;
use lalograph_net::recurrent::Extent;
use lalograph_net::step::{AddLanes, Draw, Team};
use lalograph_text::corpus::{ReadObserver, Skipped};
use lalograph_text::tokens::{EncodedCorpus, HeldOut, encode_corpus};
use lalograph_text::{Corpus, Part, Vocabulary, VocabularyBuilder};

use crate::baseline::unigram_loss;
use crate::error::LabError;
use crate::files::{Existing, read_split, read_vocabulary, write_whole};
use crate::flow::FlowMeter;
use crate::generate::{Choice, Generator, Request};
use crate::model_file::{ModelContent, Progress};
use crate::plan::Plan;
use crate::records::{FlowRecord, Lines, MetricsRecord, SampleRecord};
use crate::run::{RunDescription, RunFolder, RunStatus};
use crate::schedule::Schedule;
use crate::score::{Judge, Score};
use crate::streams::{TrainingWindows, WindowBuffer};
use crate::token_cache::CacheEntry;

/// Streams side by side while the validation text is judged.
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
    pub model: LanguageModel,
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
    let windows = TrainingWindows::new(&corpus.training, &plan.training).windows() as u64;
    if corpus.training.len() < rows * window || windows == 0 {
        return Err(LabError::TooShort {
            tokens: corpus.training.len(),
            rows,
            window,
            needed: rows * window,
        });
    }
    let model = LanguageModel::new(plan.shape(vocabulary.len()))?;
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
    norm_after: f64,
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
    windows: TrainingWindows<'a>,
    buffer: WindowBuffer,
    judge: Option<Judge>,
    team: Team<f32>,
    weights: Vec<f32>,
    packed: PackedWeights<f32>,
    meter: GradientMeter,
    clipping: Clipping,
    optimiser: Optimiser<f32>,
    schedule: Schedule,
    flow: Option<(FlowMeter, Lines)>,
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
        let Prepared { plan, corpus, model, vocabulary, steps, .. } = prepared;
        let training = &plan.training;
        let extent = Extent { steps: TrainingWindows::most_steps(training), rows: training.batch };
        let begins = TrainingWindows::begin_anew(training);
        let purpose = Purpose::Training(plan.regularisation());
        let mut team = Team::new(model, extent, training.lanes, purpose, begins);
        if model.samples().is_some() {
            team = team.sampling_by(&corpus.training.counts(vocabulary.len()));
        }
        let validation = &corpus.validation;
        let judge = (!validation.is_empty()).then(|| {
            let size = (JUDGED_ROWS, training.window);
            Judge::new(model, validation, size, training.lanes, training.reset_at_documents)
        });
        let flow = (training.flow_every > 0)
            .then(|| Lines::create(&run.flow()).map(|lines| (FlowMeter::new(model, training), lines)))
            .transpose()?;
        Ok(Self {
            prepared,
            run,
            observer,
            metrics: Lines::create(&run.metrics())?,
            samples: Lines::create(&run.samples())?,
            windows: TrainingWindows::new(&corpus.training, training),
            buffer: WindowBuffer::new(begins),
            judge,
            team,
            weights: initial_weights(model.layout(), training.seed),
            packed: PackedWeights::new(model.layout(), true),
            meter: GradientMeter::new(model.layout()),
            clipping: plan.clipping(),
            optimiser: Optimiser::new(plan.optimiser(*steps), model.layout()),
            schedule: Schedule::new(training, *steps),
            flow,
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
        let outcome = self.steps();
        // Nothing was judged before it failed: then the weights in hand are the best there are.
        if outcome.is_err() && self.best.is_none() && self.weights.iter().all(|w| w.is_finite()) {
            self.save(None)?;
        }
        outcome
    }

    fn steps(&mut self) -> Result<TrainingOutcome, LabError> {
        let steps = self.prepared.steps;
        self.tell(&TrainingEvent::Started { steps, parameters: self.weights.len() });
        let Plan { training, samples, .. } = &self.prepared.plan;
        let due = |every: u64, step: u64| step == steps || (every > 0 && step.is_multiple_of(every));
        while self.step < steps && !self.stopped {
            self.make_step()?;
            if training.flow_every > 0 && self.step.is_multiple_of(training.flow_every) {
                self.measure_flow()?;
            }
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

    fn make_step(&mut self) -> Result<(), LabError> {
        let Prepared { plan, model, .. } = self.prepared;
        let begun = Instant::now();
        let windows = self.windows.windows() as u64;
        let (pass, window) = (self.step / windows, (self.step % windows) as usize);
        self.windows.window(pass, window, &mut self.buffer);
        self.packed.update(model.layout(), &self.weights);
        let weights = self.packed.with(&self.weights);
        let batch = self.buffer.batch();
        if window == 0 && batch.fresh.is_none() {
            self.team.begin(model, weights);
        }
        let draw = Draw { seed: plan.training.seed, step: self.step };
        let loss = self.team.learn(model, weights, batch, draw, &mut AddLanes);
        self.step += 1;
        let clipped = self.meter.measure(self.team.gradient(), &self.clipping);
        let tokens = self.buffer.scored();
        let training_loss = loss.sum / tokens.max(1) as f64;
        self.refuse_infinite(training_loss, clipped.norm_before)?;
        let rate = self.schedule.rate(self.step);
        self.optimiser.step(&mut self.weights, self.team.gradient(), rate, &clipped);

        let seconds = begun.elapsed().as_secs_f64();
        self.tokens += tokens;
        self.training_seconds += seconds;
        let recent = &mut self.recent;
        recent.steps += 1;
        recent.loss += training_loss;
        recent.norm += clipped.norm_before;
        recent.norm_after += clipped.norm_after;
        recent.clipped += u64::from(clipped.any());
        recent.tokens += tokens;
        recent.seconds += seconds;
        self.tell(&TrainingEvent::Step { step: self.step, tokens, training_loss });
        Ok(())
    }

    /// An error that names the first parameter whose gradient is not finite, or the one that grew furthest where the loss has no
    /// perplexity any more.
    fn refuse_infinite(&self, training_loss: f64, norm: f64) -> Result<(), LabError> {
        if !norm.is_finite() {
            let tensors = self.prepared.model.layout().tensors();
            let parameter = self.meter.first_not_finite().map(|index| tensors[index].name.clone());
            return Err(LabError::NotFinite { step: self.step, parameter: parameter.unwrap_or_default() });
        }
        self.refuse_diverged("training", training_loss)
    }

    fn refuse_diverged(&self, text: &'static str, loss: f64) -> Result<(), LabError> {
        if loss.exp().is_finite() {
            return Ok(());
        }
        let size = |range: std::ops::Range<usize>| {
            self.weights[range]
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
        Err(LabError::Diverged { step: self.step, text, parameter, greatest })
    }

    fn measure_flow(&mut self) -> Result<(), LabError> {
        let Prepared { model, .. } = self.prepared;
        let Some((meter, lines)) = &mut self.flow else {
            return Ok(());
        };
        self.packed.update(model.layout(), &self.weights);
        let mut record = meter.measure(model, self.packed.with(&self.weights), self.buffer.batch());
        record.step = self.step;
        lines.push(&record)?;
        self.tell(&TrainingEvent::Flow(&record));
        Ok(())
    }

    fn epoch(&self) -> f64 {
        self.step as f64 / self.windows.windows() as f64
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
            // Against a sample of the vocabulary the loss is no perplexity's logarithm.
            training_perplexity: self.prepared.model.samples().is_none().then(|| self.training_loss.exp()),
            learning_rate: self.schedule.rate(self.step),
            gradient_norm: recent.norm / steps,
            clipped_gradient_norm: recent.norm_after / steps,
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
        let settled = self.optimiser.settled(&self.weights);
        self.packed.update(model.layout(), settled);
        let total = judge.total_loss(model, self.packed.with(settled), &corpus.validation, |share| {
            observer.event(&TrainingEvent::Judging(share)).is_continue()
        });
        let Some(total) = total else {
            self.stopped = true;
            return Ok(());
        };
        let score = Score::new(&corpus.validation, total);
        self.refuse_diverged("validation", score.loss)?;
        self.schedule.observe(score.loss);
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
        let Prepared { plan, vocabulary, model, .. } = self.prepared;
        let content = ModelContent {
            plan,
            vocabulary,
            progress: &Progress {
                step: self.step,
                tokens: self.tokens,
                validation_loss: score.map(|score| score.loss),
            },
            model,
            weights: self.optimiser.settled(&self.weights),
        };
        content.save(&self.run.model(), Existing::Replace)
    }

    fn sample(&mut self) -> Result<(), LabError> {
        let Prepared { plan, model, vocabulary, .. } = self.prepared;
        let mut records = Vec::with_capacity(plan.samples.temperatures.len());
        let settled = self.optimiser.settled(&self.weights);
        self.packed.update(model.layout(), settled);
        let weights = self.packed.with(settled);
        let mut generator = Generator::new(model, weights, vocabulary, plan.training.reset_at_documents);
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
