//! Text wrapped to a width, and texts beside each other.

use unicode_width::UnicodeWidthStr;

use crate::output::screen::Screen;

/// The narrowest column that text is worth reading in.
const NARROWEST: usize = 28;

/// Between columns.
const GAP: &str = "   ";

/// Columns of a text in a terminal, without its colour sequences.
pub(crate) fn columns_of(text: &str) -> usize {
    let mut columns = 0;
    let mut rest = text;
    while let Some(at) = rest.find('\u{1b}') {
        columns += rest[..at].width();
        rest = rest[at..].split_once('m').map_or("", |(_, after)| after);
    }
    columns + rest.width()
}

/// The lines of a text, none wider than `width` but for words that are.
fn wrapped(text: &str, width: usize) -> Vec<String> {
    let mut lines = Vec::new();
    for paragraph in text.lines() {
        let (mut line, mut used) = (String::new(), 0);
        for word in paragraph.split_whitespace() {
            let needed = columns_of(word);
            if used > 0 && used + 1 + needed > width {
                lines.push(std::mem::take(&mut line));
                used = 0;
            }
            if used > 0 {
                line.push(' ');
                used += 1;
            }
            line.push_str(word);
            used += needed;
        }
        lines.push(line);
    }
    lines
}

/// Wraps a text to the width, two spaces in.
pub(crate) fn indented(text: &str, width: usize) -> String {
    let lines = wrapped(text, width.saturating_sub(4)).into_iter().filter(|line| !line.is_empty());
    lines.map(|line| format!("  {line}")).collect::<Vec<_>>().join("\n")
}

/// Texts beside each other under their heads, as many in a row as there is room for.
pub(crate) fn beside(screen: &Screen, texts: &[(String, String)]) -> String {
    let most = ((screen.width() + GAP.len()) / (NARROWEST + GAP.len())).max(1);
    let rows = texts.len().div_ceil(most).max(1);
    // Rows of equal length, rather than a short last one.
    let each = texts.len().div_ceil(rows).max(1);
    let width = (screen.width() + GAP.len()) / each - GAP.len();
    let blocks = texts.chunks(each).map(|row| {
        let columns: Vec<Vec<String>> = row
            .iter()
            .map(|(head, text)| {
                let heads = wrapped(head, width).into_iter().map(|line| screen.heading(&line));
                heads.chain(wrapped(text, width)).collect()
            })
            .collect();
        let height = columns.iter().map(Vec::len).max().unwrap_or(0);
        let line = |at: usize| {
            let cell = |column: &Vec<String>| {
                let text = column.get(at).cloned().unwrap_or_default();
                let room = width.saturating_sub(columns_of(&text));
                format!("{text}{}", " ".repeat(room))
            };
            columns.iter().map(cell).collect::<Vec<_>>().join(GAP).trim_end().to_owned()
        };
        (0..height).map(line).collect::<Vec<_>>().join("\n")
    });
    blocks.collect::<Vec<_>>().join("\n\n")
}

#[cfg(test)]
mod tests {
    use unicode_width::UnicodeWidthStr;

    use super::{beside, columns_of, indented};
    use crate::output::palette::HONEY;
    use crate::output::screen::Screen;

    #[test]
    fn colours_take_no_room_when_lines_are_wrapped() {
        let style = HONEY.style().bold();
        let painted = format!("{style}bees{style:#}");
        assert_eq!(columns_of(&painted), 4);
        assert_eq!(columns_of("\u{8702} b\u{1b}"), 4);
        let plain = indented(&"bees ".repeat(30), 40);
        let coloured = indented(&format!("{painted} ").repeat(30), 40);
        assert_eq!(plain.lines().count(), coloured.lines().count());
        assert!(plain.lines().all(|line| line.width() <= 40 && line.starts_with("  ")), "{plain}");
    }

    #[test]
    fn texts_are_side_by_side_while_there_is_room() {
        let texts: Vec<(String, String)> =
            (1..=5).map(|i| (format!("head {i}"), "the bees of the mill ".repeat(i))).collect();
        for (width, rows) in [(40, 5), (60, 3), (100, 2), (160, 1)] {
            let drawn = beside(&Screen::plain(width), &texts);
            assert!(drawn.lines().all(|line| line.width() <= width), "{width}:\n{drawn}");
            assert_eq!(drawn.lines().filter(|line| line.contains("head")).count(), rows, "{width}:\n{drawn}");
            assert_eq!(drawn.matches("mill").count(), 15, "{width}:\n{drawn}");
        }
        // The second text begins where its head does.
        let drawn = beside(&Screen::plain(100), &texts[..2]);
        let lines: Vec<&str> = drawn.lines().collect();
        assert_eq!(lines[0].find("head 2"), lines[1].rfind("the bees of the mill the bees"), "{drawn}");
    }
}
