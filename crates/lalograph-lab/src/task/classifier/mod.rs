//! Classifiers: the class of a document.

mod evaluate;
mod learner;
pub mod model;
mod prepare;
mod seam;

pub use learner::{ClassifierTask, DocumentInput};
pub use prepare::{not_numbers, prepare_classifier, prepare_classifier_again};
pub use seam::train_classifier;
