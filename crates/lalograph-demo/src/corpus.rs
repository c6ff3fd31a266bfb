//! Writes a corpus of any size, streamed: a folder of text files, and the same entries as CSV and JSON Lines.

use std::collections::HashSet;
use std::io::{self, BufWriter, Write};
use std::path::PathBuf;

use lalograph_storage::storage::StoredFile;
use lalograph_storage::{Existing, Folder, StorageError, WholeFile};
use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::ceiling::Ceiling;
use crate::scales::{HOURS, STATES, Scales, scales_ceiling};
use crate::{Entropy, Entry, Generator, Grammar, words_of};

/// Entries in one volume of the folder.
const ENTRIES_PER_VOLUME: u64 = 500;
/// Below this a corpus is too small to be of use.
pub(crate) const SMALLEST_BYTES: u64 = 50_000;

/// The request.
#[derive(Debug, Clone)]
pub struct CorpusPlan {
    /// Bytes of text to reach, line ends included; at least 50,000. The last entry is written whole.
    pub bytes: u64,
    /// The seed of the stream of entries.
    pub seed: u64,
    /// Whether to write the CSV and JSON Lines files beside the folder of text files.
    pub tables: bool,
    /// The function words of the language, for the ceiling of the accuracy that they allow.
    pub is_function_word: fn(&str) -> bool,
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

/// Paths of a written corpus, all inside the given folder.
#[derive(Debug, Clone)]
pub struct CorpusFiles {
    /// The folder of text files, one entry a line.
    pub diaries: PathBuf,
    /// `entry,keeper,season,outcome,text`, if it was asked for.
    pub csv: Option<PathBuf>,
    /// The same fields, one object a line, if it was asked for.
    pub json_lines: Option<PathBuf>,
    /// Readings of hive scales by hour, with the state of the day, if it was asked for.
    pub scales: Option<PathBuf>,
    /// [`CorpusTruth`] as JSON.
    pub truth: PathBuf,
}

/// The best accuracies that any classifier can reach.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Ceilings {
    /// Of the outcome from the text of an entry: the text names it.
    pub outcome: f64,
    /// Of the keeper from the text of an entry: the text names him or her.
    pub keeper: f64,
    /// Of the keeper from the function words of an entry, in their order.
    pub keeper_by_function_words: Ceiling,
    /// Of the state of a day from the readings of the scales.
    pub scales: Ceiling,
}

/// True figures of a generated corpus.
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
    /// What classifiers can reach.
    pub ceilings: Ceilings,
}

