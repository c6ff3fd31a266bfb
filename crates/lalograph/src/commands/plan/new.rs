//! `plan new`: a plan for a purpose, or for a text and a time.

use lalograph_lab::design::by_time::{Designed, Wish, design};
use lalograph_lab::plan::template;
use lalograph_lab::{LabError, Plan, PlanError, prepare};
use lalograph_net::numbers::choice::Choice;
use lalograph_storage::Existing;

use crate::cli::PlanNewArgs;
use crate::commands::input::threads;
use crate::commands::reading::{found, refuse_idle};
use crate::commands::settings::lay_split_text;
use crate::commands::training::reading;
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::number::{count, duration, perplexity};
use crate::output::screen::Screen;
use crate::output::table::{Column, table};

/// Runs the command.
pub(super) fn run(args: &PlanNewArgs, screen: &Screen) -> Result<(), Failure> {
    if let Some(output) = args.output.as_ref().filter(|output| output.exists() && !args.force) {
        return Err(LabError::Exists(output.clone()).into());
    }
    let base = laid(args, args.preset.plan())?;
    let (plan, about) = match args.time {
        Some(time) => {
            let designed = for_time(args, base, time.as_secs_f64(), screen)?;
            show(&designed, screen);
            let used = designed.considered.get(designed.taken).map_or(1.0, |one| one.used);
            if used < 0.9 {
                screen.note(&format!(
                    "the text is too short for the whole time: more epochs would not help, and the training takes {:.0} % of it",
                    100.0 * used
                ));
            }
            let about = about(&designed, args, time.as_secs_f64());
            (designed.plan, about)
        }
        None => (base, args.preset.phrase().to_owned()),
    };
    let text = template::commented(&plan, &about, args.all)?;
    match &args.output {
        None => screen.print(&text),
        Some(path) => {
            let existing = Existing::replaced_if(args.force);
            files::write(path, text.as_bytes(), existing)?;
            let next = if args.time.is_some() { "train" } else { "plan cost" };
            let what = if args.time.is_some() { "to train by it" } else { "for its cost" };
            screen.note(&format!("written to {}; {what}: lalograph {next} --plan {0}", path.display()));
            Ok(())
        }
    }
}

/// The flags laid over a plan, and then the settings of `--set`.
fn laid(args: &PlanNewArgs, mut plan: Plan) -> Result<Plan, Failure> {
    lay_split_text((&args.paths, &args.reading), (&None, &args.tokens), &args.shares, &mut plan)?;
    set(plan, &args.settings).map_err(|error| Failure::Usage(error.to_string()))
}

/// A plan with settings as `section.key=value`.
fn set(plan: Plan, settings: &[String]) -> Result<Plan, PlanError> {
    Plan::from_toml(&plan.to_toml()?, settings)
}

/// Settings that follow from the time.
const FOLLOWING: [&str; 2] = ["training.steps", "training.epochs"];

/// Reads the text and makes the plan.
fn for_time(args: &PlanNewArgs, base: Plan, seconds: f64, screen: &Screen) -> Result<Designed, Failure> {
    let key = |setting: &String| setting.split('=').next().unwrap_or("").trim().to_owned();
    if let Some(given) = args.settings.iter().map(key).find(|key| FOLLOWING.contains(&key.as_str())) {
        return Err(Failure::Usage(format!("`{given}` follows from --time and cannot be set")));
    }
    if args.paths.is_empty() {
        return Err(Failure::Usage(
            "a plan for a time needs the text that it is for: give the paths of the corpus".into(),
        ));
    }
    if base.classifier.is_some() {
        return Err(Failure::Usage("--time plans language models; a classifier has no such plan".into()));
    }
    interrupt::listen();
    refuse_idle(&args.reading, &found(&base.corpus.spec())?)?;
    let threads = threads(args.threads);
    let mut task = reading(args.reading.left_out.as_deref(), Existing::Keep, screen, |observer| {
        prepare(base, threads, None, observer)
    })?;
    screen.note("timing networks on this machine");
    let wish = Wish { seconds, aim: args.aim, threads };
    let lay = |plan: Plan| set(plan, &args.settings);
    Ok(design(&mut task, wish, &lay, &mut || !interrupt::asked())?)
}

/// What was timed, and what was taken.
fn show(designed: &Designed, screen: &Screen) {
    let rows: Vec<Vec<String>> = designed
        .considered
        .iter()
        .enumerate()
        .map(|(at, one)| {
            vec![
                format!("{} / {}", one.embedding, one.hidden),
                one.softmax.name().to_owned(),
                count(one.parameters),
                count(one.tokens_per_second as u64),
                format!("{:.1}", one.epochs),
                perplexity(one.perplexity),
                if at == designed.taken { "taken".to_owned() } else { String::new() },
            ]
        })
        .collect();
    let heads =
        ["embedding / hidden", "softmax", "parameters", "tokens/s", "epochs", "expected perplexity", ""];
    let columns = [
        Column::Text,
        Column::Text,
        Column::Number,
        Column::Number,
        Column::Number,
        Column::Number,
        Column::Text,
    ];
    screen.note(&table(screen, &heads, &columns, &rows));
}

/// What the plan is for, as part of a sentence.
fn about(designed: &Designed, args: &PlanNewArgs, seconds: f64) -> String {
    let (order, ngram) = designed.ngram;
    format!(
        "{} of training on this machine, for {}. {:.1} epochs; a {order}-gram model of the text has a validation perplexity of {}",
        duration(seconds),
        args.aim.phrase(),
        designed.epochs,
        perplexity(ngram)
    )
}
