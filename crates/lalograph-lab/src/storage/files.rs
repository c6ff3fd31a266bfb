//! Writing files so that a reader never sees half of one and nothing is overwritten unasked.

use std::fs;
use std::io::{BufWriter, Write};
use std::path::{Path, PathBuf};

use lalograph_text::store::WholeWriter;
use lalograph_text::{Split, TextError, Vocabulary};

use crate::error::LabError;

/// What to do when something stands in the place already.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Existing {
    /// Leave it and fail.
    Keep,
    /// Put the new file in its place.
    Replace,
}

/// Writes a whole file beside its place, syncs it and renames it into place.
///
/// # Errors
/// [`LabError::Exists`] with [`Existing::Keep`]; anything the file system refuses. The old file, if any, is whole then.
pub fn write_whole(path: &Path, bytes: &[u8], existing: Existing) -> Result<(), LabError> {
    let mut file = WholeFile::create(path, existing)?;
    file.write_all(bytes).map_err(LabError::at(path))?;
    file.finish()
}

/// A file that is written piece by piece beside its place and only stands there once it is whole.
#[derive(Debug)]
pub struct WholeFile {
    path: PathBuf,
    existing: Existing,
    beside: BufWriter<tempfile::NamedTempFile>,
}

impl WholeFile {
    /// Begins a file.
    ///
    /// # Errors
    /// [`LabError::Exists`] with [`Existing::Keep`]; anything the file system refuses.
    pub fn create(path: &Path, existing: Existing) -> Result<Self, LabError> {
        if existing == Existing::Keep && path.symlink_metadata().is_ok() {
            return Err(LabError::Exists(path.to_owned()));
        }
        let beside = tempfile::Builder::new()
            .prefix(".lalograph-")
            .permissions(permissions())
            .tempfile_in(folder_of(path))
            .map_err(LabError::at(path))?;
        Ok(Self { path: path.to_owned(), existing, beside: BufWriter::with_capacity(1 << 17, beside) })
    }

    /// Syncs it and renames it into its place. Without this it vanishes.
    ///
    /// # Errors
    /// As for [`WholeFile::create`].
    pub fn finish(self) -> Result<(), LabError> {
        let Self { path, existing, beside } = self;
        let beside = beside.into_inner().map_err(|error| LabError::at(&path)(error.into_error()))?;
        beside.as_file().sync_all().map_err(LabError::at(&path))?;
        let placed = match existing {
            Existing::Replace => beside.persist(&path),
            Existing::Keep => beside.persist_noclobber(&path),
        };
        match placed {
            Ok(_) => {
                // The name itself is durable once the folder is.
                let folder = fs::File::open(folder_of(&path));
                folder.and_then(|folder| folder.sync_all()).map_err(LabError::at(&path))
            }
            Err(error) if error.error.kind() == std::io::ErrorKind::AlreadyExists => {
                Err(LabError::Exists(path))
            }
            Err(error) => Err(LabError::Io { path, source: error.error }),
        }
    }
}

impl Write for WholeFile {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.beside.write(bytes)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.beside.flush()
    }
}

impl WholeWriter for WholeFile {
    fn finish(self: Box<Self>) -> std::io::Result<()> {
        WholeFile::finish(*self).map_err(|error| match error {
            LabError::Io { source, .. } => source,
            other => std::io::Error::other(other),
        })
    }
}

fn folder_of(path: &Path) -> &Path {
    match path.parent() {
        Some(folder) if !folder.as_os_str().is_empty() => folder,
        _ => Path::new("."),
    }
}

/// The usual ones of a new file, less what the user's mask takes away; temporary files are private otherwise.
fn permissions() -> fs::Permissions {
    use std::os::unix::fs::PermissionsExt;
    fs::Permissions::from_mode(0o666)
}

/// Reads and checks a vocabulary file.
///
/// # Errors
/// The file cannot be read, or is not a vocabulary.
pub fn read_vocabulary(path: &Path) -> Result<Vocabulary, LabError> {
    let not_text = || TextError::BadVocabulary("it is not UTF-8 text".into());
    read_text(path, not_text, Vocabulary::from_json)
}

/// Reads and checks a split file.
///
/// # Errors
/// The file cannot be read, or is not a split.
pub fn read_split(path: &Path) -> Result<Split, LabError> {
    read_text(path, || TextError::BadSplit("it is not UTF-8 text".into()), Split::from_json)
}

fn read_text<T>(
    path: &Path,
    not_text: impl FnOnce() -> TextError,
    parse: impl FnOnce(&str) -> Result<T, TextError>,
) -> Result<T, LabError> {
    let bytes = fs::read(path).map_err(LabError::at(path))?;
    let text = std::str::from_utf8(&bytes).map_err(|_| not_text());
    text.and_then(parse).map_err(|source| LabError::BadFile { path: path.to_owned(), source })
}

#[cfg(test)]
mod tests {
    use super::{Existing, write_whole};
    use crate::LabError;

    #[test]
    fn a_file_is_replaced_only_on_request_and_leaves_nothing_beside_it() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("file");
        write_whole(&path, b"one", Existing::Keep).unwrap();
        assert!(matches!(write_whole(&path, b"two", Existing::Keep), Err(LabError::Exists(_))));
        assert_eq!(std::fs::read(&path).unwrap(), b"one");
        write_whole(&path, b"two", Existing::Replace).unwrap();
        assert_eq!(std::fs::read(&path).unwrap(), b"two");
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1);
        assert!(write_whole(&folder.path().join("no/such"), b"", Existing::Keep).is_err());
    }

    #[test]
    fn a_place_that_cannot_be_written_is_named_and_stays_as_it_was() {
        let folder = tempfile::tempdir().unwrap();
        let taken = folder.path().join("taken");
        std::fs::create_dir(&taken).unwrap();
        for existing in [Existing::Keep, Existing::Replace] {
            let error = write_whole(&taken, b"text", existing).unwrap_err();
            assert!(error.to_string().contains("taken"), "{error}");
        }
        assert!(taken.is_dir());
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1, "nothing is left beside it");
    }

    #[test]
    fn of_many_writers_of_one_new_file_one_wins_whole() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("file");
        let won: Vec<bool> = std::thread::scope(|scope| {
            let writers: Vec<_> = (0..8u8)
                .map(|n| {
                    scope.spawn({
                        let path = &path;
                        move || write_whole(path, &[n; 50_000], Existing::Keep).is_ok()
                    })
                })
                .collect();
            writers.into_iter().map(|writer| writer.join().unwrap()).collect()
        });
        assert_eq!(won.iter().filter(|&&won| won).count(), 1);
        let winner = won.iter().position(|&won| won).unwrap() as u8;
        assert_eq!(std::fs::read(&path).unwrap(), [winner; 50_000]);
    }

    #[test]
    fn a_vocabulary_that_is_no_text_or_not_there_is_named() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("words.json");
        assert!(matches!(super::read_vocabulary(&path), Err(LabError::Io { .. })));
        for bytes in [b"\xff\xfe".as_slice(), b"", b"{}", b"[1, 2]"] {
            write_whole(&path, bytes, Existing::Replace).unwrap();
            let error = super::read_vocabulary(&path).unwrap_err();
            assert!(matches!(error, LabError::BadFile { .. }), "{error}");
            assert!(error.to_string().contains("words.json"), "{error}");
        }
    }
}
