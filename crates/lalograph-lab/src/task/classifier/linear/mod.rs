//! Linear classifiers: logistic regression on the terms of a document, or on rows of numbers. The terms are chosen once, the loss has one
//! minimum, and the solver goes to it.

pub(super) mod form;
pub(super) mod learner;
mod selection;
mod solving;

pub use form::{Feature, LinearForm, TermForm};
pub use learner::LinearTask;
pub(super) use solving::solve;
