//! The folder of a run: its plan, its data by hash, its records, its checkpoints, its model.

use std::fs::{self, File, TryLockError};
use std::path::{Path, PathBuf};
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::error::LabError;
use crate::files::{Existing, write_whole};
use crate::plan::Plan;
use crate::score::Score;

/// How a run stands, as it was last written down.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RunStatus {
    /// It is being trained, or its process died.
    #[default]
    Running,
    /// All steps were made, or it was stopped early because nothing was gained any more.
    Finished,
    /// Somebody stopped it; the best model so far is there.
    Interrupted,
    /// It could not go on.
    Failed,
}

/// How a run really stands: what is written down, and whether a process holds it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Standing {
    /// A process is training it.
    Running,
    /// All steps were made, or it was stopped early.
    Finished,
    /// Somebody stopped it.
    Interrupted,
    /// It could not go on.
    Failed,
    /// Its process ended without a word.
    Died,
}

impl Standing {
    /// In one word.
    pub fn name(self) -> &'static str {
        match self {
            Self::Running => "running",
            Self::Finished => "finished",
            Self::Interrupted => "interrupted",
            Self::Failed => "failed",
            Self::Died => "died",
        }
    }
}

/// Somebody went on with a run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Resumption {
    /// When, as [`RunDescription::started`].
    pub time: String,
    /// After which step.
    pub step: u64,
    /// What was changed in the plan, as `section.key = value`.
    pub changed: Vec<String>,
}

/// What is known of a run's text before anything is learnt from it.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TextFacts {
    /// Tokens learnt from in a pass.
    pub training_tokens: u64,
    /// Tokens of the validation text.
    pub validation_tokens: u64,
    /// Tokens of the test text.
    pub test_tokens: u64,
    /// The share of the validation tokens that the vocabulary does not know.
    pub unknown_share: Option<f64>,
    /// The share of the validation documents that stand word for word in the training text.
    pub seen_share: Option<f64>,
    /// Mean loss of the unigram model on the validation text.
    pub unigram_loss: Option<f64>,
    /// Steps of one pass.
    pub steps_per_epoch: u64,
}

/// `run.json`: what a run is, besides its plan.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
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
    /// The folder that the plan's paths are meant from.
    #[serde(default)]
    pub working_folder: Option<PathBuf>,
    /// Indices of the vocabulary.
    #[serde(default)]
    pub vocabulary_size: u64,
    /// Numbers that are learnt.
    #[serde(default)]
    pub parameters: u64,
    /// Steps planned.
    #[serde(default)]
    pub planned_steps: u64,
    /// The step of the lowest validation loss.
    #[serde(default)]
    pub best_step: Option<u64>,
    /// Whether it ended before its last step because nothing was gained any more.
    #[serde(default)]
    pub stopped_early: bool,
    /// The test text under the weights that were kept.
    #[serde(default)]
    pub test: Option<Score>,
    /// Why it could not go on.
    #[serde(default)]
    pub failure: Option<String>,
    /// The step at which its numbers were no longer finite, if that is why.
    #[serde(default)]
    pub not_finite_step: Option<u64>,
    /// What is known of its text.
    #[serde(default)]
    pub text: TextFacts,
    /// When it was resumed.
    #[serde(default)]
    pub resumed: Vec<Resumption>,
}

/// The folder of one run.
#[derive(Debug, Clone)]
pub struct RunFolder {
    path: PathBuf,
}

/// The right to write to a run, for as long as it is kept. The system takes it back when the process ends, however it ends.
#[derive(Debug)]
pub struct Claim {
    _lock: File,
}

const DESCRIPTION: &str = "run.json";

impl RunFolder {
    /// Makes the folder `parent/name` with the plan, the description and the vocabulary, and claims it. It is put together beside its place, so that
    /// a run is there whole or not at all. With [`Existing::Replace`] an older run of that name gives way; anything else of that name never does.
    ///
    /// # Errors
    /// The place is taken; the older run is being trained; the file system refuses.
    pub fn create(
        parent: &Path,
        plan: &Plan,
        description: &RunDescription,
        vocabulary: &str,
        existing: Existing,
    ) -> Result<(Self, Claim), LabError> {
        let path = parent.join(&description.name);
        let older = path.symlink_metadata().is_ok();
        if older && existing == Existing::Keep {
            return Err(LabError::Exists(path));
        }
        fs::create_dir_all(parent).map_err(LabError::at(parent))?;
        let beside = || {
            tempfile::Builder::new()
                .prefix(".lalograph-")
                .permissions(folder_permissions())
                .tempdir_in(parent)
        };
        let new = beside().map_err(LabError::at(parent))?;
        let run = Self { path: new.path().to_owned() };
        write_whole(&run.plan(), plan.to_toml().as_bytes(), Existing::Keep)?;
        write_whole(&run.vocabulary(), vocabulary.as_bytes(), Existing::Keep)?;
        run.describe(description)?;
        let claim = run.claim()?;
        if older {
            let old = Self::open(&path)?;
            let _held = old.claim()?;
            // Moved away first, so that nothing is lost if the new run cannot take its place.
            let away = beside().map_err(LabError::at(parent))?;
            fs::rename(&path, away.path()).map_err(LabError::at(&path))?;
            if let Err(error) = fs::rename(new.path(), &path) {
                let _ = fs::rename(away.path(), &path);
                return Err(LabError::at(&path)(error));
            }
        } else if let Err(error) = fs::rename(new.path(), &path) {
            let taken = path.symlink_metadata().is_ok();
            return Err(if taken { LabError::Exists(path) } else { LabError::at(&path)(error) });
        }
        // What stood there is in its place now: there is nothing to be taken away.
        let _ = new.keep();
        File::open(parent).and_then(|folder| folder.sync_all()).map_err(LabError::at(parent))?;
        Ok((Self { path }, claim))
    }

