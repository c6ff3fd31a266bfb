//! A service on the command line.

use std::net::SocketAddr;
use std::path::PathBuf;

use clap::{Args, ValueEnum};

/// Forms of the log.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum LogForm {
    /// Lines for people.
    #[default]
    Lines,
    /// A JSON object a line.
    Json,
    /// No log.
    None,
}

/// `serve`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph serve thornmere/runs/demo\n  lalograph serve thornmere/runs/demo thornmere/runs/outcome --runs thornmere/runs\n  lalograph serve bees=thornmere/runs/demo --listen 127.0.0.1:7500 --log json"
)]
pub(crate) struct ServeArgs {
    /// Model files, runs, or word vectors; each is served under its own name, or under NAME with NAME=PATH.
    #[arg(required = true, value_name = "MODEL")]
    pub(crate) models: Vec<String>,
    /// Show the runs of this folder as they train (default: none).
    #[arg(long, value_name = "DIR")]
    pub(crate) runs: Option<PathBuf>,
    /// Address and port to listen at; port 0 takes a free one.
    #[arg(long, value_name = "ADDRESS:PORT", default_value = "127.0.0.1:7463")]
    pub(crate) listen: SocketAddr,
    /// Threads that write text, for each language model (default: one for each processor).
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=256))]
    pub(crate) threads: Option<u16>,

    /// Let in only who sends a token of FILE, one a line (default: everybody on this machine).
    #[arg(long, value_name = "FILE", conflicts_with = "open", help_heading = "Access")]
    pub(crate) token_file: Option<PathBuf>,
    /// Let in everybody who reaches the address, also from other machines.
    #[arg(long, help_heading = "Access")]
    pub(crate) open: bool,
    /// Let pages of this origin ask from a browser, such as https://hives.example; can be repeated (default: the service's own page only).
    #[arg(long, value_name = "ORIGIN", help_heading = "Access")]
    pub(crate) allow_origin: Vec<String>,
    /// Serve over TLS with this certificate chain, a PEM file (default: plain HTTP).
    #[arg(long, value_name = "FILE", requires = "key", help_heading = "Access")]
    pub(crate) certificate: Option<PathBuf>,
    /// The private key of the certificate, a PEM file.
    #[arg(long, value_name = "FILE", requires = "certificate", help_heading = "Access")]
    pub(crate) key: Option<PathBuf>,

    /// Maximum number of tokens of a text.
    #[arg(long, value_name = "N", default_value_t = 1000, value_parser = at_least_one(), help_heading = "Bounds")]
    pub(crate) most_tokens: usize,
    /// Maximum length of a text in a request, in bytes.
    #[arg(long, value_name = "BYTES", default_value_t = 65_536, value_parser = at_least_one(), help_heading = "Bounds")]
    pub(crate) text_bytes: usize,
    /// Maximum length of the body of a request, in bytes.
    #[arg(long, value_name = "BYTES", default_value_t = 1_048_576, value_parser = at_least_one(), help_heading = "Bounds")]
    pub(crate) body_bytes: usize,
    /// Maximum time of a request, in seconds; a text that is not finished then ends there.
    #[arg(long, value_name = "SECONDS", default_value_t = 60, value_parser = clap::value_parser!(u64).range(1..), help_heading = "Bounds")]
    pub(crate) time: u64,
    /// Texts that each thread writes side by side.
    #[arg(long, value_name = "N", default_value_t = 32, value_parser = at_least_one(), help_heading = "Bounds")]
    pub(crate) side_by_side: usize,
    /// Texts and other work that may wait for their turn; beyond them requests are refused with 503.
    #[arg(long, value_name = "N", default_value_t = 256, help_heading = "Bounds")]
    pub(crate) queue: usize,
    /// Requests of one client that may be open at the same time; beyond them requests are refused with 429.
    #[arg(long, value_name = "N", default_value_t = 64, value_parser = at_least_one(), help_heading = "Bounds")]
    pub(crate) requests_per_client: usize,
    /// Connections that may be open at the same time.
    #[arg(long, value_name = "N", default_value_t = 4096, value_parser = at_least_one(), help_heading = "Bounds")]
    pub(crate) connections: usize,
    /// Time to wait for a silent or slow client, in seconds.
    #[arg(long, value_name = "SECONDS", default_value_t = 30, value_parser = clap::value_parser!(u64).range(1..), help_heading = "Bounds")]
    pub(crate) patience: u64,
    /// Conversations that are remembered at the same time.
    #[arg(long, value_name = "N", default_value_t = 500, value_parser = at_least_one(), help_heading = "Bounds")]
    pub(crate) conversations: usize,
    /// Time after which an idle conversation is forgotten, in minutes.
    #[arg(long, value_name = "MINUTES", default_value_t = 30, value_parser = clap::value_parser!(u64).range(1..), help_heading = "Bounds")]
    pub(crate) conversation_time: u64,
    /// Time that open requests have to finish when the service is stopped, in seconds.
    #[arg(long, value_name = "SECONDS", default_value_t = 20, help_heading = "Bounds")]
    pub(crate) grace: u64,

    /// Form of the log on standard error.
    #[arg(long, value_enum, value_name = "FORM", default_value_t, help_heading = "Log")]
    pub(crate) log: LogForm,
    /// Write the bodies of requests, which hold texts of users, into the log.
    #[arg(long, help_heading = "Log")]
    pub(crate) log_texts: bool,
}

fn at_least_one() -> impl clap::builder::TypedValueParser<Value = usize> {
    use clap::builder::TypedValueParser;
    clap::value_parser!(u64).range(1..=1 << 40).map(|count| count as usize)
}
