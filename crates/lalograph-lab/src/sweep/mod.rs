//! Sweeps: many runs over settings of a plan, of which the best is found and kept.
//!
//! ```text
//! plan, settings --spec--> trials --course, ledger--> jobs --work, trial--> runs, ledger --ranking, importance--> figures
//! ```
//!
//! What is due follows from the specification and the ledger alone, so processes that share the folder agree without speaking to each other.

pub mod course;
mod effect;
pub mod error;
pub mod figure;
pub mod file;
pub mod folder;
pub mod importance;
mod keeping;
pub mod ledger;
pub mod ranking;
pub mod space;
pub mod spec;
mod trial;
mod turn;
mod vectors;
pub mod work;

pub use keeping::{MostKept, most_kept};
