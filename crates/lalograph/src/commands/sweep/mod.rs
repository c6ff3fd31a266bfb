//! `sweep`: many runs over settings of a plan, and what came of them.

mod asked;
mod document;
mod show;
mod train;
mod view;

pub(crate) use train::{How, go_on};

use crate::cli::{SweepArgs, SweepCommand};
use crate::failure::Failure;
use crate::output::screen::Screen;

/// Runs the command.
pub(crate) fn run(args: &SweepArgs, screen: &Screen) -> Result<(), Failure> {
    match (&args.command, &args.plan) {
        (Some(SweepCommand::Show(args)), _) => show::run(args, screen),
        (None, Some(plan)) => train::run(args, plan, screen),
        (None, None) => Err(Failure::Usage("the plan is missing: give a plan file".into())),
    }
}
