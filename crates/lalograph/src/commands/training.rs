//! Work that `train`, `resume` and `demo` share: reading the corpus, training with a view, reporting the result.

use std::ops::ControlFlow;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use jiff::ZonedDateTime;
use lalograph_lab::data::token_cache::TokenCache;
use lalograph_lab::plan::{LossOn, TrainingPlan};
use lalograph_lab::run::description::{EarlyEnd, RunStatus};
use lalograph_lab::run::records::Evaluation;
use lalograph_lab::task::language::LanguageNote;
use lalograph_lab::{
    LabError, LanguageTask, Pass, Plan, PreparationEvent, PreparationObserver, PreparedClassifier, RunFolder,
    Running, TrainingEvent, TrainingOutcome, prepare, train, train_classifier,
};
use lalograph_net::Network;
use lalograph_storage::Existing;
use lalograph_text::tokens::EncodedCorpus;
use lalograph_text::{Reading, Vocabulary};
use serde::Serialize;

use super::reading::{LeftOut, say_reading};
use super::settings::{describe, describe_windows};
use crate::company::enlist;
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::expectation::{came_of, expected};
use crate::output::number::{bytes, count, counted, duration, percent, perplexity, visible};
use crate::output::progress::{Measure, Progress};
use crate::output::screen::Screen;
use crate::output::table::facts;
use crate::output::training::{HintLine, Output, TrainingView, Watched};

/// Now, by the clock of this machine.
pub(super) fn now() -> String {
    ZonedDateTime::now().strftime("%Y-%m-%dT%H:%M:%S%:z").to_string()
}

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
    let cache = runs.join(files::TOKENS);
    let storage = files::storage();
    let cache = left_out.is_none().then_some(TokenCache { storage: &*storage, path: &cache });
    reading(left_out, existing, screen, |observer| prepare(plan, threads, cache, observer))
}

/// Shows how the corpus of a run is read.
pub(super) fn reading(
    left_out: Option<&Path>,
    existing: Existing,
    screen: &Screen,
    prepare: impl FnOnce(&mut dyn PreparationObserver) -> Result<LanguageTask, LabError>,
) -> Result<LanguageTask, Failure> {
    shown(left_out, existing, screen, prepare, |prepared| &prepared.corpus.reading)
}

/// Shows how the documents of a classifier are read.
pub(super) fn reading_documents(
    left_out: Option<&Path>,
    existing: Existing,
    screen: &Screen,
    prepare: impl FnOnce(&mut dyn PreparationObserver) -> Result<PreparedClassifier, LabError>,
) -> Result<PreparedClassifier, Failure> {
    shown(left_out, existing, screen, prepare, |prepared| &prepared.data().reading)
}

/// Shows how a corpus is read that no network is trained on.
pub(crate) fn reading_text(
    left_out: Option<&Path>,
    existing: Existing,
    screen: &Screen,
    read: impl FnOnce(&mut dyn PreparationObserver) -> Result<(Vocabulary, EncodedCorpus), LabError>,
) -> Result<(Vocabulary, EncodedCorpus), Failure> {
    shown(left_out, existing, screen, read, |(_, corpus)| &corpus.reading)
}

