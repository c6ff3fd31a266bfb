//! Files of word vectors: safetensors of ours, and text. `docs/formats/vectors.md` is their description.

use std::fs::File;
use std::io::{BufRead, BufReader, Read, Write};
use std::path::Path;

use lalograph_storage::WholeFile;
use lalograph_text::Vocabulary;
use lalograph_vectors::import::{BadLine, Imported, read_text};
use lalograph_vectors::pieces::Pieces;
use lalograph_vectors::{VectorError, VectorTable};

use super::container::{
    Assets, Container, Kind, Numbers, begins_as_container, foreign_rows, json, read_file, write_container,
};
use crate::error::LabError;

/// The container of word vectors.
pub const KIND: Kind = Kind { format: "lalograph word vectors", version: "1" };

/// Word vectors with what is known of them.
#[derive(Debug, Clone)]
pub struct VectorFile {
    /// The vectors.
    pub table: VectorTable,
    /// Count of each word, in the order of the table, if known.
    pub counts: Option<Vec<u64>>,
    /// The vocabulary that they were learnt with, whose cleaning and unit texts go through.
    pub vocabulary: Option<Vocabulary>,
    /// Settings that they were made with, as JSON.
    pub made: String,
}

impl VectorFile {
    /// Writes them to a file.
    ///
    /// # Errors
    /// An error of the file system.
    pub fn save(&self, mut file: WholeFile) -> Result<(), LabError> {
        let mut metadata = Assets::from([("words", json(&self.table.words())?), ("made", self.made.clone())]);
        if let Some(counts) = &self.counts {
            metadata.insert("counts", json(counts)?);
        }
        if let Some(vocabulary) = &self.vocabulary {
            metadata.insert("vocabulary", vocabulary.to_json()?);
        }
        let dimensions = self.table.dimensions();
        let mut tensors = vec![Numbers {
            name: "vectors".to_owned(),
            shape: vec![self.table.words().len(), dimensions],
            values: self.table.values(),
        }];
        if let Some((pieces, values)) = self.table.pieces() {
            metadata.insert("pieces", json(pieces)?);
            let shape = vec![pieces.rows as usize, dimensions];
            tensors.push(Numbers { name: "pieces".to_owned(), shape, values });
        }
        let path = &file.path();
        write_container(KIND, metadata, &tensors, &mut file).map_err(LabError::at(path))?;
        Ok(file.finish()?)
    }

    /// Writes the words and their numbers as text, a line each after a line of how many there are and of how many numbers.
    ///
    /// # Errors
    /// An error of the file system.
    pub fn save_text(&self, mut file: WholeFile) -> Result<(), LabError> {
        let path = &file.path();
        let table = &self.table;
        let mut lines = format!("{} {}\n", table.words().len(), table.dimensions());
        for (word, numbers) in table.words().iter().zip(table.values().chunks(table.dimensions())) {
            lines.push_str(word);
            numbers.iter().for_each(|x| lines.push_str(&format!(" {x}")));
            lines.push('\n');
            file.write_all(lines.as_bytes()).map_err(LabError::at(path))?;
            lines.clear();
        }
        file.write_all(lines.as_bytes()).map_err(LabError::at(path))?;
        Ok(file.finish()?)
    }

    /// Reads vectors from a file of either kind, detected from its first bytes. `progress` is given the bytes read of a text file; `false` stops the work.
    ///
    /// # Errors
    /// The file cannot be read, or holds no vectors.
    pub fn load(path: &Path, progress: impl FnMut(u64) -> bool) -> Result<Self, LabError> {
        if is_safetensors(path)? {
            let bad = |what| LabError::BadVectors { path: path.to_owned(), what };
            return Self::of(&Container::open(path, KIND, bad)?).map_err(bad);
        }
        let Imported { table, .. } = import_text(path, None, |_| {}, progress)?;
        Ok(Self { table, counts: None, vocabulary: None, made: json(&"read from text")? })
    }

    fn of(file: &Container) -> Result<Self, String> {
        let read = |what: &str, error: serde_json::Error| format!("its {what}: {error}");
        let words: Vec<String> =
            serde_json::from_str(file.asset("words")?).map_err(|error| read("words", error))?;
        let dimensions = file.columns("vectors")?;
        let values = file.numbers("vectors", &[words.len(), dimensions])?.to_vec();
        let mut table = VectorTable::new(words, dimensions, values).map_err(|error| error.to_string())?;
        if let Ok(pieces) = file.asset("pieces") {
            let pieces: Pieces = serde_json::from_str(pieces).map_err(|error| read("pieces", error))?;
            pieces.check().map_err(|error| error.to_string())?;
            let values = file.numbers("pieces", &[pieces.rows as usize, dimensions])?.to_vec();
            table = table.with_pieces(pieces, values);
        }
        let counts: Option<Vec<u64>> = match file.asset("counts") {
            Ok(counts) => Some(serde_json::from_str(counts).map_err(|error| read("counts", error))?),
            Err(_) => None,
        };
        if counts.as_ref().is_some_and(|counts| counts.len() != table.words().len()) {
            return Err("it has another number of counts than of words".into());
        }
        let vocabulary = match file.asset("vocabulary") {
            Ok(text) => Some(Vocabulary::from_json(text).map_err(|error| error.to_string())?),
            Err(_) => None,
        };
        Ok(Self { table, counts, vocabulary, made: file.asset("made")?.to_owned() })
    }

