//! The folder of a run: its plan, its data by hash, its records, its model.

use std::fs;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::error::LabError;
use crate::files::{Existing, write_whole};
use crate::plan::Plan;

/// How a run stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RunStatus {
    /// It is being trained, or its process died.
    Running,
    /// All steps were made.
    Finished,
    /// Somebody stopped it; the best model so far is there.
    Interrupted,
    /// It could not go on.
    Failed,
}

/// `run.json`: what a run is, besides its plan.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RunDescription {
    /// Its name, that of its folder.
    pub name: String,
    /// When it began, by the clock of the machine, with the offset from UTC.
    pub started: String,
    /// How it stands.
    pub status: RunStatus,
    /// The version of the program.
    pub program_version: String,
    /// Documents read.
    pub documents: u64,
    /// Raw bytes of their text.
    pub text_bytes: u64,
    /// Hash of their text.
    pub text_hash: String,
    /// Hash of the vocabulary.
    pub vocabulary_hash: String,
    /// Steps made.
    pub steps: u64,
    /// Lowest validation loss, if any was measured.
    pub best_validation_loss: Option<f64>,
}

/// The folder of one run.
#[derive(Debug, Clone)]
pub struct RunFolder {
    path: PathBuf,
}

impl RunFolder {
    /// Makes the folder `parent/name` and writes the plan and the description into it. With [`Existing::Replace`] an older
    /// run of that name gives way; anything else of that name never does.
    ///
    /// # Errors
    /// The place is taken; the file system refuses.
    pub fn create(
        parent: &Path,
        plan: &Plan,
        description: &RunDescription,
        existing: Existing,
    ) -> Result<Self, LabError> {
        let path = parent.join(&description.name);
        if path.exists() {
            if existing == Existing::Keep {
                return Err(LabError::Exists(path));
            }
            if !path.join("run.json").is_file() {
                return Err(LabError::NotARun(path));
            }
            fs::remove_dir_all(&path).map_err(LabError::at(&path))?;
        }
        fs::create_dir_all(parent).map_err(LabError::at(parent))?;
        fs::create_dir(&path).map_err(LabError::at(&path))?;
        let run = Self { path };
        write_whole(&run.plan(), plan.to_toml().as_bytes(), Existing::Keep)?;
        run.describe(description)?;
        Ok(run)
    }

    /// Writes `run.json` anew.
    ///
    /// # Errors
    /// What the file system refuses.
    pub fn describe(&self, description: &RunDescription) -> Result<(), LabError> {
        let mut json = serde_json::to_vec_pretty(description)
            .map_err(|error| LabError::Io { path: self.path.clone(), source: error.into() })?;
        json.push(b'\n');
        write_whole(&self.path.join("run.json"), &json, Existing::Replace)
    }

    /// The folder.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// `plan.toml`.
    pub fn plan(&self) -> PathBuf {
        self.path.join("plan.toml")
    }

    /// `metrics.jsonl`.
    pub fn metrics(&self) -> PathBuf {
        self.path.join("metrics.jsonl")
    }

    /// `flow.jsonl`.
    pub fn flow(&self) -> PathBuf {
        self.path.join("flow.jsonl")
    }

    /// `samples.jsonl`.
    pub fn samples(&self) -> PathBuf {
        self.path.join("samples.jsonl")
    }

    /// `vocabulary.json`.
    pub fn vocabulary(&self) -> PathBuf {
        self.path.join("vocabulary.json")
    }

    /// `model.safetensors`: the best weights so far.
    pub fn model(&self) -> PathBuf {
        self.path.join("model.safetensors")
    }
}
