//! Loading a classifier.

use std::path::Path;

use lalograph_lab::data::numbers::NumberError;
use lalograph_lab::{ReadDocument, ReadyClassifier, not_numbers};
use lalograph_text::corpus::Batch;

use crate::commands::lookup::load_with;
use crate::failure::Failure;

/// Loads the classifier that a path means.
pub(super) fn load(path: &Path) -> Result<ReadyClassifier, Failure> {
    load_with(path, ReadyClassifier::load)
}

/// What a classifier's documents are a sequence of.
pub(super) fn steps_of(model: &ReadyClassifier) -> &'static str {
    if model.input.vocabulary().is_some() { "tokens" } else { "rows" }
}

/// Documents that were read and their log-probabilities; or the number of the first that cannot be read, and why.
pub(super) type ReadBatch = Result<(Vec<ReadDocument>, Vec<f64>), (usize, NumberError)>;

/// The failure of a document that cannot be read.
pub(super) fn unreadable(
    model: &ReadyClassifier,
    batch: &Batch,
    (number, error): (usize, NumberError),
) -> Failure {
    match batch.documents().nth(number) {
        Some(document) => not_numbers(&document, &model.plan.corpus.text, error).into(),
        None => Failure::work("a document that is not in its batch"),
    }
}

/// The class that a threshold is about: the one that is named, or the second of two.
pub(super) fn positive_class(named: Option<&str>, model: &ReadyClassifier) -> Result<usize, Failure> {
    if model.classes.len() != 2 {
        return Err(Failure::Usage(format!(
            "a threshold is for two classes, and the classifier has {}",
            model.classes.len()
        )));
    }
    named.map_or(Ok(1), |class| place_of(class, model))
}

/// The class and the probability of a threshold, if one is given.
pub(super) fn threshold_of(
    threshold: Option<f64>,
    positive: Option<&str>,
    model: &ReadyClassifier,
) -> Result<Option<(usize, f64)>, Failure> {
    match threshold {
        None => Ok(None),
        Some(probability) if (0.0..=1.0).contains(&probability) => {
            Ok(Some((positive_class(positive, model)?, probability)))
        }
        Some(_) => Err(Failure::Usage("a threshold is a probability, from 0 to 1".into())),
    }
}

/// The place of a class among those of a classifier.
pub(super) fn place_of(class: &str, model: &ReadyClassifier) -> Result<usize, Failure> {
    model.classes.binary_search_by(|known| known.as_str().cmp(class)).map_err(|_| {
        Failure::with_remedy(
            format!("the classifier has no class `{class}`"),
            format!("its classes are {}", model.classes.join(", ")),
        )
    })
}
