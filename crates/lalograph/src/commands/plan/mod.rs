//! `plan`: plans to begin with, what is wrong in one, what one costs.

mod new;

use std::path::Path;

use lalograph_lab::artefact::texts::{read_split, read_vocabulary};
use lalograph_lab::measure::cost::{Cost, MemoryCost, cost, zipf_share};
use lalograph_lab::measure::forecast::Forecast;
use lalograph_lab::measure::gauge::{Bench, Gauge};
use lalograph_lab::plan::{Problem, problems};
use lalograph_lab::{LabError, LanguageTask, Plan, forecast, prepare};
use lalograph_storage::Existing;
use lalograph_text::{Corpus, TextError};
use serde::Serialize;

use crate::cli::{PlanCheckArgs, PlanCommand, PlanCostArgs};
use crate::commands::classify::show_classifier_cost;
use crate::commands::costs::{STEPPING_SECONDS, operations, parameter_table, run_rows};
use crate::commands::gauge::operations_per_second;
use crate::commands::input::{text_or_input, threads};
use crate::commands::reading::{found, refuse_idle};
use crate::commands::settings::{Sized, check_room, describe, flagged_plan, lay_split_text, plan_text, size};
use crate::commands::several::{Several, say_several};
use crate::commands::training::reading;
use crate::failure::Failure;
use crate::interrupt;
use crate::output::number::{bytes, count, duration};
use crate::output::screen::Screen;
use crate::output::table::facts;

/// Rounds and seconds of the short measurement.
const ROUNDS: usize = 3;
const SECONDS: f64 = 0.7;

/// Runs the command.
pub(super) fn run(command: &PlanCommand, screen: &Screen) -> Result<(), Failure> {
    match command {
        PlanCommand::New(args) => new::run(args, screen),
        PlanCommand::Check(args) => check(args, screen),
        PlanCommand::Cost(args) => show_cost(args, screen),
    }
}

/// JSON output of `plan check`.
#[derive(Serialize)]
struct CheckDocument {
    problems: Vec<Found>,
}

/// Something wrong in a plan.
#[derive(Serialize)]
struct Found {
    /// Null if it is not in the file.
    line: Option<usize>,
    column: Option<usize>,
    message: String,
}

fn check(args: &PlanCheckArgs, screen: &Screen) -> Result<(), Failure> {
    let text = if args.plan == Path::new("-") { text_or_input("-")? } else { plan_text(&args.plan)? };
    let mut found: Vec<Found> = problems(&text, &args.settings)
        .into_iter()
        .map(|Problem { place, error }| Found {
            line: place.map(|place| place.line),
            column: place.map(|place| place.column),
            message: error.to_string(),
        })
        .collect();
    // What the plan speaks of has to be there too.
    if let Ok(plan) = Plan::from_toml(&text, &args.settings) {
        let missing = missing_files(&plan).into_iter();
        found.extend(missing.map(|message| Found { line: None, column: None, message }));
    }
    let count_of = found.len();
    if args.json {
        screen.json(&CheckDocument { problems: found })?;
    } else if found.is_empty() {
        screen.line(&format!("{}: no problems", args.plan.display()))?;
    } else {
        for Found { line, column, message } in &found {
            let place = match (line, column) {
                (Some(line), Some(column)) => format!("{}:{line}:{column}: ", args.plan.display()),
                _ => format!("{}: ", args.plan.display()),
            };
            screen.line(&format!("{place}{message}"))?;
        }
    }
    match count_of {
        0 => Ok(()),
        1 => Err(Failure::work("1 problem in the plan")),
        many => Err(Failure::work(format!("{many} problems in the plan"))),
    }
}

