//! What can be wrong with a sweep.

use std::path::PathBuf;

use thiserror::Error;

use crate::error::LabError;
use crate::plan::PlanError;

/// Something wrong with the values of a setting.
#[derive(Debug, Error, PartialEq)]
pub enum SpaceError {
    /// No key, or no values.
    #[error("`{0}` is not of the form `section.key=values`")]
    Form(String),
    /// A key without its section.
    #[error("`{key}` has no section{}", if .meant.is_empty() { String::new() } else { format!("; did you mean `{}`?", .meant.join("` or `")) })]
    NoSection {
        /// The key.
        key: String,
        /// The settings of that name.
        meant: Vec<String>,
    },
    /// A list with a gap.
    #[error("`{0}` has no value between two commas or at an end of its list")]
    NoValue(String),
    /// A value that is listed twice.
    #[error("`{0}` lists a value twice")]
    Twice(String),
    /// An unusable range.
    #[error("the range {range} of `{key}` {what}")]
    Range {
        /// The setting.
        key: String,
        /// The range as given.
        range: String,
        /// What is wrong with it.
        what: &'static str,
    },
}

/// Why a sweep cannot begin or go on.
#[derive(Debug, Error)]
pub enum SweepError {
    /// The values of a setting.
    #[error(transparent)]
    Space(#[from] SpaceError),
    /// A setting or a value that no plan has.
    #[error(transparent)]
    Plan(#[from] PlanError),
    /// Nothing is varied.
    #[error("nothing is varied")]
    Nothing,
    /// Word vectors, and nothing to judge them by.
    #[error(
        "the trials of word vectors are compared by a file of similarities or of analogies, and the plan names none"
    )]
    NoWordTask,
    /// A setting that is varied twice.
    #[error("`{0}` is varied twice")]
    Twice(String),
    /// A setting that decides nothing, or nothing with the rest of the plan.
    #[error("varying `{key}` has no effect: {why}")]
    NoEffect {
        /// The setting.
        key: String,
        /// Why it has none.
        why: String,
    },
    /// An option that another one has no use for.
    #[error("{0}")]
    Unused(&'static str),
    /// A number outside its range.
    #[error("the number of {what} is {value} and must be {must}")]
    Number {
        /// What is counted.
        what: &'static str,
        /// The number.
        value: u64,
        /// What it must be.
        must: &'static str,
    },
    /// More trials than a sweep can have.
    #[error("the sweep has {trials} trials, more than {most}")]
    TooMany {
        /// Its trials.
        trials: u128,
        /// How many it can have.
        most: u64,
    },
    /// Rungs that no validation tells apart.
    #[error(
        "racing compares trials of {steps} steps {rungs} times, first after {first}, and needs a validation of its own for each time: lower training.validate_every"
    )]
    Rungs {
        /// How often it compares.
        rungs: usize,
        /// After how many steps first.
        first: u64,
        /// Steps of a trial.
        steps: u64,
    },
    /// No trial can be compared.
    #[error("the plan has no validation text, and trials are compared on it")]
    NoValidation,
    /// A file that describes a sweep.
    #[error("{0}")]
    File(String),
    /// A trial that needs more memory than there is.
    #[error("{0}")]
    Memory(String),
    /// Trials that need more memory together than there is.
    #[error("{jobs} trials at a time: {what}")]
    Crowded {
        /// Trials at a time.
        jobs: usize,
        /// What they need.
        what: String,
    },
    /// A tuned model.
    #[error("a sweep trains language models and classifiers; the plan has a [tune] section")]
    Tuned,
    /// The folder is something else.
    #[error("{0} is not a sweep")]
    NotASweep(PathBuf),
    /// The folder holds another sweep.
    #[error("{path} is another sweep:\n{}", .differences.join("\n"))]
    Another {
        /// The folder.
        path: PathBuf,
        /// How the two differ, a line each.
        differences: Vec<String>,
    },
    /// A file of the sweep.
    #[error("{path}: {what}")]
    Bad {
        /// The file.
        path: PathBuf,
        /// What is wrong with it.
        what: String,
    },
    /// Anything below.
    #[error(transparent)]
    Lab(#[from] LabError),
}

impl From<lalograph_storage::StorageError> for SweepError {
    fn from(error: lalograph_storage::StorageError) -> Self {
        Self::Lab(error.into())
    }
}
