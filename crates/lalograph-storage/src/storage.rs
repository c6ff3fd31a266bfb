//! The storage seam. Names inside a folder are resolved through the open folder and not through its path: they lead to the same place when
//! the folder is moved, and nowhere when it is gone.

use std::ffi::{OsStr, OsString};
use std::fmt::Debug;
use std::fs::File;
use std::io::{self, Write};
use std::path::Path;
use std::sync::Arc;

/// Handling of an existing file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Existing {
    /// Leave it and fail.
    Keep,
    /// Put the new file in its place.
    Replace,
}

impl Existing {
    /// Replace if it was asked for.
    pub fn replaced_if(asked: bool) -> Self {
        if asked { Self::Replace } else { Self::Keep }
    }
}

/// A file system.
pub trait Storage: Debug + Send + Sync {
    /// Opens a folder.
    ///
    /// # Errors
    /// An error of the file system.
    fn open_folder(&self, path: &Path) -> io::Result<Arc<dyn StoredFolder>>;

    /// Opens a folder after making it, and those that it lies in, where they are missing. What was made is sure to be there.
    ///
    /// # Errors
    /// An error of the file system.
    fn make_folders(&self, path: &Path) -> io::Result<Arc<dyn StoredFolder>> {
        let path = if path.as_os_str().is_empty() { Path::new(".") } else { path };
        match self.open_folder(path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => {}
            opened => return opened,
        }
        let (Some(parent), Some(name)) = (path.parent(), path.file_name()) else {
            return self.open_folder(path);
        };
        let parent = self.make_folders(parent)?;
        match parent.make_folder(name) {
            // Somebody else was faster.
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
            made => {
                made?;
                parent.sync()?;
            }
        }
        parent.open_folder(name)
    }
}

/// Kind of an entry of a folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Entry {
    /// A file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link.
    Link,
    /// A pipe, a device.
    Other,
}

/// An open folder.
pub trait StoredFolder: Debug + Send + Sync {
    /// Opens a folder inside it.
    ///
    /// # Errors
    /// An error of the file system.
    fn open_folder(&self, name: &OsStr) -> io::Result<Arc<dyn StoredFolder>>;

    /// Makes a folder inside it.
    ///
    /// # Errors
    /// An error of the file system, or an existing entry of that name.
    fn make_folder(&self, name: &OsStr) -> io::Result<()>;

    /// Makes a file that is not there yet.
    ///
    /// # Errors
    /// An error of the file system, or an existing entry of that name.
    fn create(&self, name: &OsStr) -> io::Result<Box<dyn StoredFile>>;

    /// Opens a file for appending; makes it if it does not exist.
    ///
    /// # Errors
    /// An error of the file system.
    fn append(&self, name: &OsStr) -> io::Result<Box<dyn StoredFile>>;

    /// Gives something another name in this folder. With [`Existing::Keep`] nothing of that name may be there.
    ///
    /// # Errors
    /// An error of the file system.
    fn rename(&self, from: &OsStr, to: &OsStr, existing: Existing) -> io::Result<()>;

    /// Removes a file, or a link.
    ///
    /// # Errors
    /// An error of the file system.
    fn remove_file(&self, name: &OsStr) -> io::Result<()>;

    /// Removes a folder that is empty.
    ///
    /// # Errors
    /// An error of the file system.
    fn remove_folder(&self, name: &OsStr) -> io::Result<()>;

    /// Makes sure that the names in it are kept.
    ///
    /// # Errors
    /// An error of the file system.
    fn sync(&self) -> io::Result<()>;

    /// Opens a file to read it.
    ///
    /// # Errors
    /// An error of the file system.
    fn read(&self, name: &OsStr) -> io::Result<File>;

    /// Its entries, by name.
    ///
    /// # Errors
    /// An error of the file system.
    fn entries(&self) -> io::Result<Vec<(OsString, Entry)>>;

    /// Kind of an entry; links are not followed.
    ///
    /// # Errors
    /// An error of the file system.
    fn entry(&self, name: &OsStr) -> io::Result<Option<Entry>>;

    /// Identity of the folder under any name: its device and inode number.
    ///
    /// # Errors
    /// An error of the file system.
    fn identity(&self) -> io::Result<(u64, u64)>;
}

/// A file that is written.
pub trait StoredFile: Write + Debug + Send {
    /// Makes sure that its content is kept.
    ///
    /// # Errors
    /// An error of the file system.
    fn sync(&mut self) -> io::Result<()>;

    /// Its length in bytes.
    ///
    /// # Errors
    /// An error of the file system.
    fn length(&self) -> io::Result<u64>;

    /// Truncates the file to `bytes` bytes.
    ///
    /// # Errors
    /// An error of the file system.
    fn cut(&mut self, bytes: u64) -> io::Result<()>;

    /// Locks the file for this process until it is closed; `false` if another process has it. On a file system without locks, no process has it.
    ///
    /// # Errors
    /// An error of the file system.
    fn try_lock(&self) -> io::Result<bool>;

    /// Whether it still has a name.
    ///
    /// # Errors
    /// An error of the file system.
    fn has_name(&self) -> io::Result<bool>;
}