/// The missing files of a plan.
fn missing_files(plan: &Plan) -> Vec<String> {
    let mut missing = Vec::new();
    if !plan.corpus.paths.is_empty() {
        missing
            .extend(Corpus::find(&plan.corpus.spec()).err().map(|error| format!("`corpus.paths`: {error}")));
    }
    if let Some(path) = &plan.vocabulary.file {
        missing.extend(read_vocabulary(path).err().map(|error| format!("`vocabulary.file`: {error}")));
    }
    if let Some(path) = &plan.corpus.split {
        missing.extend(read_split(path).err().map(|error| format!("`corpus.split`: {error}")));
    }
    missing
}

/// JSON output of `plan cost`.
#[derive(Serialize)]
struct CostDocument<'a> {
    #[serde(flatten)]
    cost: &'a Cost,
    total_bytes: u64,
    measured: Option<Measured>,
    /// The whole run, if its text is given.
    run: Option<Forecast>,
    run_seconds: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    several: Option<Several>,
}

/// Speed of this machine with a plan.
#[derive(Serialize)]
struct Measured {
    threads: usize,
    training_tokens_per_second: f64,
    seconds_per_step: f64,
    tokens_per_epoch: u64,
    seconds_per_epoch: f64,
    share_of_limit: f64,
}

/// The plan with all flags laid over it.
fn asked_plan(args: &PlanCostArgs) -> Result<Plan, Failure> {
    let mut plan = flagged_plan(&args.plan)?;
    lay_split_text((&args.paths, &args.reading), (&None, &args.tokens_of), &args.shares, &mut plan)?;
    if let Some(epochs) = args.epochs {
        (plan.training.epochs, plan.training.steps) = (Some(epochs), None);
    }
    plan.check()?;
    Ok(plan)
}

/// The text of the plan, ready to be trained on; none where the plan names none that is here, or the vocabulary's size is given, or nothing
/// is to be measured.
fn text_of(args: &PlanCostArgs, screen: &Screen) -> Result<Option<LanguageTask>, Failure> {
    if args.no_measure || args.plan.indices.is_some() {
        return Ok(None);
    }
    let plan = asked_plan(args)?;
    let named = !args.paths.is_empty();
    if plan.corpus.paths.is_empty() || (!named && found(&plan.corpus.spec()).is_err()) {
        return Ok(None);
    }
    refuse_idle(&args.reading, &found(&plan.corpus.spec())?)?;
    let threads = threads(args.plan.threads);
    let prepared = reading(None, Existing::Keep, screen, |observer| prepare(plan, threads, None, observer))?;
    Ok(Some(prepared))
}

