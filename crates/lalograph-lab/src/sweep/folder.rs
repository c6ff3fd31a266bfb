//! The folder of a sweep: what it is, its ledger, and the runs of its trials. `docs/formats/sweep.md` describes it.

use std::ffi::OsStr;
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use lalograph_storage::folder::HIDDEN;
use lalograph_storage::{Existing, Folder, Storage, StorageError};

use super::error::SweepError;
use super::figure::Figure;
use super::ledger::Ledger;
use super::ranking::Ranked;
use super::spec::{SweepSpec, Trial};
use crate::error::LabError;
use crate::plan::Plan;
use crate::run::claim::Claim;
use crate::run::folder::{CHECKPOINTS, RunFolder};

const DESCRIPTION: &str = "sweep.json";
/// The folder of the runs.
const TRIALS: &str = "trials";
/// The locks of trials.
const CLAIMS: &str = "claims";
/// The plan of the best setting.
const BEST: &str = "best.toml";

/// The folder of a sweep.
#[derive(Debug, Clone)]
pub struct SweepFolder {
    path: PathBuf,
    spec: SweepSpec,
    figure: Figure,
}

impl SweepFolder {
    /// Whether a folder is that of a sweep.
    pub fn is_one(path: &Path) -> bool {
        path.join(DESCRIPTION).is_file()
    }

    /// Opens the folder of a sweep.
    ///
    /// # Errors
    /// It is none; its description cannot be read.
    pub fn open(path: &Path) -> Result<Self, SweepError> {
        if !Self::is_one(path) {
            return Err(SweepError::NotASweep(path.to_owned()));
        }
        let file = path.join(DESCRIPTION);
        let bytes = fs::read(&file).map_err(LabError::at(&file))?;
        let spec = SweepSpec::from_json(&bytes).map_err(|what| SweepError::Bad { path: file, what })?;
        Ok(Self::at(path, spec))
    }

    fn at(path: &Path, spec: SweepSpec) -> Self {
        let figure = Figure::of(&spec.plan, spec.varied.iter().map(|one| one.key.as_str()));
        Self { path: path.to_owned(), spec, figure }
    }

    /// Makes the folder of a new sweep, or opens that of the same one, to go on with it or to take part in it. The second value says whether it
    /// was there.
    ///
    /// # Errors
    /// The folder holds another sweep, or something else; what the file system refuses.
    pub fn make_or_join(
        storage: &dyn Storage,
        path: &Path,
        spec: SweepSpec,
    ) -> Result<(Self, bool), SweepError> {
        if !Self::is_one(path) {
            if path.exists() && !path.is_dir() {
                return Err(SweepError::NotASweep(path.to_owned()));
            }
            let folder = Folder::make(storage, path)?;
            // A process may have died while it wrote the description.
            let own = |name: &OsStr| name.as_bytes().starts_with(HIDDEN.as_bytes());
            if folder.entries()?.iter().any(|(name, _)| !own(name)) && !Self::is_one(path) {
                return Err(SweepError::NotASweep(path.to_owned()));
            }
            match folder.write(DESCRIPTION, spec.to_json()?.as_bytes(), Existing::Keep) {
                Ok(()) => return Ok((Self::at(path, spec), false)),
                // Another process was faster, or is about to be.
                Err(StorageError::Exists(_) | StorageError::Busy(_)) => wait_for(path),
                Err(error) => return Err(error.into()),
            }
        }
        let there = Self::open(path)?;
        let differences = there.spec.differences(&spec)?;
        if differences.is_empty() {
            Ok((there, true))
        } else {
            Err(SweepError::Another { path: path.to_owned(), differences })
        }
    }

    /// What the sweep is.
    pub fn spec(&self) -> &SweepSpec {
        &self.spec
    }

    /// The figure that its trials are compared by.
    pub fn figure(&self) -> Figure {
        self.figure
    }

