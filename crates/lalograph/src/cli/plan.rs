//! Plans before they are carried out: what they cost, and how fast this machine is at them.

use std::path::PathBuf;
use std::time::Duration;

use clap::{Args, Subcommand};
use lalograph_lab::design::by_time::Aim;
use lalograph_lab::plan::template::Preset;

use crate::output::number::{Bandwidth, Latency, parse_bandwidth, parse_latency};

use super::choice::{choice, time};
use super::corpus::{ReadingArgs, SharesArgs, TokenArgs};
use super::model::{ModelArgs, StepArgs};

/// The commands of `plan`.
#[derive(Debug, Subcommand)]
pub(crate) enum PlanCommand {
    /// Write a commented plan file for a purpose.
    New(PlanNewArgs),
    /// Find all errors in a plan file, with line, column and suggestion.
    Check(PlanCheckArgs),
    /// Compute what a plan costs: parameters, memory, operations, time on this machine.
    Cost(PlanCostArgs),
}

/// `plan new`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lalograph plan new thornmere/diaries > words.toml
  lalograph plan new thornmere/diaries --for character --output characters.toml
  lalograph plan new --for large-vocabulary --all
  lalograph plan new thornmere/diaries --document line --time 2min --output two-minutes.toml")]
pub(crate) struct PlanNewArgs {
    /// Files, folders or patterns of the corpus.
    #[arg(value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Purpose of the plan.
    #[arg(long = "for", value_parser = choice::<Preset>(), value_name = "PURPOSE", default_value = "word", conflicts_with = "time")]
    pub(crate) preset: Preset,
    /// Make a plan whose training takes this long on this machine, such as 30min, 2h or 1h 30min: the corpus is read, networks are timed, and what
    /// measurements on real text found best for its size is chosen (default: no time).
    #[arg(long, value_name = "TIME", value_parser = time)]
    pub(crate) time: Option<Duration>,
    /// Aim of a plan for a time.
    #[arg(long, value_parser = choice::<Aim>(), value_name = "AIM", default_value = "quality", requires = "time")]
    pub(crate) aim: Aim,
    /// Number of threads that will train (default: all processors).
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..), requires = "time")]
    pub(crate) threads: Option<u16>,
    /// Set any value of the plan; can be repeated.
    #[arg(long = "set", value_name = "SECTION.KEY=VALUE")]
    pub(crate) settings: Vec<String>,
    /// Options of reading files.
    #[command(flatten)]
    pub(crate) reading: ReadingArgs,
    /// Held-out parts.
    #[command(flatten)]
    pub(crate) shares: SharesArgs,
    /// Options of cleaning and tokenising.
    #[command(flatten)]
    pub(crate) tokens: TokenArgs,
    /// Write every setting (default: the most important settings only).
    #[arg(long)]
    pub(crate) all: bool,
    /// Write to FILE (default: standard output).
    #[arg(long, short, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    /// Replace an existing file.
    #[arg(long, requires = "output")]
    pub(crate) force: bool,
}

/// `plan check`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lalograph plan check thornmere/runs/demo/plan.toml
  lalograph plan new thornmere/diaries | lalograph plan check -
  lalograph plan check thornmere/runs/demo/plan.toml --set model.hiden=3 --json")]
pub(crate) struct PlanCheckArgs {
    /// Plan file, or - for standard input.
    pub(crate) plan: PathBuf,
    /// Set any value of the plan; can be repeated.
    #[arg(long = "set", value_name = "SECTION.KEY=VALUE")]
    pub(crate) settings: Vec<String>,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

/// A plan from a file, flags, or both.
#[derive(Debug, Args)]
pub(crate) struct PlanArgs {
    /// Plan file or run; flags override its settings (default: default settings).
    #[arg(long, value_name = "FILE")]
    pub(crate) plan: Option<PathBuf>,
    /// Set any value of the plan; can be repeated.
    #[arg(long = "set", value_name = "SECTION.KEY=VALUE")]
    pub(crate) settings: Vec<String>,
    /// Number of token indices, reserved tokens included (default: those of the run or of the vocabulary file, or the plan's vocabulary size).
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(5..=1 << 24))]
    pub(crate) indices: Option<u32>,
    /// Number of threads (default: all processors).
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) threads: Option<u16>,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
    /// The network.
    #[command(flatten)]
    pub(crate) model: ModelArgs,
    /// The size of a step.
    #[command(flatten)]
    pub(crate) step: StepArgs,
}

