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

/// Documents that were read and their log-probabilities; or the number of the first that cannot be read, and why.
pub(super) type ReadBatch = Result<(Vec<ReadDocument>, Vec<f64>), (usize, NumberError)>;

/// The failure of a document that cannot be read.
pub(super) fn unreadable(
    model: &ReadyClassifier,
    batch: &Batch,
    (number, error): (usize, NumberError),
) -> Failure {
    let at = batch.documents().nth(number);
    let (path, line) = at.map_or((Path::new(""), 0), |found| (found.path, found.line));
    not_numbers(path, line, &model.plan.corpus.text, error).into()
}
