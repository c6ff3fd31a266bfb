//! Files that belong together, in folders that others may use as well. A hidden file lists them while not all are there: whoever writes the set
//! again knows by it which of them a dead process left, and may take their place.

use std::collections::BTreeSet;
use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::Path;

use crate::error::StorageError;
use crate::folder::{Folder, HIDDEN};
use crate::storage::{Existing, Storage, StoredFile};
use crate::whole::WholeFile;

/// A set of files that is being written.
///
/// ```
/// use lalograph_storage::{Disk, Existing, FileSet};
///
/// let folder = tempfile::tempdir()?;
/// let pages = ["one.html", "two.html"].map(|name| folder.path().join(name));
/// let mut set = FileSet::begin(&Disk, "pages", &pages, Existing::Keep)?;
/// set.write(&pages[0], b"bees")?;
/// // If the process stops here, the set can be written again: it is not complete.
/// drop(set);
/// let mut set = FileSet::begin(&Disk, "pages", &pages, Existing::Keep)?;
/// set.write(&pages[0], b"more bees")?;
/// set.write(&pages[1], b"honey")?;
/// set.finish()?;
/// assert!(FileSet::begin(&Disk, "pages", &pages, Existing::Keep).is_err());
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Debug)]
pub struct FileSet {
    folders: Vec<Folder>,
    existing: Existing,
    list: List,
}

/// The hidden file that marks a set as not whole. It is in the folder of the set's first file.
#[derive(Debug)]
struct List {
    folder: Folder,
    name: OsString,
    /// Files that a dead process left, as they are listed.
    left: BTreeSet<OsString>,
    /// Whether any file may be in its place.
    placed: bool,
    /// Locked while the set is written.
    lock: Option<Box<dyn StoredFile>>,
}

fn list_of(name: &str) -> OsString {
    OsString::from(format!("{HIDDEN}unfinished-{name}"))
}

impl FileSet {
    /// Begins the set called `name`, whose files are to be these. Folders are made where they are missing.
    ///
    /// # Errors
    /// [`StorageError::Exists`] with [`Existing::Keep`] for the first that is there, unless it was left by a process that died before its
    /// set was whole; [`StorageError::Busy`]; what the file system refuses.
    pub fn begin<P: AsRef<Path>>(
        storage: &dyn Storage,
        name: &str,
        files: &[P],
        existing: Existing,
    ) -> Result<Self, StorageError> {
        let files: Vec<&Path> = files.iter().map(AsRef::as_ref).collect();
        let mut folders: Vec<Folder> = Vec::new();
        for folder in files.iter().filter_map(|file| file.parent()) {
            if !folders.iter().any(|known| known.path() == folder) {
                folders.push(Folder::make(storage, folder)?);
            }
        }
        let list = match folders.first() {
            Some(first) => List::begin(first.clone(), name)?,
            None => List::none(Folder::open(storage, Path::new(""))?),
        };
        let mut set = Self { folders, existing, list };
        for file in &files {
            let (folder, name) = set.place(file)?;
            if set.existing_of(file) == Existing::Keep && folder.entry(name)?.is_some() {
                return Err(StorageError::Exists((*file).to_owned()));
            }
        }
        set.list.add(&files)?;
        Ok(set)
    }

    /// Whether such a set was started in a folder and not finished, by a process that is gone.
    pub fn is_unfinished(storage: &dyn Storage, folder: &Path, name: &str) -> bool {
        let list = list_of(name);
        let found = Folder::open(storage, folder).and_then(|folder| {
            let there = folder.entry(&list)?.is_some();
            Ok((there, folder))
        });
        found.is_ok_and(|(there, folder)| {
            there && folder.append(&list).is_ok_and(|file| file.try_lock().unwrap_or(false))
        })
    }

    /// Begins one of the files.
    ///
    /// # Errors
    /// An error of the file system, or a file that was created there meanwhile.
    pub fn file(&mut self, path: &Path) -> Result<WholeFile, StorageError> {
        self.list.placed = true;
        let existing = self.existing_of(path);
        let (folder, name) = self.place(path)?;
        WholeFile::within(folder, name, existing)
    }

    /// Announces that some of the files are about to be written by others: from now on they may be in their places.
    pub fn begin_others(&mut self) {
        self.list.placed = true;
    }

