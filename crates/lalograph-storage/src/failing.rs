//! A storage for tests. It keeps apart what was written and what was made sure of, fails or stops at any operation, and shows what would be
//! there then.
//!
//! Nothing is promised of what was not made sure of: a file system may keep it or not. So a test looks at three outcomes, see [`Loss`].

use std::collections::{BTreeMap, HashMap};
use std::ffi::{OsStr, OsString};
use std::fs::File;
use std::io::{self, Read, Write};
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use crate::disk::{DiskFile, DiskFolder};
use crate::storage::{Entry, Existing, Storage, StoredFile, StoredFolder};

/// Faults, by the number of an operation, from 1.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Fault {
    /// Nothing.
    #[default]
    None,
    /// Only that operation fails.
    Once(u64),
    /// From that one on nothing more can be written: the disk is full.
    Full(u64),
    /// From that one on every operation fails, a write after half of its bytes: the process or its machine is gone.
    Stop(u64),
}

/// Losses of a power failure.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Loss {
    /// Nothing: a process was killed.
    Nothing,
    /// File contents that were not flushed are lost; names stay. Some file systems are like this after a power failure.
    Contents,
    /// Contents and names that were not made sure of.
    Everything,
}

impl Loss {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Nothing, Self::Contents, Self::Everything];
}

#[derive(Debug, Default)]
struct State {
    fault: Fault,
    operations: BTreeMap<&'static str, u64>,
    stopped: bool,
    next: u64,
    /// File of each inode number now: the file system reuses the number of a removed file.
    files: HashMap<u64, u64>,
    folders: HashMap<u64, u64>,
    written: HashMap<u64, Vec<u8>>,
    sure: HashMap<u64, Vec<u8>>,
    sure_names: HashMap<u64, BTreeMap<OsString, Node>>,
}

#[derive(Debug, Clone, Copy)]
enum Node {
    File(u64),
    Folder(u64),
}

impl State {
    fn fresh(&mut self) -> u64 {
        self.next += 1;
        self.next
    }

    /// Counts an operation, and fails it if the fault is due.
    fn count(&mut self, kind: &'static str) -> io::Result<()> {
        let gone = || io::Error::other("the disk has stopped");
        if self.stopped {
            return Err(gone());
        }
        *self.operations.entry(kind).or_default() += 1;
        let number: u64 = self.operations.values().sum();
        let takes_room = matches!(kind, "write" | "create" | "append" | "make folder");
        match self.fault {
            Fault::Once(at) if number == at => Err(io::ErrorKind::StorageFull.into()),
            Fault::Full(from) if number >= from && takes_room => Err(io::ErrorKind::StorageFull.into()),
            Fault::Stop(at) if number >= at => {
                self.stopped = true;
                Err(gone())
            }
            _ => Ok(()),
        }
    }
}

/// A storage that counts what is asked of it and fails on demand.
#[derive(Debug, Clone, Default)]
pub struct FailingDisk {
    state: Arc<Mutex<State>>,
}

impl FailingDisk {
    /// A storage with a fault. The contents of a folder when it is first opened count as flushed.
    pub fn new(fault: Fault) -> Self {
        let disk = Self::default();
        disk.state().fault = fault;
        disk
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Operations so far, by kind.
    pub fn operations(&self) -> BTreeMap<&'static str, u64> {
        self.state().operations.clone()
    }

    /// Operations so far.
    pub fn count(&self) -> u64 {
        self.state().operations.values().sum()
    }

    /// Whether it has stopped.
    pub fn has_stopped(&self) -> bool {
        self.state().stopped
    }

    /// Writes to `to`, a new folder, what `root` holds after the loss. The root is one that was opened through this storage.
    ///
    /// # Errors
    /// An error of the file system.
    pub fn after(&self, loss: Loss, root: &Path, to: &Path) -> io::Result<()> {
        self.known(&DiskFolder::at(root)?)?;
        let state = self.state();
        copy(&state, loss, root, to)
    }