    /// The words of a text: cleaned and cut as when the vectors were learnt, or at white space where nobody knows how that was.
    pub fn words_of(&self, text: &str) -> Vec<String> {
        match &self.vocabulary {
            Some(vocabulary) => vocabulary.encode(text).into_iter().map(|(word, _)| word).collect(),
            None => text.split_whitespace().map(str::to_owned).collect(),
        }
    }

    /// The share of each word in the text that was counted.
    pub fn shares(&self) -> Option<Vec<f64>> {
        let counts = self.counts.as_ref()?;
        let all: u64 = counts.iter().sum();
        Some(counts.iter().map(|&count| count as f64 / all.max(1) as f64).collect())
    }
}

/// Whether a file begins as safetensors do: with the length of a JSON object.
fn is_safetensors(path: &Path) -> Result<bool, LabError> {
    let mut head = Vec::new();
    let file = File::open(path).map_err(LabError::at(path))?;
    file.take(9).read_to_end(&mut head).map_err(LabError::at(path))?;
    Ok(begins_as_container(&head))
}

/// Reads vectors from text, of `wanted` words or of all; see [`read_text`].
///
/// # Errors
/// As for [`read_text`].
pub fn import_text(
    path: &Path,
    wanted: Option<&[String]>,
    bad: impl FnMut(&BadLine),
    progress: impl FnMut(u64) -> bool,
) -> Result<Imported, LabError> {
    let file = File::open(path).map_err(LabError::at(path))?;
    let reader = BufReader::with_capacity(1 << 20, file);
    read_text(reader, wanted, bad, progress).map_err(|error| unusable_text(path, error))
}

/// The dimensions of the vectors in a file. Of a text file only the first lines are read.
///
/// # Errors
/// As for [`import`].
pub fn width(path: &Path) -> Result<usize, LabError> {
    if is_safetensors(path)? {
        return Ok(VectorFile::load(path, |_| true)?.table.dimensions());
    }
    let file = File::open(path).map_err(LabError::at(path))?;
    let mut head = Vec::new();
    let mut reader = BufReader::new(file).take(HEAD_BYTES);
    for _ in 0..HEAD_LINES {
        reader.read_until(b'\n', &mut head).map_err(LabError::at(path))?;
    }
    Ok(read_text(&head[..], None, |_| {}, |_| true)
        .map_err(|error| unusable_text(path, error))?
        .table
        .dimensions())
}

/// Lines at the beginning of a text that are looked at for the width of its vectors, and their bytes at most.
const HEAD_LINES: usize = 3;
const HEAD_BYTES: u64 = 1 << 24;

fn unusable_text(path: &Path, error: VectorError) -> LabError {
    match error {
        VectorError::Line { line, what } => {
            LabError::BadVectors { path: path.to_owned(), what: format!("line {line}: {what}") }
        }
        VectorError::Io(source) => LabError::Io { path: path.to_owned(), source },
        other => other.into(),
    }
}

/// Reads vectors from any file for a vocabulary's words: those of [`VectorFile`], text, or a tensor of other safetensors with its words in `words`.
///
/// # Errors
/// The file cannot be read, or has no vector that is wanted.
pub fn import(
    path: &Path,
    words: Option<(&str, &[String])>,
    wanted: Option<&[String]>,
    bad: impl FnMut(&BadLine),
    progress: impl FnMut(u64) -> bool,
) -> Result<Imported, LabError> {
    if !is_safetensors(path)? {
        return import_text(path, wanted, bad, progress);
    }
    let unusable = |what: String| LabError::BadVectors { path: path.to_owned(), what };
    let all = match words {
        None => VectorFile::of(&Container::open(path, KIND, unusable)?).map_err(unusable)?.table,
        Some((tensor, words)) => {
            let bytes = read_file(path)?;
            let (dimensions, values) = foreign_rows(&bytes, tensor, words.len()).map_err(unusable)?;
            VectorTable::new(words.to_vec(), dimensions, values)
                .map_err(|error| unusable(error.to_string()))?
        }
    };
    let vectors = all.words().len() as u64;
    let Some(wanted) = wanted else {
        return Ok(Imported { table: all, vectors, duplicates: 0, missing: Vec::new(), bad_lines: 0 });
    };
    let (mut kept, mut values, mut missing) = (Vec::new(), Vec::new(), Vec::new());
    let rows: std::collections::HashMap<&str, u32> =
        (0..).zip(all.words()).map(|(row, word)| (word.as_str(), row)).collect();
    for word in wanted {
        match rows.get(word.as_str()) {
            Some(&row) => {
                kept.push(word.clone());
                values.extend_from_slice(all.at(row));
            }
            None => missing.push(word.clone()),
        }
    }
    if kept.is_empty() {
        return Err(VectorError::NoneFound(wanted.len()).into());
    }
    let table = VectorTable::new(kept, all.dimensions(), values)?;
    Ok(Imported { table, vectors, duplicates: 0, missing, bad_lines: 0 })
}
