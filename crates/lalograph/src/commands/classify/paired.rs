//! Classifiers' runs on the same held-out documents.

use std::path::Path;

use lalograph_lab::PreparedClassifier;
use lalograph_lab::measure::decisions::Decisions;
use lalograph_lab::run::history::RunHistory;
use lalograph_text::Part;

use super::documents::{Named, labelled, own_part};
use super::model::load;
use super::score::read_all;
use crate::cli::{PartArgs, ReadingArgs};
use crate::commands::input::threads;
use crate::failure::Failure;
use crate::output::screen::Screen;

/// What the classifiers of runs made of the same documents.
pub(crate) struct SameDocuments {
    /// The part of the runs' documents.
    pub(crate) part: Part,
    /// The decisions of each run, in their order.
    pub(crate) decisions: Vec<Decisions>,
}

/// Reads the held-out documents of classifiers' runs that have the same documents and parts; `None` for other runs.
///
/// Runs with other documents, and documents that are gone, are no failure: a note says why there is nothing.
pub(crate) fn on_same_documents(
    histories: &[RunHistory],
    screen: &Screen,
) -> Result<Option<SameDocuments>, Failure> {
    let [first, others @ ..] = histories else { return Ok(None) };
    if others.is_empty() || histories.iter().any(|run| run.description.task != PreparedClassifier::KIND) {
        return Ok(None);
    }
    let same = |run: &RunHistory| {
        let (one, other) = (&first.description, &run.description);
        (&one.text_hash, &one.split_hash) == (&other.text_hash, &other.split_hash)
    };
    if !others.iter().all(same) {
        screen.note(
            "no paired test: the runs have other documents or other parts; `lalograph classify score RUN FILE --beside RUN` compares them on any documents",
        );
        return Ok(None);
    }
    match read(first.run.path(), histories, screen) {
        Ok(found) => Ok(Some(found)),
        Err(failure @ (Failure::Interrupted(_) | Failure::ClosedPipe)) => Err(failure),
        Err(failure) => {
            screen.warn(&format!("no paired test: {}", failure.words()));
            Ok(None)
        }
    }
}

fn read(first: &Path, histories: &[RunHistory], screen: &Screen) -> Result<SameDocuments, Failure> {
    let models = histories.iter().map(|run| load(run.run.path())).collect::<Result<Vec<_>, _>>()?;
    let (_, part) = own_part(&histories[0].run)?;
    let (reading, parts) = (ReadingArgs::default(), PartArgs::default());
    let named = Named { model: first, paths: &[], reading: &reading, part: &parts };
    let corpus = labelled(named, &models[0], screen)?;
    let scored = read_all(&models, &corpus, (None, threads(None), None), "comparing", screen)?;
    Ok(SameDocuments { part, decisions: scored.decisions(&models) })
}
