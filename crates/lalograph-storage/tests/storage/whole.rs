//! Single files.

use lalograph_storage::whole::sweep;
use lalograph_storage::{Disk, Existing, Folder, StorageError, WholeFile, write_whole};
use tempfile::TempDir;

use crate::{at_every_operation, get, put};

#[test]
fn a_file_is_replaced_only_on_request_and_leaves_nothing_beside_it() {
    let folder = TempDir::new().unwrap();
    let path = folder.path().join("file");
    write_whole(&Disk, &path, b"one", Existing::Keep).unwrap();
    assert!(matches!(write_whole(&Disk, &path, b"two", Existing::Keep), Err(StorageError::Exists(_))));
    assert_eq!(get(&path).unwrap(), b"one");
    write_whole(&Disk, &path, b"two", Existing::Replace).unwrap();
    assert_eq!(get(&path).unwrap(), b"two");
    drop(WholeFile::create(&Disk, &path, Existing::Replace).unwrap());
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1);
    assert!(write_whole(&Disk, &folder.path().join("no/such"), b"", Existing::Keep).is_err());
}

#[test]
fn an_unwritable_path_is_reported_and_unchanged() {
    let folder = TempDir::new().unwrap();
    let taken = folder.path().join("taken");
    std::fs::create_dir(&taken).unwrap();
    for existing in [Existing::Keep, Existing::Replace] {
        let error = write_whole(&Disk, &taken, b"text", existing).unwrap_err();
        assert!(error.to_string().contains("taken"), "{error}");
    }
    assert!(taken.is_dir());
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1, "nothing is left beside it");
}

#[test]
fn pipes_and_devices_are_never_replaced() {
    use rustix::fs::{CWD, FileType, Mode, mknodat};
    let folder = TempDir::new().unwrap();
    let pipe = folder.path().join("pipe");
    mknodat(CWD, &pipe, FileType::Fifo, Mode::RUSR, 0).unwrap();
    for existing in [Existing::Keep, Existing::Replace] {
        let error = write_whole(&Disk, &pipe, b"text", existing).unwrap_err();
        assert!(matches!(error, StorageError::Exists(_) | StorageError::NotAFile(_)), "{error}");
    }
    assert!(!pipe.is_file() && pipe.exists());
    // A link gives way to a file; what it leads to stays.
    let (link, text) = (folder.path().join("link"), folder.path().join("text"));
    put(&text, b"one");
    std::os::unix::fs::symlink(&text, &link).unwrap();
    write_whole(&Disk, &link, b"two", Existing::Replace).unwrap();
    assert_eq!((get(&link).unwrap(), get(&text).unwrap()), (b"two".to_vec(), b"one".to_vec()));
}

#[test]
fn of_many_writers_of_one_new_file_one_wins_whole() {
    let folder = TempDir::new().unwrap();
    let path = folder.path().join("file");
    let won: Vec<bool> = std::thread::scope(|scope| {
        let writers: Vec<_> = (0..8u8)
            .map(|n| {
                let path = &path;
                scope.spawn(move || write_whole(&Disk, path, &[n; 50_000], Existing::Keep).is_ok())
            })
            .collect();
        writers.into_iter().map(|writer| writer.join().unwrap()).collect()
    });
    assert_eq!(won.iter().filter(|&&won| won).count(), 1);
    let winner = won.iter().position(|&won| won).unwrap() as u8;
    assert_eq!(get(&path).unwrap(), [winner; 50_000]);
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1);
}

#[test]
fn a_file_is_the_old_one_or_the_new_one_at_every_operation() {
    for old in [None, Some(b"old".as_slice())] {
        let existing = Existing::replaced_if(old.is_some());
        at_every_operation(
            |folder| {
                if let Some(old) = old {
                    put(&folder.join("file"), old);
                }
            },
            |disk, folder| write_whole(disk, &folder.join("file"), &[7; 300_000], existing).is_ok(),
            |folder, done| {
                let found = get(&folder.join("file"));
                if done {
                    assert_eq!(found.as_deref(), Some([7; 300_000].as_slice()));
                } else {
                    let new = [7; 300_000];
                    assert!(found.as_deref() == old || found.as_deref() == Some(&new), "neither old nor new");
                }
                // Whoever writes it again removes what was left.
                write_whole(&Disk, &folder.join("file"), b"again", Existing::Replace).unwrap();
                assert_eq!(get(&folder.join("file")).unwrap(), b"again");
                assert_eq!(std::fs::read_dir(folder).unwrap().count(), 1);
            },
        );
    }
}

#[test]
fn leftovers_of_dead_processes_are_removed_and_files_of_living_ones_kept() {
    let folder = TempDir::new().unwrap();
    put(&folder.path().join(".lalograph-0-old"), b"half");
    put(&folder.path().join(".lalograph-notes"), b"somebody's");
    let path = folder.path().join("file");
    let mut living = WholeFile::create(&Disk, &path, Existing::Keep).unwrap();
    sweep(&Folder::open(&Disk, folder.path()).unwrap()).unwrap();
    let mut names: Vec<_> =
        std::fs::read_dir(folder.path()).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    names.sort();
    assert_eq!(names, [".lalograph-0-file", ".lalograph-notes"]);
    std::io::Write::write_all(&mut living, b"whole").unwrap();
    living.finish().unwrap();
    assert_eq!(get(&path).unwrap(), b"whole");
}

#[test]
fn a_name_may_be_as_long_as_any() {
    let folder = TempDir::new().unwrap();
    let path = folder.path().join("n".repeat(255));
    write_whole(&Disk, &path, b"long", Existing::Keep).unwrap();
    assert_eq!(get(&path).unwrap(), b"long");
}
