//! Runs: continuing with them, looking at them, putting them side by side.

use std::path::PathBuf;
use std::time::Duration;

use clap::{Args, Subcommand};

use super::choice::minutes;

/// Folder of all runs.
#[derive(Debug, Args)]
pub(crate) struct RunsFolder {
    /// Folder of the runs.
    #[arg(long, value_name = "DIR", default_value = "runs")]
    pub(crate) runs: PathBuf,
}

/// One run.
#[derive(Debug, Args)]
pub(crate) struct OneRun {
    /// Run: its name or its folder.
    pub(crate) run: PathBuf,
    /// Folder of all runs.
    #[command(flatten)]
    pub(crate) folder: RunsFolder,
}

/// `resume`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph resume thornmere/runs/demo --epochs 40\n  lalograph resume demo --runs thornmere/runs --steps 4000 --learning-rate 0.002\n  lalograph resume thornmere/runs/demo --restart"
)]
pub(crate) struct ResumeArgs {
    /// The run.
    #[command(flatten)]
    pub(crate) place: OneRun,
    /// Number of epochs, counted from the start of the run (default: as planned).
    #[arg(long, value_name = "N", conflicts_with = "steps", value_parser = clap::value_parser!(u64).range(1..))]
    pub(crate) epochs: Option<u64>,
    /// Number of optimiser steps, counted from the start of the run (default: as planned).
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    pub(crate) steps: Option<u64>,
    /// Peak learning rate from now on (default: as planned).
    #[arg(long, value_name = "RATE")]
    pub(crate) learning_rate: Option<f64>,
    /// Stop early after N validations without improvement, 0 = never (default: as planned).
    #[arg(long, value_name = "N")]
    pub(crate) patience: Option<u64>,
    /// Seed text that samples continue from now on (default: as planned); can be repeated.
    #[arg(long, value_name = "TEXT")]
    pub(crate) from: Vec<String>,
    /// Start again from the first step instead of the last checkpoint.
    #[arg(long)]
    pub(crate) restart: bool,
    /// Stop after N minutes of training (default: no limit). The next `resume` continues exactly where training stopped.
    #[arg(long, value_name = "N", value_parser = minutes)]
    pub(crate) minutes: Option<Duration>,
    /// Number of threads (default: all processors). Results do not depend on it.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) threads: Option<u16>,
    /// Print JSON Lines as `train --json` does.
    #[arg(long)]
    pub(crate) json: bool,
}

/// The commands of `runs`.
#[derive(Debug, Subcommand)]
pub(crate) enum RunsCommand {
    /// List runs with status, steps and validation perplexity.
    List(ListArgs),
    /// Show one run: settings, text, learning curve, samples, hints.
    Show(ShowArgs),
    /// Remove runs with all their files.
    Remove(RemoveArgs),
    /// Compare runs: settings that differ, figures, learning curves, samples. Classifiers with the same documents and parts are compared on the
    /// held-out documents, with a test of the difference.
    Compare(CompareArgs),
    /// Write the report of a run: an HTML page with curves, samples and settings, and its charts.
    Report(ReportArgs),
    /// Write a run to one file (.tar.zst) with plan, records, model and report, or the metrics of runs as CSV.
    Export(ExportRunsArgs),
    /// Add a run from a file that `runs export` wrote, and verify its content.
    Import(ImportRunArgs),
}

/// `runs list`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph runs list --runs thornmere/runs\n  lalograph runs list --runs thornmere/runs --json"
)]
pub(crate) struct ListArgs {
    /// Folder of all runs.
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
    after_help = "Examples:\n  lalograph runs remove first second\n  lalograph runs remove --encoded-corpora --runs thornmere/runs"
)]
pub(crate) struct RemoveArgs {
    /// Runs: their names or their folders.
    #[arg(value_name = "RUN", required_unless_present = "encoded_corpora")]
    pub(crate) names: Vec<PathBuf>,
    /// Folder of all runs.
    #[command(flatten)]
    pub(crate) place: RunsFolder,
    /// Remove the encoded corpora that are kept beside the runs; they are encoded again when needed.
    #[arg(long)]
    pub(crate) encoded_corpora: bool,
}

/// `runs compare`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph runs compare thornmere/runs/demo runs/second\n  lalograph runs compare first second third --output comparison"
)]
pub(crate) struct CompareArgs {
    /// Runs: their names or their folders.
    #[arg(value_name = "RUN", required = true, num_args = 2..)]
    pub(crate) names: Vec<PathBuf>,
    /// Folder of all runs.
    #[command(flatten)]
    pub(crate) place: RunsFolder,
    /// Write an HTML page and its charts to DIR (default: none).
    #[arg(long, value_name = "DIR")]
    pub(crate) output: Option<PathBuf>,
    /// Replace an existing page.
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
    /// Write the report to DIR (default: the folder `report` of the run).
    #[arg(long, value_name = "DIR")]
    pub(crate) output: Option<PathBuf>,
    /// Replace an existing report.
    #[arg(long)]
    pub(crate) force: bool,
    /// Print one JSON document with the paths of the files.
    #[arg(long)]
    pub(crate) json: bool,
}

/// `runs export`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph runs export thornmere/runs/demo --output demo.tar.zst\n  lalograph runs export demo --runs thornmere/runs --metrics --output metrics.csv"
)]
pub(crate) struct ExportRunsArgs {
    /// Runs: their names or their folders. An archive has one run.
    #[arg(value_name = "RUN", required = true)]
    pub(crate) names: Vec<PathBuf>,
    /// Folder of all runs.
    #[command(flatten)]
    pub(crate) place: RunsFolder,
    /// Write to FILE.
    #[arg(long, short, value_name = "FILE")]
    pub(crate) output: PathBuf,
    /// Write the metrics of the runs as one table in CSV instead of an archive.
    #[arg(long, conflicts_with = "checkpoints")]
    pub(crate) metrics: bool,
    /// Include the checkpoints, so that `resume` can continue the run elsewhere.
    #[arg(long)]
    pub(crate) checkpoints: bool,
    /// Replace an existing file.
    #[arg(long)]
    pub(crate) force: bool,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

/// `runs import`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph runs import demo.tar.zst\n  lalograph runs import demo.tar.zst --runs archive --name thornmere"
)]
pub(crate) struct ImportRunArgs {
    /// File that `runs export` wrote.
    #[arg(value_name = "FILE")]
    pub(crate) archive: PathBuf,
    /// Folder of all runs.
    #[command(flatten)]
    pub(crate) place: RunsFolder,
    /// Name of the run (default: the name that it had).
    #[arg(long, value_name = "NAME")]
    pub(crate) name: Option<String>,
    /// Replace an existing run of that name.
    #[arg(long)]
    pub(crate) force: bool,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}
