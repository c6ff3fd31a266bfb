//! `runs`: what has been trained.

mod compare;
mod list;
mod remove;
mod report;
mod show;

use crate::cli::RunsCommand;
use crate::failure::Failure;
use crate::output::number::{count, perplexity};
use crate::output::screen::Screen;

/// Runs the command.
pub(crate) fn run(command: &RunsCommand, screen: &Screen) -> Result<(), Failure> {
    match command {
        RunsCommand::List(args) => list::run(args, screen),
        RunsCommand::Show(args) => show::run(args, screen),
        RunsCommand::Remove(args) => remove::run(args, screen),
        RunsCommand::Compare(args) => compare::run(args, screen),
        RunsCommand::Report(args) => report::run(args, screen),
    }
}

/// Steps made, of how many.
fn steps(made: u64, planned: u64) -> String {
    if planned == 0 { count(made) } else { format!("{} of {}", count(made), count(planned)) }
}

/// A perplexity from a loss, if there is one.
fn from_loss(loss: Option<f64>) -> String {
    loss.map_or_else(|| "-".to_owned(), |loss| perplexity(loss.exp()))
}
