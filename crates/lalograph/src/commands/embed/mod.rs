//! `embed`: train, import, near, relate, judge, map.

mod demo;
mod import;
mod judge;
mod map;
mod near;
mod train;
mod words;

pub(crate) use demo::vectors_of;

use crate::cli::EmbedCommand;
use crate::failure::Failure;
use crate::output::screen::Screen;

/// Runs the command.
pub(crate) fn run(command: &EmbedCommand, screen: &Screen) -> Result<(), Failure> {
    match command {
        EmbedCommand::Train(args) => train::run(args, screen),
        EmbedCommand::Import(args) => import::run(args, screen),
        EmbedCommand::Near(args) => near::near(args, screen),
        EmbedCommand::Relate(args) => near::relate_words(args, screen),
        EmbedCommand::Judge(args) => judge::run(args, screen),
        EmbedCommand::Map(args) => map::run(args, screen),
    }
}
