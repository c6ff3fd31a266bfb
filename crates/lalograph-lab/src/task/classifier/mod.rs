//! Classifiers: the class of a document.

mod data;
mod evaluate;
pub mod explain;
mod input;
mod learner;
pub mod linear;
pub mod model;
mod prepare;
mod seam;

pub use data::ClassifierData;
pub use input::DocumentInput;
pub use learner::{ClassifierTask, PreparedClassifier};
pub use prepare::{not_numbers, prepare_classifier, prepare_classifier_again};
pub use seam::{follow_classifier, forecast_classifier, train_classifier};
