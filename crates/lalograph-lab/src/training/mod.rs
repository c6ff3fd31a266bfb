//! The training loop, for any task.

pub mod company;
pub(crate) mod evaluator;
pub mod events;
pub mod hints;
pub(crate) mod meters;
pub(crate) mod notebook;
pub mod resume;
pub mod run_loop;
pub(crate) mod schedule;
pub(crate) mod selection;
pub(crate) mod settings;
pub(crate) mod time_limit;
pub mod trainer;
