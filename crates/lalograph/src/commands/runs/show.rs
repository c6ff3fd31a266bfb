//! `runs show`: one run in the terminal.

use lalograph_lab::Plan;
use lalograph_lab::run::description::{EarlyEnd, RunDescription, RunStatus, Standing};
use lalograph_lab::run::history::{RunHistory, settings};
use lalograph_lab::run::records::MetricsRecord;
use serde::Serialize;

use super::figures::{besides, steps};
use crate::cli::ShowArgs;
use crate::commands::classify::describe_classifier;
use crate::commands::lookup::find_run;
use crate::commands::settings::describe;
use crate::failure::Failure;
use crate::output::curve::curve as drawn_curve;
use crate::output::expectation::{came_of, expected};
use crate::output::loss_scale::LossScale;
use crate::output::number::{bytes, count, counted, duration, perplexity};
use crate::output::palette::ASH;
use crate::output::screen::Screen;
use crate::output::table::facts;
use crate::output::training::HintLine;
use crate::output::wrap::indented;

/// JSON output of `runs show`.
#[derive(Serialize)]
struct ShowDocument<'a> {
    #[serde(flatten)]
    description: &'a RunDescription,
    standing: Standing,
    training_perplexity: Option<f64>,
    seconds: Option<f64>,
    bytes: u64,
    plan: &'a Plan,
    hints: Vec<HintLine<'a>>,
}

/// Runs the command.
pub(super) fn run(args: &ShowArgs, screen: &Screen) -> Result<(), Failure> {
    let history = RunHistory::read(find_run(&args.place.folder.runs, &args.place.run)?)?;
    let hints = history.hints();
    if args.json {
        return screen.json(&ShowDocument {
            description: &history.description,
            standing: history.standing,
            training_perplexity: history.training_perplexity(),
            seconds: history.seconds(),
            bytes: history.run.bytes(),
            plan: &history.plan,
            hints: hints.iter().map(HintLine::new).collect(),
        });
    }
    let rows = about(&history);
    let rows: Vec<(&str, String)> = rows.iter().map(|(name, value)| (*name, value.clone())).collect();
    screen.line(&format!("{}\n{}", screen.heading(&history.run.name()), facts(screen, &rows)))?;
    let different = unusual_settings(&history.plan)?;
    if !different.is_empty() {
        let rows: Vec<(&str, String)> =
            different.iter().map(|(key, value)| (key.as_str(), value.clone())).collect();
        screen.line(&format!(
            "\n{}\n{}",
            screen.heading("Settings that differ from their defaults"),
            facts(screen, &rows)
        ))?;
    }
    if let Some(curve) = curve(&history, screen) {
        let heading = match LossScale::of(&history.plan) {
            LossScale::Perplexity => "Perplexity by step, both logarithmic",
            LossScale::Loss => "Loss by step, both logarithmic",
        };
        screen.line(&format!("\n{}\n{curve}", screen.heading(heading)))?;
    }
    let samples = history.last_samples();
    if let Some(first) = samples.first() {
        screen
            .line(&format!("\n{}", screen.heading(&format!("Samples after step {}", count(first.step)))))?;
        for sample in samples {
            let text =
                indented(&format!("{}{}", sample.seed_text, sample.text), screen.width().saturating_sub(6));
            let head = screen.styled(ASH.style().bold(), &format!("{:>5?}", sample.temperature));
            screen.line(&format!("{head}   {}", text.trim_start().replace('\n', "\n      ")))?;
        }
    }
    for hint in &hints {
        screen.warn(&hint.to_string());
    }
    Ok(())
}

