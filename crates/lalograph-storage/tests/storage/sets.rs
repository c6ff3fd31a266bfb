//! Files that belong together.

use lalograph_storage::{Disk, Existing, FailingDisk, FileSet, Storage, StorageError};
use std::path::Path;
use tempfile::TempDir;

use crate::{at_every_operation, get, put};

fn places(folder: &Path) -> [std::path::PathBuf; 3] {
    ["page.html", "page.svg", "other/page.png"].map(|name| folder.join(name))
}

fn write(storage: &dyn Storage, folder: &Path, text: &[u8], existing: Existing) -> Result<(), StorageError> {
    let places = places(folder);
    let mut set = FileSet::begin(storage, "page", &places, existing)?;
    for path in &places {
        set.write(path, text)?;
    }
    set.finish()
}

#[test]
fn a_set_that_was_not_finished_is_made_again_and_one_that_was_stays() {
    at_every_operation(
        |folder| put(&folder.join("letter.txt"), b"dear bees"),
        |disk: &FailingDisk, folder| write(disk, folder, b"first", Existing::Keep).is_ok(),
        |folder, done| {
            let again = write(&Disk, folder, b"second", Existing::Keep);
            if done {
                assert!(matches!(again, Err(StorageError::Exists(_))));
            }
            // What is whole is the first or the second, never both, and nothing else is touched.
            let wanted: &[u8] = if again.is_ok() { b"second" } else { b"first" };
            for path in places(folder) {
                assert_eq!(get(&path).unwrap(), wanted, "{}", path.display());
            }
            assert_eq!(get(&folder.join("letter.txt")).unwrap(), b"dear bees");
            assert_eq!(std::fs::read_dir(folder).unwrap().count(), 4, "nothing hidden is left");
        },
    );
}

#[test]
fn foreign_files_are_not_part_of_the_set() {
    let folder = TempDir::new().unwrap();
    let [page, svg, png] = places(folder.path());
    put(&svg, b"mine");
    assert!(matches!(write(&Disk, folder.path(), b"set", Existing::Keep), Err(StorageError::Exists(_))));
    assert_eq!((get(&page), get(&svg).unwrap()), (None, b"mine".to_vec()));
    // Nor does the attempt leave anything behind that would say otherwise the next time.
    assert!(write(&Disk, folder.path(), b"set", Existing::Keep).is_err());
    write(&Disk, folder.path(), b"set", Existing::Replace).unwrap();
    assert_eq!(get(&png).unwrap(), b"set");
}

#[test]
fn one_process_writes_a_set_at_a_time() {
    let folder = TempDir::new().unwrap();
    let places = places(folder.path());
    let set = FileSet::begin(&Disk, "page", &places, Existing::Keep).unwrap();
    assert!(!FileSet::is_unfinished(&Disk, folder.path(), "page"), "somebody is at it");
    let other = FileSet::begin(&Disk, "page", &places, Existing::Keep);
    assert!(matches!(other, Err(StorageError::Busy(_))));
    drop(set);
    assert!(!FileSet::is_unfinished(&Disk, folder.path(), "page"), "nothing was written");
    let mut set = FileSet::begin(&Disk, "page", &places, Existing::Keep).unwrap();
    set.write(&places[0], b"one").unwrap();
    drop(set);
    assert!(FileSet::is_unfinished(&Disk, folder.path(), "page"));
    assert!(set_of_others(folder.path()).is_err(), "a file that is none of the set");
}

fn set_of_others(folder: &Path) -> Result<(), StorageError> {
    let mut set = FileSet::begin(&Disk, "page", &places(folder), Existing::Keep)?;
    set.write(&folder.join("elsewhere/file"), b"")
}
