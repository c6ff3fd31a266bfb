//! Vocabulary and split files.

use std::fs;
use std::path::Path;

use lalograph_text::{Split, TextError, Vocabulary};

use crate::error::LabError;

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
    use lalograph_storage::{Disk, Existing, write_whole};

    use crate::LabError;

    #[test]
    fn an_unreadable_or_missing_vocabulary_is_reported() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("words.json");
        assert!(matches!(super::read_vocabulary(&path), Err(LabError::Io { .. })));
        for bytes in [b"\xff\xfe".as_slice(), b"", b"{}", b"[1, 2]"] {
            write_whole(&Disk, &path, bytes, Existing::Replace).unwrap();
            let error = super::read_vocabulary(&path).unwrap_err();
            assert!(matches!(error, LabError::BadFile { .. }), "{error}");
            assert!(error.to_string().contains("words.json"), "{error}");
        }
    }
}
