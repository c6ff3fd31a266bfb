//! The folder that runs are kept in. A run comes there, goes, or gives way to another in one step; whoever does so holds the folder's lock, and
//! first finishes what a process that died there had started.

use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use lalograph_storage::folder::HIDDEN;
use lalograph_storage::storage::{Entry, StoredFile};
use lalograph_storage::whole::sweep;
use lalograph_storage::{Existing, Folder, Storage, StorageError};

use super::claim::Claim;
use super::description::{FORMAT, RunDescription, VERSION};
use super::folder::{PLAN, RunFolder, plan_hash};
use crate::error::LabError;
use crate::plan::Plan;

/// Prefixes of hidden folders: a run being made, a run being replaced, a run being removed.
const NEW: &str = "new-";
const OLD: &str = "old-";
const GONE: &str = "gone-";
/// Locked by the process that changes the folder.
pub const LOCK: &str = ".lalograph-lock";

/// Whether a run can have this name: one part of a path, not hidden.
pub fn is_name(name: &str) -> bool {
    let outside = |c: char| matches!(c, '/' | '\\') || c.is_control();
    !name.is_empty() && !name.starts_with('.') && !name.contains(outside)
}

fn hidden(kind: &str, name: &OsStr) -> OsString {
    let mut hidden = OsString::from(format!("{HIDDEN}{kind}"));
    hidden.push(name);
    hidden
}

/// Makes the folder `parent/name` with the plan, the description and the task's own files, and claims it; the description comes back as it was
/// written. The folder is put together beside its place, so
/// that a run is written completely or not at all. With [`Existing::Replace`] an older run of that name gives way; anything else of that name
/// never does.
///
/// # Errors
/// The place is taken; the older run is being trained; the file system refuses.
pub fn create(
    storage: &dyn Storage,
    parent: &Path,
    plan: &Plan,
    description: RunDescription,
    files: &[(&str, String)],
    existing: Existing,
) -> Result<(RunFolder, Claim, RunDescription), LabError> {
    let text = plan.to_toml()?;
    let description = RunDescription {
        format: FORMAT.to_owned(),
        version: VERSION,
        plan_hash: plan_hash(text.as_bytes()),
        ..description
    };
    let (path, claim) = put_together(storage, parent, &description.name, existing, |new| {
        new.write(PLAN, text.as_bytes(), Existing::Keep)?;
        for (name, content) in files {
            new.write(name, content.as_bytes(), Existing::Keep)?;
        }
        let claim = Claim::within(new.clone())?;
        claim.describe(&description)?;
        Ok(claim)
    })?;
    Ok((RunFolder::at(path.clone()), claim.moved_to(path), description))
}

/// Makes the folder `parent/name` with what `fill` puts into it; its path. It is there whole or not at all, and takes the place of others as with
/// [`create`].
///
/// # Errors
/// As for [`create`], and those of `fill`.
pub(super) fn place(
    storage: &dyn Storage,
    parent: &Path,
    name: &str,
    existing: Existing,
    fill: impl FnOnce(&Folder) -> Result<(), LabError>,
) -> Result<PathBuf, LabError> {
    if !is_name(name) {
        return Err(LabError::BadName(name.to_owned()));
    }
    let fill = |new: &Folder| {
        fill(new)?;
        Claim::within(new.clone())
    };
    Ok(put_together(storage, parent, name, existing, fill)?.0)
}

fn put_together(
    storage: &dyn Storage,
    parent: &Path,
    name: &str,
    existing: Existing,
    fill: impl FnOnce(&Folder) -> Result<Claim, LabError>,
) -> Result<(PathBuf, Claim), LabError> {
    let shelf = Shelf::hold(Folder::make(storage, parent)?)?;
    let (folder, name) = (&shelf.folder, OsStr::new(name));
    let path = folder.path_of(name);
    let older = match folder.entry(name)? {
        None => None,
        Some(_) if existing == Existing::Keep => return Err(LabError::Exists(path)),
        Some(found) => Some(proved(storage, found, &RunFolder::open(&path)?)?),
    };
    let beside = hidden(NEW, name);
    let made: Result<Claim, LabError> = (|| {
        let claim = fill(&folder.make_folder(&beside)?)?;
        if older.is_some() {
            folder.rename(name, hidden(OLD, name), Existing::Keep)?;
        }
        folder.rename(&beside, name, Existing::Keep)?;
        folder.sync()?;
        Ok(claim)
    })();
    // What was started is undone, or, where the older run has given way, done away with.
    let tidied = shelf.tidy();
    let claim = made?;
    tidied?;
    Ok((path, claim))
}

