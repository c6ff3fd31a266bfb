//! Records of a run, one JSON object a line.

use std::collections::BTreeMap;
use std::io::{Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};

use lalograph_storage::storage::StoredFile;
use lalograph_storage::{Folder, StorageError};
use serde::{Deserialize, Serialize};

use crate::error::LabError;

/// Figures by their names, as a task defines them: `perplexity`, `bits_per_byte`, `accuracy`.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Figures(BTreeMap<String, f64>);

impl Figures {
    /// These figures.
    pub fn of<const N: usize>(figures: [(&str, f64); N]) -> Self {
        Self(figures.into_iter().map(|(name, value)| (name.to_owned(), value)).collect())
    }

    /// These figures and others.
    pub fn with<const N: usize>(mut self, others: [(&str, f64); N]) -> Self {
        self.0.extend(others.into_iter().map(|(name, value)| (name.to_owned(), value)));
        self
    }

    /// The figure of this name.
    pub fn get(&self, name: &str) -> Option<f64> {
        self.0.get(name).copied()
    }

    /// All figures by name.
    pub fn iter(&self) -> impl Iterator<Item = (&str, f64)> {
        self.0.iter().map(|(name, &value)| (name.as_str(), value))
    }
}

/// Figures of a model on held-out data.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Evaluation {
    /// The mean loss.
    pub loss: f64,
    /// Further figures of the task.
    pub figures: Figures,
}

impl Evaluation {
    /// e to the power of the loss: for a language model the perplexity.
    pub fn perplexity(&self) -> f64 {
        self.loss.exp()
    }

    /// The figure of this name.
    pub fn figure(&self, name: &str) -> Option<f64> {
        self.figures.get(name)
    }
}

/// A line of `metrics.jsonl`. Losses are natural-log cross-entropies per target; `figures` are those of the task.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case", deny_unknown_fields)]
pub enum MetricsRecord {
    /// Means over the steps since the last such record.
    Training {
        /// The step that it was written after, from 1.
        step: u64,
        /// Epochs so far.
        epoch: f64,
        /// Tokens, or other examples, trained on so far.
        tokens: u64,
        /// Since the run began.
        seconds: f64,
        /// Mean training loss, with dropout.
        loss: f64,
        /// The task's figures for the loss: for a language model its perplexity, unless it was trained with a sampled softmax.
        figures: Figures,
        /// At this step.
        learning_rate: f64,
        /// Mean norm of the whole gradient before clipping.
        gradient_norm: f64,
        /// Mean norm after clipping.
        clipped_gradient_norm: f64,
        /// Share of the steps whose gradient was clipped.
        clipped_share: f64,
        /// Tokens trained on in a second of training.
        tokens_per_second: f64,
    },
    /// The whole validation part.
    Validation {
        /// The step that it was validated after.
        step: u64,
        /// Epochs so far.
        epoch: f64,
        /// Since the run began.
        seconds: f64,
        /// Mean validation loss.
        loss: f64,
        /// Further figures of the task.
        figures: Figures,
        /// Whether it is the lowest loss so far.
        best: bool,
    },
    /// The test part, once, at the end.
    Test {
        /// The step whose weights were kept and tested.
        step: u64,
        /// Mean test loss.
        loss: f64,
        /// Further figures of the task.
        figures: Figures,
    },
}

impl MetricsRecord {
    /// The step of the record.
    pub fn step(&self) -> u64 {
        match self {
            Self::Training { step, .. } | Self::Validation { step, .. } | Self::Test { step, .. } => *step,
        }
    }

    /// The loss of the record.
    pub fn loss(&self) -> f64 {
        match self {
            Self::Training { loss, .. } | Self::Validation { loss, .. } | Self::Test { loss, .. } => *loss,
        }
    }

    /// The figure of this name.
    pub fn figure(&self, name: &str) -> Option<f64> {
        match self {
            Self::Training { figures, .. }
            | Self::Validation { figures, .. }
            | Self::Test { figures, .. } => figures.get(name),
        }
    }
}

/// A line of `flow.jsonl`: the gradient of the loss at the last token of a window alone, on training text, without dropout.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FlowRecord {
    /// The step that it was measured after.
    pub step: u64,
    /// For each layer from the lowest, the norm of the gradient by its outputs at the last token, at the token before, and so on.
    pub by_distance: Vec<Vec<f64>>,
    /// The norm of the gradient of each parameter.
    pub by_parameter: BTreeMap<String, f64>,
}

