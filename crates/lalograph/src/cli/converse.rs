//! A conversation on the command line.

use std::path::PathBuf;

use clap::Args;

use super::decoding::DecodingArgs;

/// `converse`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph converse thornmere/runs/demo --temperature 0.7\n  lalograph converse thornmere/runs/demo --turns 4 --from 'Hesper walked to' --temperature 0.8 --save voices.jsonl\n  lalograph converse thornmere/runs/demo --with thornmere/runs/demo --turns 4 --with-temperature 1.2 --temperature 0.4 --names Ann,Ben"
)]
pub(crate) struct ConverseArgs {
    /// Model file or run. A model of prompts and answers answers every line; any other continues the text.
    #[arg(value_name = "MODEL")]
    pub(crate) model: PathBuf,
    /// Let two models talk: the second is MODEL (default: a person talks to the first).
    #[arg(long, value_name = "MODEL", requires = "turns", help_heading = "Two voices")]
    pub(crate) with: Option<PathBuf>,
    /// Number of turns that two voices take by themselves (default: a person talks).
    #[arg(long, value_name = "N", help_heading = "Two voices")]
    pub(crate) turns: Option<u64>,
    /// Sampling temperature of the second voice (default: that of the first).
    #[arg(
        long,
        value_name = "T",
        requires = "turns",
        allow_negative_numbers = true,
        help_heading = "Two voices"
    )]
    pub(crate) with_temperature: Option<f64>,
    /// Names of the two voices (default: first, second).
    #[arg(
        long,
        value_name = "NAME,NAME",
        value_delimiter = ',',
        requires = "turns",
        help_heading = "Two voices"
    )]
    pub(crate) names: Vec<String>,
    /// First line of the conversation (default: the first line of the person, or nothing).
    #[arg(long, value_name = "TEXT", default_value = "", hide_default_value = true)]
    pub(crate) from: String,
    /// Maximum number of tokens of a turn.
    #[arg(long, value_name = "N", default_value_t = 100)]
    pub(crate) tokens: usize,
    /// Random seed.
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub(crate) seed: u64,
    /// Decoding.
    #[command(flatten)]
    pub(crate) decoding: DecodingArgs,
    /// Keep the dialogue in FILE, as JSON Lines; it is written after every turn (default: none).
    #[arg(long, value_name = "FILE")]
    pub(crate) save: Option<PathBuf>,
    /// Take the person's lines from a file of --save, with the settings that they had (default: none).
    #[arg(long, value_name = "FILE", conflicts_with = "turns")]
    pub(crate) replay: Option<PathBuf>,
    /// Replace an existing file of --save.
    #[arg(long, requires = "save")]
    pub(crate) force: bool,
    /// Print JSON Lines: one line per turn.
    #[arg(long)]
    pub(crate) json: bool,
}
