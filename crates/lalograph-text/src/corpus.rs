//! Reading what people have, one document at a time.
//!
//! The order of documents is fixed: paths as they were given, files of a folder by name, then position in the file.
//! Whatever cannot be used is left out by name, never silently.

use std::fs::{self, File};
use std::io::{BufRead, BufReader, ErrorKind, Read};
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use walkdir::WalkDir;

use crate::error::TextError;

/// What one document is.
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

/// What to read.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct CorpusSpec {
    /// Files, folders (their `.txt` files, at any depth) or `-` for standard input.
    pub paths: Vec<PathBuf>,
    /// What one document is.
    pub division: Division,
    /// Stop after so many documents; more than there are means all.
    pub first: Option<u64>,
}

/// One document, as long as it is being looked at.
#[derive(Debug, Clone, Copy)]
pub struct Document<'a> {
    /// The file it stands in.
    pub path: &'a Path,
    /// Its first line there, from 1.
    pub line: u64,
    /// Its text, without the line end that closes it.
    pub text: &'a str,
    /// Bytes of raw text that it takes up, the line ends that close it included.
    pub bytes: u64,
}

/// Why a file or a row was left out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Reason {
    /// It holds NUL bytes.
    Binary,
    /// It is not UTF-8.
    NotUtf8,
    /// It has nothing but white space.
    Blank,
    /// The system would not let it be read; its words.
    Unreadable(String),
}

/// Something that was left out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Skipped {
    /// The file.
    pub path: PathBuf,
    /// The line, from 1, if it is not the whole file.
    pub line: Option<u64>,
    /// Why.
    pub reason: Reason,
}

/// The most skipped places that are remembered one by one.
const SKIPPED_KEPT: usize = 1000;

/// What came of reading a corpus.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Reading {
    /// Files looked at.
    pub files: u64,
    /// Documents handed out.
    pub documents: u64,
    /// Their raw bytes.
    pub bytes: u64,
    /// Files and rows left out, all of them counted.
    pub skipped_count: u64,
    /// The first of them by name.
    pub skipped: Vec<Skipped>,
}

impl Reading {
    fn skip(&mut self, path: &Path, line: Option<u64>, reason: Reason) {
        self.skipped_count += 1;
        if self.skipped.len() < SKIPPED_KEPT {
            self.skipped.push(Skipped { path: path.to_owned(), line, reason });
        }
    }
}

/// A corpus whose files are known.
#[derive(Debug, Clone)]
pub struct Corpus {
    files: Vec<PathBuf>,
    division: Division,
    first: Option<u64>,
    bytes: u64,
}

impl Corpus {
    /// Finds the files.
    ///
    /// # Errors
    /// No paths; a path where there is nothing; a folder with no text file in it; a folder that cannot be listed.
    pub fn find(spec: &CorpusSpec) -> Result<Self, TextError> {
        if spec.paths.is_empty() {
            return Err(TextError::NoPaths);
        }
        let mut files = Vec::new();
        let mut bytes = 0;
        for path in &spec.paths {
            if is_standard_input(path) {
                files.push(path.clone());
                continue;
            }
            let meta = fs::metadata(path).map_err(|source| match source.kind() {
                ErrorKind::NotFound => TextError::Missing(path.clone()),
                _ => TextError::Io { path: path.clone(), source },
            })?;
            if meta.is_dir() {
                let found = text_files(path)?;
                if found.is_empty() {
                    return Err(TextError::EmptyFolder(path.clone()));
                }
                bytes +=
                    found.iter().filter_map(|file| fs::metadata(file).ok()).map(|m| m.len()).sum::<u64>();
                files.extend(found);
            } else {
                bytes += meta.len();
                files.push(path.clone());
            }
        }
        Ok(Self { files, division: spec.division, first: spec.first, bytes })
    }

    /// The size of all files together; standard input counts nothing.
    pub fn bytes(&self) -> u64 {
        self.bytes
    }

    /// The files, in order.
    pub fn files(&self) -> &[PathBuf] {
        &self.files
    }

