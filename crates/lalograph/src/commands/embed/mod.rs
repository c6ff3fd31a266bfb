//! `embed`: train, import, near, relate, judge, map.

mod demo;
mod import;
mod judge;
mod map;
mod near;
mod train;

pub(crate) use demo::vectors_of;

use std::path::{Path, PathBuf};

use lalograph_lab::LabError;
use lalograph_lab::artefact::vectors::VectorFile;
use lalograph_lab::storage::files::Existing;
use lalograph_text::{Reserved, Vocabulary};
use lalograph_vectors::table::Neighbour;
use lalograph_vectors::{VectorError, VectorTable};
use serde::Serialize;

use crate::cli::EmbedCommand;
use crate::failure::Failure;
use crate::interrupt;
use crate::output::progress::{Measure, Progress};
use crate::output::screen::Screen;

/// Runs the command.
pub(crate) fn run(command: &EmbedCommand, screen: &Screen) -> Result<(), Failure> {
    match command {
        EmbedCommand::Train(args) => train::run(args, screen),
        EmbedCommand::Import(args) => import::run(args, screen),
        EmbedCommand::Near(args) => near::near(args, screen),
        EmbedCommand::Relate(args) => near::relate_words(args, screen),
        EmbedCommand::Judge(args) => judge::run(args, screen),
        EmbedCommand::Map(args) => map::run(args, screen),
    }
}

/// A word and how near it is.
#[derive(Debug, Serialize)]
struct NearWord<'t> {
    word: &'t str,
    nearness: f64,
}

impl<'t> NearWord<'t> {
    fn all(table: &'t VectorTable, found: &[Neighbour]) -> Vec<Self> {
        let word = |neighbour: &Neighbour| NearWord {
            word: table.word(neighbour.row),
            // What single precision is worth.
            nearness: (f64::from(neighbour.nearness) * 1e6).round() / 1e6,
        };
        found.iter().map(word).collect()
    }
}

/// Reads vectors of any form, with a progress bar.
fn load(path: &Path, screen: &Screen) -> Result<VectorFile, Failure> {
    super::check_there(path, "`lalograph embed train` and `lalograph embed import` write such files")?;
    interrupt::listen();
    let bytes = std::fs::metadata(path).map_or(0, |meta| meta.len());
    let mut progress = Progress::new(screen, "reading vectors", Measure::Bytes, bytes);
    let file = VectorFile::load(path, |bytes| {
        progress.at(bytes, "");
        !interrupt::asked()
    })?;
    progress.finish();
    Ok(file)
}

/// Whether files may be replaced; refuses at once those that may not.
fn places(paths: &[&Path], force: bool) -> Result<Existing, Failure> {
    if force {
        return Ok(Existing::Replace);
    }
    match paths.iter().find(|path| path.exists()) {
        Some(taken) => Err(LabError::Exists(taken.to_path_buf()).into()),
        None => Ok(Existing::Keep),
    }
}

/// The spellings of all indices, reserved ones first.
fn spellings(vocabulary: &Vocabulary) -> Vec<String> {
    let spelling = |index| String::from_utf8_lossy(vocabulary.token(index).unwrap_or_default()).into_owned();
    (0..vocabulary.len() as u32).map(spelling).collect()
}

/// How often each word was counted, in the order of the vocabulary.
fn counts(vocabulary: &Vocabulary) -> Vec<u64> {
    vocabulary.tokens().iter().map(|token| token.count).collect()
}

/// Words given one by one and in a file.
fn words_of(words: &[String], file: Option<&PathBuf>) -> Result<Vec<String>, Failure> {
    let mut all = words.to_vec();
    if let Some(path) = file {
        let text = std::fs::read_to_string(path).map_err(LabError::at(path))?;
        all.extend(text.lines().map(str::trim).filter(|line| !line.is_empty()).map(str::to_owned));
    }
    Ok(all)
}

/// Words on a table's vocabulary, without the reserved ones.
fn own_words(vocabulary: &Vocabulary) -> Vec<String> {
    spellings(vocabulary).split_off(Reserved::COUNT as usize)
}

impl From<VectorError> for Failure {
    fn from(error: VectorError) -> Self {
        match error {
            VectorError::Text(inner) => inner.into(),
            VectorError::Setting { .. } => Self::Usage(error.to_string()),
            VectorError::Unknown { ref near, .. } if !near.is_empty() => {
                let near: Vec<String> = near.iter().map(|word| format!("`{word}`")).collect();
                Self::with_remedy(&error, format!("there are vectors for {}", near.join(", ")))
            }
            VectorError::Unknown { .. } => Self::with_remedy(
                error,
                "choose a word of the vocabulary; vectors trained with --pieces have some for any word",
            ),
            VectorError::NothingKnown(_) => {
                Self::with_remedy(error, "use words of the text that the vectors are of")
            }
            VectorError::NotFinite => Self::with_remedy(error, "lower --learning-rate"),
            VectorError::TooLittle => {
                Self::with_remedy(error, "give more text, or a vocabulary that knows its words")
            }
            VectorError::Dimensions { .. } => Self::with_remedy(
                error,
                "the width of the token vectors, --embedding, is that of the vectors that they begin with",
            ),
            VectorError::NoneFound(_) => Self::with_remedy(
                error,
                "see whether both are spelt alike: capitals, language, the unit of the vocabulary",
            ),
            VectorError::Line { .. } | VectorError::Io(_) => Self::work(error),
        }
    }
}
