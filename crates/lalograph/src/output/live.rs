//! A few lines at the bottom of a terminal that are drawn again and again in their place.

use std::io::{self, Write};

use unicode_width::UnicodeWidthStr;

use super::harmless::harmless;

/// The lines drawn last.
#[derive(Debug, Default)]
pub(crate) struct Live {
    /// The width of each.
    drawn: Vec<usize>,
}

impl Live {
    /// The sequence that moves the cursor back to the start of the first line, in a terminal of `columns` columns.
    fn back(&self, columns: usize) -> String {
        // A terminal that was made narrower has broken them into more.
        let rows: usize = self.drawn.iter().map(|width| width.div_ceil(columns.max(1)).max(1)).sum();
        if rows == 0 { "\r".to_owned() } else { format!("\r\u{1b}[{rows}A") }
    }

    /// The sequence that replaces the view by `lines`. It is sent in one piece and marked as a synchronised update, so that no half of it is seen.
    fn redrawn(&mut self, lines: &[String], columns: usize) -> String {
        let mut out = format!("\u{1b}[?2026h{}", self.back(columns));
        for line in lines {
            // Cleared before writing: a terminal would clear a last column that was just written.
            out.push_str(&format!("\u{1b}[2K{}\r\n", harmless(line)));
        }
        out.push_str("\u{1b}[J\u{1b}[?2026l");
        self.drawn = lines.iter().map(|line| shown_width(line)).collect();
        out
    }

    /// Draws lines in place of those before.
    pub(crate) fn draw(&mut self, lines: &[String], columns: usize) {
        send(&self.redrawn(lines, columns));
    }

    /// Leaves the lines where they are.
    pub(crate) fn leave(&mut self) {
        self.drawn.clear();
    }
}

/// Nobody is left to see it if standard error is gone.
fn send(text: &str) {
    let mut err = io::stderr().lock();
    let _ = err.write_all(text.as_bytes()).and_then(|()| err.flush());
}

/// Columns that a line takes, without what only colours it.
pub(crate) fn shown_width(line: &str) -> usize {
    plain(line).width()
}

/// A line without what only colours it.
pub(crate) fn plain(line: &str) -> String {
    let mut out = String::with_capacity(line.len());
    let mut rest = line;
    while let Some(at) = rest.find('\u{1b}') {
        out.push_str(&rest[..at]);
        rest = rest[at..].split_once('m').map_or("", |(_, after)| after);
    }
    out.push_str(rest);
    out
}

#[cfg(test)]
mod tests {
    use super::{Live, plain, shown_width};

    #[test]
    fn lines_are_drawn_over_those_before_even_where_the_terminal_broke_them() {
        let mut live = Live::default();
        let lines = |count: usize, width: usize| vec!["b".repeat(width); count];
        let first = live.redrawn(&lines(3, 10), 80);
        assert!(first.starts_with("\u{1b}[?2026h\r\u{1b}[2Kb"), "nothing is there yet: {first:?}");
        assert_eq!(first.matches("\u{1b}[2Kbbbbbbbbbb\r\n").count(), 3);
        assert!(live.redrawn(&lines(2, 10), 80).contains("\r\u{1b}[3A\u{1b}[2K"));
        // Two lines of ten columns are four in a terminal of five.
        assert!(live.redrawn(&lines(2, 0), 5).contains("\u{1b}[4A"));
        assert!(live.redrawn(&lines(1, 3), 80).contains("\u{1b}[2A"), "an empty line is a line");
        live.leave();
        assert_eq!(live.back(80), "\r");
    }

    #[test]
    fn colours_take_no_room() {
        let painted = "\u{1b}[1m\u{1b}[38;2;1;2;3mbees\u{1b}[0m \u{8702}";
        assert_eq!((shown_width(painted), plain(painted)), (7, "bees \u{8702}".to_owned()));
        assert_eq!(plain("cut \u{1b}[3"), "cut ");
    }
}
