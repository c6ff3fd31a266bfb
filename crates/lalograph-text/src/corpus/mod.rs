//! Reading what people have, one document at a time.
//!
//! The order of documents is fixed: paths as they were given, files of a folder by name, then position in the file.
//! Whatever cannot be used is left out by name, never silently. Nothing but the documents in hand is held in memory.
//!
//! [`find`] turns paths into files, [`source`] a file into UTF-8 lines, [`rows`], [`table`] and [`json`] lines into rows, and [`batch`]
//! keeps the rows that are documents. [`Corpus::read`] hands them out one by one; [`Corpus::process`] works on
//! them with several threads and keeps their order.

mod batch;
mod encoding;
mod find;
mod json;
mod pipeline;
mod reading;
mod rows;
mod source;
mod table;

use std::ops::ControlFlow;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use encoding_rs::Encoding;
use serde::{Deserialize, Serialize};

pub use batch::{Batch, Document, Kept};
pub(crate) use pipeline::joined;
pub use reading::{Guess, ReadObserver, Reading, Reason, Skipped};

use crate::error::TextError;
use crate::split::{Part, Split};
use batch::Intake;
use find::Files;

/// What one document of a text file is. The rows of a table are documents each.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Division {
    /// A whole file.
    #[default]
    File,
    /// A line that is not blank.
    Line,
    /// A run of lines with no blank line in it.
    Paragraph,
}

/// What a file holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Form {
    /// What its name says: `.csv`, `.tsv`, `.jsonl`, and text otherwise. Folders give their `.txt` files.
    #[default]
    Auto,
    /// Text.
    Text,
    /// Rows of fields with commas between them, quoted where they hold commas or line ends (RFC 4180, 2005).
    Csv,
    /// Rows of fields with tabs between them; quotation marks are text.
    Tsv,
    /// One JSON object a line.
    JsonLines,
}

/// How a CSV or TSV file is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TableStyle {
    /// The byte between fields, where it is not the usual one.
    pub delimiter: Option<u8>,
    /// Whether fields may be quoted, where that is not as usual.
    pub quoted: Option<bool>,
    /// Whether the first row names the columns. Without a head they are called by number, from 1.
    pub head: bool,
}

impl Default for TableStyle {
    fn default() -> Self {
        Self { delimiter: None, quoted: None, head: true }
    }
}

/// How much is let in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limits {
    /// The longest document, in bytes; at most 2^31.
    pub document_bytes: u64,
    /// How many times their size compressed files may grow to, once they are past 64 MiB.
    pub expansion: u64,
}

impl Default for Limits {
    fn default() -> Self {
        Self { document_bytes: 256_000_000, expansion: 500 }
    }
}

/// What to read.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct CorpusSpec {
    /// Files, folders, patterns such as `letters/*.txt`, or `-` for standard input. Gzip and Zstandard are unpacked, whatever
    /// the names are.
    pub paths: Vec<PathBuf>,
    /// Whether folders inside folders are read.
    pub recursive: bool,
    /// What the files hold.
    pub form: Form,
    /// What one document of a text is; none means [`Division::File`].
    pub division: Option<Division>,
    /// Columns or field paths that hold the text, joined by line ends; none means `text`.
    pub text: Vec<String>,
    /// The column or field path that holds the class.
    pub label: Option<String>,
    /// Whether the folder just below the one that was named is the class.
    pub folder_labels: bool,
    /// Further columns or field paths to be handed out with the text.
    pub keep: Vec<String>,
    /// How tables are written.
    pub table: TableStyle,
    /// The encoding of all files; none means that it is found out for each.
    pub encoding: Option<String>,
    /// Stop after so many documents; more than there are means all.
    pub first: Option<u64>,
    /// How much is let in.
    pub limits: Limits,
    /// Whether the first place that would be left out is an error.
    pub strict: bool,
    /// Only the documents of this part of a split.
    pub part: Option<(Arc<Split>, Part)>,
}

/// A corpus whose files are known.
#[derive(Debug, Clone)]
pub struct Corpus {
    spec: CorpusSpec,
    encoding: Option<&'static Encoding>,
    files: Files,
    paths: Arc<Vec<PathBuf>>,
}

impl Corpus {
    /// Finds the files.
    ///
    /// # Errors
    /// No paths; a path where there is nothing; a folder with no file of the form in it; an unknown encoding.
    pub fn find(spec: &CorpusSpec) -> Result<Self, TextError> {
        let encoding = match &spec.encoding {
            None => None,
            Some(name) => Some(
                Encoding::for_label(name.trim().as_bytes())
                    .ok_or_else(|| TextError::NoEncoding(name.clone()))?,
            ),
        };
        let files = Files::find(spec)?;
        let paths = Arc::new(files.found.iter().map(|file| file.path.clone()).collect());
        let limits = Limits {
            document_bytes: spec.limits.document_bytes.clamp(1, 1 << 31),
            expansion: spec.limits.expansion.max(1),
        };
        Ok(Self { spec: CorpusSpec { limits, ..spec.clone() }, encoding, files, paths })
    }

