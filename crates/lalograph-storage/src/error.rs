//! Errors of writing files.

use std::io;
use std::path::{Path, PathBuf};

use thiserror::Error;

/// Why something was not written.
#[derive(Debug, Error)]
pub enum StorageError {
    /// Something is in the place, and was to stay.
    #[error("{0} exists already")]
    Exists(PathBuf),
    /// A pipe or device is in the place of a file.
    #[error("{0} is a device or a pipe, not a file, so it was not replaced")]
    NotAFile(PathBuf),
    /// Another process writes there.
    #[error("{0} is being written by another process")]
    Busy(PathBuf),
    /// The file system refused.
    #[error("{path}: {source}")]
    Io {
        /// The file or folder.
        path: PathBuf,
        /// The error of the system.
        source: io::Error,
    },
}

impl StorageError {
    /// An error of the system, with its path.
    pub fn at(path: &Path) -> impl FnOnce(io::Error) -> Self + '_ {
        move |source| Self::Io { path: path.to_owned(), source }
    }

    /// The error as the system has them.
    pub fn into_io(self) -> io::Error {
        match self {
            Self::Io { source, .. } => source,
            other => io::Error::other(other),
        }
    }
}
