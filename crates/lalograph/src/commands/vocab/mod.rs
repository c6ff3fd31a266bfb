//! `vocab`: build, show, encode, decode, coverage, merge, extend, compare.

mod build;
mod coverage;
mod encode;
mod show;
pub(super) mod vocabularies;

use crate::cli::VocabCommand;
use crate::failure::Failure;
use crate::output::screen::Screen;

/// Runs the command.
pub(crate) fn run(command: &VocabCommand, screen: &Screen) -> Result<(), Failure> {
    match command {
        VocabCommand::Build(args) => build::build(args, screen),
        VocabCommand::Show(args) => show::run(args, screen),
        VocabCommand::Encode(args) => encode::encode(args, screen),
        VocabCommand::Decode(args) => encode::decode(args, screen),
        VocabCommand::Coverage(args) => coverage::run(args, screen),
        VocabCommand::Merge(args) => build::merge(args, screen),
        VocabCommand::Extend(args) => build::extend(args, screen),
        VocabCommand::Compare(args) => build::compare(args, screen),
    }
}