    /// The size of all files together, as they lie on disk; standard input counts nothing.
    pub fn bytes(&self) -> u64 {
        self.files.bytes
    }

    /// The files, in order.
    pub fn files(&self) -> &[PathBuf] {
        &self.paths
    }

    /// Whether any of the files is a text, and whether any is a table or JSON Lines.
    pub fn has_texts_and_tables(&self) -> (bool, bool) {
        let is = |text: bool| self.files.found.iter().any(|file| (file.form == Form::Text) == text);
        (is(true), is(false))
    }

    /// What it was asked to read.
    pub fn spec(&self) -> &CorpusSpec {
        &self.spec
    }

    /// Hands out every document in order; `each` ends the reading by breaking.
    ///
    /// # Errors
    /// [`TextError::NoText`] when there was no document at all, [`TextError::LeftOut`] when the corpus is strict and something cannot be
    /// used, [`TextError::NoColumn`] when a table has no such column. Other files that cannot be read or are not
    /// text are no error: they are in the result.
    pub fn read(&self, mut each: impl FnMut(Document<'_>) -> ControlFlow<()>) -> Result<Reading, TextError> {
        let mut reading = Reading::default();
        let counter = Arc::new(AtomicU64::new(0));
        let mut failure = None;
        let mut broken = false;
        let scanned = self.scan(Batch::default(), &counter, &mut |mut batch| {
            if let Err(error) = self.note(&mut reading, &batch, &mut |_: u64| true) {
                failure = Some(error);
                return None;
            }
            broken = batch.documents().any(|document| each(document).is_break());
            batch.clear();
            (!broken).then_some(batch)
        });
        match (failure, scanned) {
            (Some(error), _) | (None, Err(error)) => Err(error),
            (None, Ok(())) if broken => Ok(reading),
            (None, Ok(())) => reading.whole(),
        }
    }

    /// Adds what a batch tells of to the reading, and passes it on.
    fn note(
        &self,
        reading: &mut Reading,
        batch: &Batch,
        observer: &mut dyn ReadObserver,
    ) -> Result<(), TextError> {
        for skipped in &batch.skipped {
            if self.spec.strict {
                return Err(TextError::LeftOut(skipped.clone()));
            }
            observer.left_out(skipped);
            reading.skip(skipped.clone());
        }
        for guess in &batch.guessed {
            reading.guess(guess.clone());
        }
        reading.files += batch.files;
        reading.documents += batch.len() as u64;
        reading.bytes += batch.bytes();
        Ok(())
    }

    /// Reads all files into batches. `counter` follows the bytes taken from the disk.
    fn scan(
        &self,
        first: Batch,
        counter: &Arc<AtomicU64>,
        hand_on: &mut dyn FnMut(Batch) -> Option<Batch>,
    ) -> Result<(), TextError> {
        let mut intake = Intake::new(&self.spec, Arc::clone(&self.paths), first, hand_on);
        if intake.start(&self.files.skipped).is_break() {
            return Ok(());
        }
        for (number, file) in self.files.found.iter().enumerate() {
            intake.begin(number as u32, file.label.as_deref());
            let flow = match source::open(&file.path, self.encoding, self.spec.limits.expansion, counter) {
                Err(reason) => intake.skip(None, reason),
                Ok(mut source) => {
                    intake.decoded_as(source.encoding.name(), source.guessed);
                    let lines = &mut *source.lines;
                    match file.form {
                        Form::Text | Form::Auto => {
                            rows::read(lines, self.spec.division.unwrap_or_default(), &mut intake)
                        }
                        Form::Csv | Form::Tsv => table::read(&file.path, lines, file.form, &mut intake)?,
                        Form::JsonLines => json::read(lines, &mut intake),
                    }
                }
            };
            if flow.is_break() {
                break;
            }
        }
        let _ = intake.flush();
        Ok(())
    }

    fn bytes_read(counter: &AtomicU64) -> u64 {
        counter.load(Ordering::Relaxed)
    }
}

impl Reading {
    /// Itself, unless nothing was read.
    fn whole(self) -> Result<Self, TextError> {
        if self.documents == 0 {
            let first = self.skipped.into_iter().next();
            return Err(TextError::NoText { files: self.files, skipped: self.skipped_count, first });
        }
        Ok(self)
    }
}
