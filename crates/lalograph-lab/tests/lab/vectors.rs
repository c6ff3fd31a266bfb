//! Files of word vectors: what is written is read back, and what is damaged is refused by name.

use std::path::{Path, PathBuf};

use lalograph_lab::LabError;
use lalograph_lab::artefact::vectors::{VectorFile, import};
use lalograph_storage::{Disk, Existing, StorageError, WholeFile, write_whole};
use lalograph_text::VocabularyBuilder;
use lalograph_text::vocabulary::VocabularySpec;
use lalograph_vectors::VectorTable;
use lalograph_vectors::pieces::Pieces;
use tempfile::TempDir;

fn folder() -> TempDir {
    tempfile::tempdir().unwrap()
}

fn words(words: &[&str]) -> Vec<String> {
    words.iter().map(|&word| word.to_owned()).collect()
}

/// Three words of two numbers, with counts, a vocabulary and pieces.
fn file() -> VectorFile {
    let mut builder = VocabularyBuilder::new(&VocabularySpec::default());
    builder.add("hive hive hive comb comb wax");
    let vocabulary = builder.finish(1).unwrap();
    let table =
        VectorTable::new(words(&["hive", "comb", "wax"]), 2, vec![1.0, 0.5, -0.25, 2.0, 1e-7, 3.0]).unwrap();
    let pieces = Pieces { shortest: 2, longest: 3, rows: 4 };
    VectorFile {
        table: table.with_pieces(pieces, (0..8).map(|x| x as f32).collect()),
        counts: Some(vec![3, 2, 1]),
        vocabulary: Some(vocabulary),
        made: "{}".into(),
    }
}

fn load(path: &Path) -> Result<VectorFile, LabError> {
    VectorFile::load(path, |_| true)
}

fn at(path: &Path) -> Result<WholeFile, StorageError> {
    WholeFile::create(&Disk, path, Existing::Keep)
}

fn saved(folder: &TempDir) -> PathBuf {
    let path = folder.path().join("v.safetensors");
    file().save(at(&path).unwrap()).unwrap();
    path
}

#[test]
fn every_property_of_vectors_survives_a_file() {
    let folder = folder();
    let path = saved(&folder);
    let (before, after) = (file(), load(&path).unwrap());
    assert_eq!(after.table.words(), before.table.words());
    assert_eq!(after.table.values(), before.table.values());
    assert_eq!((after.counts, after.made), (before.counts, before.made));
    assert_eq!(
        after.vocabulary.as_ref().map(|v| v.hash().unwrap()),
        before.vocabulary.as_ref().map(|v| v.hash().unwrap())
    );
    assert_eq!(after.table.vector("hives").unwrap(), before.table.vector("hives").unwrap());
    let shares = load(&path).unwrap().shares().unwrap();
    assert!((shares[0] - 0.5).abs() < 1e-12 && (shares.iter().sum::<f64>() - 1.0).abs() < 1e-12);
    // The same content, the same bytes.
    let again = folder.path().join("again.safetensors");
    load(&path).unwrap().save(at(&again).unwrap()).unwrap();
    assert_eq!(std::fs::read(&path).unwrap(), std::fs::read(&again).unwrap());
    assert!(matches!(at(&path), Err(StorageError::Exists(_))));
}

#[test]
fn text_holds_every_number_exactly() {
    let folder = folder();
    let path = folder.path().join("v.txt");
    file().save_text(at(&path).unwrap()).unwrap();
    assert!(std::fs::read_to_string(&path).unwrap().starts_with("3 2\nhive 1 0.5\n"));
    let back = load(&path).unwrap();
    assert_eq!(back.table.values(), file().table.values());
    assert!(back.counts.is_none() && back.vocabulary.is_none() && back.shares().is_none());
    // Without a vocabulary a text is cut at white space; with one, by its unit.
    assert_eq!(back.words_of("hive, wax"), words(&["hive,", "wax"]));
    assert_eq!(file().words_of("hive, wax"), words(&["hive", ",", "wax"]));
}

#[test]
fn every_flipped_byte_and_every_cut_is_found() {
    let folder = folder();
    let path = saved(&folder);
    let whole = std::fs::read(&path).unwrap();
    let refused = |bytes: &[u8]| {
        write_whole(&Disk, &path, bytes, Existing::Replace).unwrap();
        load(&path).is_err()
    };
    for at in (0..whole.len()).step_by(13) {
        for bit in [0x01, 0x40] {
            let mut bytes = whole.clone();
            bytes[at] ^= bit;
            // A flip in the white space that fills the header up changes no content.
            let filling =
                at >= 8 && whole[at] == b' ' && whole[at..].iter().take(3).all(|&byte| byte == b' ');
            assert!(refused(&bytes) || filling, "byte {at}, bit {bit}");
        }
    }
    for length in [0, 1, 7, 8, 9, 60, whole.len() / 2, whole.len() - 1] {
        assert!(refused(&whole[..length]), "{length} bytes");
    }
    write_whole(&Disk, &path, &whole, Existing::Replace).unwrap();
    assert!(load(&path).is_ok());
    assert!(matches!(load(&folder.path().join("nowhere")), Err(LabError::Io { .. })));
}

#[test]
fn wanted_words_are_taken_in_their_order_from_every_kind_of_file() {
    let folder = folder();
    let path = saved(&folder);
    let text = folder.path().join("v.txt");
    file().save_text(at(&text).unwrap()).unwrap();
    let wanted = words(&["wax", "smoke", "hive"]);
    for path in [&path, &text] {
        let found = import(path, None, Some(&wanted), |_| {}, |_| true).unwrap();
        assert_eq!(found.table.words(), ["wax", "hive"]);
        assert_eq!(found.table.values(), [1e-7, 3.0, 1.0, 0.5]);
        assert_eq!((found.missing, found.vectors), (words(&["smoke"]), 3));
        assert!(import(path, None, Some(&words(&["smoke"])), |_| {}, |_| true).is_err());
    }
    // As a file of somebody else's: its words are given, and the tensor by name.
    let rows = words(&["one", "two", "three"]);
    let found = import(&path, Some(("vectors", &rows)), None, |_| {}, |_| true).unwrap();
    assert_eq!(found.table.words(), rows);
    for (tensor, rows) in [("vectors", &rows[..2]), ("other", &rows[..])] {
        let refused = import(&path, Some((tensor, rows)), None, |_| {}, |_| true);
        assert!(matches!(refused, Err(LabError::BadVectors { .. })), "{tensor}");
    }
    let stopped = import(&text, None, None, |_| {}, |_| false);
    assert!(stopped.is_ok(), "too short to be stopped");
}