fn show_cost(args: &PlanCostArgs, screen: &Screen) -> Result<(), Failure> {
    interrupt::listen();
    let plan = asked_plan(args)?;
    if plan.classifier.is_some() {
        return show_classifier_cost(args, plan, screen);
    }
    if plan.vectors.is_some() {
        return Err(Failure::Usage(
            "this is the plan of word vectors, whose cost is not computed; `lalograph embed train` checks its memory".into(),
        ));
    }
    let task = text_of(args, screen)?;
    let Sized { plan, indices, source } = match &task {
        Some(task) => {
            let (plan, indices) = (task.plan.clone(), task.vocabulary.len());
            Sized { plan, indices, source: "counted in the training text".to_owned() }
        }
        None => size(&args.plan, asked_plan(args)?)?,
    };
    if args.processes.is_some() && task.is_none() {
        return Err(Failure::Usage(NEEDS_TEXT.into()));
    }
    let found = cost(&plan, indices, &zipf_share(indices))?;
    let tokens = args.training_tokens.unwrap_or(1_000_000);
    let threads = threads(args.plan.threads);
    let run = match &task {
        Some(task) => {
            check_room(&plan, indices)?;
            let forecast = forecast(task, threads, STEPPING_SECONDS, &mut || !interrupt::asked())?;
            Some(forecast.ok_or(LabError::from(TextError::Stopped))?)
        }
        None => None,
    };
    let measured = if args.no_measure || run.is_some() {
        None
    } else {
        check_room(&plan, indices)?;
        let gauge = Bench::new(&plan, indices)?.measure(threads, ROUNDS, SECONDS, |_| true)?;
        let Gauge { training_tokens_per_second: speed, training_share_of_limit: share, .. } = gauge;
        Some(Measured {
            threads,
            training_tokens_per_second: speed.median,
            seconds_per_step: found.tokens_per_step as f64 / speed.median,
            tokens_per_epoch: tokens,
            seconds_per_epoch: tokens as f64 / speed.median,
            share_of_limit: share.median,
        })
    };
    let several = run.as_ref().and_then(|run| Several::asked(args, &run.parts));
    if args.plan.json {
        let total_bytes = found.bytes.total();
        let seconds = run.as_ref().map(Forecast::seconds);
        return screen.json(&CostDocument {
            cost: &found,
            total_bytes,
            measured,
            run,
            run_seconds: seconds,
            several,
        });
    }
    let layers = parameter_table(&found.layers, found.parameters, screen);
    let MemoryCost {
        weights,
        packed_weights,
        gradients,
        optimiser,
        activations,
        validation,
        best_weights,
        flow,
        samples,
    } = found.bytes;
    let memory = [
        ("weights", bytes(weights)),
        ("packed weights", bytes(packed_weights)),
        (
            "gradients",
            format!("{}, {} lanes", bytes(gradients), plan.training.lanes.min(plan.training.batch)),
        ),
        ("optimiser", bytes(optimiser)),
        (
            "activations",
            format!(
                "{}, window of {} x {} tokens",
                bytes(activations),
                plan.training.batch,
                plan.training.window
            ),
        ),
        ("validation", format!("{}, lanes without gradients", bytes(validation))),
        ("best weights so far", bytes(best_weights)),
        ("gradient flow", bytes(flow)),
        ("samples", format!("{}, a copy of the weights", bytes(samples))),
        ("all", bytes(found.bytes.total())),
    ];
    let mut work = vec![
        ("forward, per token", operations(found.forward_operations_per_token)),
        ("training, per token", operations(found.training_operations_per_token)),
        (
            "a step",
            format!(
                "{} tokens, {}",
                count(found.tokens_per_step),
                operations(found.training_operations_per_token * found.tokens_per_step as f64)
            ),
        ),
    ];
    if let Some(measured) = &measured {
        let speed = measured.training_tokens_per_second;
        work.push((
            "this machine",
            format!(
                "{} tokens/s on {} threads, {} ({:.0} % of the limit by multiply-adds), measured just now",
                count(speed as u64),
                measured.threads,
                operations_per_second(speed * found.training_operations_per_token),
                100.0 * measured.share_of_limit,
            ),
        ));
        let what = if args.training_tokens.is_some() { "an epoch" } else { "a million tokens" };
        let time = duration(measured.seconds_per_epoch);
        work.push((
            what,
            if args.training_tokens.is_some() {
                format!("{time} for {} tokens", count(tokens))
            } else {
                time
            },
        ));
    }
    let whole = run.as_ref().map_or_else(String::new, |run| {
        let rows = facts(screen, &run_rows(run, threads));
        format!("\n\n{}\n{rows}", screen.heading("Time on this machine, measured now"))
    });
    let about = [
        ("model", describe(&plan.shape(indices))),
        ("vocabulary", format!("{} indices ({source})", count(indices as u64))),
    ];
    screen.line(&format!(
        "{}\n{}\n\n{layers}\n\n{}\n{}\n\n{}\n{}{whole}",
        screen.heading("The model"),
        facts(screen, &about),
        screen.heading("Memory in training, without the text"),
        facts(screen, &memory),
        screen.heading("Matrix operations (a multiply-add counts as two)"),
        facts(screen, &work),
    ))?;
    say_several(several, run.as_ref(), screen)
}

/// Why a prediction is refused.
const NEEDS_TEXT: &str = "--processes needs a step that is measured: give the paths of a corpus";
