//! Tables that fit the terminal: no lines but one under the heads, numbers to the right.

use comfy_table::{CellAlignment, ColumnConstraint, ContentArrangement, LineStyle, Table, TableStyle, Width};

use unicode_width::UnicodeWidthStr;

use crate::output::cut::cut;
use crate::output::palette::Colour;
use crate::output::screen::Screen;

const STYLE: TableStyle =
    TableStyle::new().header_separator(LineStyle::none().fill('\u{2500}').junction('\u{2500}'));

/// Columns of a cell, in all its lines. Longer ones are cut: nobody reads them, and breaking them takes the square of their length.
const LONGEST_CELL: usize = 2000;

/// The alignment of a column.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Column {
    /// Words, from the left.
    Text,
    /// Figures, to the right, never broken.
    Number,
}

/// The least width of a column of words.
const LEAST_WORDS: usize = 12;

/// Columns of a table's cell, in the terminal.
fn width(cell: &str) -> usize {
    cell.width().min(LONGEST_CELL)
}

/// The least width of a column in which no figure is broken; of a head, every word may have a line.
fn least(column: Column, head: Option<&&str>, cells: &mut dyn Iterator<Item = &str>) -> usize {
    let word = head.and_then(|head| head.split_whitespace().map(width).max()).unwrap_or(0);
    let widest = cells.map(width).max().unwrap_or(0).max(word).max(1);
    if column == Column::Number { widest } else { widest.min(LEAST_WORDS) }
}

/// Whether columns of these widths fit, with the space between them.
fn fits(screen: &Screen, widths: &[usize]) -> bool {
    widths.iter().sum::<usize>() + 3 * widths.len() <= screen.width()
}

/// Draws a table; an empty list of heads makes one without a head. Where its figures do not fit side by side, rows and columns change places, or
/// every row becomes a list.
pub(crate) fn table(screen: &Screen, heads: &[&str], columns: &[Column], rows: &[Vec<String>]) -> String {
    let of = |at: usize| least(columns[at], heads.get(at), &mut rows.iter().map(|row| row[at].as_str()));
    let widths: Vec<usize> = (0..columns.len()).map(of).collect();
    if heads.is_empty() || rows.is_empty() || fits(screen, &widths) {
        return drawn(screen, heads, columns, rows);
    }
    let turned_heads: Vec<&str> =
        std::iter::once(heads[0]).chain(rows.iter().map(|row| row[0].as_str())).collect();
    let turned: Vec<Vec<String>> = (1..heads.len())
        .map(|at| {
            std::iter::once(heads[at].to_owned()).chain(rows.iter().map(|row| row[at].clone())).collect()
        })
        .collect();
    let turned_columns: Vec<Column> =
        (0..turned_heads.len()).map(|at| if at == 0 { Column::Text } else { Column::Number }).collect();
    let of = |at: usize| {
        least(turned_columns[at], turned_heads.get(at), &mut turned.iter().map(|row| row[at].as_str()))
    };
    let widths: Vec<usize> = (0..turned_columns.len()).map(of).collect();
    if columns[1..].iter().all(|column| *column == Column::Number) && fits(screen, &widths) {
        return drawn(screen, &turned_heads, &turned_columns, &turned);
    }
    let lists = rows.iter().map(|row| {
        let facts: Vec<Vec<String>> = heads[1..]
            .iter()
            .zip(&row[1..])
            .map(|(head, cell)| vec![format!("  {head}"), cell.clone()])
            .collect();
        format!(
            "  {}\n{}",
            cut(&row[0], LONGEST_CELL),
            drawn(screen, &[], &[Column::Text, Column::Text], &facts)
        )
    });
    lists.collect::<Vec<_>>().join("\n")
}

fn drawn(screen: &Screen, heads: &[&str], columns: &[Column], rows: &[Vec<String>]) -> String {
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
        let widest = least(*column, heads.get(index), &mut rows.iter().map(|row| row[index].as_str()));
        if let Some(drawn) = table.column_mut(index) {
            let before = if index == 0 { 2 } else { 1 };
            if *column == Column::Number {
                drawn.set_cell_alignment(CellAlignment::Right);
                // The bound includes the padding.
                let bound = Width::Fixed(widest as u16 + before + 1);
                drawn.set_constraint(ColumnConstraint::LowerBoundary(bound));
            }
            drawn.set_padding((before, 1));
        }
    }
    let text: Vec<String> = table.lines().map(|line| line.trim_end().to_owned()).collect();
    text.join("\n")
}

/// A drawn table with the bars at the ends of its lines in a colour.
pub(crate) fn coloured_bars(drawn: &str, colour: Colour, screen: &Screen) -> String {
    let line = |line: &str| match line.find('\u{2588}') {
        Some(start) => format!("{}{}", &line[..start], screen.styled(colour.style(), &line[start..])),
        None => line.to_owned(),
    };
    drawn.lines().map(line).collect::<Vec<_>>().join("\n")
}

/// Two columns without a head: names and what they represent.
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
    fn figures_align_right_and_words_left() {
        let rows = vec![vec!["bee".into(), "7".into()], vec!["queen".into(), "1,234".into()]];
        let drawn = table(&Screen::plain(60), &["word", "count"], &[Column::Text, Column::Number], &rows);
        let lines: Vec<&str> = drawn.lines().collect();
        assert_eq!(lines[0], "  word    count");
        assert!(lines[1].trim().chars().all(|c| c == '\u{2500}'), "{drawn}");
        assert_eq!(lines[2], "  bee         7");
        assert_eq!(lines[3], "  queen   1,234");
    }

    #[test]
    fn wide_tables_are_turned_or_listed() {
        let heads = ["part", "documents", "share", "failing", "restless", "steady"];
        let columns: Vec<Column> =
            (0..6).map(|at| if at == 0 { Column::Text } else { Column::Number }).collect();
        let row = |name: &str| -> Vec<String> {
            [name, "1,597", "65.2 %", "363 (80.3 %)", "456 (100.0 %)", "748 (79.9 %)"]
                .map(str::to_owned)
                .into()
        };
        let rows = [row("training"), row("validation")];
        let wide = table(&Screen::plain(100), &heads, &columns, &rows);
        assert!(wide.lines().next().unwrap().contains("failing"), "{wide}");
        let turned = table(&Screen::plain(60), &heads, &columns, &rows);
        assert!(turned.lines().next().unwrap().contains("training"), "{turned}");
        assert_eq!(turned.matches("363 (80.3 %)").count(), 2, "{turned}");
        let many: Vec<Vec<String>> = (0..9).map(|at| row(&format!("part {at}"))).collect();
        let listed = table(&Screen::plain(60), &heads, &columns, &many);
        assert_eq!(listed.matches("  part ").count(), 9, "{listed}");
        assert_eq!(listed.matches("456 (100.0 %)").count(), 9, "{listed}");
        for drawn in [wide, turned, listed] {
            assert!(drawn.lines().all(|line| line.width() <= 100), "{drawn}");
        }
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
    fn wide_letters_count_by_their_columns() {
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
