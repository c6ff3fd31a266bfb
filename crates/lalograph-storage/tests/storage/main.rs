//! Files that are whole or not there, under every fault at every operation.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test fails by panicking")]

mod folders;
mod sets;
mod whole;

use std::path::Path;

use lalograph_storage::FailingDisk;
use lalograph_storage::failing::{Fault, Loss};
use tempfile::TempDir;

/// Does some work with every fault at every operation, in a folder that `prepare` has filled. `judge` is given the folder as it is found after
/// each loss, or after an error, and whether the work returned success.
fn at_every_operation(
    prepare: impl Fn(&Path),
    work: impl Fn(&FailingDisk, &Path) -> bool,
    judge: impl Fn(&Path, bool),
) {
    let whole = TempDir::new().unwrap();
    prepare(whole.path());
    let disk = FailingDisk::new(Fault::None);
    assert!(work(&disk, whole.path()));
    judge(whole.path(), true);
    let count = disk.count();
    assert!(count > 3, "{count}");
    for number in 1..=count {
        for fault in [Fault::Once(number), Fault::Full(number)] {
            let folder = TempDir::new().unwrap();
            prepare(folder.path());
            let done = work(&FailingDisk::new(fault), folder.path());
            judge(folder.path(), done);
        }
        for loss in Loss::ALL {
            let folder = TempDir::new().unwrap();
            prepare(folder.path());
            let disk = FailingDisk::new(Fault::Stop(number));
            let done = work(&disk, folder.path());
            assert!(disk.has_stopped());
            let found = TempDir::new().unwrap();
            let after = found.path().join("after");
            disk.after(loss, folder.path(), &after).unwrap();
            judge(&after, done);
        }
    }
}

fn put(path: &Path, bytes: &[u8]) {
    std::fs::File::create(path).and_then(|mut file| std::io::Write::write_all(&mut file, bytes)).unwrap();
}

fn get(path: &Path) -> Option<Vec<u8>> {
    std::fs::read(path).ok()
}
