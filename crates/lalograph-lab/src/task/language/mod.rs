//! Language models: predicting the next token.

pub mod base;
mod duties;
pub(crate) mod evaluate;
pub mod flow;
mod learner;
pub mod model;
pub mod prepare;
pub(crate) mod seam;
pub mod text;
pub mod training_documents;
pub(crate) mod tuned;

pub use duties::LanguageNote;
pub use learner::LanguageTask;
