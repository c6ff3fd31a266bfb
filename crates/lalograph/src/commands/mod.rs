//! One file a command.

mod demo;
mod flow;
mod gauge;
mod pages;
mod plan;
mod reading;
mod sample;
mod score;
mod settings;
mod split;
mod survey;
mod train;
mod vocab;

use std::path::{Path, PathBuf};

use lalograph_lab::ModelFile;

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
        Command::Plan { command } => plan::run(&command, screen),
        Command::Train(args) => train::run(&args, screen),
        Command::Sample(args) => sample::run(&args, screen),
        Command::Score(args) => score::run(&args, screen),
        Command::Flow(args) => flow::run(&args, screen),
        Command::Gauge(args) => gauge::run(&args, screen),
        Command::Completions { shell } => pages::completions(shell, screen),
        Command::Manual { folder, force } => pages::manual(&folder, force, screen),
    }
}

/// The model file that a path means: itself, or the one in a run's folder.
fn model_path(path: &Path) -> PathBuf {
    if path.is_dir() { path.join("model.safetensors") } else { path.to_owned() }
}

/// Loads the model that a path means.
fn load_model(path: &Path) -> Result<ModelFile, Failure> {
    let file = model_path(path);
    if path.is_dir() && !file.is_file() {
        return Err(Failure::with_remedy(
            format!("{}: the folder holds no model.safetensors", path.display()),
            "give the folder of a run that has been validated at least once, or a model file",
        ));
    }
    Ok(ModelFile::load(&file)?)
}

/// Text given as an argument, or standard input for `-`.
fn text_or_input(text: &str) -> Result<String, Failure> {
    if text != "-" {
        return Ok(text.to_owned());
    }
    std::io::read_to_string(std::io::stdin().lock())
        .map_err(|error| Failure::work(format!("standard input: {error}")))
}

/// Threads to use: as many as asked for, or all processors.
fn threads(asked: Option<u16>) -> usize {
    asked.map_or_else(
        || std::thread::available_parallelism().map_or(1, std::num::NonZeroUsize::get),
        usize::from,
    )
}