    /// Writes one of the files.
    ///
    /// # Errors
    /// As for [`FileSet::file`].
    pub fn write(&mut self, path: &Path, bytes: &[u8]) -> Result<(), StorageError> {
        let mut file = self.file(path)?;
        std::io::Write::write_all(&mut file, bytes).map_err(StorageError::at(path))?;
        file.finish()
    }

    /// Marks the set as complete.
    ///
    /// # Errors
    /// An error of the file system.
    pub fn finish(mut self) -> Result<(), StorageError> {
        if self.list.lock.is_some() {
            self.list.folder.remove_file(&self.list.name)?;
            self.list.lock = None;
            self.list.folder.sync()?;
        }
        Ok(())
    }

    /// The folder of the set that a file lies in, and its name there.
    fn place<'p>(&self, path: &'p Path) -> Result<(&Folder, &'p OsStr), StorageError> {
        let folder = self.folders.iter().find(|folder| Some(folder.path()) == path.parent());
        // It is none of the set, or no file.
        let none = || StorageError::at(path)(std::io::ErrorKind::InvalidFilename.into());
        folder.zip(path.file_name()).ok_or_else(none)
    }

    fn existing_of(&self, file: &Path) -> Existing {
        Existing::replaced_if(
            self.existing == Existing::Replace || self.list.left.contains(&self.list.line(file)),
        )
    }
}

impl List {
    /// No list, for no files.
    fn none(folder: Folder) -> Self {
        Self { folder, name: OsString::new(), left: BTreeSet::new(), placed: false, lock: None }
    }

    fn begin(folder: Folder, name: &str) -> Result<Self, StorageError> {
        let name = list_of(name);
        let lock = claimed(&folder, &name)?;
        let found = folder.read(&name)?.unwrap_or_default();
        let left = whole_lines(&found).map(|line| OsString::from_vec(line.to_vec())).collect();
        Ok(Self { folder, name, left, placed: !found.is_empty(), lock: Some(lock) })
    }

    /// A file's name in the list: relative to the list's folder, or its full path if it is not below that.
    fn line(&self, file: &Path) -> OsString {
        let full = |path: &Path| std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
        let (file, folder) = (full(file), full(self.folder.path()));
        file.strip_prefix(&folder).unwrap_or(&file).as_os_str().to_owned()
    }

    /// Lists files, before any of them is in its place.
    fn add(&mut self, files: &[&Path]) -> Result<(), StorageError> {
        // After a line that was cut short another begins.
        let mut lines = vec![b'\n'];
        for line in files.iter().map(|file| self.line(file)).filter(|line| !self.left.contains(line)) {
            lines.extend_from_slice(line.as_bytes());
            lines.push(b'\n');
        }
        if let Some(lock) = &mut self.lock {
            let written = lock.write_all(&lines).and_then(|()| lock.sync());
            written.map_err(StorageError::at(&self.folder.path_of(&self.name)))?;
            self.folder.sync()?;
        }
        Ok(())
    }
}

impl Drop for List {
    fn drop(&mut self) {
        // The list stays beside the files in their places, for the process that writes them again.
        if self.lock.take().is_some() && !self.placed {
            let _ = self.folder.remove_file(&self.name);
        }
    }
}

/// Opens and locks the list; makes it if it is missing.
fn claimed(folder: &Folder, list: &OsStr) -> Result<Box<dyn StoredFile>, StorageError> {
    let path = folder.path_of(list);
    loop {
        let file = folder.append(list)?;
        if !file.try_lock().map_err(StorageError::at(&path))? {
            return Err(StorageError::Busy(folder.path().to_owned()));
        }
        // Whoever had it may have finished, and taken it away, before it was locked.
        if file.has_name().map_err(StorageError::at(&path))? {
            return Ok(file);
        }
    }
}

/// Lines that have their end: one that was cut short names nothing that was written.
fn whole_lines(bytes: &[u8]) -> impl Iterator<Item = &[u8]> {
    let end = bytes.iter().rposition(|&byte| byte == b'\n').map_or(0, |at| at + 1);
    bytes[..end].split(|&byte| byte == b'\n').filter(|line| !line.is_empty())
}
