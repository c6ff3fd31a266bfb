//! `classify`: train, predict, score, explain.

mod aside;
mod cost;
mod documents;
mod explain;
mod figures;
mod linear;
mod model;
mod paired;
mod predict;
mod score;
mod train;

pub(super) use cost::show_classifier_cost;
pub(super) use paired::{SameDocuments, on_same_documents};
pub(super) use train::{check, describe_classifier, render_start, say_outcome};

use crate::cli::ClassifyCommand;
use crate::failure::Failure;
use crate::output::screen::Screen;

/// Runs a command for a classifier.
pub(crate) fn run(command: &ClassifyCommand, screen: &Screen) -> Result<(), Failure> {
    match command {
        ClassifyCommand::Train(args) => train::run(args, screen),
        ClassifyCommand::Predict(args) => predict::run(args, screen),
        ClassifyCommand::Score(args) => score::run(args, screen),
        ClassifyCommand::Explain(args) => explain::run(args, screen),
    }
}
