//! Why an archive of a run is not taken in.

use thiserror::Error;

/// How much larger than the archive its files may be.
pub(super) const MOST_RATIO: u64 = 500;

/// Why an archive was not taken in.
#[derive(Debug, Error, PartialEq, Eq)]
pub enum ArchiveError {
    /// It is something else.
    #[error("it is no archive of a run: {0}")]
    NotAnArchive(String),
    /// An entry would be written elsewhere.
    #[error("the entry `{0}` has a path that leads out of the run")]
    ClimbsOut(String),
    /// An entry that is no file.
    #[error("the entry `{0}` is not a plain file")]
    NotAFile(String),
    /// An entry that is not in the list, or comes twice, or has another size.
    #[error("the entry `{0}` is not what its list of contents says")]
    NotListed(String),
    /// An entry with another content.
    #[error("the entry `{0}` does not match its hash: it was changed after the archive was made")]
    Changed(String),
    /// A file that is not there.
    #[error("it is cut short: the entry `{0}` is missing")]
    Missing(String),
    /// Much more than the archive's size.
    #[error("its files would have {bytes} bytes, more than {MOST_RATIO} times the size of the archive")]
    TooLarge {
        /// Bytes of all files.
        bytes: u64,
    },
}
