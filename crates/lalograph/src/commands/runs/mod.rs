//! `runs`: what has been trained.

mod compare;
mod export;
mod figures;
mod import;
mod list;
mod remove;
mod report;
mod show;

pub(crate) use report::begin_pages;

use crate::cli::RunsCommand;
use crate::failure::Failure;
use crate::output::screen::Screen;

/// Runs the command.
pub(crate) fn run(command: &RunsCommand, screen: &Screen) -> Result<(), Failure> {
    match command {
        RunsCommand::List(args) => list::run(args, screen),
        RunsCommand::Show(args) => show::run(args, screen),
        RunsCommand::Remove(args) => remove::run(args, screen),
        RunsCommand::Compare(args) => compare::run(args, screen),
        RunsCommand::Report(args) => report::run(args, screen),
        RunsCommand::Export(args) => export::run(args, screen),
        RunsCommand::Import(args) => import::run(args, screen),
    }
}
