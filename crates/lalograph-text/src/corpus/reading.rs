//! Results of reading: documents, and everything that was left out, by name.

use std::path::PathBuf;

use thiserror::Error;

/// Why a file or a row was left out.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum Reason {
    /// Not a text file.
    #[error("not text (it has NUL bytes)")]
    Binary,
    /// Bytes that are invalid in the file's encoding.
    #[error("bytes that are not {0}")]
    Undecodable(&'static str),
    /// Nothing but white space.
    #[error("no text")]
    Blank,
    /// No label although labels were asked for.
    #[error("no label")]
    NoLabel,
    /// A row of a table with more or fewer fields than its head.
    #[error("a row of {found} {}, and the header row has {expected}", if *.found == 1 { "field" } else { "fields" })]
    Ragged {
        /// Fields of the row.
        found: usize,
        /// Fields of the head.
        expected: usize,
    },
    /// The first row of a table, taken as its header row though it resembles the other rows.
    #[error("a header row of numbers only")]
    NumbersAsHead,
    /// A line that is not JSON.
    #[error("not JSON: {0}")]
    BadJson(String),
    /// A record without a field that was asked for.
    #[error("no field `{0}`")]
    NoField(String),
    /// A row without a value in the column of the group, of its order, of the prompt or of the answer.
    #[error("no value in `{0}`")]
    NoValue(String),
    /// A group of rows with different labels.
    #[error("another label than the first row of its group; the whole group is left out")]
    GroupLabels,
    /// A document longer than the limit, in bytes.
    #[error("a document of more than {0} bytes")]
    TooLong(u64),
    /// Compressed data that grow beyond all measure.
    #[error("decompresses to more than {0} times its size")]
    Expands(u64),
    /// The system, or what unpacks it, would not let it be read; its words.
    #[error("{0}")]
    Unreadable(String),
}

impl Reason {
    /// The column without a value, if that is the reason.
    pub fn without_value(&self) -> Option<&str> {
        match self {
            Self::NoValue(column) => Some(column),
            _ => None,
        }
    }
}

/// Something that was left out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Skipped {
    /// The file.
    pub path: PathBuf,
    /// The line, from 1; `None` for the whole file.
    pub line: Option<u64>,
    /// Why.
    pub reason: Reason,
}

impl std::fmt::Display for Skipped {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}", self.path.display())?;
        if let Some(line) = self.line {
            write!(f, ", line {line}")?;
        }
        write!(f, ": {}", self.reason)
    }
}

/// An encoding that was guessed from a file's bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Guess {
    /// The file.
    pub path: PathBuf,
    /// The encoding's name.
    pub encoding: &'static str,
}

/// The most places that are remembered one by one; an observer sees all of them.
const KEPT: usize = 1000;

/// Result of reading a corpus.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Reading {
    /// Files looked at.
    pub files: u64,
    /// Documents read.
    pub documents: u64,
    /// Bytes of their text in UTF-8; the line ends that close them are counted, and one for the end of a table's row.
    pub bytes: u64,
    /// Files and rows left out, all of them counted.
    pub skipped_count: u64,
    /// The first of them by name.
    pub skipped: Vec<Skipped>,
    /// Files whose encoding was guessed, all of them counted.
    pub guessed_count: u64,
    /// The first of them by name.
    pub guessed: Vec<Guess>,
}

impl Reading {
    pub(super) fn skip(&mut self, skipped: Skipped) {
        self.skipped_count += 1;
        if self.skipped.len() < KEPT {
            self.skipped.push(skipped);
        }
    }

    pub(super) fn guess(&mut self, guess: Guess) {
        self.guessed_count += 1;
        if self.guessed.len() < KEPT {
            self.guessed.push(guess);
        }
    }
}

/// Observer of the progress of reading.
pub trait ReadObserver {
    /// Bytes of the files read so far, as they lie on disk. Returning `false` stops the work.
    fn progress(&mut self, bytes: u64) -> bool;

    /// Called for every place that is left out, in order.
    fn left_out(&mut self, skipped: &Skipped) {
        let _ = skipped;
    }
}

impl<F: FnMut(u64) -> bool> ReadObserver for F {
    fn progress(&mut self, bytes: u64) -> bool {
        self(bytes)
    }
}
