//! Work that `train`, `resume` and `demo` share: reading the corpus, training with a view, reporting the result.

use std::ops::ControlFlow;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use jiff::ZonedDateTime;
use lalograph_lab::data::token_cache::TokenCache;
use lalograph_lab::run::description::RunStatus;
use lalograph_lab::run::records::Evaluation;
use lalograph_lab::task::language::LanguageNote;
use lalograph_lab::{
    LabError, LanguageTask, Plan, PreparationEvent, PreparationObserver, RunFolder, Running, TrainingEvent,
    TrainingOutcome, prepare, train,
};
use lalograph_net::Network;
use lalograph_storage::Existing;
use lalograph_text::Vocabulary;
use lalograph_text::tokens::EncodedCorpus;
use serde::Serialize;

use super::reading::{LeftOut, say_reading};
use super::settings::{describe, describe_windows};
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::number::{bytes, count, counted, duration, percent, perplexity, visible};
use crate::output::progress::{Measure, Progress};
use crate::output::screen::Screen;
use crate::output::table::facts;
use crate::output::training::{HintLine, Output, TrainingView};

/// Now, by the clock of this machine.
pub(super) fn now() -> String {
    ZonedDateTime::now().strftime("%Y-%m-%dT%H:%M:%S%:z").to_string()
}

/// Folder of encoded corpora, in the folder of all runs.
pub(crate) const TOKENS: &str = ".tokens";

/// Reads the corpus of a new run with a progress bar, unless an earlier run encoded it.
pub(super) fn read(
    plan: Plan,
    runs: &Path,
    threads: usize,
    left_out: Option<&Path>,
    existing: Existing,
    screen: &Screen,
) -> Result<LanguageTask, Failure> {
    // A list of what is left out is only there if the corpus is read.
    let cache = runs.join(TOKENS);
    let storage = files::storage();
    let cache = left_out.is_none().then_some(TokenCache { storage: &*storage, path: &cache });
    reading(left_out, existing, screen, |observer| prepare(plan, threads, cache, None, observer))
}

/// Shows how the corpus of a run is read.
pub(super) fn reading(
    left_out: Option<&Path>,
    existing: Existing,
    screen: &Screen,
    prepare: impl FnOnce(&mut dyn PreparationObserver) -> Result<LanguageTask, LabError>,
) -> Result<LanguageTask, Failure> {
    shown(left_out, existing, screen, prepare, |prepared| &prepared.corpus)
}

/// Shows how a corpus is read that no network is trained on.
pub(crate) fn reading_text(
    left_out: Option<&Path>,
    existing: Existing,
    screen: &Screen,
    read: impl FnOnce(&mut dyn PreparationObserver) -> Result<(Vocabulary, EncodedCorpus), LabError>,
) -> Result<(Vocabulary, EncodedCorpus), Failure> {
    shown(left_out, existing, screen, read, |(_, corpus)| corpus)
}

