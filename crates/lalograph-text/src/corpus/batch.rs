//! Some documents in one piece of memory, to be passed between threads.

use std::ops::{ControlFlow, Range};
use std::path::Path;
use std::sync::Arc;

use super::groups::{GroupRow, Groups, Place};
use super::reading::{Guess, Reason, Skipped};
use super::spec::CorpusSpec;

/// One document of a batch.
#[derive(Debug, Clone, Copy)]
pub struct Document<'a> {
    /// Its position among the documents read, from 0.
    pub number: u64,
    /// Its file, by position in [`Corpus::files`](super::Corpus::files).
    pub file: u32,
    /// The same by its path.
    pub path: &'a Path,
    /// Its first line there, from 1.
    pub line: u64,
    /// Its text, without the line end that closes it.
    pub text: &'a str,
    /// Of a pair, where the answer begins in the text; the prompt ends one byte before.
    pub answer_at: Option<usize>,
    /// Its class, if labels were asked for.
    pub label: Option<&'a str>,
    /// The fields to be kept, in the order of [`CorpusSpec::keep`]; missing ones are empty.
    pub kept: Kept<'a>,
    /// Bytes that it takes up in UTF-8, the line ends that close it included.
    pub bytes: u64,
    /// Of a group of rows, the line of each row; empty for other documents.
    pub row_lines: &'a [u64],
}

/// A prompt and its answer as texts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Pair<'a> {
    /// The prompt.
    pub prompt: &'a str,
    /// The answer.
    pub answer: &'a str,
}

impl<'a> Document<'a> {
    /// The text that decides its part of a split: that of a pair is its prompt, so that a prompt with several answers is in one part.
    pub fn parted_by(&self) -> &'a str {
        self.pair().map_or(self.text, |pair| pair.prompt)
    }

    /// Its prompt and its answer, if it is a pair.
    pub fn pair(&self) -> Option<Pair<'a>> {
        self.answer_at.map(|at| Pair { prompt: &self.text[..at - 1], answer: &self.text[at..] })
    }
}

/// The kept fields of a document.
#[derive(Debug, Clone, Copy)]
pub struct Kept<'a> {
    arena: &'a str,
    ranges: &'a [Range<u32>],
}

impl<'a> Kept<'a> {
    /// The fields' values, in order.
    pub fn values(self) -> impl Iterator<Item = &'a str> {
        self.ranges.iter().map(move |range| &self.arena[range.start as usize..range.end as usize])
    }
}

/// Documents enough for one piece of work.
const FULL_BYTES: usize = 1 << 20;
const FULL_DOCUMENTS: usize = 1 << 13;
/// Events that make a batch worth sending without documents.
const FULL_EVENTS: usize = 256;
/// Memory that a batch may continue holding.
const KEPT_BYTES: usize = 1 << 23;

/// A run of documents.
#[derive(Debug, Default)]
pub struct Batch {
    arena: String,
    documents: Vec<Entry>,
    kept: Vec<Range<u32>>,
    row_lines: Vec<u64>,
    paths: Arc<Vec<std::path::PathBuf>>,
    first_number: u64,
    pub(super) files: u64,
    pub(super) skipped: Vec<Skipped>,
    pub(super) guessed: Vec<Guess>,
}

#[derive(Debug)]
struct Entry {
    file: u32,
    line: u64,
    text: Range<u32>,
    answer_at: Option<usize>,
    label: Option<Range<u32>>,
    bytes: u64,
    rows: Range<usize>,
}

impl Batch {
    /// The number of documents.
    pub fn len(&self) -> usize {
        self.documents.len()
    }

    /// Whether the batch is empty.
    pub fn is_empty(&self) -> bool {
        self.documents.is_empty()
    }

