//! `resume`: continue a run.

use std::path::Path;

use lalograph_lab::data::token_cache::TokenCache;
use lalograph_lab::plan::NetworkKind;
use lalograph_lab::run::description::RunStatus;
use lalograph_lab::task::Startable;
use lalograph_lab::training::resume::{Changes, Resumable};
use lalograph_lab::{Plan, PreparedClassifier, Running, prepare_again, prepare_classifier_again};
use lalograph_storage::Existing;

use super::classify;
use super::input::threads;
use super::lookup::{find_run, sweep_meant};
use super::settings::check_room;
use super::sweep::{How, go_on};
use super::training::{
    carry_out, carry_out_classifier, now, reading, reading_documents, render_start, say_outcome,
};
use super::training_text::{base, tokens_of};
use crate::cli::ResumeArgs;
use crate::company::alone;
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::number::count;
use crate::output::screen::Screen;
use crate::output::training::Output;

/// Runs the command.
pub(crate) fn run(args: &ResumeArgs, screen: &Screen) -> Result<(), Failure> {
    if let Some(folder) = sweep_meant(&args.place.folder.runs, &args.place.run) {
        return resume_sweep(args, &folder, screen);
    }
    let found = find_run(&args.place.folder.runs, &args.place.run)?;
    interrupt::listen();
    let changes = Changes {
        epochs: args.epochs,
        steps: args.steps,
        learning_rate: args.learning_rate,
        patience: args.patience,
        seed_texts: args.from.clone(),
    };
    let storage = files::storage();
    let description = found.description()?;
    let classifies = description.task == PreparedClassifier::KIND;
    let solved = description.status == RunStatus::Finished && !args.restart;
    if classifies && solved && is_linear(&found.read_plan()?) {
        return Err(Failure::with_remedy(
            format!("{} is solved: a linear network has no further steps", found.path().display()),
            "use --restart to solve it again, or `lalograph classify train` for another plan",
        ));
    }
    let changes_steps = args.epochs.is_some() || args.steps.is_some() || args.learning_rate.is_some();
    if classifies && (changes_steps || args.patience.is_some()) && is_linear(&found.read_plan()?) {
        return Err(Failure::Usage(
            "a linear network is solved to its tolerance: --epochs, --steps, --learning-rate and --patience have no effect".into(),
        ));
    }
    if classifies && !args.from.is_empty() {
        return Err(Failure::Usage("--from has no effect: a classifier writes no samples".into()));
    }
    let resumable = Resumable::open(&*storage, found.path(), &changes, args.restart)?;
    let count_of_threads = threads(args.threads);
    let tokens = tokens_of(&found);
    let cache = tokens.as_deref().map(|path| TokenCache { storage: &*storage, path });
    let base = base(resumable.description(), screen);
    if classifies {
        return resume_classifier(args, resumable, base.as_deref(), screen);
    }
    let prepared = reading(None, Existing::Keep, screen, |observer| {
        let (run, plan) = (resumable.run(), resumable.plan());
        prepare_again(run, plan, base.as_deref(), count_of_threads, cache, observer)
    })?;
    check_room(&prepared.plan, prepared.vocabulary.len())?;
    let output = if args.json { Output::Json } else { Output::Words };
    if output == Output::Words {
        screen.line(&render_start(&prepared, screen))?;
    }
    let running = continued(args, resumable, &prepared, prepared.steps, screen)?;
    let (run, outcome) = carry_out(&prepared, running, (count_of_threads, args.minutes), output, screen)?;
    say_outcome(&run, &prepared, &outcome, args.minutes, output, screen)
}

fn is_linear(plan: &Plan) -> bool {
    plan.classifier.as_ref().is_some_and(|own| own.network == NetworkKind::Linear)
}

/// Finds where a run continues, and prints it.
fn continued<T: Startable>(
    args: &ResumeArgs,
    resumable: Resumable,
    prepared: &T,
    steps: u64,
    screen: &Screen,
) -> Result<Running, Failure> {
    let longer = args.epochs.is_some() || args.steps.is_some();
    if longer && resumable.rate_depends_on_length() {
        screen.note(
            "the schedule depends on the number of steps: the learning rate continues as in a run of the new length",
        );
    }
    let running = resumable.running(prepared, now(), |damaged| {
        screen.warn(&format!("{damaged}; using the checkpoint before it"));
    })?;
    screen.note(&match &running.from {
        Some(checkpoint) => {
            format!("continuing after step {} of {}", count(checkpoint.step()), count(steps))
        }
        None => "no checkpoint: starting from the first step".to_owned(),
    });
    Ok(running)
}

/// Continues a sweep.
fn resume_sweep(args: &ResumeArgs, folder: &Path, screen: &Screen) -> Result<(), Failure> {
    alone::<()>("the resuming of a sweep")?;
    let changes = args.epochs.is_some()
        || args.steps.is_some()
        || args.learning_rate.is_some()
        || args.patience.is_some()
        || !args.from.is_empty()
        || args.restart;
    if changes {
        return Err(Failure::Usage(
            "a sweep continues as it was described: only --minutes, --threads and --json have an effect"
                .into(),
        ));
    }
    let how = How { jobs: 1, threads: args.threads, minutes: args.minutes, json: args.json };
    go_on(folder, &how, screen)
}

/// Continues the run of a classifier.
fn resume_classifier(
    args: &ResumeArgs,
    resumable: Resumable,
    base: Option<&Path>,
    screen: &Screen,
) -> Result<(), Failure> {
    let threads = threads(args.threads);
    let prepared = reading_documents(None, Existing::Keep, screen, |observer| {
        prepare_classifier_again(resumable.run(), resumable.plan(), base, threads, observer)
    })?;
    classify::check(&prepared, screen)?;
    let output = if args.json { Output::Json } else { Output::Words };
    if output == Output::Words {
        screen.line(&classify::render_start(&prepared, screen))?;
    }
    let running = continued(args, resumable, &prepared, prepared.steps(), screen)?;
    let (run, outcome) = carry_out_classifier(&prepared, running, (threads, args.minutes), output, screen)?;
    classify::say_outcome(&run, &prepared, &outcome, (threads, args.minutes), output, screen)
}
