//! Corpora on disk: sizes, forms, seeds, refusals.

use std::fs;
use std::path::Path;

use lalograph_demo::{CorpusError, CorpusPlan, CorpusTruth, thornmere, write_corpus};
use lalograph_storage::{Disk, Folder, StorageError};

fn is_function_word(word: &str) -> bool {
    ["the", "a", "of", "and", "is"].contains(&word)
}

fn write(folder: &Path, bytes: u64, seed: u64) -> Result<CorpusTruth, CorpusError> {
    let plan = CorpusPlan { bytes, seed, tables: true, is_function_word };
    let folder = Folder::open(&Disk, folder).unwrap();
    write_corpus(&thornmere().unwrap(), &plan, &folder, |_| true).map(|(_, truth)| truth)
}

fn volumes(folder: &Path) -> String {
    let mut paths: Vec<_> =
        fs::read_dir(folder.join("diaries")).unwrap().map(|entry| entry.unwrap().path()).collect();
    paths.sort();
    paths.iter().map(|path| fs::read_to_string(path).unwrap()).collect()
}

#[test]
fn the_three_forms_hold_the_same_entries() {
    let folder = tempfile::tempdir().unwrap();
    let truth = write(folder.path(), 200_000, 4).unwrap();
    let text = volumes(folder.path());
    assert_eq!(text.len() as u64, truth.bytes);
    assert!(truth.bytes >= 200_000 && truth.bytes < 201_000);
    let lines: Vec<&str> = text.lines().collect();
    assert_eq!(lines.len() as u64, truth.entries);

    let mut table = csv::Reader::from_path(folder.path().join("diaries.csv")).unwrap();
    assert_eq!(table.headers().unwrap(), vec!["entry", "keeper", "season", "outcome", "text"]);
    let rows: Vec<csv::StringRecord> = table.records().map(Result::unwrap).collect();
    let json = fs::read_to_string(folder.path().join("diaries.jsonl")).unwrap();
    assert_eq!(rows.len(), lines.len());
    for ((row, object), line) in rows.iter().zip(json.lines()).zip(&lines) {
        let object: serde_json::Value = serde_json::from_str(object).unwrap();
        assert_eq!(&row[4], *line);
        assert_eq!(object["text"], *line);
        assert_eq!(object["keeper"], row[1]);
        assert_eq!(object["entry"].to_string(), row[0]);
        assert!(["thriving", "steady", "restless", "failing"].contains(&&row[3]));
    }
    let kept: CorpusTruth =
        serde_json::from_slice(&fs::read(folder.path().join("diaries.truth.json")).unwrap()).unwrap();
    assert_eq!(kept.entries, truth.entries);
    let expected = truth.entropy.bits_per_entry * truth.entries as f64;
    assert!((truth.bits_written / expected - 1.0).abs() < 0.02);
}

#[test]
fn one_seed_gives_one_corpus_and_a_larger_one_begins_with_the_smaller() {
    let [first, again, larger, other] =
        [(60_000, 1), (60_000, 1), (90_000, 1), (60_000, 2)].map(|(bytes, seed)| {
            let folder = tempfile::tempdir().unwrap();
            write(folder.path(), bytes, seed).unwrap();
            volumes(folder.path())
        });
    assert_eq!(first, again);
    assert!(larger.starts_with(&first));
    assert_ne!(first, other);
}

#[test]
fn too_small_a_size_and_an_existing_corpus_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    assert!(matches!(write(folder.path(), 49_999, 1), Err(CorpusError::TooSmall(49_999))));
    write(folder.path(), 50_000, 1).unwrap();
    let before = volumes(folder.path());
    assert!(matches!(write(folder.path(), 50_000, 2), Err(CorpusError::Storage(StorageError::Exists(_)))));
    assert_eq!(volumes(folder.path()), before);
}

#[test]
fn the_observer_can_stop_it() {
    let folder = tempfile::tempdir().unwrap();
    let plan = CorpusPlan { bytes: 10_000_000, seed: 1, tables: false, is_function_word };
    let stopped =
        write_corpus(&thornmere().unwrap(), &plan, &Folder::open(&Disk, folder.path()).unwrap(), |bytes| {
            bytes < 100_000
        });
    assert!(matches!(stopped, Err(CorpusError::Stopped)));
}
