//! Errors between a path and its token indices.

use std::io;
use std::path::PathBuf;

use thiserror::Error;

use crate::corpus::reading::Skipped;

/// Why a corpus or a vocabulary could not be used.
#[derive(Debug, Error)]
pub enum TextError {
    /// No path was given.
    #[error("no corpus given")]
    NoPaths,
    /// There is nothing at a path.
    #[error("{0}: no such file or folder")]
    Missing(PathBuf),
    /// A folder holds no file of the form asked for.
    #[error("{folder}: the folder holds no files{}{}", if .endings.is_empty() { "" } else { " ending in ." }, .endings.join(" or ."))]
    EmptyFolder {
        /// The folder.
        folder: PathBuf,
        /// The endings looked for; none if any file will do.
        endings: &'static [&'static str],
    },
    /// A pattern of file names that cannot be understood.
    #[error("invalid pattern `{pattern}`: {what}")]
    BadGlob {
        /// The pattern.
        pattern: String,
        /// The problem.
        what: String,
    },
    /// A table has no column of that name or number.
    #[error("{path}: no column `{column}`")]
    NoColumn {
        /// The table.
        path: PathBuf,
        /// The requested column.
        column: String,
        /// The columns of the table.
        known: Vec<String>,
        /// Whether their names were read from a header row; if not, they are numbers.
        head: bool,
    },
    /// No encoding has that name.
    #[error("no encoding `{0}`")]
    NoEncoding(String),
    /// Something of a strict corpus cannot be used.
    #[error("{0}")]
    LeftOut(Skipped),
    /// The file system refused.
    #[error("{path}: {source}")]
    Io {
        /// The file or folder.
        path: PathBuf,
        /// The error of the system.
        source: io::Error,
    },
    /// After reading everything there was no document with text in it.
    #[error("no text in the corpus: {files} {} read, {skipped} {} left out{}", if *.files == 1 { "file" } else { "files" }, if *.skipped == 1 { "place" } else { "places" }, first_of(.first.as_ref()))]
    NoText {
        /// Files looked at.
        files: u64,
        /// Files and rows left out.
        skipped: u64,
        /// The first of them.
        first: Option<Skipped>,
    },
    /// A split file is not what it should be.
    #[error("not a usable split: {0}")]
    BadSplit(String),
    /// Parts of a split that ask for more than there is.
    #[error("impossible split: {0}")]
    Amounts(String),
    /// A temporary file could not be written or read.
    #[error("a temporary file: {0}")]
    Scratch(#[source] io::Error),
    /// The observer asked to stop.
    #[error("stopped")]
    Stopped,
    /// No token was frequent enough to enter a vocabulary.
    #[error(
        "no {unit} occurs at least {minimum_count} times, so the vocabulary would have reserved tokens only"
    )]
    EmptyVocabulary {
        /// Unit of the counts: `word` or `character`.
        unit: &'static str,
        /// The least count asked for.
        minimum_count: u64,
    },
    /// A vocabulary file is not what it should be.
    #[error("not a usable vocabulary: {0}")]
    BadVocabulary(String),
    /// A token that cannot be one.
    #[error("{0}")]
    BadToken(String),
    /// A size that leaves no room for what must be in a vocabulary.
    #[error("a vocabulary of this unit has the 256 bytes, so its size is {least} or more")]
    TooFewTokens {
        /// The least size.
        least: usize,
    },
    /// Something has no written form.
    #[error("it cannot be written: {0}")]
    Unwritable(String),
    /// Two vocabularies that do not go together.
    #[error("the two vocabularies cannot be combined: {0}")]
    NotAlike(String),
    /// A token store is not what it should be.
    #[error("{path}: not a usable token store: {what}")]
    BadStore {
        /// The file.
        path: PathBuf,
        /// The problem.
        what: String,
    },
    /// A token store that was whole and is no longer.
    #[error("{path}: the token store can no longer be read ({why})")]
    StoreLost {
        /// The file.
        path: PathBuf,
        /// The error of the system.
        why: String,
    },
    /// A token store whose indices mean other tokens.
    #[error("{0}: the token store was made with another vocabulary")]
    OtherVocabulary(PathBuf),
    /// No document is held out to try vocabularies on.
    #[error("no held-out documents for measuring the vocabularies")]
    NothingHeldOut,
    /// An index is not in the vocabulary.
    #[error("index {index} is outside the vocabulary, whose last index is {last}")]
    IndexOutside {
        /// The index asked for.
        index: u32,
        /// The largest there is.
        last: u32,
    },
}

fn first_of(skipped: Option<&Skipped>) -> String {
    skipped.map(|skipped| format!(" ({skipped})")).unwrap_or_default()
}