/// Why a corpus could not be written.
#[derive(Debug, Error)]
pub enum CorpusError {
    /// The size is below the smallest.
    #[error("a corpus of {0} bytes is too small; the smallest is {SMALLEST_BYTES}")]
    TooSmall(u64),
    /// A file cannot be written, or exists already.
    #[error(transparent)]
    Storage(#[from] StorageError),
    /// The observer asked to stop.
    #[error("stopped before the corpus was whole")]
    Stopped,
}

/// Names of the files and folders that [`write_corpus`] writes, the truth last: if it is there, all are.
pub const CORPUS_FILES: [&str; 5] =
    [DIARIES, "diaries.csv", "diaries.jsonl", "scales.csv", "diaries.truth.json"];

/// Entries and days that ceilings are estimated from.
const ESTIMATED_ENTRIES: u64 = 100;
const ESTIMATED_DAYS: u64 = 2_000;
/// Whole texts that are read to see that they name what they are about.
const READ_ENTRIES: u64 = 10;
/// Days of scales that are written: as many as entries, within these bounds.
const DAYS: (u64, u64) = (1500, 4000);

const DIARIES: &str = "diaries";
/// The folder of text files while it is written.
const BESIDE: &str = ".lalograph-new-diaries";

/// Writes a corpus into `folder`; each of its files, and the folder of text files, is written completely or not at all. `progress` is given the bytes
/// of text written so far, and stops the work by returning `false`.
///
/// # Errors
/// A size below 50,000 bytes; something in a place already; what the file system refuses.
pub fn write_corpus(
    grammar: &Grammar,
    plan: &CorpusPlan,
    folder: &Folder,
    progress: impl FnMut(u64) -> bool,
) -> Result<(CorpusFiles, CorpusTruth), CorpusError> {
    plan.check()?;
    let written = write_parts(grammar, plan, folder, progress);
    if written.is_err() {
        // The first error is the one to report.
        let _ = folder.remove_all(BESIDE);
    }
    written
}

fn write_parts(
    grammar: &Grammar,
    plan: &CorpusPlan,
    folder: &Folder,
    mut progress: impl FnMut(u64) -> bool,
) -> Result<(CorpusFiles, CorpusTruth), CorpusError> {
    let [diaries, csv, json, scales, truth] = CORPUS_FILES;
    let files = CorpusFiles {
        diaries: folder.path_of(diaries),
        csv: plan.tables.then(|| folder.path_of(csv)),
        json_lines: plan.tables.then(|| folder.path_of(json)),
        scales: plan.tables.then(|| folder.path_of(scales)),
        truth: folder.path_of(truth),
    };
    if folder.entry(diaries)?.is_some() {
        return Err(StorageError::Exists(files.diaries).into());
    }
    folder.remove_all(BESIDE)?;
    let mut volumes = Volumes { folder: folder.make_folder(BESIDE)?, open: None };
    let mut csv = files.csv.as_ref().map(|_| CsvTable::create(folder, csv)).transpose()?;
    if let Some(table) = &mut csv {
        table.row(["entry", "keeper", "season", "outcome", "text"])?;
    }
    let begin = |name: &str| WholeFile::within(folder, name.as_ref(), Existing::Keep);
    let mut json = files.json_lines.as_ref().map(|_| begin(json)).transpose()?;

    let mut generator = Generator::new(grammar, plan.seed);
    let mut seen: HashSet<String> = HashSet::new();
    let (mut entries, mut bytes, mut words, mut bits_written) = (0, 0, 0, 0.0);
    while bytes < plan.bytes {
        let entry = generator.next_entry();
        volumes.write(&entry)?;
        if let Some(table) = &mut csv {
            table.write(&entry)?;
        }
        if let Some(file) = &mut json {
            let path = file.path();
            write_json(file, &entry).map_err(StorageError::at(&path))?;
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
    if let Some(file) = json {
        file.finish()?;
    }
    if files.scales.is_some() {
        write_scales(folder, scales, plan.seed, entries.clamp(DAYS.0, DAYS.1))?;
    }
    folder.rename(BESIDE, diaries, Existing::Keep)?;
    folder.sync()?;

    let entropy = grammar.entropy();
    let known = CorpusTruth {
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
        ceilings: ceilings(grammar, plan),
    };
    let text =
        serde_json::to_vec_pretty(&known).map_err(io::Error::from).map_err(StorageError::at(&files.truth))?;
    folder.write(truth, &text, Existing::Keep)?;
    Ok((files, known))
}

/// The ceilings, estimated from entries and days of another seed than the corpus.
fn ceilings(grammar: &Grammar, plan: &CorpusPlan) -> Ceilings {
    let function_words = |word: &str| (plan.is_function_word)(word);
    let of = |feature: &str, shown: &dyn Fn(&str) -> bool, entries: u64| {
        grammar.ceiling(feature, shown, entries, !plan.seed).unwrap_or(Ceiling::of(&[]))
    };
    Ceilings {
        outcome: of("outcome", &|_| true, READ_ENTRIES).accuracy,
        keeper: of("keeper", &|_| true, READ_ENTRIES).accuracy,
        keeper_by_function_words: of("keeper", &function_words, ESTIMATED_ENTRIES),
        scales: scales_ceiling(ESTIMATED_DAYS, !plan.seed),
    }
}

/// A row a day: `weight_00,temperature_00,weight_01,...,state`.
fn write_scales(folder: &Folder, name: &str, seed: u64, days: u64) -> Result<(), CorpusError> {
    let mut table = CsvTable::create(folder, name)?;
    let heads = (0..HOURS).flat_map(|hour| [format!("weight_{hour:02}"), format!("temperature_{hour:02}")]);
    table.row(heads.chain(["state".to_owned()]))?;
    let mut scales = Scales::new(seed);
    for _ in 0..days {
        let day = scales.next_day();
        let readings = day.readings.iter().flatten().map(|reading| format!("{reading:.2}"));
        table.row(readings.chain([STATES[day.state].to_owned()]))?;
    }
    table.finish()
}

/// The folder of text files: `volume-00001.txt` and so on.
struct Volumes {
    folder: Folder,
    open: Option<(PathBuf, BufWriter<Box<dyn StoredFile>>)>,
}

impl Volumes {
    fn write(&mut self, entry: &Entry) -> Result<(), CorpusError> {
        if (entry.number - 1).is_multiple_of(ENTRIES_PER_VOLUME) {
            self.finish_one()?;
        }
        let (path, file) = match &mut self.open {
            Some(open) => open,
            closed => {
                let name = format!("volume-{:05}.txt", (entry.number - 1) / ENTRIES_PER_VOLUME + 1);
                let file = BufWriter::with_capacity(1 << 18, self.folder.create(&name)?);
                closed.insert((self.folder.path_of(&name), file))
            }
        };
        let written = file.write_all(entry.text.as_bytes()).and_then(|()| file.write_all(b"\n"));
        Ok(written.map_err(StorageError::at(path))?)
    }

    fn finish_one(&mut self) -> Result<(), CorpusError> {
        if let Some((path, mut file)) = self.open.take() {
            file.flush().and_then(|()| file.get_mut().sync()).map_err(StorageError::at(&path))?;
        }
        Ok(())
    }

    fn finish(mut self) -> Result<(), CorpusError> {
        self.finish_one()?;
        Ok(self.folder.sync()?)
    }
}

struct CsvTable {
    path: PathBuf,
    writer: csv::Writer<WholeFile>,
}

impl CsvTable {
    fn create(folder: &Folder, name: &str) -> Result<Self, CorpusError> {
        let file = WholeFile::within(folder, name.as_ref(), Existing::Keep)?;
        Ok(Self { path: file.path(), writer: csv::Writer::from_writer(file) })
    }

    fn write(&mut self, entry: &Entry) -> Result<(), CorpusError> {
        let number = entry.number.to_string();
        self.row([&number, &entry.keeper, &entry.season, &entry.outcome, &entry.text])
    }

    fn row(&mut self, row: impl IntoIterator<Item = impl AsRef<[u8]>>) -> Result<(), CorpusError> {
        let written = self.writer.write_record(row).map_err(io::Error::from);
        Ok(written.map_err(StorageError::at(&self.path))?)
    }

    fn finish(self) -> Result<(), CorpusError> {
        let file = self.writer.into_inner().map_err(|error| error.into_error());
        Ok(file.map_err(StorageError::at(&self.path))?.finish()?)
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
