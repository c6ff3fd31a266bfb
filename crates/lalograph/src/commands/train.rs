//! `train`: a plan from flags and files, then the run.

use std::ops::ControlFlow;
use std::path::{Path, PathBuf};

use jiff::ZonedDateTime;
use lalograph_lab::files::Existing;
use lalograph_lab::records::{FlowRecord, MetricsRecord, SampleRecord, read_lines};
use lalograph_lab::run::{RunDescription, RunStatus};
use lalograph_lab::{LabError, Plan, Prepared, RunFolder, TrainingEvent, TrainingOutcome, prepare, train};
use lalograph_text::Corpus;
use serde::Serialize;

use super::reading::{LeftOut, lay_over, refuse_idle, say_reading, say_unknown};
use super::settings::{describe, describe_windows, lay, lay_model, rule_of, schedule_of};
use super::threads;
use super::vocab::apply_token_args;
use crate::cli::TrainArgs;
use crate::failure::Failure;
use crate::interrupt;
use crate::output::chart::write_pictures;
use crate::output::flow_chart::flow_chart;
use crate::output::number::{bytes, count, duration, percent, perplexity};
use crate::output::palette::{SLATE, TEAL};
use crate::output::progress::{Measure, Progress};
use crate::output::screen::Screen;
use crate::output::table::facts;

/// Runs the command.
pub(crate) fn run(args: &TrainArgs, screen: &Screen) -> Result<(), Failure> {
    let plan = resolve(args)?;
    if plan.corpus.paths.iter().any(|path| path.as_os_str() == "-") {
        return Err(Failure::Usage(
            "training reads its corpus twice, so it cannot come from standard input; save it to a file first"
                .into(),
        ));
    }
    let name = match &args.name {
        Some(name) => checked_name(name)?.to_owned(),
        None => free_name(&args.runs, &plan),
    };
    let existing = if args.force { Existing::Replace } else { Existing::Keep };
    let place = args.runs.join(&name);
    if existing == Existing::Keep && place.exists() {
        return Err(LabError::Exists(place).into());
    }
    interrupt::listen();
    refuse_idle(&args.reading, &Corpus::find(&plan.corpus.spec())?)?;
    let prepared =
        read(plan, &args.runs, threads(args.threads), args.reading.left_out.as_deref(), existing, screen)?;
    if !args.json {
        screen.line(&render_start(&prepared, screen))?;
    }
    let job = Job { prepared: &prepared, runs: &args.runs, name, existing, threads: threads(args.threads) };
    let output = if args.json { Output::Json } else { Output::Words };
    let (run, outcome) = carry_out(&job, output, screen)?;
    let flow = draw_flow(&run)?;
    if args.json {
        screen.json(&OutcomeLine::new(&run, &prepared, &outcome))?;
    } else {
        screen.line(&render_outcome(&run, &prepared, &outcome, flow.as_deref(), screen))?;
    }
    if outcome.status == RunStatus::Interrupted {
        return Err(Failure::Interrupted(format!(
            "stopped after step {}; the best model so far is {}",
            outcome.steps,
            run.model().display()
        )));
    }
    Ok(())
}

/// Draws how far back gradients reached, if that was measured; returns where.
fn draw_flow(run: &RunFolder) -> Result<Option<PathBuf>, Failure> {
    if !run.flow().is_file() {
        return Ok(None);
    }
    let records: Vec<FlowRecord> = read_lines(&run.flow())?;
    let Some(scene) = flow_chart(&records) else {
        return Ok(None);
    };
    let picture = run.path().join("gradient-flow");
    write_pictures(scene, &picture, Existing::Replace)?;
    Ok(Some(picture.with_extension("png")))
}

/// Lays the flags over the plan file, and the plan file over the defaults.
fn resolve(args: &TrainArgs) -> Result<Plan, Failure> {
    let text = match &args.plan {
        Some(path) => std::fs::read_to_string(path).map_err(LabError::at(path))?,
        None => String::new(),
    };
    let named = |error: lalograph_lab::PlanError| match &args.plan {
        Some(path) => Failure::Usage(format!("{}: {error}", path.display())),
        None => Failure::Usage(error.to_string()),
    };
    let mut plan = Plan::from_toml(&text, &args.settings).map_err(named)?;
    if !args.paths.is_empty() {
        plan.corpus.paths.clone_from(&args.paths);
    }
    lay_over(&args.reading, &mut plan.corpus);
    if args.split.is_some() {
        plan.corpus.split.clone_from(&args.split);
    }
    if args.vocabulary.is_some() {
        plan.vocabulary.file.clone_from(&args.vocabulary);
    }
    apply_token_args(&args.tokens, &mut plan.vocabulary)?;
    lay_model(&args.model, &args.step, &mut plan);
    if args.steps.is_some() {
        plan.training.steps = args.steps;
    } else if args.epochs.is_some() {
        plan.training.steps = None;
    }
    lay(&args.validation_share, &mut plan.corpus.validation_share);
    lay(&args.seed, &mut plan.training.seed);
    lay(&args.epochs, &mut plan.training.epochs);
    lay(&args.learning_rate, &mut plan.training.learning_rate);
    lay(&args.clip_norm, &mut plan.training.clip_norm);
    lay(&args.dropout, &mut plan.training.dropout);
    lay(&args.flow_every, &mut plan.training.flow_every);
    lay(&args.optimiser.map(rule_of), &mut plan.optimiser.rule);
    lay(&args.schedule.map(schedule_of), &mut plan.training.schedule);
    lay(&args.validate_every, &mut plan.training.validate_every);
    lay(&args.temperatures, &mut plan.samples.temperatures);
    lay(&args.sample_every, &mut plan.samples.every);
    lay(&args.sample_tokens, &mut plan.samples.tokens);
    lay(&args.seed_text, &mut plan.samples.seed_text);
    plan.check().map_err(named)?;
    Ok(plan)
}

