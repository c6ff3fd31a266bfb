//! Settings of a service.

use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;

/// Settings of a service.
#[derive(Debug, Clone)]
pub struct Settings {
    /// Address and port; port 0 takes a free one.
    pub listen: SocketAddr,
    /// Who may ask.
    pub access: Access,
    /// Certificate chain and private key, as PEM files; none for plain HTTP.
    pub tls: Option<(PathBuf, PathBuf)>,
    /// Origins whose pages may ask from a browser, besides the service's own.
    pub origins: Vec<String>,
    /// Folder of the runs to show.
    pub runs: Option<PathBuf>,
    /// Threads that write text, for each language model.
    pub threads: usize,
    /// Bounds.
    pub limits: Limits,
    /// Whether logs may hold texts of users.
    pub log_texts: bool,
}

/// Who may ask.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Access {
    /// Everybody who reaches the address.
    Open,
    /// Who knows one of these tokens.
    Tokens(Vec<String>),
}

/// Bounds of what is accepted and of what is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limits {
    /// Bytes of the body of a request.
    pub body_bytes: usize,
    /// Bytes of a text in it.
    pub text_bytes: usize,
    /// Tokens of a written text.
    pub tokens: usize,
    /// Texts of one request.
    pub texts: usize,
    /// Time of a request.
    pub time: Duration,
    /// Texts that each thread writes side by side.
    pub side_by_side: usize,
    /// Texts, and other work, that wait for their turn.
    pub queue: usize,
    /// Requests of one address that are answered at the same time.
    pub requests_per_client: usize,
    /// Open connections.
    pub connections: usize,
    /// Time for the head of a request, for its body, and for a client to take some of an answer.
    pub patience: Duration,
    /// Conversations.
    pub conversations: usize,
    /// Time after which an idle conversation is forgotten.
    pub conversation_time: Duration,
    /// Time that requests have to finish when the service is stopped.
    pub grace: Duration,
}

impl Default for Limits {
    fn default() -> Self {
        Self {
            body_bytes: 1 << 20,
            text_bytes: 1 << 16,
            tokens: 1000,
            texts: 16,
            time: Duration::from_secs(60),
            side_by_side: 32,
            queue: 256,
            requests_per_client: 64,
            connections: 4096,
            patience: Duration::from_secs(30),
            conversations: 500,
            conversation_time: Duration::from_secs(30 * 60),
            grace: Duration::from_secs(20),
        }
    }
}
