//! `sweep PLAN`: trains the trials of a sweep that are not trained yet.

use std::path::{Path, PathBuf};
use std::time::Duration;

use lalograph_lab::LabError;
use lalograph_lab::plan::Plan;
use lalograph_lab::run::shelf;
use lalograph_lab::sweep::folder::SweepFolder;
use lalograph_lab::sweep::most_kept;
use lalograph_lab::sweep::spec::{Method, SweepSpec};
use lalograph_lab::sweep::work::{SweepEvent, Work, WorkEnd, work};

use super::asked::asked;
use super::document::Document;
use super::show::show;
use super::view::View;
use crate::cli::SweepArgs;
use crate::commands::input::threads;
use crate::commands::lookup::sweep_meant;
use crate::commands::training::now;
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::number::{count, counted, duration};
use crate::output::screen::Screen;
use crate::output::table::facts;
use crate::room;

/// How this process works on a sweep.
pub(crate) struct How {
    /// Trials at once.
    pub(crate) jobs: usize,
    /// Threads of all trials together; none for all processors.
    pub(crate) threads: Option<u16>,
    /// When to start no more.
    pub(crate) minutes: Option<Duration>,
    /// JSON Lines instead of words.
    pub(crate) json: bool,
}

/// Runs the command.
pub(super) fn run(args: &SweepArgs, plan: &Path, screen: &Screen) -> Result<(), Failure> {
    let how =
        How { jobs: usize::from(args.jobs), threads: args.threads, minutes: args.minutes, json: args.json };
    if let Some(folder) = sweep_meant(&args.place.runs, plan) {
        let SweepArgs { method, trials, seeds, budget_steps, rungs, keep, .. } = args;
        let numbers = [trials, seeds, budget_steps, keep].iter().any(|number| number.is_some());
        let described = !args.vary.is_empty() || args.sweep_file.is_some() || !args.settings.is_empty();
        if described || numbers || method.is_some() || rungs.is_some() || args.name.is_some() {
            return Err(Failure::Usage(format!(
                "{} is a sweep that is described already; give only --jobs, --threads, --minutes and --json, or the plan file of a new sweep",
                folder.display()
            )));
        }
        return go_on(&folder, &how, screen);
    }
    let spec = asked(args, plan)?;
    let name = match &args.name {
        Some(name) => name.clone(),
        None => format!("{}-sweep", name_of(plan)),
    };
    if !shelf::is_name(&name) {
        return Err(LabError::BadName(name).into());
    }
    let path = args.place.runs.join(&name);
    let (sweep, was_there) = SweepFolder::make_or_join(&*files::storage(), &path, spec)?;
    if was_there {
        screen.note(&format!("{} is this sweep: it is continued", path.display()));
    }
    carry_out(&sweep, &how, screen)
}

/// The name of a plan: that of its file, or of its run.
fn name_of(plan: &Path) -> String {
    let of_run = plan.ends_with("plan.toml").then(|| plan.parent()?.file_name()).flatten();
    let own = if plan.is_dir() { plan.file_name() } else { plan.file_stem() };
    of_run.or(own).unwrap_or_default().to_string_lossy().into_owned()
}

/// Continues a sweep, or takes part in it.
pub(crate) fn go_on(folder: &Path, how: &How, screen: &Screen) -> Result<(), Failure> {
    carry_out(&SweepFolder::open(folder)?, how, screen)
}

