//! Commands that lose their process or their power at any operation: the next call makes whole what was started, and nothing else is touched.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use clap::Parser;
use lalograph_storage::FailingDisk;
use lalograph_storage::failing::{Fault, Loss};
use tempfile::TempDir;

use crate::cli::Cli;
use crate::failure::Failure;
use crate::files::instead;
use crate::output::screen::Screen;

/// A folder where making sure of a file takes no time: thousands are. On disk, where there is none in memory.
fn folder_in_memory() -> TempDir {
    TempDir::new_in("/dev/shm").or_else(|_| TempDir::new()).unwrap()
}

/// Runs a command as if it had been typed; `{}` represents the folder.
fn typed(words: &str, folder: &Path) -> Result<(), Failure> {
    let place = folder.display().to_string();
    let words = words.split(' ').map(|word| word.replace("{}", &place));
    let cli = Cli::try_parse_from(std::iter::once("lalograph".to_owned()).chain(words)).unwrap();
    super::run(cli, &Screen::plain(80))
}

/// All files below a folder with their contents, hidden ones too, but for the locks of folders of runs.
fn tree(folder: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
    let mut found = BTreeMap::new();
    let mut open = vec![folder.to_owned()];
    while let Some(inside) = open.pop() {
        for entry in std::fs::read_dir(&inside).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                open.push(path);
            } else if !path.ends_with(".lalograph-lock") {
                let mut bytes = std::fs::read(&path).unwrap();
                // The chart crate numbers the parts of its pictures through the life of the process.
                if path.extension().is_some_and(|form| form == "svg" || form == "html") {
                    bytes.retain(|byte| !byte.is_ascii_digit());
                }
                found.insert(path.strip_prefix(folder).unwrap().to_owned(), bytes);
            }
        }
    }
    found
}

/// A text, and two runs trained on it.
fn workshop() -> TempDir {
    let folder = folder_in_memory();
    let lines: String = (0..200).map(|i| format!("hive {} hums {} times\n", i % 7, (i * i) % 5)).collect();
    std::fs::File::create(folder.path().join("letters.txt"))
        .and_then(|mut file| std::io::Write::write_all(&mut file, lines.as_bytes()))
        .unwrap();
    for name in ["one", "two"] {
        let words = format!(
            "train {{}}/letters.txt --document line --runs {{}}/runs --name {name} --steps 3 --embedding 4 --hidden 4 --batch 2 --window 4"
        );
        typed(&words, folder.path()).unwrap();
    }
    typed(
        "embed train {}/letters.txt --document line --runs {}/runs --dimensions 4 --output {}/v.safetensors",
        folder.path(),
    )
    .unwrap();
    folder
}

/// Stops a command at every `stride`th operation and looks at what the next call of the same command makes of what is found.
fn stopped(words: &str, stride: usize) -> u64 {
    let workshop = workshop();
    let words = words.replace("{w}", &workshop.path().display().to_string());
    let whole = folder_in_memory();
    let disk = FailingDisk::new(Fault::None);
    instead::of_disk(Arc::new(disk.clone()), || typed(&words, whole.path())).unwrap();
    let reference = tree(whole.path());
    assert!(!reference.is_empty());
    let mut tried = 0;
    for number in (1..=disk.count()).step_by(stride) {
        let folder = folder_in_memory();
        let stopping = FailingDisk::new(Fault::Stop(number));
        let ended = instead::of_disk(Arc::new(stopping.clone()), || typed(&words, folder.path()));
        tried += 1;
        for loss in Loss::ALL {
            let found = folder_in_memory();
            let after = found.path().join("after");
            stopping.after(loss, folder.path(), &after).unwrap();
            let again = typed(&words, &after);
            let when = format!("{words}: operation {number}, {loss:?} lost");
            // Where all was there already, it stays.
            if let Err(failure) = &again {
                assert!(failure.words().ends_with("exists already"), "{when}: {}", failure.words());
            }
            let found = tree(&after);
            let other: Vec<&PathBuf> = found
                .keys()
                .chain(reference.keys())
                .filter(|path| found.get(*path) != reference.get(*path))
                .collect();
            assert!(other.is_empty(), "{when}: {ended:?}, {again:?}: not as they should be: {other:?}");
        }
    }
    println!("stopped at {tried} of {:?}, with every loss: {words}", disk.operations());
    tried
}

#[test]
fn the_demo_s_corpus_is_made_again_where_it_is_not_whole() {
    assert!(stopped("demo --corpus-only --size 50000 --dir {}/demo", 1) > 40);
}

#[test]
fn pages_pictures_and_parts_are_made_again_where_they_are_not_whole() {
    stopped("manual {}/man", 9);
    stopped("split {w}/letters.txt --document line --output {}/s.json --files {}/parts", 1);
    stopped("vocab build {w}/letters.txt --output {}/words.json", 1);
    stopped("runs report {w}/runs/one --output {}/report", 11);
    stopped("runs compare {w}/runs/one {w}/runs/two --output {}/compared", 7);
    stopped("embed map {w}/v.safetensors --output {}/map", 7);
    stopped("flow {w}/runs/one {w}/letters.txt --document line --pictures {}/flow", 7);
}

/// The long form: `cargo test --release -p lalograph -- --ignored every_operation`.
#[test]
#[ignore = "takes minutes"]
fn every_operation_of_every_command() {
    for words in [
        "manual {}/man",
        "runs report {w}/runs/one --output {}/report",
        "runs compare {w}/runs/one {w}/runs/two --output {}/compared",
        "embed map {w}/v.safetensors --output {}/map",
        "flow {w}/runs/one {w}/letters.txt --document line --pictures {}/flow",
        "vocab coverage {w}/letters.txt --document line --pictures {}/coverage",
        "survey {w}/letters.txt --document line --pictures {}/survey",
        "embed train {w}/letters.txt --document line --runs {w}/runs --dimensions 4 --output {}/v.safetensors --text-output {}/v.txt",
        "sample {w}/runs/one --tokens 5 --output {}/sample.txt",
        "plan new --output {}/plan.toml",
    ] {
        stopped(words, 1);
    }
}
