//! Why a service cannot start.

use std::net::SocketAddr;
use std::path::PathBuf;

use thiserror::Error;

/// Why a service cannot start.
#[derive(Debug, Error)]
pub enum ServeError {
    /// The address cannot be listened at.
    #[error("cannot listen at {address}: {source}")]
    Listen {
        /// The address.
        address: SocketAddr,
        /// The system's reason.
        source: std::io::Error,
    },
    /// A certificate or key is unusable.
    #[error("{}: {what}", path.display())]
    Certificate {
        /// The file.
        path: PathBuf,
        /// What is wrong.
        what: String,
    },
    /// The system gives no threads.
    #[error("cannot start threads: {0}")]
    Threads(std::io::Error),
}
