//! Open folders.

use lalograph_storage::{Disk, Existing, Folder, StorageError};
use tempfile::TempDir;

use crate::{get, put};

#[test]
fn writing_goes_with_a_folder_that_is_moved_and_fails_when_it_is_gone() {
    let parent = TempDir::new().unwrap();
    let (one, two) = (parent.path().join("one"), parent.path().join("two"));
    let folder = Folder::make(&Disk, &one).unwrap();
    std::fs::rename(&one, &two).unwrap();
    assert!(!folder.is_in_its_place(&Disk));
    std::fs::create_dir(&one).unwrap();
    folder.write("file", b"bees", Existing::Keep).unwrap();
    assert_eq!((get(&one.join("file")), get(&two.join("file")).unwrap()), (None, b"bees".to_vec()));
    std::fs::remove_dir_all(&two).unwrap();
    assert!(matches!(folder.write("more", b"bees", Existing::Keep), Err(StorageError::Io { .. })));
}

#[test]
fn all_that_is_in_a_folder_is_removed_and_links_are_not_followed() {
    let parent = TempDir::new().unwrap();
    std::fs::create_dir_all(parent.path().join("run/deep/deeper")).unwrap();
    put(&parent.path().join("run/deep/file"), b"x");
    std::fs::create_dir(parent.path().join("letters")).unwrap();
    put(&parent.path().join("letters/one.txt"), b"dear bees");
    std::os::unix::fs::symlink(parent.path().join("letters"), parent.path().join("run/link")).unwrap();
    let folder = Folder::open(&Disk, parent.path()).unwrap();
    folder.remove_all("run").unwrap();
    folder.remove_all("run").unwrap();
    assert!(!parent.path().join("run").exists());
    assert_eq!(get(&parent.path().join("letters/one.txt")).unwrap(), b"dear bees");
    assert!(folder.remove_folder("letters").is_err(), "something is in it");
}

#[test]
fn folders_are_made_with_those_that_they_lie_in() {
    let parent = TempDir::new().unwrap();
    let deep = parent.path().join("a/b/c");
    Folder::make(&Disk, &deep).unwrap();
    Folder::make(&Disk, &deep).unwrap();
    assert!(deep.is_dir());
    put(&parent.path().join("file"), b"");
    let error = Folder::make(&Disk, &parent.path().join("file/inside")).unwrap_err();
    assert!(error.to_string().contains("file"), "{error}");
}
