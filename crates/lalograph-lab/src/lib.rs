//! Runs: the plan, the training loop, the model file, evaluation, generation.
//!
//! A [`Plan`] says everything about a run. [`train`] carries it out in a [`RunFolder`] and tells a
//! [`TrainingObserver`] what happens; what it leaves is a [`ModelFile`], from which [`generate`] writes text and [`score`] judges
//! it, with no other file needed.

pub mod baseline;
pub mod checkpoint;
pub mod copying;
pub mod cost;
mod error;
pub mod files;
pub mod flow;
pub mod gauge;
pub mod generate;
pub mod hints;
pub mod history;
pub mod model_file;
mod overlap;
pub mod plan;
mod prepare;
pub mod records;
pub mod resume;
pub mod run;
mod schedule;
pub mod score;
mod sealed;
mod streams;
mod token_cache;
pub mod train;
mod trainer;
pub mod vector_file;
mod vector_start;

pub use error::LabError;
pub use model_file::{ModelFile, Progress};
pub use plan::{Plan, PlanError};
pub use prepare::{Prepared, prepare, prepare_again, read_text};
pub use run::RunFolder;
pub use train::{Running, TrainingEvent, TrainingObserver, TrainingOutcome, train};
