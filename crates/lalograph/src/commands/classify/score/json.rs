//! A score as JSON.

use std::path::Path;

use lalograph_lab::measure::curves::Threshold;
use lalograph_lab::measure::decisions::{ClassFigures, ConfidenceGroup, Decisions, Paired};
use serde::Serialize;

use super::scored::Score;

/// Groups of documents by confidence.
const GROUPS: usize = 10;

/// JSON output of `classify score`.
#[derive(Serialize)]
pub(super) struct ScoreDocument<'s> {
    classes: &'s [String],
    documents: u64,
    tokens: u64,
    unknown_tokens: u64,
    cut_documents: u64,
    #[serde(flatten)]
    figures: FiguresOf,
    confusion: Vec<Vec<u64>>,
    by_class: Vec<ClassOf<'s>>,
    confidence_groups: Vec<ConfidenceGroup>,
    temperature: f64,
    #[serde(skip_serializing_if = "Option::is_none")]
    threshold: Option<ThresholdOf<'s>>,
    mistakes: Vec<Mistake<'s>>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    beside: Vec<Other<'s>>,
}

#[derive(Serialize)]
struct FiguresOf {
    accuracy: f64,
    accuracy_interval: (f64, f64),
    majority_share: f64,
    balanced_accuracy: f64,
    macro_f1: f64,
    loss: f64,
    calibration_error: f64,
}

impl FiguresOf {
    fn of(found: &Decisions) -> Self {
        Self {
            accuracy: found.accuracy(),
            accuracy_interval: found.accuracy_interval(),
            majority_share: found.majority_share(),
            balanced_accuracy: found.balanced_accuracy(),
            macro_f1: found.macro_f1(),
            loss: found.loss(),
            calibration_error: found.calibration_error(),
        }
    }
}

#[derive(Serialize)]
struct ClassOf<'s> {
    class: &'s str,
    #[serde(flatten)]
    figures: ClassFigures,
}

#[derive(Serialize)]
struct ThresholdOf<'s> {
    class: &'s str,
    #[serde(flatten)]
    figures: Threshold,
}

#[derive(Serialize)]
struct Mistake<'s> {
    path: &'s Path,
    line: u64,
    predicted: &'s str,
    probability: f64,
    actual: &'s str,
    actual_probability: f64,
    text: &'s str,
}

#[derive(Serialize)]
struct Other<'s> {
    model: &'s Path,
    #[serde(flatten)]
    figures: FiguresOf,
    paired: Paired,
}

/// The JSON output of a score.
pub(super) fn document<'s>(all: &Score<'s>, mistakes: usize) -> ScoreDocument<'s> {
    let Score { names, decisions, scored, .. } = *all;
    let (found, classes) = (&decisions[0], &all.models[0].classes[..]);
    let by_class = classes.iter().zip(found.by_class()).map(|(class, figures)| ClassOf { class, figures });
    let mistakes = scored.mistakes(found, mistakes).into_iter().map(|(wrong, document)| Mistake {
        path: &wrong.path,
        line: wrong.line,
        predicted: &classes[found.predicted(document)],
        probability: found.confidence(document),
        actual: &classes[found.truth(document)],
        actual_probability: found.logs(document)[found.truth(document)].exp(),
        text: &wrong.text,
    });
    let others = names.iter().zip(decisions).skip(1);
    ScoreDocument {
        classes,
        documents: found.count() as u64,
        tokens: scored.read.read,
        unknown_tokens: scored.read.unknown,
        cut_documents: scored.cut,
        figures: FiguresOf::of(found),
        confusion: found.confusion(),
        by_class: by_class.collect(),
        confidence_groups: found.confidence_groups(GROUPS),
        temperature: all.models[0].temperature,
        threshold: all.aimed.map(|(class, figures)| ThresholdOf { class: &classes[class], figures }),
        mistakes: mistakes.collect(),
        beside: others
            .map(|(model, other)| Other { model, figures: FiguresOf::of(other), paired: found.paired(other) })
            .collect(),
    }
}