    /// The documents, in order.
    pub fn documents(&self) -> impl ExactSizeIterator<Item = Document<'_>> {
        let kept = self.kept.len() / self.documents.len().max(1);
        let text = |range: &Range<u32>| &self.arena[range.start as usize..range.end as usize];
        self.documents.iter().enumerate().map(move |(index, entry)| Document {
            number: self.first_number + index as u64,
            file: entry.file,
            path: &self.paths[entry.file as usize],
            line: entry.line,
            text: text(&entry.text),
            answer_at: entry.answer_at,
            label: entry.label.as_ref().map(text),
            kept: Kept { arena: &self.arena, ranges: &self.kept[index * kept..(index + 1) * kept] },
            bytes: entry.bytes,
            row_lines: &self.row_lines[entry.rows.clone()],
        })
    }

    /// Bytes of all documents.
    pub(super) fn bytes(&self) -> u64 {
        self.documents.iter().map(|entry| entry.bytes).sum()
    }

    pub(super) fn clear(&mut self) {
        self.arena.clear();
        self.arena.shrink_to(KEPT_BYTES);
        self.documents.clear();
        self.kept.clear();
        self.row_lines.clear();
        self.files = 0;
        self.skipped.clear();
        self.guessed.clear();
    }

    fn is_full(&self) -> bool {
        self.arena.len() >= FULL_BYTES
            || self.documents.len() >= FULL_DOCUMENTS
            || self.skipped.len() + self.guessed.len() >= FULL_EVENTS
    }

    fn push(&mut self, text: &str) -> Range<u32> {
        let start = self.arena.len() as u32;
        self.arena.push_str(text);
        start..self.arena.len() as u32
    }
}

/// Kind of a row. Blank lines between lines are not counted as left out, and a file has no line of its own.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) enum RowKind {
    File,
    #[default]
    Lines,
    Record,
}

/// A row as found, before its bytes are decoded.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Row<'a> {
    pub(super) kind: RowKind,
    pub(super) line: u64,
    pub(super) text: &'a [u8],
    /// Of a pair, where the answer begins in the text.
    pub(super) answer_at: Option<usize>,
    pub(super) label: Option<&'a [u8]>,
    pub(super) kept: &'a [&'a [u8]],
    /// Bytes that close it.
    pub(super) closing: u64,
    /// Its group, if rows are gathered to groups.
    pub(super) place: Option<Place<'a>>,
    /// Of a group of rows, the line of each.
    pub(super) lines: &'a [u64],
}

/// Takes rows in, keeps those that are documents, and passes full batches on.
pub(super) struct Intake<'a> {
    spec: &'a CorpusSpec,
    batch: Batch,
    paths: Arc<Vec<std::path::PathBuf>>,
    file: u32,
    file_label: Option<&'a str>,
    encoding: &'static str,
    taken: u64,
    groups: Groups,
    /// Takes a full batch and gives an empty one, or nothing when no more is wanted.
    hand_on: &'a mut dyn FnMut(Batch) -> Option<Batch>,
}

impl<'a> Intake<'a> {
    pub(super) fn new(
        spec: &'a CorpusSpec,
        paths: Arc<Vec<std::path::PathBuf>>,
        batch: Batch,
        hand_on: &'a mut dyn FnMut(Batch) -> Option<Batch>,
    ) -> Self {
        let mut intake = Self {
            spec,
            batch,
            paths,
            file: 0,
            file_label: None,
            encoding: "UTF-8",
            taken: 0,
            groups: Groups::default(),
            hand_on,
        };
        intake.prepare();
        intake
    }

    fn prepare(&mut self) {
        self.batch.clear();
        self.batch.paths = Arc::clone(&self.paths);
        self.batch.first_number = self.taken;
    }

    /// Notes what could not even be looked into, before the first file.
    pub(super) fn start(&mut self, skipped: &[Skipped]) -> ControlFlow<()> {
        for skipped in skipped {
            self.batch.skipped.push(skipped.clone());
            if self.flow().is_break() {
                return ControlFlow::Break(());
            }
        }
        ControlFlow::Continue(())
    }

    /// Begins a file.
    pub(super) fn begin(&mut self, file: u32, label: Option<&'a str>) {
        (self.file, self.file_label) = (file, label);
        self.batch.files += 1;
    }

    /// Ends a file.
    pub(super) fn end(&mut self) -> ControlFlow<()> {
        for found in std::mem::take(&mut self.groups).finish(self.spec.limits.document_bytes) {
            match found {
                Err((line, reason)) => self.skip(Some(line), reason)?,
                Ok(document) => {
                    let kept: Vec<&[u8]> = document.kept.iter().map(Vec::as_slice).collect();
                    self.take(Row {
                        kind: RowKind::Record,
                        line: document.line,
                        text: &document.text,
                        answer_at: None,
                        label: document.label.as_deref(),
                        kept: &kept,
                        closing: document.closing,
                        lines: &document.lines,
                        place: None,
                    })?;
                }
            }
        }
        ControlFlow::Continue(())
    }

