//! Documents of a CSV or TSV file: one a row.

use std::io::{self, BufRead};
use std::ops::ControlFlow;
use std::path::Path;

use csv_core::{ReadRecordResult, ReaderBuilder};

use super::batch::{Intake, Row, RowKind};
use super::groups::Place;
use super::reading::Reason;
use super::source;
use super::spec::{CorpusSpec, Form};
use crate::error::TextError;

/// Indices of the wanted columns.
struct Columns {
    text: Vec<usize>,
    label: Option<usize>,
    keep: Vec<usize>,
    group: Option<usize>,
    group_order: Option<usize>,
    /// Fields of a row.
    width: usize,
}

impl Columns {
    fn find(path: &Path, spec: &CorpusSpec, head: &Record) -> Result<Self, TextError> {
        let names = head.names(spec.table.head);
        let column = |wanted: &String| {
            let named = names.iter().position(|name| name == wanted);
            let numbered = || wanted.parse::<usize>().ok().filter(|n| (1..=names.len()).contains(n));
            named.or_else(|| numbered().map(|n| n - 1)).ok_or_else(|| TextError::NoColumn {
                path: path.to_owned(),
                column: wanted.clone(),
                known: names.clone(),
                head: spec.table.head,
            })
        };
        let text = match spec.text.as_slice() {
            _ if spec.pair.is_some() => {
                let columns = spec.pair.iter().flat_map(|(prompt, answer)| [prompt, answer]);
                columns.map(column).collect::<Result<_, _>>()?
            }
            // One column that seems to be several is a table with another delimiter.
            [] if names.len() == 1 && !names[0].contains([';', '\t', '|']) => vec![0],
            [] => vec![column(&"text".to_owned())?],
            wanted => wanted.iter().map(column).collect::<Result<_, _>>()?,
        };
        let label = spec.label.as_ref().map(column).transpose()?;
        let keep = spec.keep.iter().map(column).collect::<Result<_, _>>()?;
        let group = spec.group.as_ref().map(column).transpose()?;
        let group_order = spec.group_order.as_ref().map(column).transpose()?;
        Ok(Self { text, label, keep, group, group_order, width: names.len() })
    }
}

/// One row: its fields' bytes one after another, and where each ends.
#[derive(Default)]
struct Record {
    bytes: Vec<u8>,
    ends: Vec<usize>,
    line: u64,
}

impl Record {
    fn field(&self, index: usize) -> &[u8] {
        let start = if index == 0 { 0 } else { self.ends[index - 1] };
        &self.bytes[start..self.ends[index]]
    }

    fn fields(&self) -> impl Iterator<Item = &[u8]> {
        (0..self.ends.len()).map(|index| self.field(index))
    }

    /// The names of the columns, given the first row: its fields, or numbers from 1 without a header row.
    fn names(&self, head: bool) -> Vec<String> {
        if head {
            return self.fields().map(|field| String::from_utf8_lossy(field).trim().to_owned()).collect();
        }
        (1..=self.ends.len()).map(|number| number.to_string()).collect()
    }

    /// Whether every field is a number, as no column's name is.
    fn is_numbers(&self) -> bool {
        let number =
            |field: &[u8]| std::str::from_utf8(field).is_ok_and(|field| field.trim().parse::<f64>().is_ok());
        self.fields().next().is_some() && self.fields().all(number)
    }
}

/// Result of asking for a row.
enum Next {
    Row,
    TooLong,
    End,
}

struct Rows<'r> {
    lines: &'r mut dyn BufRead,
    parser: csv_core::Reader,
    limit: usize,
    record: Record,
    /// Memory for the fields' bytes; only the front is in use.
    output: Vec<u8>,
    ends: Vec<usize>,
    /// The line that comes next, from 1. The parser's own count is late where lines end with CR LF.
    line: u64,
}

impl<'r> Rows<'r> {
    fn new(lines: &'r mut dyn BufRead, form: Form, spec: &CorpusSpec) -> Self {
        let (delimiter, quoted) = match form {
            Form::Tsv => (b'\t', false),
            _ => (b',', true),
        };
        let parser = ReaderBuilder::new()
            .delimiter(spec.table.delimiter.unwrap_or(delimiter))
            .quoting(spec.table.quoted.unwrap_or(quoted))
            .build();
        let limit = spec.limits.document_bytes as usize;
        Self {
            lines,
            parser,
            limit,
            record: Record::default(),
            output: vec![0; 1 << 12],
            ends: vec![0; 32],
            line: 1,
        }
    }

    /// Passes over what is left of the last row's end, and over blank lines.
    fn pass_line_ends(&mut self) -> io::Result<()> {
        loop {
            let input = self.lines.fill_buf()?;
            let blank = input.iter().take_while(|byte| matches!(byte, b'\r' | b'\n')).count();
            let more = blank == input.len() && blank > 0;
            self.line += memchr::memchr_iter(b'\n', &input[..blank]).count() as u64;
            self.lines.consume(blank);
            if !more {
                return Ok(());
            }
        }
    }

