//! `train`: a plan from flags and files, then the run.

use std::path::Path;

use jiff::ZonedDateTime;
use lalograph_lab::run::shelf;
use lalograph_lab::{LabError, LanguageTask, Plan, Running};
use lalograph_storage::Existing;

use super::input::threads;
use super::reading::{found, refuse_idle};
use super::settings::{check_room, lay_model, lay_split_text, lay_training, read_plan, refuse_other_plan};
use super::training::{carry_out, now, read, render_start, say_outcome};
use crate::cli::TrainArgs;
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::screen::Screen;
use crate::output::training::Output;

/// Runs the command.
pub(crate) fn run(args: &TrainArgs, screen: &Screen) -> Result<(), Failure> {
    let plan = resolve(args)?;
    refuse_other_plan(&plan)?;
    if plan.corpus.prompt.is_some() {
        return Err(Failure::Usage(
            "prompts and answers are for `lalograph tune`, which continues from a model; train one on text first".into(),
        ));
    }
    let existing = Existing::replaced_if(args.run.force);
    let name = name_of_new_run(&plan, args.run.name.as_deref(), &args.run.runs, existing)?;
    interrupt::listen();
    refuse_idle(&args.reading, &found(&plan.corpus.spec())?)?;
    let count = threads(args.run.threads);
    let prepared = read(plan, &args.run.runs, count, args.reading.left_out.as_deref(), existing, screen)?;
    check_room(&prepared.plan, prepared.vocabulary.len())?;
    let output = if args.run.json { Output::Json } else { Output::Words };
    if output == Output::Words {
        screen.line(&render_start(&prepared, screen))?;
    }
    let running = begin(&prepared, &args.run.runs, &name, existing)?;
    let (run, outcome) = carry_out(&prepared, running, (count, args.training.minutes), output, screen)?;
    say_outcome(&run, &prepared, &outcome, args.training.minutes, output, screen)
}

/// The name of a new run: the given one, or a free one. Refuses a corpus that cannot be read again, and a name that is taken.
pub(super) fn name_of_new_run(
    plan: &Plan,
    name: Option<&str>,
    runs: &Path,
    existing: Existing,
) -> Result<String, Failure> {
    if plan.corpus.paths.iter().any(|path| path.as_os_str() == "-") {
        return Err(Failure::Usage(
            "training reads the corpus more than once, so the corpus cannot come from standard input; save it to a file first"
                .into(),
        ));
    }
    let name = match name {
        Some(name) => checked_name(name)?.to_owned(),
        None => free_name(runs, plan),
    };
    let place = runs.join(&name);
    if existing == Existing::Keep && place.exists() {
        return Err(LabError::Exists(place).into());
    }
    Ok(name)
}

/// Makes the folder of a new run.
pub(super) fn begin(
    prepared: &LanguageTask,
    runs: &Path,
    name: &str,
    existing: Existing,
) -> Result<Running, Failure> {
    let description =
        prepared.describe(name, now(), env!("CARGO_PKG_VERSION"), std::env::current_dir().ok())?;
    let own = prepared.run_files()?;
    let (run, claim, description) =
        shelf::create(&*files::storage(), runs, &prepared.plan, description, &own, existing)?;
    Ok(Running::new(run, claim, description))
}

/// Lays the flags over the plan file, and the plan file over the defaults.
fn resolve(args: &TrainArgs) -> Result<Plan, Failure> {
    let file = read_plan(args.plan.as_deref(), &[])?;
    let mut plan = read_plan(args.plan.as_deref(), &args.run.settings)?;
    let tokens = (&args.vocabulary_file, &args.tokens);
    lay_split_text((&args.paths, &args.reading), tokens, &args.shares, &mut plan)?;
    lay_model(&args.model, &args.training.step, &mut plan)?;
    lay_training(&args.training, &args.samples, &mut plan);
    plan.expect_only_of(&file);
    plan.check()?;
    Ok(plan)
}

/// A name that a run can have.
fn checked_name(name: &str) -> Result<&str, Failure> {
    if shelf::is_name(name) { Ok(name) } else { Err(LabError::BadName(name.to_owned()).into()) }
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
