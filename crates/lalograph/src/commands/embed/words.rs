//! Words and vectors that the commands on word vectors have in common.

use std::path::{Path, PathBuf};

use lalograph_lab::LabError;
use lalograph_lab::artefact::vectors::VectorFile;
use lalograph_text::{Reserved, Vocabulary};
use lalograph_vectors::VectorTable;
use lalograph_vectors::table::Neighbour;
use serde::Serialize;

use crate::commands::lookup::check_there;
use crate::failure::Failure;
use crate::interrupt;
use crate::output::progress::{Measure, Progress};
use crate::output::screen::Screen;

/// A word and its similarity.
#[derive(Debug, Serialize)]
pub(super) struct NearWord<'t> {
    pub(super) word: &'t str,
    pub(super) cosine: f64,
}

impl<'t> NearWord<'t> {
    pub(super) fn all(table: &'t VectorTable, found: &[Neighbour]) -> Vec<Self> {
        let word = |neighbour: &Neighbour| NearWord {
            word: table.word(neighbour.row),
            // What single precision is worth.
            cosine: (f64::from(neighbour.cosine) * 1e6).round() / 1e6,
        };
        found.iter().map(word).collect()
    }
}

/// Reads vectors of any form, with a progress bar.
pub(super) fn load(path: &Path, screen: &Screen) -> Result<VectorFile, Failure> {
    check_there(path, "`lalograph embed train` and `lalograph embed import` write files of vectors")?;
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

/// Words given one by one and in a file.
pub(super) fn words_of(words: &[String], file: Option<&PathBuf>) -> Result<Vec<String>, Failure> {
    let mut all = words.to_vec();
    if let Some(path) = file {
        let text = std::fs::read_to_string(path).map_err(LabError::at(path))?;
        all.extend(text.lines().map(str::trim).filter(|line| !line.is_empty()).map(str::to_owned));
    }
    Ok(all)
}

/// Words on a table's vocabulary, without the reserved ones.
pub(super) fn own_words(vocabulary: &Vocabulary) -> Vec<String> {
    vocabulary.spellings().split_off(Reserved::COUNT as usize)
}
