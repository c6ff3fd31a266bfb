//! Errors of word vectors.

use lalograph_text::TextError;
use thiserror::Error;

/// Why something about word vectors failed.
#[derive(Debug, Error)]
pub enum VectorError {
    /// The text or the vocabulary.
    #[error(transparent)]
    Text(#[from] TextError),
    /// A setting outside its range.
    #[error("{setting} is {value} and must be {must}")]
    Setting {
        /// Name of the setting.
        setting: &'static str,
        /// Its value.
        value: String,
        /// The allowed values.
        must: &'static str,
    },
    /// Nothing to learn from.
    #[error("no document has two known words, so there is nothing to train on")]
    TooLittle,
    /// The numbers grew beyond all bounds.
    #[error("the vectors are no longer finite numbers; lower the learning rate")]
    NotFinite,
    /// A word without a vector.
    #[error("no vector for `{word}`")]
    Unknown {
        /// The word.
        word: String,
        /// Words that have one and are spelt nearly so.
        near: Vec<String>,
    },
    /// A text none of whose words has a vector.
    #[error("no word of `{0}` has a vector")]
    NothingKnown(String),
    /// Vectors that cannot be read.
    #[error("line {line}: {what}")]
    Line {
        /// The line, from 1.
        line: u64,
        /// The problem.
        what: String,
    },
    /// A file of vectors with none that is wanted.
    #[error("the file has no vector for any of the {0} words of the vocabulary")]
    NoneFound(usize),
    /// A table of vectors that does not fit.
    #[error("the vectors have {found} dimensions, and {wanted} are needed")]
    Dimensions {
        /// Their number of dimensions.
        found: usize,
        /// The number that is needed.
        wanted: usize,
    },
    /// The file system refused.
    #[error(transparent)]
    Io(#[from] std::io::Error),
}
