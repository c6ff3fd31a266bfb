//! Errors of a run.

use std::io;
use std::path::{Path, PathBuf};

use lalograph_net::models::language::ShapeError;
use lalograph_storage::StorageError;
use lalograph_text::TextError;
use lalograph_vectors::VectorError;
use thiserror::Error;

use crate::plan::PlanError;
use crate::run::archive_error::ArchiveError;

/// Why something in the laboratory failed.
#[derive(Debug, Error)]
pub enum LabError {
    /// The corpus or the vocabulary.
    #[error(transparent)]
    Text(#[from] TextError),
    /// The plan.
    #[error(transparent)]
    Plan(#[from] PlanError),
    /// The model's sizes.
    #[error("impossible model: {0}")]
    Shape(#[from] ShapeError),
    /// The file system refused.
    #[error("{path}: {source}")]
    Io {
        /// The file or folder.
        path: PathBuf,
        /// The error of the system.
        source: io::Error,
    },
    /// A file or folder of that name exists.
    #[error("{0} exists already")]
    Exists(PathBuf),
    /// A pipe or device is in the place of a file.
    #[error("{0} is a device or a pipe, not a file, so it was not replaced")]
    NotAFile(PathBuf),
    /// A folder that is not a run would have to give way to one.
    #[error("{0} is not a run, so it was not changed")]
    NotARun(PathBuf),
    /// Another process writes there.
    #[error("{0} is being written by another process")]
    Written(PathBuf),
    /// A run whose plan was changed by somebody else.
    #[error("{0} is not the plan that the run was started with")]
    ForeignPlan(PathBuf),
    /// A time in which no network learns enough.
    #[error("{seconds} s are too few for a plan: not even the narrowest network makes enough steps in them")]
    ShortTime {
        /// The time.
        seconds: f64,
    },
    /// A run that was to have fewer steps than it has made.
    #[error(
        "{run} has completed {made} steps, and {asked} were requested; steps count from the start of the run"
    )]
    FewerSteps {
        /// The run.
        run: PathBuf,
        /// Steps made.
        made: u64,
        /// Steps asked for.
        asked: u64,
    },
    /// Another process is training it.
    #[error("{0} is being trained by another process")]
    Busy(PathBuf),
    /// A file of a run is not what it should be.
    #[error("{path}: {what}")]
    BadRun {
        /// The file.
        path: PathBuf,
        /// The problem.
        what: String,
    },
    /// A checkpoint is not what it should be.
    #[error("{path}: not a usable checkpoint: {what}")]
    BadCheckpoint {
        /// The file.
        path: PathBuf,
        /// The problem.
        what: String,
    },
    /// The corpus or the vocabulary of a run is another than it was.
    #[error("the {what} is not the one that {run} was started with")]
    Changed {
        /// `corpus` or `vocabulary`.
        what: &'static str,
        /// The run.
        run: PathBuf,
    },
    /// A run that has completed all its steps.
    #[error("{0} has completed all its steps")]
    AllDone(PathBuf),
    /// A tuned model whose base's text is wanted and not known.
    #[error("the text of the base model is not known: its model file is not in the folder of a run")]
    NoOldText,
    /// A process of the run says what this one does not understand.
    #[error("the processes of the run do not have the same program, plan and corpus")]
    OtherProgram,
    /// The training text does not fill one batch.
    #[error(
        "the training text has {tokens} tokens; one batch ({rows} streams x {window} tokens) needs {needed}"
    )]
    TooShort {
        /// Tokens of training text.
        tokens: usize,
        /// Rows of a batch.
        rows: usize,
        /// Steps of a window.
        window: usize,
        /// Tokens of a batch.
        needed: usize,
    },
    /// An archive of a run that was not taken in.
    #[error("{path}: {what}")]
    BadArchive {
        /// The archive.
        path: PathBuf,
        /// The problem.
        what: ArchiveError,
    },
    /// No run can have this name.
    #[error("`{0}` cannot be the name of a run")]
    BadName(String),
    /// Nothing was held out although some should have been.
    #[error("the validation text is empty: a share of {share} of {documents} documents is none")]
    NoValidation {
        /// Documents in all.
        documents: u64,
        /// The share to hold out.
        share: f64,
    },
    /// A classifier without labels.
    #[error("a classifier needs a class label for every document")]
    NoLabels,
    /// A classifier with one class.
    #[error("all documents have the label `{class}`, and a classifier needs at least two classes")]
    OneClass {
        /// The label.
        class: String,
    },
    /// Rows of numbers are wanted, and no file is a table.
    #[error("rows of numbers come from a CSV or TSV table, and there is none")]
    NoNumberColumns,
    /// No column matches a pattern.
    #[error("no column matches `{pattern}`; the columns are {}", columns.join(", "))]
    NoColumnLike {
        /// The pattern.
        pattern: String,
        /// The columns of the first table.
        columns: Vec<String>,
    },
    /// The columns of numbers are not the features of a row of a group.
    #[error("the number of columns of numbers is {columns}, and each row of a group has {features} features")]
    GroupColumns {
        /// Columns of numbers.
        columns: usize,
        /// Numbers of a row.
        features: usize,
    },
    /// The columns of numbers do not make whole steps.
    #[error("{columns} columns of numbers are not {} of {features} features", steps.map_or_else(|| "whole steps".to_owned(), |steps| format!("{steps} steps")))]
    NumberColumns {
        /// Columns of numbers.
        columns: usize,
        /// Steps, if they are given.
        steps: Option<usize>,
        /// Numbers of a step.
        features: usize,
    },
    /// A row that is no row of numbers.
    #[error("{path}, line {line}: {what}")]
    NotNumbers {
        /// The file.
        path: PathBuf,
        /// The line, from 1.
        line: u64,
        /// The problem.
        what: String,
    },
    /// A class with no document to train on.
    #[error("no training document has the label `{class}`, which other documents have")]
    ClassUnseen {
        /// The label.
        class: String,
    },
    /// A gradient was not a finite number.
    #[error("step {step}: the gradient of `{parameter}` is not a finite number")]
    NotFinite {
        /// The step, from 1.
        step: u64,
        /// The first parameter, in the order of the model file, whose gradient is not finite.
        parameter: String,
    },
    /// A loss was so high that its perplexity is no number.
    #[error(
        "step {step}: the {text} perplexity is not a finite number; the largest number is in `{parameter}`: {greatest:.1e}"
    )]
    Diverged {
        /// The step, from 1.
        step: u64,
        /// `training` or `validation`.
        text: &'static str,
        /// The parameter with the greatest weight.
        parameter: String,
        /// Absolute value of that weight.
        greatest: f32,
    },
    /// A model file of a task that the command is not for.
    #[error("{path}: a model of another task: {found}")]
    OtherTask {
        /// The file.
        path: PathBuf,
        /// Its task.
        found: String,
        /// The task that is needed.
        needed: &'static str,
    },
    /// A model file is not what it should be.
    #[error("{path}: not a usable model file: {what}")]
    BadModel {
        /// The file.
        path: PathBuf,
        /// The problem.
        what: String,
    },
    /// A file of word vectors is not what it should be.
    #[error("{path}: not usable as word vectors: {what}")]
    BadVectors {
        /// The file.
        path: PathBuf,
        /// The problem.
        what: String,
    },
    /// A file that word vectors are judged by is not what it should be.
    #[error("{path}: {source}")]
    BadWordTask {
        /// The file.
        path: PathBuf,
        /// The problem.
        source: Box<VectorError>,
    },
    /// Word vectors.
    #[error(transparent)]
    Vectors(#[from] VectorError),
    /// Something to start from does not fit.
    #[error("{path}: cannot be used to initialise weights: {what}")]
    Start {
        /// The file or folder.
        path: PathBuf,
        /// Why.
        what: String,
    },
    /// Something has no written form.
    #[error("it cannot be written: {0}")]
    Write(String),
    /// No token of a seed text is in the vocabulary.
    #[error("no token of the seed text is in the model's vocabulary")]
    SeedUnknown,
    /// A way of choosing tokens that is none.
    #[error("the {setting} is {value} and must be {must}")]
    Decoding {
        /// Name of the setting.
        setting: &'static str,
        /// Its value.
        value: String,
        /// The allowed values.
        must: &'static str,
    },
    /// A temperature that is not above zero.
    #[error("a temperature must be above 0, and {0} is not")]
    Temperature(f64),
    /// A vocabulary or a split is not what it should be.
    #[error("{path}: {source}")]
    BadFile {
        /// The file.
        path: PathBuf,
        /// The problem.
        source: TextError,
    },
    /// An n-gram model of an order that cannot be.
    #[error("an n-gram model of order {order} cannot be made: the order is 1 to {highest}")]
    Order {
        /// The requested value.
        order: usize,
        /// The highest there is.
        highest: usize,
    },
    /// A text with too many different n-grams.
    #[error(
        "the training text has more than 4,294,967,295 different n-grams of one length; use a lower order"
    )]
    TooManyNgrams,
    /// The threads could not be started.
    #[error("the threads could not be started: {0}")]
    Threads(#[from] rayon::ThreadPoolBuildError),
}

impl LabError {
    /// Wraps an error of the file system with `path`.
    pub fn at(path: &Path) -> impl FnOnce(io::Error) -> Self + '_ {
        move |source| Self::Io { path: path.to_owned(), source }
    }
}

impl From<StorageError> for LabError {
    fn from(error: StorageError) -> Self {
        match error {
            StorageError::Exists(path) => Self::Exists(path),
            StorageError::Busy(path) => Self::Written(path),
            StorageError::NotAFile(path) => Self::NotAFile(path),
            StorageError::Io { path, source } => Self::Io { path, source },
        }
    }
}