fn carry_out(sweep: &SweepFolder, how: &How, screen: &Screen) -> Result<(), Failure> {
    interrupt::listen();
    let spec = sweep.spec();
    if !how.json {
        screen.line(&render_start(sweep, how, screen))?;
    }
    let storage = files::storage();
    let runs = sweep.path().parent().unwrap_or(Path::new(""));
    let tokens = runs.join(files::TOKENS);
    let base = base(spec);
    let memory =
        |needed: u64| room::check(needed, "training", "").map_err(|failure| failure.words().to_owned());
    let mut ledger = sweep.ledger(&*storage)?;
    let view = View::new(sweep, ledger.refresh()?, how.json, screen);
    let work_of = Work {
        storage: &*storage,
        tokens: &tokens,
        base: base.as_deref(),
        jobs: how.jobs,
        threads: threads(how.threads),
        limit: how.minutes,
        program_version: env!("CARGO_PKG_VERSION"),
        clock: &now,
        memory: &memory,
    };
    let end = work(sweep, &work_of, &|event: &SweepEvent<'_>| view.show(event) && !interrupt::asked());
    view.finish()?;
    let end = end?;
    let results = ledger.refresh()?;
    let document = Document::new(sweep, results);
    if how.json {
        screen.json(&document)?;
    } else {
        screen.line("")?;
        show(sweep, &document, 10, screen)?;
    }
    let again = format!("`lalograph resume {}` continues the sweep", sweep.path().display());
    match end {
        WorkEnd::Over if document.has_none() => Err(Failure::with_remedy(
            format!("no trial of {} could be trained: {}", sweep.path().display(), document.first_reason()),
            "correct the plan, and give the sweep another name",
        )),
        WorkEnd::Over => Ok(()),
        WorkEnd::OutOfTime => {
            let limit = how.minutes.unwrap_or_default();
            screen.note(&format!(
                "no further trial would end within {} (--minutes); {again}",
                duration(limit.as_secs_f64())
            ));
            Ok(())
        }
        WorkEnd::Stopped => Err(Failure::Interrupted(format!("stopped; {again}"))),
    }
}

/// The folder that the plan's paths are meant from, if it is not this one.
fn base(spec: &SweepSpec) -> Option<PathBuf> {
    let folder = spec.working_folder.clone().filter(|folder| folder.is_dir())?;
    (std::env::current_dir().ok().as_ref() != Some(&folder)).then_some(folder)
}

/// What is about to be done.
fn render_start(sweep: &SweepFolder, how: &How, screen: &Screen) -> String {
    let spec = sweep.spec();
    let settings = spec.settings().len() as u64;
    let trials = match spec.terms.seeds {
        1 => counted(settings, "setting", "settings"),
        seeds => format!("{} x {} seeds", counted(settings, "setting", "settings"), count(seeds)),
    };
    let method = match spec.terms.method {
        Method::Grid => format!("{trials}: every combination"),
        Method::Random => format!("{trials}, drawn at random"),
        Method::Racing => format!(
            "{trials}; at {} rungs the worse half stops, {} of the steps of all",
            spec.rungs() - 1,
            share_of_race(spec.rungs())
        ),
    };
    let mut rows = vec![("folder", sweep.path().display().to_string()), ("trials", method)];
    rows.extend(spec.varied.iter().map(|one| (one.key.as_str(), one.text().to_owned())));
    rows.push(("compared by", sweep.figure().name().to_owned()));
    rows.push((
        "at a time",
        format!(
            "{} on {}",
            counted(how.jobs as u64, "trial", "trials"),
            counted(threads(how.threads) as u64, "thread", "threads")
        ),
    ));
    if let Some((first, warmup)) = spec.compares_in_warmup() {
        let note = format!(
            "the first comparison, after {} steps, is within the warm-up of {} steps or soon after it: lower training.warmup_steps or --rungs, or train for more steps",
            count(first),
            count(warmup)
        );
        rows.push(("warm-up", note));
    }
    let most = most_kept(spec, how.jobs);
    let model = model_bytes(&spec.plan);
    let kept = format!(
        "at most {} and {}; in the end {}",
        counted(most.models as u64, "model", "models"),
        counted(most.checkpoints as u64, "checkpoint", "checkpoints"),
        counted((spec.terms.keep as usize).min(spec.settings().len()) as u64, "model", "models")
    );
    rows.push((
        "on disk",
        match model {
            Some(size) => format!(
                "{kept}; a model of the plan's own size has {size}, a checkpoint about four times as much"
            ),
            None => kept,
        },
    ));
    format!("{}\n{}", screen.heading("The sweep"), facts(screen, &rows))
}

/// The share of a race in the steps of all its trials: the first rung of all, then for each further rung as many steps again as half of them had.
fn share_of_race(rungs: usize) -> String {
    let first = 1.0 / f64::from(1u32 << (rungs - 1));
    crate::output::number::percent_of(first * (1.0 + 0.5 * (rungs - 1) as f64))
}

/// The size of the plan's model in words, where the vocabulary's size is known.
fn model_bytes(plan: &Plan) -> Option<String> {
    use lalograph_net::Network;
    let size = plan.vocabulary.size.filter(|_| plan.classifier.is_none() && plan.vectors.is_none())?;
    let model =
        lalograph_net::LanguageModel::new(plan.shape(size + lalograph_text::Reserved::COUNT as usize));
    Some(format!("up to {}", crate::output::number::bytes(4 * model.ok()?.layout().len() as u64)))
}
