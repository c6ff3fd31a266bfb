//! Language models: predicting the next token.

mod duties;
pub(crate) mod evaluate;
pub mod flow;
mod learner;
pub mod model;
pub mod prepare;
pub(crate) mod seam;
pub mod training_documents;

pub use duties::LanguageNote;
pub use learner::LanguageTask;
