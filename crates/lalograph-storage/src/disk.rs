//! The storage that is the file system.

use std::ffi::{CString, OsStr, OsString};
use std::fs::{File, TryLockError};
use std::io::{self, Write};
use std::os::fd::OwnedFd;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::sync::Arc;

use rustix::fs::{self, AtFlags, FileType, Mode, OFlags};

use crate::storage::{Entry, Existing, Storage, StoredFile, StoredFolder};

/// The file system.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Disk;

const FOLDER: OFlags = OFlags::DIRECTORY.union(OFlags::RDONLY).union(OFlags::CLOEXEC);
const WRITTEN: OFlags = OFlags::WRONLY.union(OFlags::CREATE).union(OFlags::CLOEXEC);
/// Permission bits before the user's mask.
const FILE_MODE: Mode = Mode::from_raw_mode(0o666);
const FOLDER_MODE: Mode = Mode::from_raw_mode(0o777);

impl Storage for Disk {
    fn open_folder(&self, path: &Path) -> io::Result<Arc<dyn StoredFolder>> {
        Ok(Arc::new(DiskFolder::at(path)?))
    }
}

#[derive(Debug)]
pub(crate) struct DiskFolder(OwnedFd);

/// A file that is written on the file system.
#[derive(Debug)]
pub(crate) struct DiskFile(File);

impl DiskFile {
    /// Identity of the file.
    pub(crate) fn number(&self) -> io::Result<u64> {
        Ok(self.0.metadata()?.ino())
    }
}

impl DiskFolder {
    pub(crate) fn at(path: &Path) -> io::Result<Self> {
        Ok(Self(fs::open(path, FOLDER, Mode::empty())?))
    }

    pub(crate) fn open(&self, name: &OsStr) -> io::Result<Self> {
        Ok(Self(fs::openat(&self.0, name, FOLDER, Mode::empty())?))
    }

    pub(crate) fn created(&self, name: &OsStr) -> io::Result<DiskFile> {
        let flags = WRITTEN.union(OFlags::EXCL);
        Ok(DiskFile(File::from(fs::openat(&self.0, name, flags, FILE_MODE)?)))
    }

    pub(crate) fn appended(&self, name: &OsStr) -> io::Result<DiskFile> {
        let flags = WRITTEN.union(OFlags::APPEND);
        Ok(DiskFile(File::from(fs::openat(&self.0, name, flags, FILE_MODE)?)))
    }
}

fn entry_of(kind: FileType) -> Entry {
    match kind {
        FileType::RegularFile => Entry::File,
        FileType::Directory => Entry::Folder,
        FileType::Symlink => Entry::Link,
        _ => Entry::Other,
    }
}

impl StoredFolder for DiskFolder {
    fn open_folder(&self, name: &OsStr) -> io::Result<Arc<dyn StoredFolder>> {
        Ok(Arc::new(self.open(name)?))
    }

    fn make_folder(&self, name: &OsStr) -> io::Result<()> {
        Ok(fs::mkdirat(&self.0, name, FOLDER_MODE)?)
    }

    fn create(&self, name: &OsStr) -> io::Result<Box<dyn StoredFile>> {
        Ok(Box::new(self.created(name)?))
    }

    fn append(&self, name: &OsStr) -> io::Result<Box<dyn StoredFile>> {
        Ok(Box::new(self.appended(name)?))
    }

    fn rename(&self, from: &OsStr, to: &OsStr, existing: Existing) -> io::Result<()> {
        if existing == Existing::Replace {
            return Ok(fs::renameat(&self.0, from, &self.0, to)?);
        }
        #[cfg(any(target_os = "linux", target_os = "android", target_os = "macos", target_os = "ios"))]
        {
            use rustix::fs::RenameFlags;
            use rustix::io::Errno;
            match fs::renameat_with(&self.0, from, &self.0, to, RenameFlags::NOREPLACE) {
                // Not every file system knows how.
                Err(Errno::INVAL | Errno::NOSYS | Errno::NOTSUP) => {}
                done => return Ok(done?),
            }
        }
        if self.entry(from)? == Some(Entry::Folder) {
            // An empty folder would give way; anything else is refused by the system.
            if self.entry(to)?.is_some() {
                return Err(io::ErrorKind::AlreadyExists.into());
            }
            return Ok(fs::renameat(&self.0, from, &self.0, to)?);
        }
        fs::linkat(&self.0, from, &self.0, to, AtFlags::empty())?;
        Ok(fs::unlinkat(&self.0, from, AtFlags::empty())?)
    }

    fn remove_file(&self, name: &OsStr) -> io::Result<()> {
        Ok(fs::unlinkat(&self.0, name, AtFlags::empty())?)
    }

    fn remove_folder(&self, name: &OsStr) -> io::Result<()> {
        Ok(fs::unlinkat(&self.0, name, AtFlags::REMOVEDIR)?)
    }

    fn sync(&self) -> io::Result<()> {
        match fs::fsync(&self.0) {
            // Some network file systems keep names at once and refuse this.
            Err(rustix::io::Errno::INVAL) => Ok(()),
            synced => Ok(synced?),
        }
    }

    fn read(&self, name: &OsStr) -> io::Result<File> {
        let flags = OFlags::RDONLY.union(OFlags::CLOEXEC);
        Ok(File::from(fs::openat(&self.0, name, flags, Mode::empty())?))
    }

    fn entries(&self) -> io::Result<Vec<(OsString, Entry)>> {
        let mut found = Vec::new();
        for entry in fs::Dir::read_from(&self.0)? {
            let entry = entry?;
            let name: CString = entry.file_name().to_owned();
            if matches!(name.as_bytes(), b"." | b"..") {
                continue;
            }
            let name = OsString::from_vec(name.into_bytes());
            let kind = match entry.file_type() {
                FileType::Unknown => self.entry(&name)?.unwrap_or(Entry::Other),
                kind => entry_of(kind),
            };
            found.push((name, kind));
        }
        found.sort_by(|a, b| a.0.as_bytes().cmp(b.0.as_bytes()));
        Ok(found)
    }

    fn entry(&self, name: &OsStr) -> io::Result<Option<Entry>> {
        match fs::statat(&self.0, name, AtFlags::SYMLINK_NOFOLLOW) {
            Ok(stat) => Ok(Some(entry_of(FileType::from_raw_mode(stat.st_mode)))),
            Err(rustix::io::Errno::NOENT) => Ok(None),
            Err(error) => Err(error.into()),
        }
    }

    fn identity(&self) -> io::Result<(u64, u64)> {
        let stat = fs::fstat(&self.0)?;
        Ok((stat.st_dev, stat.st_ino))
    }
}

impl Write for DiskFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.flush()
    }
}

impl StoredFile for DiskFile {
    fn sync(&mut self) -> io::Result<()> {
        self.0.sync_all()
    }

    fn length(&self) -> io::Result<u64> {
        Ok(self.0.metadata()?.len())
    }

    fn cut(&mut self, bytes: u64) -> io::Result<()> {
        self.0.set_len(bytes)
    }

    fn try_lock(&self) -> io::Result<bool> {
        match self.0.try_lock() {
            Ok(()) => Ok(true),
            Err(TryLockError::WouldBlock) => Ok(false),
            Err(TryLockError::Error(error)) if error.kind() == io::ErrorKind::Unsupported => Ok(true),
            Err(TryLockError::Error(error)) => Err(error),
        }
    }

    fn has_name(&self) -> io::Result<bool> {
        Ok(self.0.metadata()?.nlink() > 0)
    }
}