/// A name that is one folder's, and no path.
fn checked_name(name: &str) -> Result<&str, Failure> {
    let fine = !name.is_empty() && !name.starts_with('.') && !name.contains(['/', '\\', '\0']);
    if fine { Ok(name) } else { Err(Failure::Usage(format!("`{name}` cannot be the name of a run"))) }
}

/// The corpus and the time, numbered where that is taken.
fn free_name(runs: &Path, plan: &Plan) -> String {
    let corpus = plan
        .corpus
        .paths
        .first()
        .and_then(|path| path.file_stem())
        .map_or_else(|| "corpus".to_owned(), |stem| stem.to_string_lossy().into_owned());
    let base = format!("{corpus}-{}", ZonedDateTime::now().strftime("%Y%m%d-%H%M%S"));
    std::iter::once(base.clone())
        .chain((2..).map(|n| format!("{base}-{n}")))
        .find(|name| !runs.join(name).exists())
        .unwrap_or(base)
}

/// Where the tokens of corpora are kept, in the folder of all runs.
const TOKENS: &str = ".tokens";

/// Reads the corpus with a progress bar, unless its tokens are there from an earlier run.
pub(crate) fn read(
    plan: Plan,
    runs: &Path,
    threads: usize,
    left_out: Option<&Path>,
    existing: Existing,
    screen: &Screen,
) -> Result<Prepared, Failure> {
    let mut bar: Option<(u32, Progress<'_>)> = None;
    let mut places = LeftOut::new(left_out, existing)?;
    // A list of what is left out is only there if the corpus is read.
    let cache = runs.join(TOKENS);
    let cache = left_out.is_none().then_some(cache.as_path());
    let prepared = prepare(plan, threads, cache, &mut |event: &TrainingEvent<'_>| {
        match event {
            TrainingEvent::LeftOut(skipped) => places.add(skipped),
            TrainingEvent::Reused(folder) => {
                screen.note(&format!(
                    "the corpus has not changed: its tokens are taken from {}",
                    folder.display()
                ));
            }
            TrainingEvent::NotReused(error) => {
                screen.warn(&format!("{error}; it is not used, and the corpus is encoded anew"));
            }
            _ => {}
        }
        if let TrainingEvent::Reading { pass, bytes, total_bytes } = event {
            if bar.as_ref().is_none_or(|(current, _)| current != pass) {
                if let Some((_, done)) = bar.take() {
                    done.finish();
                }
                let what = if *pass == 1 { "counting" } else { "encoding" };
                bar = Some((*pass, Progress::new(screen, what, Measure::Bytes, *total_bytes)));
            }
            if let Some((_, progress)) = &mut bar {
                progress.at(*bytes, "");
            }
        }
        interrupt::flow()
    });
    if let Some((_, progress)) = bar {
        progress.finish();
    }
    let prepared = prepared?;
    places.finish()?;
    say_reading(&prepared.corpus.reading, left_out, screen);
    let held_out = &prepared.corpus.validation;
    say_unknown(held_out.unknown, held_out.len() as u64, screen);
    Ok(prepared)
}

/// What a run is trained from, and where it is kept.
pub(crate) struct Job<'a> {
    pub(crate) prepared: &'a Prepared,
    pub(crate) runs: &'a Path,
    pub(crate) name: String,
    pub(crate) existing: Existing,
    pub(crate) threads: usize,
}

/// How events are shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Output {
    /// For people, on standard error.
    Words,
    /// JSON Lines on standard output.
    Json,
}

