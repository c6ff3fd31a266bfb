//! An open folder with its path: every error names its file.

use std::ffi::OsStr;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::error::StorageError;
use crate::storage::{Entry, Existing, Storage, StoredFile, StoredFolder};

/// Prefix of unfinished files and folders.
pub const HIDDEN: &str = ".lalograph-";

/// An open folder.
#[derive(Debug, Clone)]
pub struct Folder {
    path: PathBuf,
    inner: Arc<dyn StoredFolder>,
}

impl Folder {
    /// Opens a folder.
    ///
    /// # Errors
    /// An error of the file system.
    pub fn open(storage: &dyn Storage, path: &Path) -> Result<Self, StorageError> {
        let real = if path.as_os_str().is_empty() { Path::new(".") } else { path };
        Ok(Self { inner: storage.open_folder(real).map_err(StorageError::at(real))?, path: path.to_owned() })
    }

    /// Opens a folder; makes it if it is missing.
    ///
    /// # Errors
    /// An error of the file system.
    pub fn make(storage: &dyn Storage, path: &Path) -> Result<Self, StorageError> {
        Ok(Self { inner: storage.make_folders(path).map_err(StorageError::at(path))?, path: path.to_owned() })
    }

    /// The folder that a path lies in, and its name there.
    ///
    /// # Errors
    /// An error of the file system, or a path without a last name.
    pub fn of<'p>(storage: &dyn Storage, path: &'p Path) -> Result<(Self, &'p OsStr), StorageError> {
        let Some(name) = path.file_name() else {
            return Err(StorageError::at(path)(std::io::ErrorKind::InvalidFilename.into()));
        };
        let parent = path.parent().unwrap_or(Path::new(""));
        let folder = Self::open(storage, parent).map_err(|error| match error {
            // The file is what was asked for, not its folder.
            StorageError::Io { source, .. } => StorageError::at(path)(source),
            other => other,
        })?;
        Ok((folder, name))
    }

    /// The same folder under the path that it was moved to.
    #[must_use]
    pub fn moved_to(self, path: PathBuf) -> Self {
        Self { path, ..self }
    }

    /// Path at which it was opened.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The path of something in it.
    pub fn path_of(&self, name: impl AsRef<Path>) -> PathBuf {
        self.path.join(name)
    }

    pub(crate) fn inner(&self) -> &dyn StoredFolder {
        &*self.inner
    }

    fn at<'s>(&'s self, name: &'s OsStr) -> impl FnOnce(std::io::Error) -> StorageError + 's {
        move |source| StorageError::Io { path: self.path.join(name), source }
    }

    /// Opens a folder inside it.
    ///
    /// # Errors
    /// An error of the file system.
    pub fn folder(&self, name: impl AsRef<OsStr>) -> Result<Self, StorageError> {
        let name = name.as_ref();
        Ok(Self { inner: self.inner.open_folder(name).map_err(self.at(name))?, path: self.path.join(name) })
    }

    /// Opens a folder inside it; makes it if it is missing.
    ///
    /// # Errors
    /// An error of the file system.
    pub fn make_folder(&self, name: impl AsRef<OsStr>) -> Result<Self, StorageError> {
        let name = name.as_ref();
        if self.entry(name)?.is_none() {
            match self.inner.make_folder(name) {
                Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => {}
                made => {
                    made.map_err(self.at(name))?;
                    self.sync()?;
                }
            }
        }
        self.folder(name)
    }

    /// Kind of an entry.
    ///
    /// # Errors
    /// An error of the file system.
    pub fn entry(&self, name: impl AsRef<OsStr>) -> Result<Option<Entry>, StorageError> {
        self.inner.entry(name.as_ref()).map_err(self.at(name.as_ref()))
    }

    /// Its entries, by name.
    ///
    /// # Errors
    /// An error of the file system.
    pub fn entries(&self) -> Result<Vec<(std::ffi::OsString, Entry)>, StorageError> {
        self.inner.entries().map_err(StorageError::at(&self.path))
    }

    /// The bytes of a file in it; `None` if it does not exist.
    ///
    /// # Errors
    /// An error of the file system.
    pub fn read(&self, name: impl AsRef<OsStr>) -> Result<Option<Vec<u8>>, StorageError> {
        let name = name.as_ref();
        let mut bytes = Vec::new();
        match self.inner.read(name) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
            opened => {
                opened.and_then(|mut file| file.read_to_end(&mut bytes)).map_err(self.at(name))?;
            }
        }
        Ok(Some(bytes))
    }

    /// Opens a file in it for appending; makes it if it does not exist.
    ///
    /// # Errors
    /// An error of the file system.
    pub fn append(&self, name: impl AsRef<OsStr>) -> Result<Box<dyn StoredFile>, StorageError> {
        self.inner.append(name.as_ref()).map_err(self.at(name.as_ref()))
    }

    /// Makes a file in it that is not there yet.
    ///
    /// # Errors
    /// An error of the file system, or an existing entry of that name.
    pub fn create(&self, name: impl AsRef<OsStr>) -> Result<Box<dyn StoredFile>, StorageError> {
        self.inner.create(name.as_ref()).map_err(self.at(name.as_ref()))
    }

    /// Gives something in it another name.
    ///
    /// # Errors
    /// [`StorageError::Exists`] with [`Existing::Keep`]; what the file system refuses.
    pub fn rename(
        &self,
        from: impl AsRef<OsStr>,
        to: impl AsRef<OsStr>,
        existing: Existing,
    ) -> Result<(), StorageError> {
        self.inner.rename(from.as_ref(), to.as_ref(), existing).map_err(|error| match error.kind() {
            std::io::ErrorKind::AlreadyExists => StorageError::Exists(self.path_of(to.as_ref())),
            _ => self.at(to.as_ref())(error),
        })
    }

    /// Removes a file in it, if it exists.
    ///
    /// # Errors
    /// An error of the file system.
    pub fn remove_file(&self, name: impl AsRef<OsStr>) -> Result<(), StorageError> {
        unless_gone(self.inner.remove_file(name.as_ref())).map_err(self.at(name.as_ref()))
    }

    /// Removes a folder in it that is empty.
    ///
    /// # Errors
    /// An error of the file system, or a folder that is not empty.
    pub fn remove_folder(&self, name: impl AsRef<OsStr>) -> Result<(), StorageError> {
        self.inner.remove_folder(name.as_ref()).map_err(self.at(name.as_ref()))
    }

    /// Removes a file or a folder in it with everything inside, if it exists.
    ///
    /// # Errors
    /// An error of the file system.
    pub fn remove_all(&self, name: impl AsRef<OsStr>) -> Result<(), StorageError> {
        let name = name.as_ref();
        match self.entry(name)? {
            None => Ok(()),
            Some(Entry::Folder) => {
                let inside = self.folder(name)?;
                for (inner, _) in inside.entries()? {
                    inside.remove_all(&inner)?;
                }
                unless_gone(self.inner.remove_folder(name)).map_err(self.at(name))
            }
            Some(_) => self.remove_file(name),
        }
    }

    /// Makes sure that the names in it are kept.
    ///
    /// # Errors
    /// An error of the file system.
    pub fn sync(&self) -> Result<(), StorageError> {
        self.inner.sync().map_err(StorageError::at(&self.path))
    }

    /// Whether its path still leads to it.
    pub fn is_in_its_place(&self, storage: &dyn Storage) -> bool {
        let there = Self::open(storage, &self.path).and_then(|there| there.identity());
        there.is_ok_and(|there| self.identity().is_ok_and(|own| own == there))
    }

    fn identity(&self) -> Result<(u64, u64), StorageError> {
        self.inner.identity().map_err(StorageError::at(&self.path))
    }
}

fn unless_gone(removed: std::io::Result<()>) -> std::io::Result<()> {
    match removed {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(()),
        other => other,
    }
}
