//! Writes a corpus of any size, streamed: a folder of text files, and the same entries as CSV and JSON Lines.

use std::collections::HashSet;
use std::fs::{self, File};
use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::{Entropy, Entry, Generator, Grammar, words_of};

/// Entries in one volume of the folder.
const ENTRIES_PER_VOLUME: u64 = 500;
/// Below this a corpus is too small to be of use.
pub(crate) const SMALLEST_BYTES: u64 = 50_000;

/// What to write.
#[derive(Debug, Clone)]
pub struct CorpusPlan {
    /// Bytes of text to reach, line ends included; at least 50,000. The last entry is written whole.
    pub bytes: u64,
    /// The seed of the stream of entries.
    pub seed: u64,
    /// Whether to write the CSV and JSON Lines files beside the folder of text files.
    pub tables: bool,
}

impl CorpusPlan {
    /// Refuses a size below the smallest, before anything is touched.
    ///
    /// # Errors
    /// [`CorpusError::TooSmall`].
    pub fn check(&self) -> Result<(), CorpusError> {
        if self.bytes < SMALLEST_BYTES { Err(CorpusError::TooSmall(self.bytes)) } else { Ok(()) }
    }
}

/// Where a corpus was written; all paths lie in the folder given.
#[derive(Debug, Clone)]
pub struct CorpusFiles {
    /// The folder of text files, one entry a line.
    pub diaries: PathBuf,
    /// `entry,keeper,season,outcome,text`, if it was asked for.
    pub csv: Option<PathBuf>,
    /// The same fields, one object a line, if it was asked for.
    pub json_lines: Option<PathBuf>,
    /// [`CorpusTruth`] as JSON.
    pub truth: PathBuf,
}

/// What is known of a written corpus because it was generated.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CorpusTruth {
    /// The seed it was drawn with.
    pub seed: u64,
    /// Entries written.
    pub entries: u64,
    /// Bytes of text, line ends included.
    pub bytes: u64,
    /// Word and punctuation tokens.
    pub words: u64,
    /// Distinct tokens that occur, as spelt.
    pub distinct_words: u64,
    /// Exact expectations from the rule probabilities.
    pub entropy: Entropy,
    /// Bits per word token from the rules, the end of an entry counted as a token.
    pub bits_per_word: f64,
    /// Lowest perplexity per word token.
    pub word_perplexity_floor: f64,
    /// Lowest perplexity per character.
    pub character_perplexity_floor: f64,
    /// Bits of the very entries written, by their probabilities: near `entries * bits_per_entry`.
    pub bits_written: f64,
}

/// Why a corpus could not be written.
#[derive(Debug, Error)]
pub enum CorpusError {
    /// The size is below the smallest.
    #[error("a corpus of {0} bytes is too small; the smallest is {SMALLEST_BYTES}")]
    TooSmall(u64),
    /// The file system refused.
    #[error("{path}: {source}")]
    Io {
        /// The file or folder.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// The observer asked to stop.
    #[error("stopped before the corpus was whole")]
    Stopped,
}

/// Writes a corpus into `folder`, which must exist. `progress` is told the bytes of text written so far, and
/// stops the work by returning `false`.
///
/// # Errors
/// A size below 50,000 bytes; anything the file system refuses.
pub fn write_corpus(
    grammar: &Grammar,
    plan: &CorpusPlan,
    folder: &Path,
    mut progress: impl FnMut(u64) -> bool,
) -> Result<(CorpusFiles, CorpusTruth), CorpusError> {
    plan.check()?;
    let files = CorpusFiles {
        diaries: folder.join("diaries"),
        csv: plan.tables.then(|| folder.join("diaries.csv")),
        json_lines: plan.tables.then(|| folder.join("diaries.jsonl")),
        truth: folder.join("diaries.truth.json"),
    };
    fs::create_dir_all(&files.diaries).map_err(at(&files.diaries))?;
    let mut volumes = Volumes { folder: &files.diaries, open: None };
    let mut csv = files.csv.as_deref().map(CsvTable::create).transpose()?;
    let mut json = files.json_lines.as_deref().map(create).transpose()?;

    let mut generator = Generator::new(grammar, plan.seed);
    let mut seen: HashSet<String> = HashSet::new();
    let (mut entries, mut bytes, mut words, mut bits_written) = (0, 0, 0, 0.0);
    while bytes < plan.bytes {
        let entry = generator.next_entry();
        volumes.write(&entry)?;
        if let Some(table) = &mut csv {
            table.write(&entry)?;
        }
        if let (Some(file), Some(path)) = (&mut json, &files.json_lines) {
            write_json(file, &entry).map_err(at(path))?;
        }
        for word in words_of(&entry.text) {
            if !seen.contains(word) {
                seen.insert(word.to_owned());
            }
        }
        entries += 1;
        bytes += entry.text.len() as u64 + 1;
        words += entry.words;
        bits_written += entry.bits;
        if entries % 256 == 0 && !progress(bytes) {
            return Err(CorpusError::Stopped);
        }
    }
    progress(bytes);
    volumes.finish()?;
    if let Some(table) = csv {
        table.finish()?;
    }
    if let (Some(mut file), Some(path)) = (json, &files.json_lines) {
        file.flush().map_err(at(path))?;
    }

    let entropy = grammar.entropy();
    let truth = CorpusTruth {
        seed: plan.seed,
        entries,
        bytes,
        words,
        distinct_words: seen.len() as u64,
        entropy,
        bits_per_word: entropy.bits_per_word(),
        word_perplexity_floor: entropy.word_perplexity_floor(),
        character_perplexity_floor: entropy.character_perplexity_floor(),
        bits_written,
    };
    let mut file = create(&files.truth)?;
    serde_json::to_writer_pretty(&mut file, &truth).map_err(io::Error::from).map_err(at(&files.truth))?;
    file.flush().map_err(at(&files.truth))?;
    Ok((files, truth))
}

fn at(path: &Path) -> impl FnOnce(io::Error) -> CorpusError + '_ {
    move |source| CorpusError::Io { path: path.to_owned(), source }
}