    /// A folder that holds a run.
    ///
    /// # Errors
    /// [`LabError::NotARun`].
    pub fn open(path: &Path) -> Result<Self, LabError> {
        if path.join(DESCRIPTION).is_file() {
            Ok(Self { path: path.to_owned() })
        } else {
            Err(LabError::NotARun(path.to_owned()))
        }
    }

    /// The runs in a folder, by name; none if there is no such folder.
    ///
    /// # Errors
    /// A folder that cannot be read.
    pub fn all(parent: &Path) -> Result<Vec<Self>, LabError> {
        let entries = match fs::read_dir(parent) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
            entries => entries.map_err(LabError::at(parent))?,
        };
        let mut runs = Vec::new();
        for entry in entries {
            let entry = entry.map_err(LabError::at(parent))?;
            if !entry.file_name().as_encoded_bytes().starts_with(b".") {
                runs.extend(Self::open(&entry.path()));
            }
        }
        runs.sort_by(|a, b| a.path.cmp(&b.path));
        Ok(runs)
    }

    /// Claims the run for this process.
    ///
    /// # Errors
    /// [`LabError::Busy`] if another process has it.
    pub fn claim(&self) -> Result<Claim, LabError> {
        let path = self.path.join("lock");
        let lock = File::options().create(true).append(true).open(&path).map_err(LabError::at(&path))?;
        // Somebody who looks whether it is held holds it for an instant.
        for _ in 0..50 {
            match lock.try_lock() {
                Ok(()) => return Ok(Claim { _lock: lock }),
                Err(TryLockError::WouldBlock) => std::thread::sleep(Duration::from_millis(10)),
                Err(TryLockError::Error(error)) => return Err(LabError::at(&path)(error)),
            }
        }
        Err(LabError::Busy(self.path.clone()))
    }

    /// How it stands.
    pub fn standing(&self, status: RunStatus) -> Standing {
        match status {
            RunStatus::Finished => Standing::Finished,
            RunStatus::Interrupted => Standing::Interrupted,
            RunStatus::Failed => Standing::Failed,
            RunStatus::Running => {
                let held = File::open(self.path.join("lock"))
                    .is_ok_and(|lock| matches!(lock.try_lock_shared(), Err(TryLockError::WouldBlock)));
                if held { Standing::Running } else { Standing::Died }
            }
        }
    }

    /// Writes `run.json` anew.
    ///
    /// # Errors
    /// What the file system refuses.
    pub fn describe(&self, description: &RunDescription) -> Result<(), LabError> {
        let mut json = serde_json::to_vec_pretty(description)
            .map_err(|error| LabError::Io { path: self.path.clone(), source: error.into() })?;
        json.push(b'\n');
        write_whole(&self.path.join(DESCRIPTION), &json, Existing::Replace)
    }

    /// Reads `run.json`.
    ///
    /// # Errors
    /// It cannot be read, or is not a description.
    pub fn description(&self) -> Result<RunDescription, LabError> {
        let path = self.path.join(DESCRIPTION);
        let bytes = fs::read(&path).map_err(LabError::at(&path))?;
        serde_json::from_slice(&bytes).map_err(|error| LabError::BadRun { path, what: error.to_string() })
    }

    /// Reads `plan.toml`.
    ///
    /// # Errors
    /// It cannot be read, or is no plan.
    pub fn read_plan(&self) -> Result<Plan, LabError> {
        let path = self.plan();
        let text = fs::read_to_string(&path).map_err(LabError::at(&path))?;
        Plan::from_toml(&text, &[]).map_err(|error| LabError::BadRun { path, what: error.to_string() })
    }

    /// Bytes of all files in it.
    pub fn bytes(&self) -> u64 {
        fn of(folder: &Path) -> u64 {
            let entries = fs::read_dir(folder).into_iter().flatten().flatten();
            entries
                .map(|entry| match entry.metadata() {
                    Ok(meta) if meta.is_dir() => of(&entry.path()),
                    Ok(meta) => meta.len(),
                    Err(_) => 0,
                })
                .sum()
        }
        of(&self.path)
    }

    /// Removes the run with all that is in its folder.
    ///
    /// # Errors
    /// It is being trained; the file system refuses.
    pub fn remove(self) -> Result<(), LabError> {
        let _held = self.claim()?;
        // Moved away first: a run is there whole or not at all.
        let parent =
            self.path.parent().filter(|parent| !parent.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let away = tempfile::Builder::new()
            .prefix(".lalograph-")
            .tempdir_in(parent)
            .map_err(LabError::at(parent))?;
        fs::rename(&self.path, away.path()).map_err(LabError::at(&self.path))?;
        away.close().map_err(LabError::at(parent))
    }

    /// The folder.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Its name.
    pub fn name(&self) -> String {
        self.path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default()
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

    /// `checkpoints`: what it is resumed from.
    pub fn checkpoints(&self) -> PathBuf {
        self.path.join("checkpoints")
    }
}

/// The usual ones of a new folder, less what the user's mask takes away; temporary folders are private otherwise.
fn folder_permissions() -> fs::Permissions {
    use std::os::unix::fs::PermissionsExt;
    fs::Permissions::from_mode(0o777)
}
