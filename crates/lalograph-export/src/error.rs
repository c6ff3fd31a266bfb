//! Why something could not be exported.

use std::io;

use lalograph_lab::LabError;
use thiserror::Error;

/// Why something could not be exported.
#[derive(Debug, Error)]
pub enum ExportError {
    /// The model file.
    #[error(transparent)]
    Model(#[from] LabError),
    /// A part of the model file.
    #[error("the model file: {0}")]
    Part(String),
    /// A number could not be read or written.
    #[error("{0}")]
    Write(io::Error),
    /// More bytes than the exchange standard's files can hold.
    #[error(
        "the exported file would have {bytes} bytes, and a file of the standard has less than 2,147,483,647"
    )]
    TooLarge {
        /// Bytes.
        bytes: u64,
    },
    /// A graph that such a model does not have.
    #[error("a {kind} has no graph `{asked}`")]
    NoSuchGraph {
        /// The kind of the model.
        kind: &'static str,
        /// The graph.
        asked: &'static str,
    },
    /// Operators of a version that is not written.
    #[error("operators of version {0} are not written; versions 17 to 22 are")]
    Opset(u32),
}