    fn known(&self, folder: &DiskFolder) -> io::Result<u64> {
        let number = folder.identity()?.1;
        if let Some(&id) = self.state().folders.get(&number) {
            return Ok(id);
        }
        let id = {
            let mut state = self.state();
            let id = state.fresh();
            state.folders.insert(number, id);
            id
        };
        // Files that exist at first were there before the first operation.
        let mut names = BTreeMap::new();
        for (name, entry) in folder.entries()? {
            match entry {
                Entry::Folder => {
                    names.insert(name.clone(), Node::Folder(self.known(&folder.open(&name)?)?));
                }
                Entry::File => {
                    let mut bytes = Vec::new();
                    let mut file = folder.read(&name)?;
                    let number = number_of(&file)?;
                    file.read_to_end(&mut bytes)?;
                    let mut state = self.state();
                    let id = state.fresh();
                    state.files.insert(number, id);
                    state.written.insert(id, bytes.clone());
                    state.sure.insert(id, bytes);
                    names.insert(name, Node::File(id));
                }
                Entry::Link | Entry::Other => {}
            }
        }
        self.state().sure_names.insert(id, names);
        Ok(id)
    }

    fn wrap(&self, inner: DiskFolder) -> io::Result<Arc<dyn StoredFolder>> {
        Ok(Arc::new(FailingFolder { id: self.known(&inner)?, inner, disk: self.clone() }))
    }
}

fn number_of(file: &File) -> io::Result<u64> {
    Ok(std::os::unix::fs::MetadataExt::ino(&file.metadata()?))
}

/// Copies a folder in its state after a loss.
fn copy(state: &State, loss: Loss, root: &Path, to: &Path) -> io::Result<()> {
    let folder = DiskFolder::at(root)?;
    let id = state.folders.get(&folder.identity()?.1).copied();
    if let (Loss::Everything, Some(id)) = (loss, id) {
        return copy_sure(state, id, to);
    }
    std::fs::create_dir(to)?;
    for (name, entry) in folder.entries()? {
        match entry {
            Entry::Folder => copy(state, loss, &root.join(&name), &to.join(&name))?,
            Entry::File if loss == Loss::Nothing => {
                std::fs::copy(root.join(&name), to.join(&name))?;
            }
            Entry::File => {
                let id = state.files.get(&number_of(&folder.read(&name)?)?).copied();
                put(&to.join(&name), id.and_then(|id| state.sure.get(&id)))?;
            }
            Entry::Link | Entry::Other => {}
        }
    }
    Ok(())
}

/// Writes what is sure of a folder.
fn copy_sure(state: &State, folder: u64, to: &Path) -> io::Result<()> {
    std::fs::create_dir(to)?;
    for (name, node) in state.sure_names.get(&folder).into_iter().flatten() {
        match node {
            Node::Folder(id) => copy_sure(state, *id, &to.join(name))?,
            Node::File(id) => put(&to.join(name), state.sure.get(id))?,
        }
    }
    Ok(())
}

fn put(path: &Path, bytes: Option<&Vec<u8>>) -> io::Result<()> {
    File::create_new(path)?.write_all(bytes.map_or(&[], Vec::as_slice))
}

impl Storage for FailingDisk {
    fn open_folder(&self, path: &Path) -> io::Result<Arc<dyn StoredFolder>> {
        self.wrap(DiskFolder::at(path)?)
    }
}

#[derive(Debug)]
struct FailingFolder {
    inner: DiskFolder,
    id: u64,
    disk: FailingDisk,
}

impl FailingFolder {
    fn file(&self, name: &OsStr, file: DiskFile, is_new: bool) -> io::Result<Box<dyn StoredFile>> {
        let number = file.number()?;
        let mut bytes = Vec::new();
        if !is_new {
            self.inner.read(name)?.read_to_end(&mut bytes)?;
        }
        let mut state = self.disk.state();
        let known = state.files.get(&number).copied().filter(|_| !is_new);
        let id = known.unwrap_or_else(|| {
            let id = state.fresh();
            state.files.insert(number, id);
            state.written.insert(id, bytes);
            id
        });
        Ok(Box::new(FailingFile { inner: file, id, disk: self.disk.clone() }))
    }
}

impl StoredFolder for FailingFolder {
    fn open_folder(&self, name: &OsStr) -> io::Result<Arc<dyn StoredFolder>> {
        self.disk.wrap(self.inner.open(name)?)
    }