/// Removes a run with all files in its folder.
///
/// # Errors
/// The folder is no run, or the run is being trained; errors of the file system.
pub fn remove(storage: &dyn Storage, run: &RunFolder) -> Result<(), LabError> {
    // Before anything is made beside it: what is no run is left alone with its neighbours.
    run.description()?;
    let full = run.path().canonicalize().map_err(LabError::at(run.path()))?;
    let path = if run.path().file_name().is_some() { run.path() } else { &full };
    let (folder, name) = Folder::of(storage, path)?;
    let shelf = Shelf::hold(folder)?;
    let found = shelf.folder.entry(name)?.unwrap_or(Entry::Other);
    let _held = proved(storage, found, run)?;
    // Under another name first: a run is written completely or not at all.
    shelf.folder.rename(name, hidden(GONE, name), Existing::Keep)?;
    shelf.folder.sync()?;
    shelf.tidy()
}

/// Finishes what a process that died had started in a folder of runs: a run that had given way and was not replaced is back. Nothing happens
/// where there is nothing to do, or where this process may not write.
pub fn tidy(storage: &dyn Storage, parent: &Path) {
    let Ok(folder) = Folder::open(storage, parent) else { return };
    let unfinished = |(name, entry): &(OsString, Entry)| {
        *entry == Entry::Folder && name.as_bytes().starts_with(HIDDEN.as_bytes())
    };
    if folder.entries().is_ok_and(|entries| entries.iter().any(unfinished))
        && let Ok(shelf) = Shelf::hold(folder)
    {
        // Whoever writes there next reports what is wrong.
        let _ = shelf.tidy();
    }
}

/// Proves that a folder to be replaced is a run that no process is training, and claims it.
fn proved(storage: &dyn Storage, found: Entry, run: &RunFolder) -> Result<Claim, LabError> {
    if found != Entry::Folder {
        return Err(LabError::NotARun(run.path().to_owned()));
    }
    run.description()?;
    Claim::of(storage, run)
}

/// A folder of runs whose lock is held.
struct Shelf {
    folder: Folder,
    _lock: Box<dyn StoredFile>,
}

impl Shelf {
    /// Holds the lock and tidies up.
    fn hold(folder: Folder) -> Result<Self, LabError> {
        /// Others hold it while they rename and remove.
        const PATIENCE: Duration = Duration::from_secs(60);
        const PAUSE: Duration = Duration::from_millis(10);
        let path = folder.path_of(LOCK);
        let lock = folder.append(LOCK)?;
        let mut waited = Duration::ZERO;
        while !lock.try_lock().map_err(StorageError::at(&path))? {
            if waited >= PATIENCE {
                return Err(StorageError::Busy(folder.path().to_owned()).into());
            }
            std::thread::sleep(PAUSE);
            waited += PAUSE;
        }
        let shelf = Self { folder, _lock: lock };
        // What cannot be tidied up may be in nobody's way.
        let _ = shelf.tidy();
        Ok(shelf)
    }

    /// A hidden entry that is no longer locked belongs to a process that died or has finished with it.
    fn tidy(&self) -> Result<(), LabError> {
        for (name, entry) in self.folder.entries()? {
            let Some(rest) = name.as_bytes().strip_prefix(HIDDEN.as_bytes()) else { continue };
            if entry != Entry::Folder {
                continue;
            }
            if let Some(run) = rest.strip_prefix(OLD.as_bytes()) {
                let run = OsStr::from_bytes(run);
                if self.folder.entry(run)?.is_none() {
                    self.folder.rename(&name, run, Existing::Keep)?;
                    self.folder.sync()?;
                } else {
                    self.folder.remove_all(&name)?;
                }
            } else if rest.starts_with(NEW.as_bytes()) || rest.starts_with(GONE.as_bytes()) {
                self.folder.remove_all(&name)?;
            }
        }
        Ok(sweep(&self.folder)?)
    }
}