/// A line of `samples.jsonl`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SampleRecord {
    /// The step that it was written after.
    pub step: u64,
    /// The perplexity on validation text last measured, if any was.
    pub validation_perplexity: Option<f64>,
    /// The temperature that it was drawn at.
    pub temperature: f64,
    /// Seed text.
    pub seed_text: String,
    /// The sample, without the seed text.
    pub text: String,
    /// Tokens drawn.
    pub tokens: u64,
    /// Whether it ended where a document ends, and not at the limit.
    pub ended: bool,
}

impl FlowRecord {
    /// The file of these records, without its extension.
    pub const FILE: &'static str = "flow";
}

impl SampleRecord {
    /// The file of these records, without its extension.
    pub const FILE: &'static str = "samples";
}

/// A file that lines are added to, each whole before the next begins.
#[derive(Debug)]
pub struct Lines {
    path: PathBuf,
    file: Box<dyn StoredFile>,
    bytes: u64,
}

impl Lines {
    /// Goes on with a file after so many bytes of it: what comes after them is taken away. A file that is not there is made.
    ///
    /// # Errors
    /// An error of the file system.
    pub fn after(folder: &Folder, name: &str, bytes: u64) -> Result<Self, LabError> {
        let path = folder.path_of(name);
        let mut file = folder.append(name)?;
        let length = file.length().map_err(StorageError::at(&path))?;
        let bytes = bytes.min(length);
        if bytes < length {
            file.cut(bytes).map_err(StorageError::at(&path))?;
        }
        Ok(Self { path, file, bytes })
    }

    /// Bytes of the file, once they are all sure to be there.
    ///
    /// # Errors
    /// An error of the file system.
    pub fn synced_bytes(&mut self) -> Result<u64, LabError> {
        self.file.sync().map_err(LabError::at(&self.path))?;
        Ok(self.bytes)
    }

    /// Appends one record.
    ///
    /// # Errors
    /// An error of the file system.
    pub fn push<T: Serialize>(&mut self, record: &T) -> Result<(), LabError> {
        let mut line = serde_json::to_vec(record)
            .map_err(|error| LabError::Io { path: self.path.clone(), source: error.into() })?;
        line.push(b'\n');
        self.file.write_all(&line).map_err(LabError::at(&self.path))?;
        self.bytes += line.len() as u64;
        Ok(())
    }
}

/// The step of the last whole line of a run's metrics, from the end of the file; none where there is none that can be read.
pub fn last_step(path: &Path) -> Option<u64> {
    const TAIL: u64 = 1 << 14;
    let mut file = std::fs::File::open(path).ok()?;
    let length = file.metadata().ok()?.len();
    file.seek(SeekFrom::Start(length.saturating_sub(TAIL))).ok()?;
    let mut bytes = Vec::new();
    file.take(TAIL).read_to_end(&mut bytes).ok()?;
    let whole = &bytes[..bytes.iter().rposition(|&byte| byte == b'\n')?];
    let last = whole.rsplit(|&byte| byte == b'\n').next()?;
    serde_json::from_slice::<MetricsRecord>(last).ok().map(|record| record.step())
}

/// Reads all records of a file back; none if there is no such file. A last line that was cut short is left out: its writer died.
///
/// # Errors
/// The file cannot be read, or a line is not such a record.
pub fn read_lines<T: for<'de> Deserialize<'de>>(path: &Path) -> Result<Vec<T>, LabError> {
    let bytes = match std::fs::read(path) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
        bytes => bytes.map_err(LabError::at(path))?,
    };
    // It may have been cut inside a character.
    let whole = bytes.iter().rposition(|&byte| byte == b'\n').map_or(&[][..], |end| &bytes[..=end]);
    let unreadable = |what: String| LabError::BadRun { path: path.to_owned(), what };
    let text = std::str::from_utf8(whole).map_err(|error| unreadable(error.to_string()))?;
    text.lines()
        .enumerate()
        .map(|(number, line)| {
            serde_json::from_str(line).map_err(|error| unreadable(format!("line {}: {error}", number + 1)))
        })
        .collect()
}