    /// Hands out every document in order; `each` ends the reading by breaking.
    ///
    /// # Errors
    /// [`TextError::NoText`] when there was no document at all. Files that cannot be read or are not
    /// text are no error: they are in the result.
    pub fn read(&self, mut each: impl FnMut(Document<'_>) -> ControlFlow<()>) -> Result<Reading, TextError> {
        let mut reading = Reading::default();
        for path in &self.files {
            reading.files += 1;
            if self.read_file(path, &mut reading, &mut each).is_break() {
                break;
            }
        }
        if reading.documents == 0 {
            return Err(TextError::NoText { files: reading.files, skipped: reading.skipped_count });
        }
        Ok(reading)
    }

    /// The same from the first document to the last. `progress` is told the raw bytes read so far after each, and stops
    /// the work by returning `false`.
    ///
    /// # Errors
    /// As for [`Corpus::read`], and [`TextError::Stopped`] after a stop.
    pub fn read_through(
        &self,
        mut progress: impl FnMut(u64) -> bool,
        mut each: impl FnMut(Document<'_>),
    ) -> Result<Reading, TextError> {
        let (mut bytes, mut stopped) = (0, false);
        let reading = self.read(|document| {
            each(document);
            bytes += document.bytes;
            stopped = !progress(bytes);
            if stopped { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        });
        if stopped { Err(TextError::Stopped) } else { reading }
    }

    fn read_file(
        &self,
        path: &Path,
        reading: &mut Reading,
        each: &mut impl FnMut(Document<'_>) -> ControlFlow<()>,
    ) -> ControlFlow<()> {
        let source: Box<dyn Read> = if is_standard_input(path) {
            Box::new(std::io::stdin().lock())
        } else {
            match File::open(path) {
                Ok(file) => Box::new(file),
                Err(error) => {
                    reading.skip(path, None, Reason::Unreadable(error.to_string()));
                    return ControlFlow::Continue(());
                }
            }
        };
        let mut lines = BufReader::with_capacity(1 << 16, source);
        match lines.fill_buf() {
            Ok(start) if start.contains(&0) => {
                reading.skip(path, None, Reason::Binary);
                return ControlFlow::Continue(());
            }
            Ok(_) => {}
            Err(error) => {
                reading.skip(path, None, Reason::Unreadable(error.to_string()));
                return ControlFlow::Continue(());
            }
        }
        let mut assembly =
            Assembly { path, reading, each, first: self.first, text: Vec::new(), start: 1, rows_only: true };
        let flow = match self.division {
            Division::File => assembly.whole(&mut lines),
            Division::Line => assembly.by_line(&mut lines, |_| true),
            Division::Paragraph => assembly.by_line(&mut lines, |line| line.trim_ascii().is_empty()),
        };
        match flow {
            Ok(flow) => flow,
            Err(error) => {
                assembly.reading.skip(path, None, Reason::Unreadable(error.to_string()));
                ControlFlow::Continue(())
            }
        }
    }
}

fn is_standard_input(path: &Path) -> bool {
    path.as_os_str() == "-"
}

fn text_files(folder: &Path) -> Result<Vec<PathBuf>, TextError> {
    let mut files = Vec::new();
    for entry in WalkDir::new(folder).follow_links(true).sort_by_file_name() {
        let entry = entry.map_err(|error| {
            let path = error.path().unwrap_or(folder).to_owned();
            TextError::Io { path, source: error.into() }
        })?;
        if entry.file_type().is_file()
            && entry.path().extension().is_some_and(|e| e.eq_ignore_ascii_case("txt"))
        {
            files.push(entry.into_path());
        }
    }
    Ok(files)
}

/// Puts one file's documents together.
struct Assembly<'a, F> {
    path: &'a Path,
    reading: &'a mut Reading,
    each: &'a mut F,
    first: Option<u64>,
    text: Vec<u8>,
    start: u64,
    rows_only: bool,
}

impl<F: FnMut(Document<'_>) -> ControlFlow<()>> Assembly<'_, F> {
    fn whole(&mut self, source: &mut impl Read) -> std::io::Result<ControlFlow<()>> {
        source.read_to_end(&mut self.text)?;
        self.rows_only = false;
        Ok(self.finish())
    }

    /// A document ends after each line that `ends` says yes to.
    fn by_line(
        &mut self,
        source: &mut impl BufRead,
        ends: impl Fn(&[u8]) -> bool,
    ) -> std::io::Result<ControlFlow<()>> {
        let mut number = 0;
        loop {
            let before = self.text.len();
            if source.read_until(b'\n', &mut self.text)? == 0 {
                return Ok(self.finish());
            }
            number += 1;
            if ends(&self.text[before..]) {
                if self.finish().is_break() {
                    return Ok(ControlFlow::Break(()));
                }
                self.start = number + 1;
            }
        }
    }

    /// Hands out what has been gathered. A blank row is no document and no loss; a blank file is reported.
    fn finish(&mut self) -> ControlFlow<()> {
        let bytes = std::mem::take(&mut self.text);
        let line = self.rows_only.then_some(self.start);
        let flow = match std::str::from_utf8(&bytes) {
            Err(_) => {
                self.reading.skip(self.path, line, Reason::NotUtf8);
                ControlFlow::Continue(())
            }
            Ok(text) if text.trim().is_empty() => {
                if !self.rows_only {
                    self.reading.skip(self.path, None, Reason::Blank);
                }
                ControlFlow::Continue(())
            }
            Ok(_) if self.first.is_some_and(|first| self.reading.documents >= first) => {
                ControlFlow::Break(())
            }
            Ok(text) => {
                let bare = text.strip_prefix('\u{feff}').unwrap_or(text);
                let bare = bare.trim_end_matches(['\n', '\r']);
                self.reading.documents += 1;
                self.reading.bytes += text.len() as u64;
                let document =
                    Document { path: self.path, line: self.start, text: bare, bytes: text.len() as u64 };
                (self.each)(document)
            }
        };
        self.text = bytes;
        self.text.clear();
        flow
    }
}
