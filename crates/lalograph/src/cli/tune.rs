//! Continuing from a trained model.

use std::path::PathBuf;

use clap::{Args, Subcommand};
use lalograph_lab::plan::{LossOn, NewVectors};
use regex::Regex;

use super::choice::choice;
use super::corpus::{PairArgs, PartArgs, ReadingArgs, SharesArgs};
use super::decoding::{BeamArgs, DecodingArgs};
use super::model::{RunArgs, SamplesArgs, TrainingArgs};

/// `tune`.
#[derive(Debug, Args)]
#[command(
    args_conflicts_with_subcommands = true,
    subcommand_negates_reqs = true,
    after_help = "Examples:\n  lalograph tune thornmere/runs/demo thornmere/diaries.csv --steps 100 --name later\n  lalograph tune thornmere/runs/demo thornmere/diaries.jsonl --new-tokens 50 --freeze layers --steps 100\n  lalograph tune thornmere/runs/demo thornmere/diaries.csv --prompt keeper --answer text --steps 100 --name keepers"
)]
pub(crate) struct TuneArgs {
    /// Compare a base and tuned models.
    #[command(subcommand)]
    pub(crate) command: Option<TuneCommand>,
    /// The base: a model file or a run.
    #[arg(value_name = "MODEL", required = true)]
    pub(crate) model: Option<PathBuf>,
    /// Files, folders or patterns such as 'letters/*.txt' of the new text.
    #[arg(value_name = "PATH", required = true)]
    pub(crate) paths: Vec<PathBuf>,
    /// The run.
    #[command(flatten)]
    pub(crate) run: RunArgs,

    /// Options of reading files.
    #[command(flatten)]
    pub(crate) reading: ReadingArgs,
    /// Prompts and answers.
    #[command(flatten)]
    pub(crate) pair: PairArgs,
    /// Held-out parts.
    #[command(flatten)]
    pub(crate) shares: SharesArgs,

    /// Add the N most frequent words (or characters) of the training text that the vocabulary does not have.
    #[arg(long, value_name = "N", help_heading = "Tuning")]
    pub(crate) new_tokens: Option<usize>,
    /// Initial vectors of new tokens.
    #[arg(long, value_parser = choice::<NewVectors>(), value_name = "HOW", help_heading = "Tuning")]
    pub(crate) new_vectors: Option<NewVectors>,
    /// Keep these weights as they are: embedding, layers, layer-1 (and so on), output (default: none).
    #[arg(long, value_name = "PART,PART,...", value_delimiter = ',', help_heading = "Tuning")]
    pub(crate) freeze: Vec<String>,
    /// Tokens of a prompt and its answer that count in the loss.
    #[arg(long, value_parser = choice::<LossOn>(), value_name = "WHICH", help_heading = "Tuning")]
    pub(crate) loss_on: Option<LossOn>,
    /// Keep the last N tokens of longer prompts (default: whole prompts).
    #[arg(long, value_name = "N", help_heading = "Tuning")]
    pub(crate) longest_prompt: Option<usize>,
    /// Keep the first N tokens of longer answers (default: whole answers).
    #[arg(long, value_name = "N", help_heading = "Tuning")]
    pub(crate) longest_answer: Option<usize>,
    /// Share of the streams that read the training text of the base, against forgetting.
    #[arg(long, value_name = "SHARE", help_heading = "Tuning")]
    pub(crate) keep_old: Option<f64>,
    /// Text of the base, read as its corpus was; its validation part shows what is forgotten (default: the corpus of the base's run). Can be
    /// repeated.
    #[arg(long, value_name = "PATH", help_heading = "Tuning")]
    pub(crate) old_text: Vec<PathBuf>,

    /// Refused with the reason: a model keeps its unit.
    #[arg(long, value_name = "UNIT", hide = true)]
    pub(crate) unit: Option<String>,
    /// Refused with the reason: a model keeps its cleaning.
    #[arg(long, value_name = "STEPS", hide = true)]
    pub(crate) cleaning: Option<String>,

    /// Training.
    #[command(flatten)]
    pub(crate) training: TrainingArgs,
    /// Samples.
    #[command(flatten)]
    pub(crate) samples: SamplesArgs,
}

/// `tune`, its commands.
#[derive(Debug, Subcommand)]
pub(crate) enum TuneCommand {
    /// Show prompts, wanted answers and the answers of a base and tuned models side by side, with figures.
    Compare(Box<TuneCompareArgs>),
}

/// `tune compare`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph tune compare thornmere/runs/demo --pairs thornmere/diaries.csv --prompt keeper --answer text --first 20\n  lalograph tune compare thornmere/runs/demo --pairs thornmere/diaries.jsonl --prompt hive --answer text --first 20 --temperature 0.7 --match 'queen'"
)]
pub(crate) struct TuneCompareArgs {
    /// The base, then tuned models: model files or runs.
    #[arg(value_name = "MODEL", required = true)]
    pub(crate) models: Vec<PathBuf>,
    /// Files of prompts and wanted answers: CSV, TSV or JSON Lines. Can be repeated.
    #[arg(long, value_name = "FILE", required = true)]
    pub(crate) pairs: Vec<PathBuf>,
    /// Column or field path of the prompts.
    #[arg(long, value_name = "COLUMN", default_value = "prompt")]
    pub(crate) prompt: String,
    /// Column or field path of the wanted answers.
    #[arg(long, value_name = "COLUMN", default_value = "answer")]
    pub(crate) answer: String,
    /// Read the first N pairs only (default: all).
    #[arg(long, value_name = "N")]
    pub(crate) first: Option<u64>,
    /// Which pairs.
    #[command(flatten)]
    pub(crate) part: PartArgs,
    /// Count answers that match this regular expression, such as refusals; a prompt whose wanted answer matches is off topic (default: none).
    #[arg(long = "match", value_name = "PATTERN")]
    pub(crate) pattern: Option<Regex>,
    /// Maximum number of tokens of an answer.
    #[arg(long, value_name = "N", default_value_t = 100)]
    pub(crate) tokens: usize,
    /// Random seed of answers that are drawn.
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub(crate) seed: u64,
    /// Decoding.
    #[command(flatten)]
    pub(crate) decoding: DecodingArgs,
    /// Beam search.
    #[command(flatten)]
    pub(crate) beam: BeamArgs,
    /// Show N pairs with all answers.
    #[arg(long, value_name = "N", default_value_t = 5)]
    pub(crate) examples: usize,
    /// Report how much of the answers is copied from the training text of each model.
    #[arg(long)]
    pub(crate) copying: bool,
    /// Minimum length of a copied sequence, in tokens (default: 10).
    #[arg(long, value_name = "N", requires = "copying", value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) copied_run: Option<u16>,
    /// Number of threads (default: all processors). Results do not depend on it.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) threads: Option<u16>,
    /// Write a page with all pairs to FILE (default: none).
    #[arg(long, value_name = "FILE")]
    pub(crate) page: Option<PathBuf>,
    /// Replace existing files.
    #[arg(long)]
    pub(crate) force: bool,
    /// Print JSON Lines: one line per pair, then the figures.
    #[arg(long)]
    pub(crate) json: bool,
}
