//! Disks of every size that are full before a command is done: it reports that, loses nothing, and does its work when there is room.
//!
//! File systems of a size are mounted for it, which takes the right to do so; where there is none the tests say that they did nothing.
//! The long form is part of the campaign (`docs/limits.md`).

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::Command;

use crate::common::{Workshop, differing, files_below, without_times};

/// A file system of a size, mounted while this lives.
struct Mounted(PathBuf);

impl Mounted {
    fn of(size: u64, at: &Path) -> Option<Self> {
        std::fs::create_dir_all(at).unwrap();
        let options = format!("size={size}");
        let done = Command::new("mount").args(["-t", "tmpfs", "-o", &options, "tmpfs"]).arg(at).output();
        done.is_ok_and(|done| done.status.success()).then(|| Self(at.to_owned()))
    }

    fn remount(&self, options: &str) {
        let done = Command::new("mount").args(["-o", &format!("remount,{options}")]).arg(&self.0).status();
        assert!(done.is_ok_and(|status| status.success()), "{options}");
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        // What is left mounted is only in the way of the temporary folder.
        let _ = Command::new("umount").arg(&self.0).status();
    }
}

/// Bytes of a page, by which such a file system grows.
const PAGE: u64 = 4096;

const SMALL: &str = "--document line --embedding 4 --hidden 6 --batch 2 --window 8 --samples-tokens 5 --validate-every 3 --checkpoints-every 2 --quiet";

/// Commands that write everything to `full`, and how a run there is continued.
const COMMANDS: [(&str, Option<&str>); 16] = [
    (
        "train letters.txt --runs full --name three --steps 8 {small}",
        Some("resume three --runs full --quiet"),
    ),
    ("demo --corpus-only --size 60000 --dir full/demo", None),
    ("manual full/man", None),
    ("vocab build letters.txt --output full/new.json", None),
    ("split letters.txt --document line --output full/s.json --files full/parts", None),
    ("survey letters.txt --document line --pictures full/survey", None),
    (
        "embed train letters.txt --document line --dimensions 4 --lanes 2 --output full/w.safetensors --text-output full/w.txt",
        None,
    ),
    ("embed map v.txt --layout principal --output full/map", None),
    ("runs report one --output full/report", None),
    ("sample runs/one --tokens 900 --seed 3 --output full/sample.txt", None),
    ("plan new --all --output full/plan.toml", None),
    ("export runs/one --output full/one.onnx --readme full/one.md", None),
    ("export runs/one --form tables --output full/one.npz", None),
    ("runs export one --output full/one.tar.zst", None),
    ("runs import letters.txt.tar.zst --runs full", None),
    ("sweep runs/one/plan.toml --vary model.hidden=3,6 --keep 1 --runs full --name swept --quiet", None),
];

fn workshop() -> Workshop {
    let workshop = Workshop::new();
    let lines: String = (0..150).map(|i| format!("the hive {} hums {i} times\n", i % 7)).collect();
    workshop.write("letters.txt", lines);
    workshop.write("v.txt", "4 3\nhive 1 2 3\nmill 3 2 1\nhums -1 0 1\ntimes 0.5 0 2\n");
    workshop.run(&format!("train letters.txt --name one --steps 8 {SMALL}")).ok();
    workshop.run("runs export one --output letters.txt.tar.zst").ok();
    workshop
}

/// Runs a command on disks of every size below what it needs, by so many pages at a time; how many sizes there were, or none where nothing
/// can be mounted.
fn on_every_size(workshop: &Workshop, words: &str, resume: Option<&str>, pages: u64) -> Option<u64> {
    let words = words.replace("{small}", SMALL);
    let full = workshop.path("full");
    let left = {
        let _mounted = Mounted::of(100 << 20, &full)?;
        workshop.run(&words).ok();
        without_times(files_below(&full))
    };
    let same = |left: &BTreeMap<PathBuf, Vec<u8>>, when: &str| {
        let found = without_times(files_below(&full));
        let other = differing(&found, left);
        assert!(other.is_empty(), "{when}: otherwise are {other:?}");
    };
    let (mut size, mut tried) = (PAGE, 0);
    loop {
        let mounted = Mounted::of(size, &full)?;
        let done = workshop.run(&words);
        if done.status == 0 {
            same(&left, &format!("`{words}` with {size} bytes"));
            return Some(tried);
        }
        assert!(done.status == 1 && !done.err.contains("panicked"), "`{words}` with {size} bytes: {done:?}");
        let output = ["full", "letters.txt"].iter().any(|name| done.err.contains(name));
        assert!(done.err.contains("error: ") && output, "`{words}` with {size} bytes: {done:?}");
        mounted.remount("size=100m");
        let started = full.join("three/run.json").exists();
        let again = resume.filter(|_| started).unwrap_or(&words);
        workshop.run(again).ok();
        same(&left, &format!("`{words}` with {size} bytes, then `{again}`"));
        (size, tried) = (size + PAGE * pages, tried + 1);
    }
}

#[test]
fn a_full_disk_is_reported_and_loses_nothing() {
    let workshop = workshop();
    for which in [0, 4, 8] {
        let (words, resume) = COMMANDS[which];
        match on_every_size(&workshop, words, resume, 9) {
            Some(tried) => assert!(tried > 0, "{words}"),
            None => println!("nothing was done: file systems cannot be mounted here"),
        }
    }
}

#[test]
#[ignore = "part of the campaign: takes minutes"]
fn campaign_of_full_disks() {
    let workshop = workshop();
    for (words, resume) in COMMANDS {
        match on_every_size(&workshop, words, resume, 1) {
            Some(tried) => println!("{tried} sizes: {words}"),
            None => println!("nothing was done: file systems cannot be mounted here"),
        }
    }
}

#[test]
fn a_folder_that_cannot_be_written_loses_nothing() {
    let workshop = workshop();
    let full = workshop.path("full");
    let Some(mounted) = Mounted::of(100 << 20, &full) else {
        println!("nothing was done: file systems cannot be mounted here");
        return;
    };
    let run = format!("train letters.txt --runs full --steps 8 {SMALL} --name");
    workshop.run(&format!("{run} two")).ok();
    let left = files_below(&full);
    mounted.remount("ro");
    workshop.run(&format!("{run} three")).fails(1, &["full"]);
    workshop.run("resume two --runs full --steps 12").fails(1, &["two"]);
    workshop.run("runs remove two --runs full").fails(1, &["full"]);
    // What only reads does its work.
    workshop.run("runs list --runs full").ok();
    workshop.run("runs show two --runs full").ok();
    workshop.run("sample full/two --tokens 5").ok();
    assert!(files_below(&full) == left);
    mounted.remount("rw");
    workshop.run("resume two --runs full --steps 12 --quiet").ok();
}
