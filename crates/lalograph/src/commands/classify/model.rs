//! Loading a classifier.

use std::path::Path;

use lalograph_lab::ReadyClassifier;

use crate::commands::lookup::load_with;
use crate::failure::Failure;

/// Loads the classifier that a path means.
pub(super) fn load(path: &Path) -> Result<ReadyClassifier, Failure> {
    load_with(path, ReadyClassifier::load)
}
