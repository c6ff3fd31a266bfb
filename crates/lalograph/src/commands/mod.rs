//! One file a command.

mod classify;
mod converse;
mod costs;
#[cfg(test)]
mod crash;
mod demo;
mod demo_classifiers;
mod embed;
mod export;
mod flow;
mod gauge;
mod import;
mod input;
mod lookup;
mod next;
mod pages;
mod plan;
mod reading;
mod resume;
mod runs;
mod sample;
mod score;
mod serve;
mod settings;
mod several;
mod split;
mod survey;
mod sweep;
mod train;
mod training;
mod training_text;
mod tune;
mod vocab;

pub(crate) use input::threads;

use crate::cli::{Cli, Command};
use crate::failure::Failure;
use crate::output::screen::Screen;

/// Does what was asked.
pub(crate) fn run(cli: Cli, screen: &Screen) -> Result<(), Failure> {
    match cli.command {
        Command::Demo(args) => demo::run(&args, screen),
        Command::Survey(args) => survey::run(&args, screen),
        Command::Split(args) => split::run(&args, screen),
        Command::Vocab { command } => vocab::run(&command, screen),
        Command::Import(args) => import::run(&args, screen),
        Command::Export(args) => export::run(&args, screen),
        Command::Embed { command } => embed::run(&command, screen),
        Command::Plan { command } => plan::run(&command, screen),
        Command::Converse(args) => converse::run(&args, screen),
        Command::Serve(args) => serve::run(&args, screen),
        Command::Train(args) => train::run(&args, screen),
        Command::Tune(args) => tune::run(&args, screen),
        Command::Classify { command } => classify::run(&command, screen),
        Command::Sweep(args) => sweep::run(&args, screen),
        Command::Resume(args) => resume::run(&args, screen),
        Command::Runs { command } => runs::run(&command, screen),
        Command::Sample(args) => sample::run(&args, screen),
        Command::Next(args) => next::run(&args, screen),
        Command::Score(args) => score::run(&args, screen),
        Command::Flow(args) => flow::run(&args, screen),
        Command::Gauge(args) => gauge::run(&args, screen),
        Command::Completions { shell } => pages::completions(shell, screen),
        Command::Manual { folder, force } => pages::manual(&folder, force, screen),
    }
}
