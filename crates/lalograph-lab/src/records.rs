//! What a run writes down as it goes: `metrics.jsonl` and `samples.jsonl`, one JSON object a line.

use std::collections::BTreeMap;
use std::fs::{File, OpenOptions};
use std::io::Write;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::error::LabError;

/// A line of `metrics.jsonl`. Losses are natural-log cross-entropies per token; perplexity is e to that power.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case", deny_unknown_fields)]
pub enum MetricsRecord {
    /// Means over the steps since the last such record.
    Training {
        /// The step that it was written after, from 1.
        step: u64,
        /// Passes over the training text so far.
        epoch: f64,
        /// Tokens learnt from so far.
        tokens: u64,
        /// Since the run began.
        seconds: f64,
        /// Mean loss on training text, with dropout.
        training_loss: f64,
        /// Its perplexity; none if the softmax was trained against a sample of the vocabulary.
        training_perplexity: Option<f64>,
        /// At this step.
        learning_rate: f64,
        /// Mean norm of the whole gradient before clipping.
        gradient_norm: f64,
        /// Mean norm after clipping.
        #[serde(default)]
        clipped_gradient_norm: f64,
        /// Share of the steps whose gradient was clipped.
        clipped_share: f64,
        /// Tokens learnt from in a second of training.
        tokens_per_second: f64,
    },
    /// The whole validation text.
    Validation {
        /// The step that it was judged after.
        step: u64,
        /// Passes over the training text so far.
        epoch: f64,
        /// Since the run began.
        seconds: f64,
        /// Mean loss on validation text.
        validation_loss: f64,
        /// Its perplexity.
        validation_perplexity: f64,
        /// Bits for each byte of its raw text.
        bits_per_byte: f64,
        /// Whether it is the lowest so far.
        best: bool,
    },
    /// The test text, once, at the end.
    Test {
        /// The step whose weights were kept and judged.
        step: u64,
        /// Mean loss on test text.
        test_loss: f64,
        /// Its perplexity.
        test_perplexity: f64,
        /// Bits for each byte of its raw text.
        bits_per_byte: f64,
    },
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
    /// What it goes on from.
    pub seed_text: String,
    /// The sample, without the seed text.
    pub text: String,
    /// Tokens drawn.
    pub tokens: u64,
    /// Whether it ended where a document ends, and not at the limit.
    pub ended: bool,
}

/// A file that lines are added to, each whole before the next begins.
#[derive(Debug)]
pub struct Lines {
    path: PathBuf,
    file: File,
    bytes: u64,
}

impl Lines {
    /// Goes on with a file after so many bytes of it: what comes after them is taken away. A file that is not there is made.
    ///
    /// # Errors
    /// What the file system refuses.
    pub fn after(path: &Path, bytes: u64) -> Result<Self, LabError> {
        let file = OpenOptions::new().create(true).append(true).open(path).map_err(LabError::at(path))?;
        let length = file.metadata().map_err(LabError::at(path))?.len();
        let bytes = bytes.min(length);
        if bytes < length {
            file.set_len(bytes).map_err(LabError::at(path))?;
        }
        Ok(Self { path: path.to_owned(), file, bytes })
    }

    /// Bytes of the file, once they are all sure to be there.
    ///
    /// # Errors
    /// What the file system refuses.
    pub fn synced_bytes(&self) -> Result<u64, LabError> {
        self.file.sync_data().map_err(LabError::at(&self.path))?;
        Ok(self.bytes)
    }

    /// Appends one record.
    ///
    /// # Errors
    /// What the file system refuses.
    pub fn push<T: Serialize>(&mut self, record: &T) -> Result<(), LabError> {
        let mut line = serde_json::to_vec(record)
            .map_err(|error| LabError::Io { path: self.path.clone(), source: error.into() })?;
        line.push(b'\n');
        self.file.write_all(&line).map_err(LabError::at(&self.path))?;
        self.bytes += line.len() as u64;
        Ok(())
    }
}

/// Reads all records of a file back; none if there is no such file. A last line that was cut short is left out: its writer died.
///
/// # Errors
/// The file cannot be read, or a line is not such a record.
pub fn read_lines<T: for<'de> Deserialize<'de>>(path: &Path) -> Result<Vec<T>, LabError> {
    let text = match std::fs::read_to_string(path) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
        text => text.map_err(LabError::at(path))?,
    };
    let whole = text.rfind('\n').map_or("", |end| &text[..=end]);
    whole
        .lines()
        .enumerate()
        .map(|(number, line)| {
            serde_json::from_str(line).map_err(|error| LabError::BadRun {
                path: path.to_owned(),
                what: format!("line {}: {error}", number + 1),
            })
        })
        .collect()
}
