//! Tables that fit the terminal: no lines but one under the heads, numbers to the right.

use comfy_table::{CellAlignment, ColumnConstraint, ContentArrangement, LineStyle, Table, TableStyle, Width};

use crate::output::screen::Screen;

const STYLE: TableStyle =
    TableStyle::new().header_separator(LineStyle::none().fill('\u{2500}').junction('\u{2500}'));

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
        table.add_row(row.clone());
    }
    for (index, column) in columns.iter().enumerate() {
        let widest = rows
            .iter()
            .map(|row| row[index].as_str())
            .chain(heads.get(index).copied())
            .map(unicode_width::UnicodeWidthStr::width)
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
