//! Stores of tokens for one run, in files that are gone when it ends.

use std::path::PathBuf;

use lalograph_storage::{Disk, Existing, Folder, WholeFile};
use lalograph_text::TextError;
use lalograph_text::store::StorePlace;
use tempfile::TempDir;

use crate::error::LabError;

/// Corpora of more bytes, as they lie on disk, are encoded into stores, so that memory does not grow with the text.
const IN_MEMORY: u64 = 64_000_000;

/// Whether a corpus of so many bytes is encoded into stores.
pub(crate) fn is_large(bytes: u64) -> bool {
    bytes > IN_MEMORY
}

/// A folder for temporary files, and in it the places of the three parts of a corpus. Stores that are open stay readable when the folder is
/// dropped, and then nothing is left of them but their contents.
///
/// # Errors
/// The folder or a file cannot be made.
pub(crate) fn scratch_stores() -> Result<(TempDir, [StorePlace; 3]), LabError> {
    let made = tempfile::Builder::new().prefix("lalograph-").tempdir().map_err(TextError::Scratch)?;
    let folder = Folder::open(&Disk, made.path())?;
    let place = |name: &str| -> Result<StorePlace, LabError> {
        let path: PathBuf = made.path().join(name);
        let file = Box::new(WholeFile::within(&folder, name.as_ref(), Existing::Keep)?);
        Ok(StorePlace { path, file })
    };
    let places = [place("training")?, place("validation")?, place("test")?];
    Ok((made, places))
}