    /// Reads one row into `self.record`. Rows over the limit are read to their end and not kept.
    fn next(&mut self) -> io::Result<Next> {
        let (mut written, mut ended, mut too_long) = (0, 0, false);
        self.pass_line_ends()?;
        self.record.line = self.line;
        loop {
            let input = self.lines.fill_buf()?;
            let (result, read, bytes, ends) =
                self.parser.read_record(input, &mut self.output[written..], &mut self.ends[ended..]);
            let at_end = input.is_empty();
            self.line += memchr::memchr_iter(b'\n', &input[..read]).count() as u64;
            self.lines.consume(read);
            written += bytes;
            ended += ends;
            match result {
                ReadRecordResult::InputEmpty if at_end => return Ok(Next::End),
                ReadRecordResult::InputEmpty => {}
                ReadRecordResult::OutputFull if self.output.len() >= self.limit => {
                    too_long = true;
                    (written, ended) = (0, 0);
                }
                ReadRecordResult::OutputFull => self.output.resize(self.output.len() * 2, 0),
                ReadRecordResult::OutputEndsFull => self.ends.resize(self.ends.len() * 2, 0),
                ReadRecordResult::Record if too_long => return Ok(Next::TooLong),
                ReadRecordResult::Record => {
                    self.record.bytes.clear();
                    self.record.bytes.extend_from_slice(&self.output[..written]);
                    self.record.ends.clear();
                    self.record.ends.extend_from_slice(&self.ends[..ended]);
                    return Ok(Next::Row);
                }
                ReadRecordResult::End => return Ok(if too_long { Next::TooLong } else { Next::End }),
            }
        }
    }
}

/// The columns of a table: the names in its header row, or numbers from 1; none if it is empty or cannot be read.
pub(super) fn columns(lines: &mut dyn BufRead, form: Form, spec: &CorpusSpec) -> Option<Vec<String>> {
    let mut rows = Rows::new(lines, form, spec);
    matches!(rows.next(), Ok(Next::Row)).then(|| rows.record.names(spec.table.head))
}

/// Reads the documents of a table.
pub(super) fn read(
    path: &Path,
    lines: &mut dyn BufRead,
    form: Form,
    intake: &mut Intake<'_>,
) -> Result<ControlFlow<()>, TextError> {
    let spec = intake.spec();
    let mut rows = Rows::new(lines, form, spec);
    let mut columns: Option<Columns> = None;
    let mut joined = Vec::new();
    loop {
        let next = match rows.next() {
            Ok(next) => next,
            Err(error) => return Ok(intake.skip(Some(rows.line), source::reason_of(&error))),
        };
        let line = Some(rows.record.line);
        let record = match next {
            Next::End if columns.is_none() => return Ok(intake.skip(None, Reason::Blank)),
            Next::End => return Ok(ControlFlow::Continue(())),
            Next::TooLong => {
                if intake.skip(line, Reason::TooLong(spec.limits.document_bytes)).is_break() {
                    return Ok(ControlFlow::Break(()));
                }
                continue;
            }
            Next::Row => &rows.record,
        };
        let columns = match &columns {
            Some(columns) => columns,
            None => {
                let found = &*columns.insert(Columns::find(path, spec, record)?);
                if spec.table.head {
                    if record.is_numbers() && intake.skip(line, Reason::NumbersAsHead).is_break() {
                        return Ok(ControlFlow::Break(()));
                    }
                    continue;
                }
                found
            }
        };
        let flow = if record.ends.len() == columns.width {
            let kept: Vec<&[u8]> = columns.keep.iter().map(|&index| record.field(index)).collect();
            let mut answer_at = None;
            let text = match (&spec.pair, columns.text.as_slice()) {
                (Some(names), &[prompt, answer]) => {
                    let fields = [record.field(prompt), record.field(answer)];
                    match join_pair(names, fields, &mut joined) {
                        Ok(at) => answer_at = Some(at),
                        Err(reason) => {
                            if intake.skip(line, reason).is_break() {
                                return Ok(ControlFlow::Break(()));
                            }
                            continue;
                        }
                    }
                    &joined
                }
                (_, [only]) => record.field(*only),
                (_, several) => join(several.iter().map(|&index| record.field(index)), &mut joined),
            };
            intake.take(Row {
                kind: RowKind::Record,
                line: record.line,
                text,
                answer_at,
                // Without a label column the folder may give the class.
                label: columns.label.map(|index| record.field(index)),
                kept: &kept,
                closing: 1,
                place: columns.group.map(|group| Place {
                    group: record.field(group),
                    order: columns.group_order.map_or(b"", |order| record.field(order)),
                }),
                lines: &[],
            })
        } else {
            intake.skip(line, Reason::Ragged { found: record.ends.len(), expected: columns.width })
        };
        if flow.is_break() {
            return Ok(flow);
        }
    }
}

/// A prompt and an answer as one text, a line each; gives where the answer begins, or why the pair is left out.
pub(super) fn join_pair(
    (prompt, answer): &(String, String),
    fields: [&[u8]; 2],
    joined: &mut Vec<u8>,
) -> Result<usize, Reason> {
    for (field, name) in fields.into_iter().zip([prompt, answer]) {
        if field.trim_ascii().is_empty() {
            return Err(Reason::NoValue(name.clone()));
        }
    }
    joined.clear();
    joined.extend_from_slice(fields[0]);
    joined.push(b'\n');
    joined.extend_from_slice(fields[1]);
    Ok(fields[0].len() + 1)
}

/// Several fields as one text, a line each; empty ones leave nothing.
pub(super) fn join<'j, 'f>(fields: impl Iterator<Item = &'f [u8]>, joined: &'j mut Vec<u8>) -> &'j [u8] {
    joined.clear();
    for field in fields.filter(|field| !field.trim_ascii().is_empty()) {
        if !joined.is_empty() {
            joined.push(b'\n');
        }
        joined.extend_from_slice(field);
    }
    joined
}