/// Trains, showing what happens.
pub(crate) fn carry_out(
    job: &Job<'_>,
    output: Output,
    screen: &Screen,
) -> Result<(RunFolder, TrainingOutcome), Failure> {
    let Prepared { plan, vocabulary, corpus, steps, .. } = job.prepared;
    let description = RunDescription {
        name: job.name.clone(),
        started: ZonedDateTime::now().strftime("%Y-%m-%dT%H:%M:%S%:z").to_string(),
        status: RunStatus::Running,
        program_version: env!("CARGO_PKG_VERSION").to_owned(),
        documents: corpus.reading.documents,
        text_bytes: corpus.reading.bytes,
        text_hash: corpus.text_hash.clone(),
        vocabulary_hash: vocabulary.hash(),
        steps: 0,
        best_validation_loss: None,
    };
    let run = RunFolder::create(job.runs, plan, &description, job.existing)?;
    let mut view = View::new(screen, output, *steps);
    let outcome = train(job.prepared, &run, description, job.threads, &mut |event: &TrainingEvent<'_>| {
        view.show(event);
        if view.failure.is_some() { ControlFlow::Break(()) } else { interrupt::flow() }
    });
    let View { progress, failure, .. } = view;
    progress.finish();
    match failure {
        Some(failure) => Err(failure),
        None => Ok((run, outcome?)),
    }
}

/// What is seen of a run as it goes.
struct View<'s> {
    screen: &'s Screen,
    output: Output,
    progress: Progress<'s>,
    speed: f64,
    training: Option<f64>,
    validation: Option<f64>,
    sampled_at: u64,
    failure: Option<Failure>,
}

impl<'s> View<'s> {
    fn new(screen: &'s Screen, output: Output, steps: u64) -> Self {
        Self {
            screen,
            output,
            progress: Progress::new(screen, "training", Measure::Steps, steps),
            speed: 0.0,
            training: None,
            validation: None,
            sampled_at: 0,
            failure: None,
        }
    }

    fn show(&mut self, event: &TrainingEvent<'_>) {
        match event {
            TrainingEvent::Step { step, .. } => {
                let message = self.message();
                self.progress.at(*step, &message);
            }
            TrainingEvent::Metrics(record) => self.metrics(record),
            TrainingEvent::Sample(record) => self.sample(record),
            TrainingEvent::Flow(record) => {
                if self.output == Output::Json {
                    self.json(&FlowLine { kind: "flow", record });
                }
            }
            TrainingEvent::Reading { .. }
            | TrainingEvent::LeftOut(_)
            | TrainingEvent::Reused(_)
            | TrainingEvent::NotReused(_)
            | TrainingEvent::Started { .. }
            | TrainingEvent::Judging(_) => {}
        }
    }

    fn message(&self) -> String {
        let mut parts = Vec::new();
        if self.speed > 0.0 {
            parts.push(format!("{} tokens/s", count(self.speed as u64)));
        }
        if let Some(training) = self.training {
            parts.push(format!("training perplexity {}", perplexity(training)));
        }
        if let Some(validation) = self.validation {
            parts.push(format!("validation {}", perplexity(validation)));
        }
        parts.join("  ")
    }

    fn json<T: Serialize>(&mut self, record: &T) {
        if let Err(failure) = self.screen.json(record) {
            self.failure = Some(failure);
        }
    }

    fn metrics(&mut self, record: &MetricsRecord) {
        if self.output == Output::Json {
            self.json(record);
        }
        match record {
            MetricsRecord::Training { training_perplexity, tokens_per_second, .. } => {
                self.training = *training_perplexity;
                self.speed = *tokens_per_second;
            }
            MetricsRecord::Validation {
                step,
                validation_loss,
                validation_perplexity,
                bits_per_byte,
                best,
                ..
            } => {
                self.validation = Some(*validation_perplexity);
                if self.output == Output::Words {
                    let training = self
                        .training
                        .map(|p| format!("training loss {:.3} perplexity {}", p.ln(), perplexity(p)))
                        .unwrap_or_default();
                    let head =
                        self.screen.styled_note(TEAL.style().bold(), &format!("step {}", count(*step)));
                    self.progress.note(&format!(
                        "{head}  {training}  validation loss {validation_loss:.3} perplexity {}  {bits_per_byte:.3} bits/byte{}",
                        perplexity(*validation_perplexity),
                        if *best { "  best so far" } else { "" }
                    ));
                }
            }
        }
    }

    fn sample(&mut self, record: &SampleRecord) {
        if self.output == Output::Json {
            return self.json(&SampleLine { kind: "sample", record });
        }
        if self.sampled_at != record.step {
            self.sampled_at = record.step;
            self.progress.note(&format!("  samples after step {}", count(record.step)));
        }
        // Written out as 1.0, not as 1.
        let head = format!("{:>5?}", record.temperature);
        let head = self.screen.styled_note(SLATE.style().bold(), &head);
        let whole = format!("{}{}", record.seed_text, record.text);
        let text =
            crate::output::survey_text::indented(whole.trim_start(), self.screen.width().saturating_sub(6));
        let text = text.trim_start().replace('\n', "\n      ");
        self.progress.note(&format!("{head}   {text}{}", if record.ended { "" } else { " \u{2026}" }));
    }
}