    fn make_folder(&self, name: &OsStr) -> io::Result<()> {
        self.disk.state().count("make folder")?;
        self.inner.make_folder(name)?;
        let number = self.inner.open(name)?.identity()?.1;
        let mut state = self.disk.state();
        let id = state.fresh();
        state.folders.insert(number, id);
        state.sure_names.insert(id, BTreeMap::new());
        Ok(())
    }

    fn create(&self, name: &OsStr) -> io::Result<Box<dyn StoredFile>> {
        self.disk.state().count("create")?;
        self.file(name, self.inner.created(name)?, true)
    }

    fn append(&self, name: &OsStr) -> io::Result<Box<dyn StoredFile>> {
        self.disk.state().count("append")?;
        let is_new = self.inner.entry(name)?.is_none();
        self.file(name, self.inner.appended(name)?, is_new)
    }

    fn rename(&self, from: &OsStr, to: &OsStr, existing: Existing) -> io::Result<()> {
        self.disk.state().count("rename")?;
        self.inner.rename(from, to, existing)
    }

    fn remove_file(&self, name: &OsStr) -> io::Result<()> {
        self.disk.state().count("remove file")?;
        self.inner.remove_file(name)
    }

    fn remove_folder(&self, name: &OsStr) -> io::Result<()> {
        self.disk.state().count("remove folder")?;
        self.inner.remove_folder(name)
    }

    fn sync(&self) -> io::Result<()> {
        self.disk.state().count("sync folder")?;
        let mut names = BTreeMap::new();
        for (name, entry) in self.inner.entries()? {
            let node = match entry {
                Entry::Folder => Node::Folder(self.disk.known(&self.inner.open(&name)?)?),
                Entry::File => {
                    let number = number_of(&self.inner.read(&name)?)?;
                    let mut state = self.disk.state();
                    let known = state.files.get(&number).copied();
                    Node::File(known.unwrap_or_else(|| state.fresh()))
                }
                Entry::Link | Entry::Other => continue,
            };
            names.insert(name, node);
        }
        self.disk.state().sure_names.insert(self.id, names);
        Ok(())
    }

    fn read(&self, name: &OsStr) -> io::Result<File> {
        self.inner.read(name)
    }

    fn entries(&self) -> io::Result<Vec<(OsString, Entry)>> {
        self.inner.entries()
    }

    fn entry(&self, name: &OsStr) -> io::Result<Option<Entry>> {
        self.inner.entry(name)
    }

    fn identity(&self) -> io::Result<(u64, u64)> {
        self.inner.identity()
    }
}

#[derive(Debug)]
struct FailingFile {
    inner: DiskFile,
    id: u64,
    disk: FailingDisk,
}

impl FailingFile {
    fn put(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.inner.write_all(bytes)?;
        self.disk.state().written.entry(self.id).or_default().extend_from_slice(bytes);
        Ok(())
    }
}

impl Write for FailingFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let alive = !self.disk.has_stopped();
        let counted = self.disk.state().count("write");
        if let Err(error) = counted {
            if alive && self.disk.has_stopped() {
                self.put(&bytes[..bytes.len() / 2])?;
            }
            return Err(error);
        }
        self.put(bytes)?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.inner.flush()
    }
}

impl StoredFile for FailingFile {
    fn sync(&mut self) -> io::Result<()> {
        let mut state = self.disk.state();
        state.count("sync file")?;
        let bytes = state.written.get(&self.id).cloned().unwrap_or_default();
        state.sure.insert(self.id, bytes);
        Ok(())
    }

    fn length(&self) -> io::Result<u64> {
        self.inner.length()
    }

    fn cut(&mut self, bytes: u64) -> io::Result<()> {
        let mut state = self.disk.state();
        state.count("cut")?;
        self.inner.cut(bytes)?;
        state.written.entry(self.id).or_default().resize(bytes as usize, 0);
        Ok(())
    }

    fn try_lock(&self) -> io::Result<bool> {
        self.inner.try_lock()
    }

    fn has_name(&self) -> io::Result<bool> {
        self.inner.has_name()
    }
}
