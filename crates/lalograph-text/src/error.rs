//! What can go wrong between a path and its token indices.

use std::io;
use std::path::PathBuf;

use thiserror::Error;

/// Why a corpus or a vocabulary could not be used.
#[derive(Debug, Error)]
pub enum TextError {
    /// No path was given.
    #[error("no corpus was named")]
    NoPaths,
    /// There is nothing at a path.
    #[error("{0}: no such file or folder")]
    Missing(PathBuf),
    /// A folder holds no text file.
    #[error("{0}: the folder holds no files ending in .txt")]
    EmptyFolder(PathBuf),
    /// The file system refused.
    #[error("{path}: {source}")]
    Io {
        /// The file or folder.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// After reading everything there was no document with text in it.
    #[error("the corpus holds no text: {files} {} read, {skipped} left out", if *.files == 1 { "file" } else { "files" })]
    NoText {
        /// Files looked at.
        files: u64,
        /// Files and rows left out.
        skipped: u64,
    },
    /// The observer asked to stop.
    #[error("stopped")]
    Stopped,
    /// No token was frequent enough to enter a vocabulary.
    #[error(
        "no {unit} occurs at least {minimum_count} times, so the vocabulary would hold nothing but its reserved tokens"
    )]
    EmptyVocabulary {
        /// What was counted: `word` or `character`.
        unit: &'static str,
        /// The least count asked for.
        minimum_count: u64,
    },
    /// A vocabulary file is not what it should be.
    #[error("not a usable vocabulary: {0}")]
    BadVocabulary(String),
    /// An index is not in the vocabulary.
    #[error("index {index} is outside the vocabulary, whose last index is {last}")]
    IndexOutside {
        /// The index asked for.
        index: u32,
        /// The largest there is.
        last: u32,
    },
}
