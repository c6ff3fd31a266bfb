//! Plans before they are carried out: what they cost, and how fast this machine is at them.

use std::path::PathBuf;

use clap::{Args, Subcommand};
use lalograph_lab::plan::template::Preset;

use super::choice::choice;
use super::corpus::{ReadingArgs, TokenArgs};
use super::model::{ModelArgs, StepArgs};

/// The commands of `plan`.
#[derive(Debug, Subcommand)]
pub(crate) enum PlanCommand {
    /// Write a plan to begin with: every setting that matters for a purpose, explained.
    New(PlanNewArgs),
    /// Find everything that is wrong in a plan, with its place and the name that was meant.
    Check(PlanCheckArgs),
    /// Say what a plan costs: parameters, memory, operations, time on this machine.
    Cost(PlanCostArgs),
}

/// `plan new`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lalograph plan new thornmere/diaries > words.toml
  lalograph plan new thornmere/diaries --for character --output characters.toml
  lalograph plan new --for large-vocabulary --all")]
pub(crate) struct PlanNewArgs {
    /// The corpus: files, folders, patterns.
    #[arg(value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// What it is for.
    #[arg(long = "for", value_parser = choice::<Preset>(), value_name = "PURPOSE", default_value = "word")]
    pub(crate) preset: Preset,
    /// Write out every setting there is, and not only those that matter most.
    #[arg(long)]
    pub(crate) all: bool,
    /// Write to this file instead of standard output.
    #[arg(long, short, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    /// Replace the file if it is there.
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
    /// The plan file, or - for standard input.
    pub(crate) plan: PathBuf,
    /// Set any value of the plan; may be given again and again.
    #[arg(long = "set", value_name = "SECTION.KEY=VALUE")]
    pub(crate) settings: Vec<String>,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

/// A plan from a file, flags, or both.
#[derive(Debug, Args)]
pub(crate) struct PlanArgs {
    /// A plan file, or the folder of a run; flags win over it. Without one, the usual settings.
    #[arg(long, value_name = "FILE")]
    pub(crate) plan: Option<PathBuf>,
    /// Set any value of the plan; may be given again and again.
    #[arg(long = "set", value_name = "SECTION.KEY=VALUE")]
    pub(crate) settings: Vec<String>,
    /// Token indices, reserved ones included; without it those of the run, of the plan's vocabulary file, or of its size.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(5..=1 << 24))]
    pub(crate) indices: Option<u32>,
    /// Threads; without it all processors.
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
    after_help = "Examples:\n  lalograph plan cost --cell lstm --layers 2 --hidden 512 --indices 10000\n  lalograph plan cost thornmere/diaries --document line --unit character\n  lalograph plan cost --plan thornmere/runs/demo --tokens 1000000\n  lalograph plan cost --plan thornmere/runs/demo --set model.hidden=512 --no-measure --json"
)]
pub(crate) struct PlanCostArgs {
    /// The corpus: files, folders, patterns; else that of the plan. It is read, and its vocabulary is built, so that the time of the whole run can be
    /// said.
    #[arg(value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// How it is read.
    #[command(flatten)]
    pub(crate) reading: ReadingArgs,
    /// How it is cut.
    #[command(flatten)]
    pub(crate) tokens_of: TokenArgs,
    /// Passes over the training text.
    #[arg(long, value_name = "N")]
    pub(crate) epochs: Option<u64>,
    /// The plan.
    #[command(flatten)]
    pub(crate) plan: PlanArgs,
    /// Tokens of training text, to say how long a pass over them takes where there is no text (default: a million).
    #[arg(long, value_name = "N")]
    pub(crate) tokens: Option<u64>,
    /// Do not measure this machine: no times are given.
    #[arg(long)]
    pub(crate) no_measure: bool,
}

/// `gauge`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph gauge\n  lalograph gauge --plan thornmere/runs/demo\n  lalograph gauge --cell gru --layers 2 --hidden 256 --indices 10000 --batch 32 --window 35\n  lalograph gauge --scale --seconds 0.5 --pictures scale"
)]
pub(crate) struct GaugeArgs {
    /// The plan.
    #[command(flatten)]
    pub(crate) plan: PlanArgs,
    /// Rounds to measure; each figure is taken in every one.
    #[arg(long, value_name = "N", default_value_t = 5, value_parser = clap::value_parser!(u16).range(1..=1000))]
    pub(crate) rounds: u16,
    /// Seconds of a round.
    #[arg(long, value_name = "SECONDS", default_value_t = 2.0)]
    pub(crate) seconds: f64,
    /// Measure a range of widths, batches and vocabularies around the plan instead of the plan alone.
    #[arg(long)]
    pub(crate) scale: bool,
    /// Write the chart of --scale here as scale.svg and scale.png.
    #[arg(long, value_name = "DIR", requires = "scale")]
    pub(crate) pictures: Option<PathBuf>,
    /// Replace pictures that are there.
    #[arg(long, requires = "pictures")]
    pub(crate) force: bool,
}
