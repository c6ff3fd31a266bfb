//! Documents of a mailbox: one a message.

use std::io::{BufRead, Read};
use std::ops::ControlFlow;

use super::batch::{Intake, RowKind};
use super::rows::Gathered;
use super::source;

/// Reads the messages of a mailbox; a file that is none is one message.
pub(super) fn read(lines: &mut dyn BufRead, intake: &mut Intake<'_>) -> ControlFlow<()> {
    let limit = intake.spec().limits.document_bytes;
    let mut gathered = Gathered::new(limit);
    let (mut line, mut blank) = (Vec::new(), true);
    for number in 1u64.. {
        line.clear();
        match (&mut *lines).take(limit.saturating_add(1)).read_until(b'\n', &mut line) {
            Ok(0) => break,
            Ok(_) => {}
            Err(error) => return intake.skip(Some(number), source::reason_of(&error)),
        }
        if blank && begins_message(&line) && !gathered.is_empty() {
            gathered.finish(RowKind::Lines, number, intake)?;
        }
        blank = line.trim_ascii().is_empty();
        gathered.add(&line);
    }
    gathered.finish(RowKind::Lines, 0, intake)
}

/// Whether a line separates messages: `From `, a sender, and a date that ends with the year, as in `From a@b.c Thu Aug 22 12:36:23 2002`. A
/// zone can follow. Lines of a text that begin with the word have no such end.
fn begins_message(line: &[u8]) -> bool {
    let Some(rest) = std::str::from_utf8(line).ok().and_then(|line| line.strip_prefix("From ")) else {
        return false;
    };
    let words: Vec<&str> = rest.split_whitespace().collect();
    let is_time = |word: &&str| {
        let parts: Vec<&str> = word.split(':').collect();
        (2..=3).contains(&parts.len())
            && parts.iter().all(|part| part.len() == 2 && part.bytes().all(|byte| byte.is_ascii_digit()))
    };
    let is_year = |word: &&str| word.len() == 4 && word.bytes().all(|byte| byte.is_ascii_digit());
    words.len() >= 5 && words.iter().any(is_time) && words.iter().rev().take(2).any(is_year)
}
