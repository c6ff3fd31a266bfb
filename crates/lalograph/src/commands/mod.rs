//! One file a command.

mod demo;
mod pages;
mod sample;
mod score;
mod survey;
mod train;
mod vocab;

use std::path::{Path, PathBuf};

use lalograph_lab::ModelFile;
use lalograph_text::corpus::{Reason, Skipped};
use lalograph_text::{Corpus, CorpusSpec, Division, Reading};

use crate::cli::{Cli, Command, CorpusArgs};
use crate::failure::Failure;
use crate::output::number::{counted, percent};
use crate::output::screen::Screen;

/// Does what was asked.
pub(crate) fn run(cli: Cli, screen: &Screen) -> Result<(), Failure> {
    match cli.command {
        Command::Demo(args) => demo::run(&args, screen),
        Command::Survey(args) => survey::run(&args, screen),
        Command::Vocab { command } => vocab::run(&command, screen),
        Command::Train(args) => train::run(&args, screen),
        Command::Sample(args) => sample::run(&args, screen),
        Command::Score(args) => score::run(&args, screen),
        Command::Completions { shell } => pages::completions(shell, screen),
        Command::Manual { folder, force } => pages::manual(&folder, force, screen),
    }
}

/// Finds the corpus of a command.
fn find_corpus(args: &CorpusArgs) -> Result<Corpus, Failure> {
    let CorpusArgs { paths, document, first } = args;
    let division = Division::from(*document);
    Ok(Corpus::find(&CorpusSpec { paths: paths.clone(), division, first: *first })?)
}

/// How many left-out places are named one by one.
const SKIPPED_SHOWN: usize = 5;

/// Says what was left out of a corpus.
fn say_skipped(reading: &Reading, screen: &Screen) {
    if reading.skipped_count == 0 {
        return;
    }
    let place = |skipped: &Skipped| {
        let reason = match &skipped.reason {
            Reason::Binary => "not text (it has NUL bytes)".to_owned(),
            Reason::NotUtf8 => "not UTF-8".to_owned(),
            Reason::Blank => "blank".to_owned(),
            Reason::Unreadable(why) => why.clone(),
        };
        match skipped.line {
            Some(line) => format!("{}, line {line}: {reason}", skipped.path.display()),
            None => format!("{}: {reason}", skipped.path.display()),
        }
    };
    screen.warn(&format!("{} left out:", counted(reading.skipped_count, "place", "places")));
    for skipped in reading.skipped.iter().take(SKIPPED_SHOWN) {
        screen.note(&format!("  {}", place(skipped)));
    }
    let more = reading.skipped_count.saturating_sub(SKIPPED_SHOWN as u64);
    if more > 0 {
        screen.note(&format!("  and {more} more"));
    }
}

/// Warns when much of a text has no index.
fn say_unknown(unknown: u64, tokens: u64, screen: &Screen) {
    if unknown * 20 > tokens {
        screen.warn(&format!(
            "{} of the tokens are not in the vocabulary: the figures say little about this text",
            percent(unknown, tokens)
        ));
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
