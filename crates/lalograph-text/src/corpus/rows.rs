//! Documents of a text file: the file, its lines or its paragraphs.

use std::io::{self, BufRead};
use std::ops::ControlFlow;

use super::batch::{Intake, Row, RowKind};
use super::reading::Reason;
use super::source;
use super::spec::Division;

/// Reads the documents of a text. `Err` is for what could not be read; the line is where that was.
pub(super) fn read(lines: &mut dyn BufRead, division: Division, intake: &mut Intake<'_>) -> ControlFlow<()> {
    let mut gathered = Gathered::new(intake.spec().limits.document_bytes);
    match gather(lines, division, &mut gathered, intake) {
        Ok(flow) => flow,
        Err((line, error)) => intake.skip(Some(line), source::reason_of(&error)),
    }
}

/// Part of the current document that was read.
pub(super) struct Gathered {
    text: Vec<u8>,
    start: u64,
    limit: u64,
    over: bool,
}

impl Gathered {
    /// Nothing yet, of a document that begins at the first line.
    pub(super) fn new(limit: u64) -> Self {
        Self { text: Vec::new(), start: 1, limit, over: false }
    }

    /// Whether there is nothing of the document yet.
    pub(super) fn is_empty(&self) -> bool {
        self.text.is_empty() && !self.over
    }

    pub(super) fn add(&mut self, bytes: &[u8]) {
        if self.over || (self.text.len() + bytes.len()) as u64 > self.limit {
            self.over = true;
            self.text = Vec::new();
        } else {
            self.text.extend_from_slice(bytes);
        }
    }

    /// Passes on the document that ends here; the next begins at line `next`.
    pub(super) fn finish(&mut self, kind: RowKind, next: u64, intake: &mut Intake<'_>) -> ControlFlow<()> {
        let flow = if std::mem::take(&mut self.over) {
            intake.skip((kind != RowKind::File).then_some(self.start), Reason::TooLong(self.limit))
        } else {
            hand_out(&self.text, kind, self.start, intake)
        };
        self.text.clear();
        self.start = next;
        flow
    }
}

fn hand_out(bytes: &[u8], kind: RowKind, line: u64, intake: &mut Intake<'_>) -> ControlFlow<()> {
    let bare = match bytes.iter().rposition(|&byte| byte != b'\n' && byte != b'\r') {
        Some(last) => &bytes[..=last],
        None => &[],
    };
    let closing = (bytes.len() - bare.len()) as u64;
    intake.take(Row { kind, line, text: bare, closing, ..Row::default() })
}

fn gather(
    lines: &mut dyn BufRead,
    division: Division,
    gathered: &mut Gathered,
    intake: &mut Intake<'_>,
) -> Result<ControlFlow<()>, (u64, io::Error)> {
    let kind = if division == Division::File { RowKind::File } else { RowKind::Lines };
    let (mut number, mut line_start, mut blank) = (1u64, true, true);
    loop {
        let block = match lines.fill_buf() {
            Ok(block) => block,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
            Err(error) => return Err((number, error)),
        };
        if block.is_empty() {
            let over_or_some = gathered.over || !gathered.text.is_empty() || kind == RowKind::File;
            return Ok(if over_or_some {
                gathered.finish(kind, number, intake)
            } else {
                ControlFlow::Continue(())
            });
        }
        let size = block.len();
        if division == Division::File {
            gathered.add(block);
            lines.consume(size);
            continue;
        }
        let mut from = 0;
        for newline in memchr::memchr_iter(b'\n', block) {
            let line = &block[from..=newline];
            from = newline + 1;
            number += 1;
            let ends = match division {
                Division::Line => {
                    // A line that lies completely in the block is passed on without a copy.
                    if gathered.text.is_empty() && !gathered.over && line.len() as u64 <= gathered.limit {
                        let flow = hand_out(line, kind, gathered.start, intake);
                        gathered.start = number;
                        if flow.is_break() {
                            return Ok(flow);
                        }
                        continue;
                    }
                    true
                }
                _ => {
                    blank = (line_start || blank) && line.trim_ascii().is_empty();
                    blank
                }
            };
            gathered.add(line);
            line_start = true;
            if ends && gathered.finish(kind, number, intake).is_break() {
                return Ok(ControlFlow::Break(()));
            }
        }
        if from < size {
            let rest = &block[from..];
            blank = (line_start || blank) && rest.trim_ascii().is_empty();
            line_start = false;
            gathered.add(rest);
        }
        lines.consume(size);
    }
}