/// `plan cost`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph plan cost --cell lstm --layers 2 --hidden 512 --indices 10000\n  lalograph plan cost thornmere/diaries --document line --unit character\n  lalograph plan cost --plan thornmere/runs/demo --training-tokens 1000000\n  lalograph plan cost --plan thornmere/runs/demo --set model.hidden=512 --no-measure --json\n  lalograph plan cost thornmere/diaries --document line --set training.lanes=8 --processes 8"
)]
pub(crate) struct PlanCostArgs {
    /// Files, folders or patterns of the corpus (default: the paths of the plan). The corpus is read and its vocabulary is built, for the time of the
    /// whole run.
    #[arg(value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Options of reading files.
    #[command(flatten)]
    pub(crate) reading: ReadingArgs,
    /// Options of tokenising.
    #[command(flatten)]
    pub(crate) tokens_of: TokenArgs,
    /// Held-out parts.
    #[command(flatten)]
    pub(crate) shares: SharesArgs,
    /// Number of epochs (default: from the size of the training text).
    #[arg(long, value_name = "N")]
    pub(crate) epochs: Option<u64>,
    /// The plan.
    #[command(flatten)]
    pub(crate) plan: PlanArgs,
    /// Tokens of training text to compute the time of an epoch for, without a corpus (default: 1,000,000).
    #[arg(long, value_name = "N")]
    pub(crate) training_tokens: Option<u64>,
    /// Do not measure this machine; report no times.
    #[arg(long)]
    pub(crate) no_measure: bool,
    /// Predict the step of as many processes as this, on as many machines like this one, from parts that are measured here
    /// (default: no prediction).
    #[arg(long, value_name = "N", conflicts_with = "no_measure", value_parser = clap::value_parser!(u16).range(2..))]
    pub(crate) processes: Option<u16>,
    /// Speed of the network between the machines, in bits a second: 800Mb, 10Gb.
    #[arg(long, value_name = "RATE", requires = "processes", default_value = "10Gb", value_parser = parse_bandwidth)]
    pub(crate) bandwidth: Bandwidth,
    /// Time until the first byte of a message arrives: 2us, 0.1ms.
    #[arg(long, value_name = "TIME", requires = "processes", default_value = "50us", value_parser = parse_latency)]
    pub(crate) latency: Latency,
}

/// `gauge`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph gauge\n  lalograph gauge --plan thornmere/runs/demo\n  lalograph gauge --plan runs/outcome --rounds 2\n  lalograph gauge --cell gru --layers 2 --hidden 256 --indices 10000 --batch 32 --window 48\n  lalograph gauge --scale --seconds 0.5 --pictures scale"
)]
pub(crate) struct GaugeArgs {
    /// The plan.
    #[command(flatten)]
    pub(crate) plan: PlanArgs,
    /// Number of rounds; each figure is measured in every round.
    #[arg(long, value_name = "N", default_value_t = 5, value_parser = clap::value_parser!(u16).range(1..=1000))]
    pub(crate) rounds: u16,
    /// Length of a round.
    #[arg(long, value_name = "SECONDS", default_value_t = 2.0)]
    pub(crate) seconds: f64,
    /// Measure a range of widths, batch sizes and vocabulary sizes around the plan instead of the plan only.
    #[arg(long)]
    pub(crate) scale: bool,
    /// Write the chart of --scale to DIR, as scale.svg and scale.png.
    #[arg(long, value_name = "DIR", requires = "scale")]
    pub(crate) pictures: Option<PathBuf>,
    /// Replace existing charts.
    #[arg(long, requires = "pictures")]
    pub(crate) force: bool,
}
