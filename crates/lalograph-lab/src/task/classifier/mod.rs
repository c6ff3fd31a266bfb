//! Classifiers: the class of a document.

mod evaluate;
pub mod explain;
mod input;
mod learner;
pub mod linear;
pub mod model;
mod prepare;
mod seam;

pub use input::DocumentInput;
pub use learner::{ClassifierData, ClassifierTask, PreparedClassifier};
pub use prepare::{not_numbers, prepare_classifier, prepare_classifier_again};
pub use seam::train_classifier;
