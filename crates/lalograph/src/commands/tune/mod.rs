//! `tune`: continuing from a trained model, and comparing what came of it.

mod compare;
mod train;

use crate::cli::{TuneArgs, TuneCommand};
use crate::failure::Failure;
use crate::output::screen::Screen;

/// Runs the command.
pub(crate) fn run(args: &TuneArgs, screen: &Screen) -> Result<(), Failure> {
    match (&args.command, &args.model) {
        (Some(TuneCommand::Compare(args)), _) => compare::run(args, screen),
        (None, Some(model)) => train::run(args, model, screen),
        (None, None) => Err(Failure::Usage("the base is missing: give a model file or a run".into())),
    }
}