fn shown<T>(
    left_out: Option<&Path>,
    existing: Existing,
    screen: &Screen,
    prepare: impl FnOnce(&mut dyn PreparationObserver) -> Result<T, LabError>,
    corpus: impl Fn(&T) -> &EncodedCorpus,
) -> Result<T, Failure> {
    let mut bar: Option<(u32, Progress<'_>)> = None;
    let mut places = LeftOut::new(left_out, existing)?;
    let prepared = prepare(&mut |event: &PreparationEvent<'_>| {
        match event {
            PreparationEvent::LeftOut(skipped) => places.add(skipped),
            PreparationEvent::Reused(folder) => {
                screen.note(&format!("corpus unchanged; encoded corpus read from {}", folder.display()));
            }
            PreparationEvent::NotReused(error) => {
                screen.warn(&format!("{error}; encoding the corpus again"));
            }
            _ => {}
        }
        if let PreparationEvent::Reading { pass, bytes, total_bytes } = event {
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
    say_reading(&corpus(&prepared).reading, left_out, screen);
    Ok(prepared)
}

/// Trains and shows what happens. Training stops after a step once it has taken as long as the limit.
pub(super) fn carry_out(
    prepared: &LanguageTask,
    running: Running,
    (threads, limit): (usize, Option<Duration>),
    output: Output,
    screen: &Screen,
) -> Result<(RunFolder, TrainingOutcome), Failure> {
    let run = running.run.clone();
    let exact = prepared.model.samples().is_none();
    let mut view =
        TrainingView::new(screen, output, &run.path().display().to_string(), prepared.steps, exact);
    let started = Instant::now();
    let outcome = train(prepared, running, threads, &mut |event: &TrainingEvent<'_, LanguageNote>| {
        // Not within a validation or a sample, whose work would be lost.
        let out_of_time = matches!(event, TrainingEvent::Step { .. })
            && limit.is_some_and(|limit| started.elapsed() >= limit);
        match view.show(event) {
            ControlFlow::Continue(()) if out_of_time => ControlFlow::Break(()),
            shown => shown,
        }
    });
    match view.finish() {
        Some(failure) => Err(failure),
        None => Ok((run, outcome?)),
    }
}

/// Prints the outcome. A run that was interrupted is a failure that says how to continue, unless its time limit stopped it.
pub(super) fn say_outcome(
    run: &RunFolder,
    prepared: &LanguageTask,
    outcome: &TrainingOutcome,
    limit: Option<Duration>,
    output: Output,
    screen: &Screen,
) -> Result<(), Failure> {
    match output {
        Output::Json => screen.json(&OutcomeLine::new(run, prepared, outcome))?,
        Output::Words => screen.line(&render_outcome(run, prepared, outcome, screen))?,
    }
    match limit {
        Some(limit) if outcome.status == RunStatus::Interrupted && !interrupt::asked() => {
            screen.note(&format!(
                "stopped after {} of training (--minutes); {}",
                duration(limit.as_secs_f64()),
                how_to_go_on(run, outcome)
            ));
            Ok(())
        }
        _ => refuse_interrupted(run, outcome),
    }
}

fn how_to_go_on(run: &RunFolder, outcome: &TrainingOutcome) -> String {
    format!(
        "`lalograph resume {}` continues after step {}; best model so far: {}",
        run.path().display(),
        count(outcome.steps),
        run.model().display()
    )
}

/// An interrupted run as a failure that says how to continue.
pub(super) fn refuse_interrupted(run: &RunFolder, outcome: &TrainingOutcome) -> Result<(), Failure> {
    if outcome.status != RunStatus::Interrupted {
        return Ok(());
    }
    Err(Failure::Interrupted(format!("stopped; {}", how_to_go_on(run, outcome))))
}

/// Words without a vector that are named.
const MISSING_NAMED: usize = 8;

/// The header of a run, before its first step.
pub(super) fn render_start(prepared: &LanguageTask, screen: &Screen) -> String {
    let LanguageTask { plan, vocabulary, corpus, model, steps, .. } = prepared;
    let shape = model.shape();
    let (training, held_out) = (&corpus.training, &corpus.validation);
    let split = match corpus.split {
        lalograph_text::tokens::SplitKind::Documents => "by document",
        lalograph_text::tokens::SplitKind::Tail => "the end of the text, because there are too few documents",
    };
    let documents = |number| counted(number, "document", "documents");
    let reading = &corpus.reading;
    let mut rows = vec![
        (
            "corpus",
            format!("{} in {}", documents(reading.documents), counted(reading.files, "file", "files")),
        ),
        (
            "training text",
            format!("{}, {} tokens", documents(training.totals.documents), count(training.len() as u64)),
        ),
        (
            "validation text",
            format!(
                "{}, {} tokens ({split}), {} unknown",
                documents(held_out.totals.documents),
                count(held_out.len() as u64),
                percent(held_out.totals.unknown, held_out.len() as u64)
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
    if let Some((found, missing)) = prepared.vectors_found() {
        let named: Vec<String> = missing.iter().take(MISSING_NAMED).map(|word| visible(word)).collect();
        let without = match missing.len() {
            0 => String::new(),
            _ => format!("; most frequent words without a vector: {}", named.join(", ")),
        };
        let all = (found + missing.len()) as u64;
        rows.push((
            "vectors",
            format!(
                "{} of {} words found in the file ({}){without}",
                count(found as u64),
                count(all),
                percent(found as u64, all)
            ),
        ));
    }
    format!("{}\n{}", screen.heading("The run"), facts(screen, &rows))
}

fn render_outcome(
    run: &RunFolder,
    prepared: &LanguageTask,
    outcome: &TrainingOutcome,
    screen: &Screen,
) -> String {
    let mut rows = Vec::new();
    let bits = |found: &Evaluation| {
        found.figure("bits_per_byte").map_or_else(String::new, |bits| format!("{bits:.4}"))
    };
    if let Some(found) = &outcome.validation {
        rows.push(("validation perplexity", perplexity(found.perplexity())));
        if let Some(unigram) = prepared.facts.unigram_loss {
            rows.push(("unigram perplexity", format!("{} on the same text", perplexity(unigram.exp()))));
        }
        rows.push(("bits per byte", format!("{}, validation text", bits(found))));
    }
    if let Some(test) = &outcome.test {
        let figures = format!(
            "{}, {} bits per byte, on text that had no influence on training",
            perplexity(test.perplexity()),
            bits(test)
        );
        rows.push(("test perplexity", figures));
    }
    if prepared.model.samples().is_none() {
        let last = prepared.plan.training.record_every;
        let dropout = if prepared.plan.regularisation().dropout.any() { ", with dropout" } else { "" };
        let figure = perplexity(outcome.training_loss.exp());
        rows.push(("training perplexity", format!("{figure}, last {last} steps{dropout}")));
    }
    rows.push(("steps", format!("{} of {}", count(outcome.steps), count(prepared.steps))));
    let early = if outcome.stopped_early {
        format!("; stopped early after {} validations without improvement", prepared.plan.training.patience)
    } else {
        String::new()
    };
    rows.push(("kept", format!("the weights of step {}{early}", count(outcome.kept_step))));
    rows.push((
        "time",
        format!(
            "{}, {} tokens/s in training",
            duration(outcome.seconds),
            count(outcome.tokens_per_second as u64)
        ),
    ));
    let size = std::fs::metadata(run.model()).map_or(0, |meta| meta.len());
    rows.push(("model", format!("{} ({})", run.model().display(), bytes(size))));
    rows.push(("pages", format!("lalograph runs report {}", run.path().display())));
    format!("{}\n{}", screen.heading("Trained"), facts(screen, &rows))
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
    stopped_early: bool,
    validation: Option<&'a Evaluation>,
    test: Option<&'a Evaluation>,
    unigram_validation_loss: Option<f64>,
    hints: Vec<HintLine<'a>>,
}

impl<'a> OutcomeLine<'a> {
    fn new(run: &'a RunFolder, prepared: &LanguageTask, outcome: &'a TrainingOutcome) -> Self {
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
            stopped_early: outcome.stopped_early,
            validation: outcome.validation.as_ref(),
            test: outcome.test.as_ref(),
            unigram_validation_loss: prepared.facts.unigram_loss,
            hints: outcome.hints.iter().map(HintLine::new).collect(),
        }
    }
}
