//! The folder of a run, read: its plan, its description, its records, its checkpoints, its model.

use std::fs::{self, File, TryLockError};
use std::path::{Path, PathBuf};

use super::description::{FORMAT, RunDescription, RunStatus, Standing, VERSION};
use crate::error::LabError;
use crate::plan::Plan;

/// The folder of one run.
#[derive(Debug, Clone)]
pub struct RunFolder {
    path: PathBuf,
}

pub(super) const DESCRIPTION: &str = "run.json";
pub(super) const PLAN: &str = "plan.toml";
/// A plan that replaces the other as soon as the description is written.
pub(super) const NEXT_PLAN: &str = "plan.next.toml";
pub(super) const LOCK: &str = "lock";
const MODEL_EXTENSION: &str = "safetensors";

impl RunFolder {
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

    /// A folder where a run is about to be.
    pub(super) fn at(path: PathBuf) -> Self {
        Self { path }
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

    /// Its state.
    pub fn standing(&self, status: RunStatus) -> Standing {
        match status {
            RunStatus::Finished => Standing::Finished,
            RunStatus::Interrupted => Standing::Interrupted,
            RunStatus::Failed => Standing::Failed,
            RunStatus::Running => {
                let held = File::open(self.path.join(LOCK))
                    .is_ok_and(|lock| matches!(lock.try_lock_shared(), Err(TryLockError::WouldBlock)));
                if held { Standing::Running } else { Standing::Died }
            }
        }
    }

    /// Reads `run.json`.
    ///
    /// # Errors
    /// The file cannot be read, or is not a description.
    pub fn description(&self) -> Result<RunDescription, LabError> {
        let path = self.path.join(DESCRIPTION);
        let bytes = fs::read(&path).map_err(LabError::at(&path))?;
        description_of(&bytes).map_err(|what| LabError::BadRun { path, what })
    }

    /// Reads the run's plan.
    ///
    /// # Errors
    /// The file cannot be read, is no plan, or is not the plan that the run's description records.
    pub fn read_plan(&self) -> Result<Plan, LabError> {
        let hash = self.description()?.plan_hash;
        // While a plan is replaced, the new one has another name.
        for path in [self.plan(), self.path.join(NEXT_PLAN)] {
            let text = match fs::read_to_string(&path) {
                Err(error) if error.kind() == std::io::ErrorKind::NotFound => continue,
                text => text.map_err(LabError::at(&path))?,
            };
            if plan_hash(text.as_bytes()) == hash {
                return Plan::from_toml(&text, &[])
                    .map_err(|error| LabError::BadRun { path, what: error.to_string() });
            }
        }
        Err(LabError::ForeignPlan(self.plan()))
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

    /// The folder.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Its name.
    pub fn name(&self) -> String {
        name_of(&self.path)
    }

    /// `plan.toml`.
    pub fn plan(&self) -> PathBuf {
        self.path.join(PLAN)
    }

    /// The file of records of this name, such as `metrics.jsonl`.
    pub fn records(&self, name: &str) -> PathBuf {
        self.path.join(records_file(name))
    }

    /// `metrics.jsonl`.
    pub fn metrics(&self) -> PathBuf {
        self.records("metrics")
    }

    /// `vocabulary.json`.
    pub fn vocabulary(&self) -> PathBuf {
        self.path.join("vocabulary.json")
    }

    /// `split.json`, of a classifier's run.
    pub fn split(&self) -> PathBuf {
        self.path.join("split.json")
    }

    /// The model file: the best weights so far, see [`model_in`].
    pub fn model(&self) -> PathBuf {
        model_in(&self.path)
    }

    /// `checkpoints`: the states to resume from.
    pub fn checkpoints(&self) -> PathBuf {
        self.path.join(CHECKPOINTS)
    }
}

/// The folder of checkpoints.
pub(crate) const CHECKPOINTS: &str = "checkpoints";

/// The file of records of this name.
pub(crate) fn records_file(name: &str) -> String {
    format!("{name}.jsonl")
}

/// The hash of a plan's file.
pub(super) fn plan_hash(text: &[u8]) -> String {
    blake3::hash(text).to_hex().to_string()
}

/// Takes a description apart; the error is a phrase that says what is wrong.
pub(super) fn description_of(bytes: &[u8]) -> Result<RunDescription, String> {
    let found: RunDescription = serde_json::from_slice(bytes).map_err(|error| error.to_string())?;
    if found.format != FORMAT || found.version != VERSION {
        let RunDescription { format, version, .. } = found;
        return Err(format!("its format is `{format}` {version}, not `{FORMAT}` {VERSION}"));
    }
    Ok(found)
}

/// The model file in a folder. It has the name of the folder; in a run's folder that was renamed it keeps the name that it has.
pub fn model_in(folder: &Path) -> PathBuf {
    let named = folder.join(format!("{}.{MODEL_EXTENSION}", name_of(folder)));
    if named.is_file() {
        return named;
    }
    let entries = fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path());
    let mut models = entries.filter(|path| {
        path.extension().is_some_and(|extension| extension == MODEL_EXTENSION)
            && !path.file_name().is_some_and(|name| name.as_encoded_bytes().starts_with(b"."))
            && path.is_file()
    });
    match (models.next(), models.next()) {
        (Some(only), None) => only,
        _ => named,
    }
}

/// The last part of a folder's path, symbolic links and `..` resolved.
fn name_of(folder: &Path) -> String {
    let full = || folder.canonicalize().ok()?.file_name().map(ToOwned::to_owned);
    let name = folder.file_name().map(ToOwned::to_owned).or_else(full);
    name.map(|name| name.to_string_lossy().into_owned()).unwrap_or_default()
}