fn shown<T>(
    left_out: Option<&Path>,
    existing: Existing,
    screen: &Screen,
    prepare: impl FnOnce(&mut dyn PreparationObserver) -> Result<T, LabError>,
    reading: impl Fn(&T) -> &Reading,
) -> Result<T, Failure> {
    let mut bar: Option<(Pass, Progress<'_>)> = None;
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
                let what = match pass {
                    Pass::Splitting => "splitting",
                    Pass::Counting => "counting",
                    Pass::Encoding => "encoding",
                };
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
    say_reading(reading(&prepared), left_out, screen);
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
    let running = enlist(running, &prepared.plan, prepared.run_files()?, screen)?;
    let run = running.run.clone();
    let watched = if prepared.model.samples().is_none() { Watched::Perplexity } else { Watched::SampledLoss };
    let name = run.path().display().to_string();
    let view = TrainingView::new(screen, output, &name, prepared.steps, watched);
    let outcome = viewed(view, limit, |show| {
        train(prepared, running, threads, &mut |event: &TrainingEvent<'_, LanguageNote>| show(event))
    })?;
    Ok((run, outcome))
}

/// Trains a classifier and shows what happens, as [`carry_out`] does.
pub(super) fn carry_out_classifier(
    prepared: &PreparedClassifier,
    running: Running,
    (threads, limit): (usize, Option<Duration>),
    output: Output,
    screen: &Screen,
) -> Result<(RunFolder, TrainingOutcome), Failure> {
    let running = match prepared {
        PreparedClassifier::Network(_) => {
            let data = prepared.data();
            enlist(running, &data.plan, data.run_files()?, screen)?
        }
        PreparedClassifier::Linear(_) => running,
    };
    let run = running.run.clone();
    let name = run.path().display().to_string();
    let view = TrainingView::new(screen, output, &name, prepared.steps(), Watched::Accuracy);
    let outcome = viewed(view, limit, |show| {
        train_classifier(prepared, running, threads, &mut |event: &TrainingEvent<'_, ()>| {
            event.without_notes().map_or(ControlFlow::Continue(()), |event| show(&event))
        })
    })?;
    Ok((run, outcome))
}

/// Shows the events of a training, which ends after a step once it has taken as long as the limit.
fn viewed(
    mut view: TrainingView<'_>,
    limit: Option<Duration>,
    train: impl FnOnce(
        &mut (dyn FnMut(&TrainingEvent<'_, LanguageNote>) -> ControlFlow<()> + Send),
    ) -> Result<TrainingOutcome, LabError>,
) -> Result<TrainingOutcome, Failure> {
    let started = Instant::now();
    let outcome = train(&mut |event| {
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
        None => Ok(outcome?),
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
        Output::Json => {
            let parameters = prepared.model.layout().len() as u64;
            screen.json(&OutcomeLine::new(run, parameters, prepared.facts.unigram_loss, outcome))?;
        }
        Output::Words => screen.line(&render_outcome(run, prepared, outcome, screen))?,
    }
    say_end(run, outcome, limit, screen)
}

/// Prints how to continue a run that did not make all its steps.
pub(super) fn say_end(
    run: &RunFolder,
    outcome: &TrainingOutcome,
    limit: Option<Duration>,
    screen: &Screen,
) -> Result<(), Failure> {
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

/// How many words of the vocabulary have a vector in the plan's file, and the most frequent that have none.
pub(super) fn missing_vectors(found: Option<(usize, &[String])>) -> Option<(&'static str, String)> {
    let (found, missing) = found?;
    let named: Vec<String> = missing.iter().take(MISSING_NAMED).map(|word| visible(word)).collect();
    let without = match missing.len() {
        0 => String::new(),
        _ => format!("; most frequent words without a vector: {}", named.join(", ")),
    };
    let all = (found + missing.len()) as u64;
    let share = percent(found as u64, all);
    Some((
        "vectors",
        format!("{} of {} words found in the file ({share}){without}", count(found as u64), count(all)),
    ))
}

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
    rows.extend(plan.expected.as_ref().map(|plan| ("expected", expected(plan))));
    rows.extend(tuned_rows(prepared));
    rows.extend(missing_vectors(prepared.vectors_found()));
    format!("{}\n{}", screen.heading("The run"), facts(screen, &rows))
}

/// The base of a tuned model, and what is added to it.
fn tuned_rows(prepared: &LanguageTask) -> Vec<(&'static str, String)> {
    let LanguageTask { plan, vocabulary, old, .. } = prepared;
    let (Some(tune), Some(base), Some(known)) = (&plan.tune, &plan.start.model, prepared.base_tokens())
    else {
        return Vec::new();
    };
    let mut rows = vec![("base", base.display().to_string())];
    if vocabulary.len() > known {
        let added: Vec<String> = (known..vocabulary.len())
            .take(MISSING_NAMED)
            .filter_map(|index| vocabulary.shown(index as u32).ok())
            .map(|token| visible(&token))
            .collect();
        let new = vocabulary.len() - known;
        let marks = vocabulary.turns().filter(|turns| turns.prompt_end as usize >= known).map_or(0, |_| 2);
        let more = if new > added.len() { ", ..." } else { "" };
        let marked = if marks > 0 { " (2 of them mark the ends of prompts and answers)" } else { "" };
        rows.push(("new tokens", format!("{}: {}{more}{marked}", count(new as u64), added.join(", "))));
    }
    if plan.corpus.prompt.is_some() {
        let scored = count(prepared.corpus.training.scored_tokens() as u64);
        let what = match tune.loss_on {
            LossOn::Answers => "answers",
            LossOn::All => "prompts and answers",
        };
        rows.push(("loss", format!("on {what}: {scored} training tokens")));
    }
    if let Some(old) = old {
        let streams = lalograph_lab::data::old_streams(&plan.training, tune.keep_old);
        let mixed = match streams {
            0 => String::new(),
            streams => format!("; {streams} of {} streams read its training text", plan.training.batch),
        };
        let tokens = count(old.validation.len() as u64);
        rows.push(("old text", format!("{tokens} validation tokens of the base{mixed}")));
    }
    rows
}

/// Figures that the outcome of every task ends with.
pub(super) fn end_rows(
    run: &RunFolder,
    outcome: &TrainingOutcome,
    (steps, plan): (u64, &TrainingPlan),
) -> Vec<(&'static str, String)> {
    let mut rows = vec![("steps", format!("{} of {}", count(outcome.steps), count(steps)))];
    let early = match outcome.ended_early {
        None => String::new(),
        Some(EarlyEnd::Time) => {
            format!("; ended after {}, as planned", duration(60.0 * plan.end_after_minutes))
        }
        Some(EarlyEnd::Patience) => {
            format!("; ended after {} validations without improvement", plan.patience)
        }
    };
    rows.push(("kept", format!("the weights of step {}{early}", count(outcome.kept_step))));
    rows.extend(time_and_model(run, outcome));
    rows
}

/// The last two rows of an outcome.
pub(super) fn time_and_model(run: &RunFolder, outcome: &TrainingOutcome) -> [(&'static str, String); 2] {
    let speed = count(outcome.tokens_per_second as u64);
    let size = std::fs::metadata(run.model()).map_or(0, |meta| meta.len());
    [
        ("time", format!("{}, {speed} tokens/s in training", duration(outcome.seconds))),
        ("model", format!("{} ({})", run.model().display(), bytes(size))),
    ]
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
        let before = outcome
            .base
            .as_ref()
            .map_or_else(String::new, |base| format!(" ({} before tuning)", perplexity(base.perplexity())));
        rows.push(("validation perplexity", format!("{}{before}", perplexity(found.perplexity()))));
        let old = |found: &Evaluation| found.figure("old_perplexity");
        if let (Some(after), Some(before)) = (old(found), outcome.base.as_ref().and_then(old)) {
            let figures = format!("{} ({} before tuning)", perplexity(after), perplexity(before));
            rows.push(("old perplexity", format!("{figures}, validation text of the base")));
        }
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
    rows.extend(end_rows(run, outcome, (prepared.steps, &prepared.plan.training)));
    if let (Some(plan), Some(found), RunStatus::Finished) =
        (&prepared.plan.expected, &outcome.validation, outcome.status)
    {
        rows.push(("expectation", came_of(plan, outcome.seconds, found.perplexity())));
    }
    rows.push(("pages", format!("lalograph runs report {}", run.path().display())));
    format!("{}\n{}", screen.heading("Trained"), facts(screen, &rows))
}

/// The last line of `train --json`.
#[derive(Serialize)]
pub(super) struct OutcomeLine<'a> {
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
    ended_early: Option<EarlyEnd>,
    validation: Option<&'a Evaluation>,
    test: Option<&'a Evaluation>,
    unigram_validation_loss: Option<f64>,
    /// Of a tuned model, the validation part before the first step.
    #[serde(skip_serializing_if = "Option::is_none")]
    base: Option<&'a Evaluation>,
    hints: Vec<HintLine<'a>>,
}

impl<'a> OutcomeLine<'a> {
    pub(super) fn new(
        run: &'a RunFolder,
        parameters: u64,
        unigram_validation_loss: Option<f64>,
        outcome: &'a TrainingOutcome,
    ) -> Self {
        Self {
            kind: "outcome",
            status: outcome.status,
            run: run.path(),
            model: run.model(),
            steps: outcome.steps,
            kept_step: outcome.kept_step,
            parameters,
            seconds: outcome.seconds,
            tokens_per_second: outcome.tokens_per_second,
            training_loss: outcome.training_loss,
            ended_early: outcome.ended_early,
            validation: outcome.validation.as_ref(),
            test: outcome.test.as_ref(),
            unigram_validation_loss,
            base: outcome.base.as_ref(),
            hints: outcome.hints.iter().map(HintLine::new).collect(),
        }
    }
}
