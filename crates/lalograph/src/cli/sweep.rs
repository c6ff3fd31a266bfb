//! Sweeps: many runs over settings of a plan.

use std::path::PathBuf;
use std::time::Duration;

use clap::{Args, Subcommand};
use lalograph_lab::sweep::spec::Method;

use super::choice::{choice, minutes};
use super::runs::RunsFolder;

/// `sweep`.
#[derive(Debug, Args)]
#[command(
    args_conflicts_with_subcommands = true,
    subcommand_negates_reqs = true,
    after_help = "Examples:\n  lalograph sweep thornmere/runs/demo/plan.toml --vary model.hidden=16,32 --set training.steps=60 --name widths\n  lalograph sweep thornmere/runs/demo/plan.toml --vary training.learning_rate=0.001..0.03 --method random --trials 4 --set training.steps=40 --name rates\n  lalograph sweep show widths"
)]
pub(crate) struct SweepArgs {
    /// Show the results of a sweep.
    #[command(subcommand)]
    pub(crate) command: Option<SweepCommand>,
    /// Plan file or run of a language model or a classifier; or the folder of a sweep, to continue it or to take part in it.
    #[arg(value_name = "PLAN", required = true)]
    pub(crate) plan: Option<PathBuf>,
    /// Values of a setting: a list a,b,c or a range low..high, which is by ratio if high is at least 10 times low. `:even` or `:ratio` and the number of
    /// grid points (5 by default) can follow a range. Can be repeated.
    #[arg(long, value_name = "KEY=VALUES")]
    pub(crate) vary: Vec<String>,
    /// Read the sweep from a TOML file: a table [vary], and any of method, trials, seeds, budget_steps, rungs and keep. Options override it (default:
    /// none).
    #[arg(long, value_name = "FILE")]
    pub(crate) sweep_file: Option<PathBuf>,
    /// Choice of the settings that are trained (default: grid).
    #[arg(long, value_parser = choice::<Method>(), value_name = "METHOD")]
    pub(crate) method: Option<Method>,
    /// Number of settings that are drawn (default: 24 for random, the whole grid for racing).
    #[arg(long, value_name = "N")]
    pub(crate) trials: Option<u64>,
    /// Train every setting with N seeds; the split into parts stays the same (default: 1).
    #[arg(long, value_name = "N")]
    pub(crate) seeds: Option<u64>,
    /// Start no trial after N planned steps in all (default: no limit).
    #[arg(long, value_name = "N")]
    pub(crate) budget_steps: Option<u64>,
    /// Number of comparisons in a race, the last of them at the end; each has twice the steps of the one before (default: 4).
    #[arg(long, value_name = "N")]
    pub(crate) rungs: Option<u32>,
    /// Keep the models of the N best settings (default: 3). Of all other trials, records are kept.
    #[arg(long, value_name = "N")]
    pub(crate) keep: Option<u64>,
    /// Number of trials at a time. Results do not depend on it.
    #[arg(long, value_name = "N", default_value_t = 1, value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) jobs: u16,
    /// Start no trial that would end after N minutes (default: no limit). The same command continues the sweep.
    #[arg(long, value_name = "N", value_parser = minutes)]
    pub(crate) minutes: Option<Duration>,
    /// Set any value of the plan; can be repeated.
    #[arg(long = "set", value_name = "SECTION.KEY=VALUE")]
    pub(crate) settings: Vec<String>,
    /// Name of the sweep and of its folder (default: the name of the plan file, and -sweep).
    #[arg(long, value_name = "NAME")]
    pub(crate) name: Option<String>,
    /// Folder of all runs.
    #[command(flatten)]
    pub(crate) place: RunsFolder,
    /// Number of threads of all trials together (default: all processors). Results do not depend on it.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) threads: Option<u16>,
    /// Print JSON Lines: one line per result of a trial, then the document of `sweep show`.
    #[arg(long)]
    pub(crate) json: bool,
}

/// `sweep`, its commands.
#[derive(Debug, Subcommand)]
pub(crate) enum SweepCommand {
    /// Show the results of a sweep: settings by rank, the settings that mattered, charts and a page.
    Show(SweepShowArgs),
}

/// `sweep show`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph sweep show widths\n  lalograph sweep show rates --output rates-report\n  lalograph sweep show runs/widths --json"
)]
pub(crate) struct SweepShowArgs {
    /// Sweep: its name or its folder.
    #[arg(value_name = "SWEEP")]
    pub(crate) sweep: PathBuf,
    /// Folder of all runs.
    #[command(flatten)]
    pub(crate) place: RunsFolder,
    /// Show the N best settings (0 = all).
    #[arg(long, value_name = "N", default_value_t = 10)]
    pub(crate) top: usize,
    /// Write an HTML page and its charts to DIR (default: none).
    #[arg(long, value_name = "DIR")]
    pub(crate) output: Option<PathBuf>,
    /// Replace an existing page.
    #[arg(long, requires = "output")]
    pub(crate) force: bool,
    /// Print one JSON document with all settings.
    #[arg(long)]
    pub(crate) json: bool,
}