/// Facts about a run, in pairs.
pub(super) fn about(history: &RunHistory) -> Vec<(&'static str, String)> {
    let RunHistory { description, plan, .. } = history;
    let text = &description.text;
    let epochs = history.steps() as f64 / text.steps_per_epoch.max(1) as f64;
    let mut rows = vec![
        ("status", status(history)),
        ("started", description.started.replace('T', " ")),
        ("steps", format!("{}, {epochs:.2} epochs", steps(history.steps(), description.planned_steps))),
    ];
    if let Some(seconds) = history.seconds() {
        rows.push(("time", duration(seconds)));
    }
    if let Some(plan) = &plan.expected {
        let found = description.best_validation_loss.filter(|_| description.status == RunStatus::Finished);
        let words = match (found, history.seconds()) {
            (Some(loss), Some(seconds)) => came_of(plan, seconds, loss.exp()),
            _ => expected(plan),
        };
        rows.push(("expectation", words));
    }
    let scale = LossScale::of(plan);
    let (validated, tested) = match scale {
        LossScale::Perplexity => ("validation perplexity", "test perplexity"),
        LossScale::Loss => ("validation loss", "test loss"),
    };
    if description.best_validation_loss.is_some() {
        let at = description.best_step.map_or_else(String::new, |step| format!(" at step {}", count(step)));
        let best = scale.of_loss(description.best_validation_loss);
        rows.push((validated, format!("{best}{at}{}", besides(history.best_figures()))));
    }
    if let Some(test) = &description.test {
        rows.push((tested, format!("{}{}", scale.of_loss(Some(test.loss)), besides(Some(&test.figures)))));
    }
    if let Some(training) = history.training_perplexity() {
        rows.push(("training perplexity", perplexity(training)));
    }
    if let Some(unigram) = text.unigram_loss {
        rows.push(("unigram perplexity", format!("{}, validation text", perplexity(unigram.exp()))));
    }
    if description.vocabulary_size > 0 || description.text.classes.is_some() {
        let vocabulary = description.vocabulary_size as usize;
        let network = match (&plan.classifier, &text.classes) {
            (Some(_), Some(facts)) => describe_classifier(plan, vocabulary, facts.classes as usize),
            _ => describe(&plan.shape(vocabulary)),
        };
        rows.push(("model", format!("{network}: {} parameters", count(description.parameters))));
    }
    rows.push((
        "text",
        format!(
            "{}, {}; {} training, {} validation, {} test tokens",
            counted(description.documents, "document", "documents"),
            bytes(description.text_bytes),
            count(text.training_tokens),
            count(text.validation_tokens),
            count(text.test_tokens)
        ),
    ));
    rows.push(("text hash", short(&description.text_hash)));
    for resumption in &description.resumed {
        let changed = if resumption.changed.is_empty() {
            String::new()
        } else {
            format!(", {}", resumption.changed.join(", "))
        };
        let time = resumption.time.replace('T', " ");
        rows.push(("resumed", format!("{time} after step {}{changed}", count(resumption.step))));
    }
    rows.push(("size", bytes(history.run.bytes())));
    rows
}

fn short(hash: &str) -> String {
    hash.chars().take(16).collect()
}

/// The state of a run, and why.
fn status(history: &RunHistory) -> String {
    let RunHistory { description, standing, run, .. } = history;
    let resume = format!("to continue: lalograph resume {}", run.path().display());
    match standing {
        Standing::Finished => match description.ended_early {
            None => standing.name().to_owned(),
            Some(EarlyEnd::Patience) => "ended early: nothing was gained any more".to_owned(),
            Some(EarlyEnd::Time) => "ended early: its time was over".to_owned(),
        },
        Standing::Failed => {
            let why =
                description.failure.as_deref().map_or_else(String::new, |failure| format!(": {failure}"));
            format!("failed{why}")
        }
        Standing::Interrupted => format!("interrupted; {resume}"),
        Standing::Died => format!("process ended unexpectedly; {resume}"),
        other => other.name().to_owned(),
    }
}

/// The settings that are not their defaults.
fn unusual_settings(plan: &Plan) -> Result<Vec<(String, String)>, Failure> {
    let default = settings(&plan.defaults())?;
    Ok(settings(plan)?.into_iter().filter(|setting| !default.contains(setting)).collect())
}

fn curve(history: &RunHistory, screen: &Screen) -> Option<String> {
    let scale = LossScale::of(&history.plan);
    let (mut training, mut validation) = (Vec::new(), Vec::new());
    for record in &history.metrics {
        let place = (record.step() as f64).ln();
        match record {
            MetricsRecord::Training { .. } => {
                training.extend(scale.of_training(record).map(|figure| (place, figure)));
            }
            MetricsRecord::Validation { loss, .. } => validation.push((place, scale.figure(*loss))),
            MetricsRecord::Test { .. } => {}
        }
    }
    let size = (screen.width().min(112), 12);
    let paint = |style, text: &str| screen.styled(style, text);
    let lines = drawn_curve(scale.heights(), &training, &validation, size, f64::exp, &paint);
    (!lines.is_empty()).then(|| lines.join("\n"))
}