fn create(path: &Path) -> Result<BufWriter<File>, CorpusError> {
    File::create_new(path).map(|file| BufWriter::with_capacity(1 << 18, file)).map_err(at(path))
}

/// The folder of text files: `volume-00001.txt` and so on.
struct Volumes<'p> {
    folder: &'p Path,
    open: Option<(PathBuf, BufWriter<File>)>,
}

impl Volumes<'_> {
    fn write(&mut self, entry: &Entry) -> Result<(), CorpusError> {
        if (entry.number - 1).is_multiple_of(ENTRIES_PER_VOLUME) {
            self.finish_one()?;
        }
        let (path, file) = match &mut self.open {
            Some(open) => open,
            closed => {
                let volume = (entry.number - 1) / ENTRIES_PER_VOLUME + 1;
                let path = self.folder.join(format!("volume-{volume:05}.txt"));
                let file = create(&path)?;
                closed.insert((path, file))
            }
        };
        file.write_all(entry.text.as_bytes()).and_then(|()| file.write_all(b"\n")).map_err(at(path))
    }

    fn finish_one(&mut self) -> Result<(), CorpusError> {
        match self.open.take() {
            Some((path, mut file)) => file.flush().map_err(at(&path)),
            None => Ok(()),
        }
    }

    fn finish(mut self) -> Result<(), CorpusError> {
        self.finish_one()
    }
}

struct CsvTable {
    path: PathBuf,
    writer: csv::Writer<BufWriter<File>>,
}

impl CsvTable {
    fn create(path: &Path) -> Result<Self, CorpusError> {
        let mut table = Self { path: path.to_owned(), writer: csv::Writer::from_writer(create(path)?) };
        table.row(["entry", "keeper", "season", "outcome", "text"])?;
        Ok(table)
    }

    fn write(&mut self, entry: &Entry) -> Result<(), CorpusError> {
        let number = entry.number.to_string();
        self.row([&number, &entry.keeper, &entry.season, &entry.outcome, &entry.text])
    }

    fn row(&mut self, row: [&str; 5]) -> Result<(), CorpusError> {
        self.writer.write_record(row).map_err(io::Error::from).map_err(at(&self.path))
    }

    fn finish(mut self) -> Result<(), CorpusError> {
        self.writer.flush().map_err(at(&self.path))
    }
}

fn write_json(file: &mut impl Write, entry: &Entry) -> io::Result<()> {
    #[derive(Serialize)]
    struct Row<'e> {
        entry: u64,
        keeper: &'e str,
        season: &'e str,
        outcome: &'e str,
        text: &'e str,
    }
    let Entry { number, keeper, season, outcome, text, .. } = entry;
    serde_json::to_writer(&mut *file, &Row { entry: *number, keeper, season, outcome, text })?;
    file.write_all(b"\n")
}
