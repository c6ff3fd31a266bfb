//! The folder of a run: its plan, its description, its records, its checkpoints, its model.

use std::fs::{self, File, TryLockError};
use std::path::{Path, PathBuf};
use std::time::Duration;

use super::description::{RunDescription, RunStatus, Standing};
use crate::error::LabError;
use crate::plan::Plan;
use crate::storage::files::{Existing, write_whole};

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
const MODEL_EXTENSION: &str = "safetensors";

impl RunFolder {
    /// Makes the folder `parent/name` with the plan, the description and the task's own files, and claims it. It is put together beside its place, so that
    /// a run is there whole or not at all. With [`Existing::Replace`] an older run of that name gives way; anything else of that name never does.
    ///
    /// # Errors
    /// The place is taken; the older run is being trained; the file system refuses.
    pub fn create(
        parent: &Path,
        plan: &Plan,
        description: &RunDescription,
        files: &[(&str, String)],
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
        write_whole(&run.plan(), plan.to_toml()?.as_bytes(), Existing::Keep)?;
        for (name, content) in files {
            write_whole(&run.path.join(name), content.as_bytes(), Existing::Keep)?;
        }
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
        name_of(&self.path)
    }

    /// `plan.toml`.
    pub fn plan(&self) -> PathBuf {
        self.path.join("plan.toml")
    }

    /// The file of records of this name, such as `metrics.jsonl`.
    pub fn records(&self, name: &str) -> PathBuf {
        self.path.join(format!("{name}.jsonl"))
    }

    /// `metrics.jsonl`.
    pub fn metrics(&self) -> PathBuf {
        self.records("metrics")
    }

    /// `vocabulary.json`.
    pub fn vocabulary(&self) -> PathBuf {
        self.path.join("vocabulary.json")
    }

    /// The model file: the best weights so far, see [`model_in`].
    pub fn model(&self) -> PathBuf {
        model_in(&self.path)
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

/// The model file in a folder. It has the name of the folder; in a run's folder that was renamed it keeps the name that it has.
pub fn model_in(folder: &Path) -> PathBuf {
    let named = folder.join(format!("{}.{MODEL_EXTENSION}", name_of(folder)));
    if named.is_file() {
        return named;
    }
    let entries = fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path());
    let mut models = entries.filter(|path| {
        path.extension().is_some_and(|extension| extension == MODEL_EXTENSION) && path.is_file()
    });
    match (models.next(), models.next()) {
        (Some(only), None) => only,
        _ => named,
    }
}

/// The last part of a folder's path, whatever way leads there.
fn name_of(folder: &Path) -> String {
    let full = || folder.canonicalize().ok()?.file_name().map(ToOwned::to_owned);
    let name = folder.file_name().map(ToOwned::to_owned).or_else(full);
    name.map(|name| name.to_string_lossy().into_owned()).unwrap_or_default()
}
