//! Tables that fit the terminal: no lines but one under the heads, numbers to the right.

use comfy_table::{CellAlignment, ColumnConstraint, ContentArrangement, LineStyle, Table, TableStyle, Width};

use unicode_width::UnicodeWidthStr;

use crate::output::cut::cut;
use crate::output::screen::Screen;

const STYLE: TableStyle =
    TableStyle::new().header_separator(LineStyle::none().fill('\u{2500}').junction('\u{2500}'));

/// Columns of a cell, in all its lines. Longer ones are cut: nobody reads them, and breaking them takes the square of their length.
const LONGEST_CELL: usize = 2000;

/// How a column stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Column {
    /// Words, from the left.
    Text,
    /// Figures, to the right, never broken.
    Number,
}

/// Draws a table; an empty list of heads makes one without a head.
pub(crate) fn table(screen: &Screen, heads: &[&str], columns: &[Column], rows: &[Vec<String>]) -> String {
    let mut table = Table::new();
    table
        .load_style(STYLE)
        .set_content_arrangement(ContentArrangement::Dynamic)
        .set_width(screen.width() as u16);
    if !heads.is_empty() {
        table.set_header(heads.to_vec());
    }
    for row in rows {
        table.add_row(row.iter().map(|cell| cut(cell, LONGEST_CELL)));
    }
    for (index, column) in columns.iter().enumerate() {
        let widest = rows
            .iter()
            .map(|row| row[index].as_str())
            .chain(heads.get(index).copied())
            .map(|cell| cell.width().min(LONGEST_CELL))
            .max()
            .unwrap_or(1);
        if let Some(drawn) = table.column_mut(index) {
            if *column == Column::Number {
                drawn.set_cell_alignment(CellAlignment::Right);
                drawn.set_constraint(ColumnConstraint::LowerBoundary(Width::Fixed(widest as u16)));
            }
            drawn.set_padding((if index == 0 { 2 } else { 1 }, 1));
        }
    }
    let text: Vec<String> = table.lines().map(|line| line.trim_end().to_owned()).collect();
    text.join("\n")
}

/// Two columns without a head: names and what they stand for.
pub(crate) fn facts(screen: &Screen, rows: &[(&str, String)]) -> String {
    let rows: Vec<Vec<String>> =
        rows.iter().map(|(name, value)| vec![(*name).to_owned(), value.clone()]).collect();
    table(screen, &[], &[Column::Text, Column::Text], &rows)
}

#[cfg(test)]
mod tests {
    use unicode_width::UnicodeWidthStr;

    use super::{Column, LONGEST_CELL, facts, table};
    use crate::output::screen::Screen;

    #[test]
    fn figures_stand_to_the_right_and_words_to_the_left() {
        let rows = vec![vec!["bee".into(), "7".into()], vec!["queen".into(), "1,234".into()]];
        let drawn = table(&Screen::plain(60), &["word", "count"], &[Column::Text, Column::Number], &rows);
        let lines: Vec<&str> = drawn.lines().collect();
        assert_eq!(lines[0], "  word    count");
        assert!(lines[1].trim().chars().all(|c| c == '\u{2500}'), "{drawn}");
        assert_eq!(lines[2], "  bee         7");
        assert_eq!(lines[3], "  queen   1,234");
    }

    #[test]
    fn long_words_are_broken_and_figures_never_are() {
        let long = "the hive behind the mill ".repeat(8);
        let rows = vec![vec![long, "123,456,789".to_owned()]];
        for width in [40, 50, 80, 120] {
            let drawn =
                table(&Screen::plain(width), &["text", "bytes"], &[Column::Text, Column::Number], &rows);
            assert!(drawn.lines().all(|line| line.width() <= width), "{width}:\n{drawn}");
            assert!(drawn.contains("123,456,789"), "{width}:\n{drawn}");
            assert_eq!(drawn.matches("mill").count(), 8, "{width}:\n{drawn}");
        }
    }

    #[test]
    fn a_word_of_a_megabyte_is_cut_before_it_is_drawn() {
        let drawn = facts(&Screen::plain(80), &[("longest", "w".repeat(1_000_000))]);
        let shown = drawn.matches('w').count();
        assert!((LONGEST_CELL - 10..=LONGEST_CELL).contains(&shown), "{shown}");
        assert!(drawn.trim_end().ends_with('\u{2026}'));
    }

    #[test]
    fn wide_letters_count_for_what_they_take() {
        let rows = vec![vec!["\u{8702}\u{871c}".into(), "1".into()], vec!["bees".into(), "2".into()]];
        let drawn = table(&Screen::plain(60), &[], &[Column::Text, Column::Number], &rows);
        let widths: Vec<usize> = drawn.lines().map(UnicodeWidthStr::width).collect();
        assert_eq!(widths[0], widths[1], "{drawn}");
    }

    #[test]
    fn an_empty_table_is_its_head_and_facts_have_none() {
        let drawn = table(&Screen::plain(60), &["word"], &[Column::Text], &[]);
        assert_eq!(drawn.lines().next(), Some("  word"));
        let drawn = facts(&Screen::plain(60), &[("files", "3".into()), ("text", "1.0 MB".into())]);
        assert_eq!(drawn, "  files   3\n  text    1.0 MB");
    }
}
