//! The right to write to a run. Whoever has it writes through the folder that was claimed: when the folder is moved the writing goes with
//! it, and when it is gone the writing fails.

use std::path::{Path, PathBuf};
use std::time::Duration;

use lalograph_storage::storage::StoredFile;
use lalograph_storage::whole::sweep;
use lalograph_storage::{Existing, Folder, Storage, StorageError};

use super::description::RunDescription;
use super::folder::{CHECKPOINTS, DESCRIPTION, LOCK, NEXT_PLAN, PLAN, RunFolder, description_of, plan_hash};
use crate::error::LabError;
use crate::plan::Plan;

/// The exclusive right to write to a run. The system releases it when the process ends, in whatever way.
#[derive(Debug)]
pub struct Claim {
    folder: Folder,
    _lock: Box<dyn StoredFile>,
}

impl Claim {
    /// Claims a run for this process, and tidies up what a dead one left.
    ///
    /// # Errors
    /// [`LabError::Busy`] if another process has it; what the file system refuses.
    pub fn of(storage: &dyn Storage, run: &RunFolder) -> Result<Self, LabError> {
        let folder = Folder::open(storage, run.path())?;
        let claim = Self::within(folder)?;
        // It was moved, or replaced, before it was claimed.
        if !claim.folder.is_in_its_place(storage) {
            return Err(LabError::Busy(run.path().to_owned()));
        }
        claim.tidy()?;
        Ok(claim)
    }

    /// Claims a folder that nobody else knows of, or that is a run.
    pub(super) fn within(folder: Folder) -> Result<Self, LabError> {
        let path = folder.path_of(LOCK);
        let lock = folder.append(LOCK)?;
        // A process that only checks the lock holds it for an instant.
        for _ in 0..50 {
            if lock.try_lock().map_err(StorageError::at(&path))? {
                return Ok(Self { folder, _lock: lock });
            }
            std::thread::sleep(Duration::from_millis(10));
        }
        Err(LabError::Busy(folder.path().to_owned()))
    }

    /// The same claim, on the folder under the name that it was given since.
    pub(super) fn moved_to(self, path: PathBuf) -> Self {
        Self { folder: self.folder.moved_to(path), ..self }
    }

    /// The folder, open.
    pub fn folder(&self) -> &Folder {
        &self.folder
    }

    /// Its path.
    pub fn path(&self) -> &Path {
        self.folder.path()
    }

    /// Writes `run.json` again.
    ///
    /// # Errors
    /// An error of the file system.
    pub fn describe(&self, description: &RunDescription) -> Result<(), LabError> {
        let mut json =
            serde_json::to_vec_pretty(description).map_err(|error| LabError::Write(error.to_string()))?;
        json.push(b'\n');
        Ok(self.folder.write(DESCRIPTION, &json, Existing::Replace)?)
    }

    /// Gives the run another plan: the moment at which the description is written again decides which of the two it has.
    ///
    /// # Errors
    /// An error of the file system.
    pub(crate) fn change_plan(&self, plan: &Plan, description: &mut RunDescription) -> Result<(), LabError> {
        let text = plan.to_toml()?;
        self.folder.write(NEXT_PLAN, text.as_bytes(), Existing::Replace)?;
        description.plan_hash = plan_hash(text.as_bytes());
        self.describe(description)?;
        self.put_next_plan()
    }

    fn put_next_plan(&self) -> Result<(), LabError> {
        self.folder.rename(NEXT_PLAN, PLAN, Existing::Replace)?;
        Ok(self.folder.sync()?)
    }

    /// Removes what a process that died left behind, and finishes what it had started.
    fn tidy(&self) -> Result<(), LabError> {
        sweep(&self.folder)?;
        if self.folder.entry(CHECKPOINTS)?.is_some() {
            sweep(&self.folder.folder(CHECKPOINTS)?)?;
        }
        let Some(next) = self.folder.read(NEXT_PLAN)? else {
            return Ok(());
        };
        let described = self.folder.read(DESCRIPTION)?.unwrap_or_default();
        match description_of(&described) {
            Ok(description) if description.plan_hash == plan_hash(&next) => self.put_next_plan(),
            // The description was not written any more: the run has the plan that it had.
            Ok(_) => Ok(self.folder.remove_file(NEXT_PLAN)?),
            Err(what) => Err(LabError::BadRun { path: self.folder.path_of(DESCRIPTION), what }),
        }
    }
}
