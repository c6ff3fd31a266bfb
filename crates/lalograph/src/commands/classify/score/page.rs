//! A score as a page.

use lalograph_lab::RunFolder;
use lalograph_lab::run::history::RunHistory;

use super::scored::{Score, Shown};
use super::show::threshold_words;
use crate::commands::classify::figures::{class_rows, main_rows};
use crate::commands::lookup::path_meant;
use crate::failure::Failure;
use crate::output::chart::{Picture, learning_curve};
use crate::output::decision_charts::decision_charts;
use crate::output::loss_scale::LossScale;
use crate::output::number::{count, percent_of};
use crate::output::page::{DecisionsPage, DocumentOnPage, decisions_page};

/// The page of a score: figures, curves of training, decisions, mistakes, examples.
pub(super) fn score_page(all: &Score<'_>, mistakes: usize) -> Result<String, Failure> {
    let (found, classes) = (&all.decisions[0], &all.models[0].classes);
    let name = all.names[0].display().to_string();
    let mut pictures = Vec::new();
    if let Some(scene) = training_curve(all) {
        pictures.push(("learning", Picture::of(scene)?.svg));
    }
    for (name, scene) in decision_charts(found, classes) {
        pictures.push((name, Picture::of(scene)?.svg));
    }
    let mut rows = main_rows(found);
    if let Some((class, threshold)) = &all.aimed {
        rows.push(("threshold", threshold_words(*class, threshold, classes)));
    }
    let on_page = |shown: &Shown, document: usize| DocumentOnPage {
        place: format!("{}, line {}", shown.path.display(), count(shown.line)),
        predicted: classes[found.predicted(document)].clone(),
        confidence: percent_of(found.confidence(document)),
        actual: classes[found.truth(document)].clone(),
        right: found.predicted(document) == found.truth(document),
        text: shown.text.clone(),
    };
    let wrong = all.scored.mistakes(found, mistakes);
    let page = DecisionsPage {
        model: &name,
        figures: &rows,
        classes: class_rows(found, classes),
        pictures: &pictures,
        mistakes: wrong.iter().map(|(shown, document)| on_page(shown, *document)).collect(),
        examples: all.scored.examples.iter().map(|shown| on_page(shown, shown.document)).collect(),
    };
    Ok(decisions_page(&page))
}

/// The learning curve of the run that the classifier is of, if it is of one.
fn training_curve(all: &Score<'_>) -> Option<kuva::render::render::Scene> {
    let run = RunFolder::open(&path_meant(all.names[0])).ok()?;
    let history = RunHistory::read(run).ok()?;
    let dropout = history.plan.regularisation().dropout.any();
    learning_curve(LossScale::of(&history.plan), "Learning", &history.metrics, &[], dropout)
}
