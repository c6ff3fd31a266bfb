//! Writing of all files of the program.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use lalograph_storage::{Disk, Existing, FileSet, Storage, WholeFile, write_whole};

use crate::failure::Failure;

/// Folder of encoded corpora, in the folder of all runs.
pub(crate) const TOKENS: &str = ".tokens";

/// The storage: the disk, or in tests what they put in its place.
pub(crate) fn storage() -> Arc<dyn Storage> {
    #[cfg(test)]
    if let Some(other) = instead::get() {
        return other;
    }
    Arc::new(Disk)
}

/// Writes a whole file, or none.
pub(crate) fn write(path: &Path, bytes: &[u8], existing: Existing) -> Result<(), Failure> {
    Ok(write_whole(&*storage(), path, bytes, existing)?)
}

/// Begins a file that is written piece by piece.
pub(crate) fn create(path: &Path, existing: Existing) -> Result<WholeFile, Failure> {
    Ok(WholeFile::create(&*storage(), path, existing)?)
}

/// Begins files that belong together.
pub(crate) fn begin<P: AsRef<Path>>(name: &str, files: &[P], existing: Existing) -> Result<FileSet, Failure> {
    Ok(FileSet::begin(&*storage(), name, files, existing)?)
}

/// The two forms of a picture.
pub(crate) fn picture(stem: &Path) -> [PathBuf; 2] {
    ["svg", "png"].map(|form| stem.with_extension(form))
}

/// A storage that tests use instead of the disk, for one thread.
#[cfg(test)]
pub(crate) mod instead {
    use std::cell::RefCell;
    use std::sync::Arc;

    use lalograph_storage::Storage;

    thread_local! {
        static OTHER: RefCell<Option<Arc<dyn Storage>>> = const { RefCell::new(None) };
    }

    pub(super) fn get() -> Option<Arc<dyn Storage>> {
        OTHER.with_borrow(Clone::clone)
    }

    /// Does something with another storage in the disk's place.
    pub(crate) fn of_disk<T>(storage: Arc<dyn Storage>, work: impl FnOnce() -> T) -> T {
        OTHER.set(Some(storage));
        let done = work();
        OTHER.set(None);
        done
    }
}
