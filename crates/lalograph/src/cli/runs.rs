//! Runs: going on with them, looking at them, putting them side by side.

use std::path::PathBuf;
use std::time::Duration;

use clap::{Args, Subcommand};

use super::choice::minutes;

/// Where runs are kept.
#[derive(Debug, Args)]
pub(crate) struct RunsFolder {
    /// The folder that runs are kept in.
    #[arg(long, value_name = "DIR", default_value = "runs")]
    pub(crate) runs: PathBuf,
}

/// One run.
#[derive(Debug, Args)]
pub(crate) struct OneRun {
    /// The run: its name, or its folder.
    pub(crate) run: PathBuf,
    /// Where it is kept.
    #[command(flatten)]
    pub(crate) folder: RunsFolder,
}

/// `resume`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph resume thornmere/runs/demo --epochs 40\n  lalograph resume demo --runs thornmere/runs --steps 4000 --learning-rate 0.002\n  lalograph resume thornmere/runs/demo --anew"
)]
pub(crate) struct ResumeArgs {
    /// The run.
    #[command(flatten)]
    pub(crate) place: OneRun,
    /// Passes over the training text, counted from the run's beginning.
    #[arg(long, value_name = "N", conflicts_with = "steps", value_parser = clap::value_parser!(u64).range(1..))]
    pub(crate) epochs: Option<u64>,
    /// Optimiser steps, counted from the run's beginning.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    pub(crate) steps: Option<u64>,
    /// Highest learning rate from here on.
    #[arg(long, value_name = "RATE")]
    pub(crate) learning_rate: Option<f64>,
    /// Stop after N validations without a gain; 0 for never.
    #[arg(long, value_name = "N")]
    pub(crate) patience: Option<u64>,
    /// What samples go on from, from here on; may be given again and again.
    #[arg(long, value_name = "TEXT")]
    pub(crate) seed_text: Vec<String>,
    /// Begin from the first step instead of the last checkpoint.
    #[arg(long)]
    pub(crate) anew: bool,
    /// Stop after N minutes of this command; the next `resume` goes on exactly where training stopped.
    #[arg(long, value_name = "N", value_parser = minutes)]
    pub(crate) minutes: Option<Duration>,
    /// Threads; without it all processors. Results do not depend on it.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) threads: Option<u16>,
    /// Print JSON Lines as `train --json` does.
    #[arg(long)]
    pub(crate) json: bool,
}

/// The commands of `runs`.
#[derive(Debug, Subcommand)]
pub(crate) enum RunsCommand {
    /// List runs: how they stand, how far they came, how good they are.
    List(ListArgs),
    /// Show one run: its settings, its text, its curve, its samples, what its figures say.
    Show(ShowArgs),
    /// Remove runs with all that is in their folders.
    Remove(RemoveArgs),
    /// Put runs side by side: settings that differ, figures, curves, samples.
    Compare(CompareArgs),
    /// Write the report of a run: a page with its curves, samples and settings, and the pictures beside it.
    Report(ReportArgs),
}

/// `runs list`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph runs list --runs thornmere/runs\n  lalograph runs list --runs thornmere/runs --json"
)]
pub(crate) struct ListArgs {
    /// Where they are kept.
    #[command(flatten)]
    pub(crate) place: RunsFolder,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

/// `runs show`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph runs show thornmere/runs/demo\n  lalograph runs show demo --runs thornmere/runs --json"
)]
pub(crate) struct ShowArgs {
    /// The run.
    #[command(flatten)]
    pub(crate) place: OneRun,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

/// `runs remove`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph runs remove first second\n  lalograph runs remove --tokens --runs thornmere/runs"
)]
pub(crate) struct RemoveArgs {
    /// The runs: their names, or their folders.
    #[arg(value_name = "RUN", required_unless_present = "tokens")]
    pub(crate) names: Vec<PathBuf>,
    /// Where they are kept.
    #[command(flatten)]
    pub(crate) place: RunsFolder,
    /// Remove the encoded corpora that are kept beside the runs; they are made again when they are needed.
    #[arg(long)]
    pub(crate) tokens: bool,
}

/// `runs compare`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph runs compare thornmere/runs/demo runs/second\n  lalograph runs compare first second third --output comparison"
)]
pub(crate) struct CompareArgs {
    /// The runs: their names, or their folders.
    #[arg(value_name = "RUN", required = true, num_args = 2..)]
    pub(crate) names: Vec<PathBuf>,
    /// Where they are kept.
    #[command(flatten)]
    pub(crate) place: RunsFolder,
    /// Write a page and its pictures into this folder.
    #[arg(long, value_name = "DIR")]
    pub(crate) output: Option<PathBuf>,
    /// Replace an older page there.
    #[arg(long, requires = "output")]
    pub(crate) force: bool,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

/// `runs report`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph runs report thornmere/runs/demo\n  lalograph runs report thornmere/runs/demo --output report --force"
)]
pub(crate) struct ReportArgs {
    /// The run.
    #[command(flatten)]
    pub(crate) place: OneRun,
    /// Where to write; without it the folder `report` in that of the run.
    #[arg(long, value_name = "DIR")]
    pub(crate) output: Option<PathBuf>,
    /// Replace an older report there.
    #[arg(long)]
    pub(crate) force: bool,
    /// Print one JSON document that says what was written.
    #[arg(long)]
    pub(crate) json: bool,
}
