//! One file a command.

mod demo;
mod embed;
mod flow;
mod gauge;
mod next;
mod pages;
mod plan;
mod reading;
mod resume;
mod runs;
mod sample;
mod score;
mod settings;
mod split;
mod survey;
mod train;
mod training;
mod training_text;
mod vocab;

use std::path::{Path, PathBuf};

use lalograph_lab::run::folder::model_in;
use lalograph_lab::{ModelFile, RunFolder};

pub(crate) use reading::remedy as corpus_remedy;

use crate::cli::{Cli, Command};
use crate::failure::Failure;
use crate::output::screen::Screen;

/// Does what was asked.
pub(crate) fn run(cli: Cli, screen: &Screen) -> Result<(), Failure> {
    match cli.command {
        Command::Demo(args) => demo::run(&args, screen),
        Command::Survey(args) => survey::run(&args, screen),
        Command::Split(args) => split::run(&args, screen),
        Command::Vocab { command } => vocab::run(&command, screen),
        Command::Embed { command } => embed::run(&command, screen),
        Command::Plan { command } => plan::run(&command, screen),
        Command::Train(args) => train::run(&args, screen),
        Command::Resume(args) => resume::run(&args, screen),
        Command::Runs { command } => runs::run(&command, screen),
        Command::Sample(args) => sample::run(&args, screen),
        Command::Next(args) => next::run(&args, screen),
        Command::Score(args) => score::run(&args, screen),
        Command::Flow(args) => flow::run(&args, screen),
        Command::Gauge(args) => gauge::run(&args, screen),
        Command::Completions { shell } => pages::completions(shell, screen),
        Command::Manual { folder, force } => pages::manual(&folder, force, screen),
    }
}

/// The model file that a path means: itself, or the one in a run's folder.
fn model_path(path: &Path) -> PathBuf {
    if path.is_dir() { model_in(path) } else { path.to_owned() }
}

/// The one of some names that is spelt so much like another, whatever the case, that it may be meant.
fn nearest_name<'n>(wanted: &str, names: &'n [String]) -> Option<&'n str> {
    let wanted = wanted.to_lowercase();
    names
        .iter()
        .map(|name| (strsim::jaro_winkler(&wanted, &name.to_lowercase()), name.as_str()))
        .filter(|(likeness, _)| *likeness > 0.8)
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map(|(_, name)| name)
}

/// The last part of a path, as words.
fn last_part(path: &Path) -> String {
    path.file_name().unwrap_or_default().to_string_lossy().into_owned()
}

/// What may have been meant by a path that is not there: a run of that name, or what stands beside it and is spelt alike.
fn meant_instead(path: &Path) -> Option<PathBuf> {
    let run = Path::new("runs").join(path);
    if run.exists() {
        return Some(run);
    }
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let beside: Vec<String> =
        std::fs::read_dir(folder).ok()?.flatten().map(|entry| last_part(&entry.path())).collect();
    nearest_name(&last_part(path), &beside).map(|name| path.with_file_name(name))
}

/// Refuses a path that is not there; `wanted` is said where nothing like it is.
fn check_there(path: &Path, wanted: &str) -> Result<(), Failure> {
    if path.exists() {
        return Ok(());
    }
    let remedy = match meant_instead(path) {
        Some(meant) => format!("did you mean `{}`?", meant.display()),
        None => wanted.to_owned(),
    };
    Err(Failure::with_remedy(format!("{}: there is no such file or folder", path.display()), remedy))
}

/// Loads the model that a path means.
fn load_model(path: &Path) -> Result<ModelFile, Failure> {
    check_there(path, "give the folder of a run, or a model file")?;
    let file = model_path(path);
    if path.is_dir() && !file.is_file() {
        return Err(Failure::with_remedy(
            format!("{}: the folder holds no model file", path.display()),
            "give the folder of a run that has been validated at least once, or a model file",
        ));
    }
    Ok(ModelFile::load(&file)?)
}

/// The run that a name or a path means.
fn find_run(runs: &Path, name: &Path) -> Result<RunFolder, Failure> {
    let inside = runs.join(name);
    let found = [name, &inside].into_iter().find_map(|path| RunFolder::open(path).ok());
    if let Some(run) = found {
        return Ok(run);
    }
    let wanted = name.to_string_lossy();
    let all: Vec<String> = RunFolder::all(runs)?.iter().map(RunFolder::name).collect();
    let remedy = match nearest_name(&last_part(name), &all) {
        Some(near) => format!("did you mean `{near}`?"),
        None if all.is_empty() => {
            format!("there are no runs in {}; --runs says where they are kept", runs.display())
        }
        None => format!("`lalograph runs list --runs {}` lists them", runs.display()),
    };
    Err(Failure::with_remedy(format!("no run `{wanted}`, neither here nor in {}", runs.display()), remedy))
}

/// Text given as an argument, or standard input for `-`.
fn text_or_input(text: &str) -> Result<String, Failure> {
    if text != "-" {
        return Ok(text.to_owned());
    }
    std::io::read_to_string(std::io::stdin().lock())
        .map_err(|error| Failure::work(format!("standard input: {error}")))
}

/// Words of a text that are named where a model does not know them.
const NAMED: usize = 8;

/// Names the words of a text that are not in a model's vocabulary.
fn say_unknown_words(unknown: &[String], screen: &Screen) {
    if !unknown.is_empty() {
        let listed: Vec<String> = unknown.iter().take(NAMED).map(|token| format!("`{token}`")).collect();
        let more = match unknown.len().checked_sub(NAMED) {
            None | Some(0) => String::new(),
            Some(more) => format!(" and {more} more"),
        };
        screen.warn(&format!("not in the model's vocabulary: {}{more}", listed.join(", ")));
    }
}

/// Threads to use: as many as asked for, or all processors.
fn threads(asked: Option<u16>) -> usize {
    asked.map_or_else(
        || std::thread::available_parallelism().map_or(1, std::num::NonZeroUsize::get),
        usize::from,
    )
}