    /// The folder.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The folder of its runs.
    pub fn trials(&self) -> PathBuf {
        self.path.join(TRIALS)
    }

    /// The folder of a trial's run, which may not be there yet.
    pub fn run(&self, trial: Trial) -> PathBuf {
        self.trials().join(self.spec.name(trial))
    }

    /// The file of a trial's word vectors, in its folder as the model is in that of a run.
    pub(super) fn vectors(&self, trial: Trial) -> PathBuf {
        self.run(trial).join(format!("{}.safetensors", self.spec.name(trial)))
    }

    /// Where the plan of the best setting is written.
    pub fn best_plan(&self) -> PathBuf {
        self.path.join(BEST)
    }

    /// Its ledger, not read yet.
    ///
    /// # Errors
    /// The folder cannot be opened.
    pub fn ledger(&self, storage: &dyn Storage) -> Result<Ledger, SweepError> {
        Ok(Ledger::new(Folder::open(storage, &self.path)?, &self.spec))
    }

    /// Takes a lock by its name, if no other process or thread has it.
    pub(super) fn claim(&self, storage: &dyn Storage, name: &str) -> Result<Option<Held>, SweepError> {
        let folder = Folder::open(storage, &self.path)?.make_folder(CLAIMS)?;
        let lock = folder.append(name)?;
        let free = lock.try_lock().map_err(StorageError::at(&folder.path_of(name)))?;
        Ok(free.then_some(Held { _lock: lock }))
    }

    /// Removes the checkpoints of a trial, and its model too if it is not to be kept. A trial that another process has is left alone.
    pub(super) fn shed(&self, storage: &dyn Storage, trial: Trial, model: bool) -> Result<(), SweepError> {
        if self.spec.plan.vectors.is_some() {
            let file = self.vectors(trial);
            if let (true, Some(folder), Some(name)) =
                (model && file.is_file(), file.parent(), file.file_name())
            {
                Folder::open(storage, folder)?.remove_file(name)?;
            }
            return Ok(());
        }
        let Ok(run) = RunFolder::open(&self.run(trial)) else { return Ok(()) };
        let has_model = model && run.model().is_file();
        if !has_model && !run.checkpoints().exists() {
            return Ok(());
        }
        let claim = match Claim::of(storage, &run) {
            Err(LabError::Busy(_)) => return Ok(()),
            claim => claim?,
        };
        claim.folder().remove_all(CHECKPOINTS)?;
        if has_model && let Some(name) = run.model().file_name() {
            claim.folder().remove_file(name)?;
        }
        Ok(())
    }

    /// Writes the plan of the best setting: that of the sweep with the setting's values, as a file that every command takes.
    pub(super) fn write_best(&self, storage: &dyn Storage, best: &Ranked) -> Result<(), SweepError> {
        let plan: Plan = self.spec.plan_of_setting(best.setting)?;
        let values = self.spec.overrides(best.setting).join("\n#   ");
        let figure = self.figure.of_cost(best.cost);
        let text = format!(
            "# The best of {} settings of a sweep: {} {figure:.4}.\n#   {values}\n\n{}",
            self.spec.settings().len(),
            self.figure.name(),
            plan.to_toml()?
        );
        let folder = Folder::open(storage, &self.path)?;
        if folder.read(BEST)?.as_deref() != Some(text.as_bytes()) {
            folder.write(BEST, text.as_bytes(), Existing::Replace)?;
        }
        Ok(())
    }
}

/// Waits until the description that another process writes is there.
fn wait_for(path: &Path) {
    const PATIENCE: u32 = 500;
    const PAUSE: Duration = Duration::from_millis(10);
    for _ in 0..PATIENCE {
        if SweepFolder::is_one(path) {
            return;
        }
        std::thread::sleep(PAUSE);
    }
}

/// A lock that is held until it is dropped, or until its process ends.
#[derive(Debug)]
pub(super) struct Held {
    _lock: Box<dyn lalograph_storage::storage::StoredFile>,
}