    /// Reports the form and encoding in which the file is read.
    pub(super) fn decoded_as(&mut self, encoding: &'static str, guessed: bool) {
        self.encoding = encoding;
        if guessed {
            self.batch.guessed.push(Guess { path: self.path(), encoding });
        }
    }

    fn path(&self) -> std::path::PathBuf {
        self.paths[self.file as usize].clone()
    }

    pub(super) fn spec(&self) -> &'a CorpusSpec {
        self.spec
    }

    /// Leaves a place out.
    pub(super) fn skip(&mut self, line: Option<u64>, reason: Reason) -> ControlFlow<()> {
        self.batch.skipped.push(Skipped { path: self.path(), line, reason });
        self.flow()
    }

    /// Takes a row, or leaves it out.
    pub(super) fn take(&mut self, row: Row<'_>) -> ControlFlow<()> {
        let line = (row.kind != RowKind::File).then_some(row.line);
        let Ok(text) = std::str::from_utf8(row.text) else {
            return self.skip(line, Reason::Undecodable(self.encoding));
        };
        if text.chars().all(char::is_whitespace) {
            return match row.kind {
                RowKind::Lines => ControlFlow::Continue(()),
                RowKind::File | RowKind::Record => self.skip(line, Reason::Blank),
            };
        }
        if memchr::memchr(0, row.text).is_some() {
            return self.skip(line, Reason::Binary);
        }
        if let Some(place) = row.place {
            for (value, column) in [(place.group, &self.spec.group), (place.order, &self.spec.group_order)] {
                if let (true, Some(column)) = (value.trim_ascii().is_empty(), column) {
                    return self.skip(line, Reason::NoValue(column.clone()));
                }
            }
            let gathered = GroupRow {
                order: place.order.to_vec(),
                line: row.line,
                text: row.text.to_vec(),
                closing: row.closing,
            };
            let limit = self.spec.limits.document_bytes;
            self.groups.add(place.group, gathered, (row.label, row.kept), limit);
            return ControlFlow::Continue(());
        }
        let label = match row.label.map(std::str::from_utf8) {
            Some(Err(_)) => return self.skip(line, Reason::Undecodable(self.encoding)),
            Some(Ok(label)) => Some(label.trim()),
            None => self.file_label,
        };
        let label = label.filter(|label| !label.is_empty());
        if (row.label.is_some() || self.spec.folder_labels) && label.is_none() {
            return self.skip(line, Reason::NoLabel);
        }
        if let Some((split, part)) = &self.spec.part
            && split.part_of(row.answer_at.map_or(text, |at| &text[..at - 1]), label) != *part
        {
            return ControlFlow::Continue(());
        }
        if self.spec.first.is_some_and(|first| self.taken >= first) {
            return ControlFlow::Break(());
        }
        let entry = Entry {
            file: self.file,
            line: row.line,
            text: self.batch.push(text),
            answer_at: row.answer_at,
            label: label.map(|label| self.batch.push(label)),
            bytes: row.text.len() as u64 + row.closing,
            rows: self.batch.row_lines.len()..self.batch.row_lines.len() + row.lines.len(),
        };
        self.batch.row_lines.extend_from_slice(row.lines);
        for value in row.kept {
            let range = self.batch.push(&String::from_utf8_lossy(value));
            self.batch.kept.push(range);
        }
        for _ in row.kept.len()..self.spec.keep.len() {
            self.batch.kept.push(0..0);
        }
        self.batch.documents.push(entry);
        self.taken += 1;
        self.flow()
    }

    fn flow(&mut self) -> ControlFlow<()> {
        if self.batch.is_full() { self.flush() } else { ControlFlow::Continue(()) }
    }

    /// Passes the gathered documents on.
    pub(super) fn flush(&mut self) -> ControlFlow<()> {
        match (self.hand_on)(std::mem::take(&mut self.batch)) {
            None => ControlFlow::Break(()),
            Some(empty) => {
                self.batch = empty;
                self.prepare();
                ControlFlow::Continue(())
            }
        }
    }
}
