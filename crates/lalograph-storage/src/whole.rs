//! Single files: written beside their place, made sure of, and renamed into it.

use std::ffi::{OsStr, OsString};
use std::io::{self, BufWriter, Write};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use crate::error::StorageError;
use crate::folder::{Folder, HIDDEN};
use crate::storage::{Entry, Existing, Storage, StoredFile};

/// A file being written: it appears in its place once complete, and vanishes if it is dropped before.
pub trait WholeWriter: Write + Send {
    /// Puts the file in its place.
    ///
    /// # Errors
    /// An error of the file system.
    fn finish(self: Box<Self>) -> io::Result<()>;
}

/// Writes a whole file, or none.
///
/// # Errors
/// [`StorageError::Exists`] with [`Existing::Keep`]; what the file system refuses. The old file, if any, is whole then.
pub fn write_whole(
    storage: &dyn Storage,
    path: &Path,
    bytes: &[u8],
    existing: Existing,
) -> Result<(), StorageError> {
    let mut file = WholeFile::create(storage, path, existing)?;
    file.write_all(bytes).map_err(StorageError::at(path))?;
    file.finish()
}

impl Folder {
    /// Writes a whole file in it, or none.
    ///
    /// # Errors
    /// [`StorageError::Exists`] with [`Existing::Keep`]; what the file system refuses. The old file, if any, is whole then.
    pub fn write(
        &self,
        name: impl AsRef<OsStr>,
        bytes: &[u8],
        existing: Existing,
    ) -> Result<(), StorageError> {
        let mut file = WholeFile::within(self, name.as_ref(), existing)?;
        file.write_all(bytes).map_err(StorageError::at(&self.path_of(name.as_ref())))?;
        file.finish()
    }
}

/// A file written piece by piece under a hidden name beside its place, which appears there once it is complete.
#[derive(Debug)]
pub struct WholeFile {
    folder: Folder,
    name: OsString,
    hidden: OsString,
    existing: Existing,
    /// `None` once it is in its place.
    out: Option<BufWriter<Box<dyn StoredFile>>>,
}

impl WholeFile {
    /// Begins a file.
    ///
    /// # Errors
    /// [`StorageError::Exists`] with [`Existing::Keep`]; what the file system refuses.
    pub fn create(storage: &dyn Storage, path: &Path, existing: Existing) -> Result<Self, StorageError> {
        let (folder, name) = Folder::of(storage, path)?;
        Self::within(&folder, name, existing)
    }

    /// The same in an open folder.
    ///
    /// # Errors
    /// As for [`WholeFile::create`].
    pub fn within(folder: &Folder, name: &OsStr, existing: Existing) -> Result<Self, StorageError> {
        match folder.entry(name)? {
            Some(_) if existing == Existing::Keep => return Err(StorageError::Exists(folder.path_of(name))),
            Some(Entry::Other) => return Err(StorageError::NotAFile(folder.path_of(name))),
            _ => {}
        }
        let (hidden, file) = begin(folder, name)?;
        Ok(Self {
            folder: folder.clone(),
            name: name.to_owned(),
            hidden,
            existing,
            out: Some(BufWriter::with_capacity(1 << 17, file)),
        })
    }

    /// Its place.
    pub fn path(&self) -> PathBuf {
        self.folder.path_of(&self.name)
    }

    /// Makes sure of it and renames it into its place. Without this it vanishes.
    ///
    /// # Errors
    /// As for [`WholeFile::create`].
    pub fn finish(mut self) -> Result<(), StorageError> {
        let path = self.path();
        if let Some(out) = &mut self.out {
            out.flush().and_then(|()| out.get_mut().sync()).map_err(StorageError::at(&path))?;
        }
        self.folder.rename(&self.hidden, &self.name, self.existing)?;
        // Locked until it has its name.
        self.out = None;
        // The name itself is kept once the folder is.
        self.folder.sync()
    }
}

impl Drop for WholeFile {
    fn drop(&mut self) {
        if let Some(out) = self.out.take() {
            let (_, unwritten) = out.into_parts();
            drop(unwritten);
            let _ = self.folder.remove_file(&self.hidden);
        }
    }
}

impl Write for WholeFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.out.as_mut().map_or(Ok(0), |out| out.write(bytes))
    }

    fn flush(&mut self) -> io::Result<()> {
        self.out.as_mut().map_or(Ok(()), Write::flush)
    }
}

impl WholeWriter for WholeFile {
    fn finish(self: Box<Self>) -> io::Result<()> {
        WholeFile::finish(*self).map_err(StorageError::into_io)
    }
}

/// A hidden name that begins as the file's, so that whoever writes the file again finds what a dead process left.
fn hidden_name(name: &OsStr, number: u32) -> OsString {
    /// Names longer than this leave no room for more.
    const LONGEST: usize = 180;
    let mut hidden = OsString::from(format!("{HIDDEN}{number}-"));
    if name.as_bytes().len() > LONGEST {
        hidden.push(blake3::hash(name.as_bytes()).to_hex().as_str());
    } else {
        hidden.push(name);
    }
    hidden
}

/// Makes a hidden file and locks it, so that nobody takes it for a leftover. Leftovers of dead processes are removed on the way.
fn begin(folder: &Folder, name: &OsStr) -> Result<(OsString, Box<dyn StoredFile>), StorageError> {
    /// Processes that may write one file at a time.
    const MOST: u32 = 1000;
    let path = folder.path_of(name);
    let at = || StorageError::at(&path);
    let mut number = 0;
    while number < MOST {
        let hidden = hidden_name(name, number);
        match folder.inner().create(&hidden) {
            Ok(file) => {
                // Between the two somebody may have taken it for a leftover.
                if file.try_lock().map_err(at())? && file.has_name().map_err(at())? {
                    return Ok((hidden, file));
                }
            }
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                if !remove_leftover(folder, &hidden)? {
                    number += 1;
                }
            }
            Err(error) => return Err(at()(error)),
        }
    }
    Err(StorageError::Busy(path))
}

/// Removes a hidden file that no living process has; `false` if one has it, or if it is somebody else's.
fn remove_leftover(folder: &Folder, hidden: &OsStr) -> Result<bool, StorageError> {
    let file = match folder.append(hidden) {
        Err(StorageError::Io { source, .. }) if source.kind() == io::ErrorKind::PermissionDenied => {
            return Ok(false);
        }
        opened => opened?,
    };
    if !file.try_lock().map_err(StorageError::at(&folder.path_of(hidden)))? {
        return Ok(false);
    }
    folder.remove_file(hidden)?;
    Ok(true)
}

/// Removes what dead processes left in a folder: hidden files that no living one has.
///
/// # Errors
/// An error of the file system.
pub fn sweep(folder: &Folder) -> Result<(), StorageError> {
    for (name, entry) in folder.entries()? {
        let ours = name.as_bytes().strip_prefix(HIDDEN.as_bytes());
        let is_file = ours.is_some_and(|rest| rest.first().is_some_and(u8::is_ascii_digit));
        if is_file && entry == crate::storage::Entry::File {
            remove_leftover(folder, &name)?;
        }
    }
    Ok(())
}