/// What is about to be trained.
pub(crate) fn render_start(prepared: &Prepared, screen: &Screen) -> String {
    let Prepared { plan, vocabulary, corpus, model, steps, .. } = prepared;
    let shape = model.shape();
    let (training, held_out) = (&corpus.training, &corpus.validation);
    let split = match corpus.split {
        lalograph_text::tokens::SplitKind::Documents => "by document",
        lalograph_text::tokens::SplitKind::Tail => "the end of the text, too few documents to choose among",
    };
    let rows = [
        (
            "training text",
            format!("{} documents, {} tokens", count(training.documents), count(training.len() as u64)),
        ),
        (
            "validation text",
            format!(
                "{} documents, {} tokens ({split}), {} unknown",
                count(held_out.documents),
                count(held_out.len() as u64),
                percent(held_out.unknown, held_out.len() as u64)
            ),
        ),
        (
            "vocabulary",
            format!(
                "{} indices = {} {} + {} reserved",
                count(vocabulary.len() as u64),
                count(vocabulary.tokens().len() as u64),
                vocabulary.unit().plural(),
                lalograph_text::Reserved::COUNT
            ),
        ),
        ("model", format!("{}: {} parameters", describe(shape), count(model.layout().len() as u64))),
        ("steps", format!("{} of {}", count(*steps), describe_windows(&plan.training))),
    ];
    format!("{}\n{}", screen.heading("The run"), facts(screen, &rows))
}

fn render_outcome(
    run: &RunFolder,
    prepared: &Prepared,
    outcome: &TrainingOutcome,
    flow: Option<&Path>,
    screen: &Screen,
) -> String {
    let mut rows = Vec::new();
    if let Some(score) = outcome.validation {
        rows.push(("validation perplexity", perplexity(score.perplexity)));
        if let Some(unigram) = prepared.unigram_loss {
            rows.push(("unigram perplexity", format!("{} on the same text", perplexity(unigram.exp()))));
        }
        rows.push(("bits per byte", format!("{:.4}, validation text", score.bits_per_byte)));
    }
    if prepared.model.samples().is_none() {
        let last = prepared.plan.training.record_every;
        let dropout = if prepared.plan.regularisation().dropout.any() { ", with dropout" } else { "" };
        let figure = perplexity(outcome.training_loss.exp());
        rows.push(("training perplexity", format!("{figure}, last {last} steps{dropout}")));
    }
    rows.push(("kept", format!("the weights of step {}", count(outcome.kept_step))));
    rows.push((
        "time",
        format!(
            "{}, {} tokens/s while learning",
            duration(outcome.seconds),
            count(outcome.tokens_per_second as u64)
        ),
    ));
    if let Some(flow) = flow {
        rows.push(("gradient flow", format!("{} and .svg", flow.display())));
    }
    let size = std::fs::metadata(run.model()).map_or(0, |meta| meta.len());
    rows.push(("model", format!("{} ({})", run.model().display(), bytes(size))));
    format!("{}\n{}", screen.heading("Trained"), facts(screen, &rows))
}

/// A sample among the lines of `train --json`, told apart by its kind like the other lines.
#[derive(Serialize)]
struct SampleLine<'a> {
    kind: &'static str,
    #[serde(flatten)]
    record: &'a SampleRecord,
}

/// How far back gradients reach, among the lines of `train --json`.
#[derive(Serialize)]
struct FlowLine<'a> {
    kind: &'static str,
    #[serde(flatten)]
    record: &'a FlowRecord,
}

/// The last line of `train --json`.
#[derive(Serialize)]
struct OutcomeLine<'a> {
    kind: &'static str,
    status: RunStatus,
    run: &'a Path,
    model: PathBuf,
    steps: u64,
    kept_step: u64,
    parameters: u64,
    seconds: f64,
    tokens_per_second: f64,
    training_loss: f64,
    validation: Option<lalograph_lab::score::Score>,
    unigram_validation_loss: Option<f64>,
}

impl<'a> OutcomeLine<'a> {
    fn new(run: &'a RunFolder, prepared: &Prepared, outcome: &TrainingOutcome) -> Self {
        Self {
            kind: "outcome",
            status: outcome.status,
            run: run.path(),
            model: run.model(),
            steps: outcome.steps,
            kept_step: outcome.kept_step,
            parameters: prepared.model.layout().len() as u64,
            seconds: outcome.seconds,
            tokens_per_second: outcome.tokens_per_second,
            training_loss: outcome.training_loss,
            validation: outcome.validation,
            unigram_validation_loss: prepared.unigram_loss,
        }
    }
}
