//! A corpus whose files are known, read one document at a time.

use std::ops::ControlFlow;
use std::path::PathBuf;
use std::sync::Arc;

use encoding_rs::Encoding;

use super::batch::{Batch, Document, Intake};
use super::find::Files;
use super::meter::Meter;
use super::reading::{ReadObserver, Reading, Skipped};
use super::spec::{CorpusSpec, Form, Limits};
use super::{json, mailbox, rows, source, table};
use crate::error::TextError;

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
        Self::find_while(spec, &mut || true)
    }

    /// The same; `go_on` is asked before every place that is looked at, since a folder can hold a whole file system.
    ///
    /// # Errors
    /// As for [`Corpus::find`]; [`TextError::Stopped`].
    pub fn find_while(spec: &CorpusSpec, go_on: &mut dyn FnMut() -> bool) -> Result<Self, TextError> {
        let encoding = match &spec.encoding {
            None => None,
            Some(name) => Some(
                Encoding::for_label(name.trim().as_bytes())
                    .ok_or_else(|| TextError::NoEncoding(name.clone()))?,
            ),
        };
        let files = Files::find(spec, go_on)?;
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
        let is = |text: bool| {
            self.files.found.iter().any(|file| matches!(file.form, Form::Text | Form::Mail) == text)
        };
        (is(true), is(false))
    }

    /// The columns of the first table: the names in its header row, or numbers from 1. None without a CSV or TSV table that has a row.
    ///
    /// # Errors
    /// The table cannot be read.
    pub fn columns(&self) -> Result<Option<Vec<String>>, TextError> {
        let tables = self.files.found.iter().filter(|file| matches!(file.form, Form::Csv | Form::Tsv));
        for file in tables {
            let meter = Arc::new(Meter::default());
            let expansion = self.spec.limits.expansion;
            let mut source =
                source::open(&file.path, self.encoding, expansion, &meter).map_err(|reason| {
                    TextError::LeftOut(Skipped { path: file.path.clone(), line: None, reason })
                })?;
            if let Some(columns) = table::columns(&mut *source.lines, file.form, &self.spec) {
                return Ok(Some(columns));
            }
        }
        Ok(None)
    }

    /// The specification of the corpus.
    pub fn spec(&self) -> &CorpusSpec {
        &self.spec
    }

    /// Calls `each` with every document in order; `each` ends the reading by breaking.
    ///
    /// # Errors
    /// [`TextError::NoText`] when there was no document at all, [`TextError::LeftOut`] when the corpus is strict and something cannot be
    /// used, [`TextError::NoColumn`] when a table has no such column. Other files that cannot be read or are not
    /// text are no error: they are in the result.
    pub fn read(&self, mut each: impl FnMut(Document<'_>) -> ControlFlow<()>) -> Result<Reading, TextError> {
        let mut reading = Reading::default();
        let meter = Arc::new(Meter::default());
        let mut failure = None;
        let mut broken = false;
        let scanned = self.scan(Batch::default(), &meter, &mut |mut batch| {
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

    /// Adds the figures of a batch to the reading, and passes it on.
    pub(super) fn note(
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

    /// Reads all files into batches. `meter` follows the bytes taken from the disk.
    pub(super) fn scan(
        &self,
        first: Batch,
        meter: &Arc<Meter>,
        hand_on: &mut dyn FnMut(Batch) -> Option<Batch>,
    ) -> Result<(), TextError> {
        let mut intake = Intake::new(&self.spec, Arc::clone(&self.paths), first, hand_on);
        if intake.start(&self.files.skipped).is_break() {
            return Ok(());
        }
        for (number, file) in self.files.found.iter().enumerate() {
            intake.begin(number as u32, file.label.as_deref());
            let flow = match source::open(&file.path, self.encoding, self.spec.limits.expansion, meter) {
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
                        Form::Mail => mailbox::read(lines, &mut intake),
                    }
                }
            };
            if flow.is_break() || intake.end().is_break() {
                break;
            }
        }
        let _ = intake.flush();
        Ok(())
    }
}

impl Reading {
    /// Itself, unless nothing was read.
    pub(super) fn whole(self) -> Result<Self, TextError> {
        if self.documents == 0 {
            let first = self.skipped.into_iter().next();
            return Err(TextError::NoText { files: self.files, skipped: self.skipped_count, first });
        }
        Ok(self)
    }
}
