//! The results of a sweep on a page.

use super::parts::{Cell, figure, page, pairs, section, table, text};
use crate::output::number::count;

/// A sweep, ready for output.
pub(crate) struct SweepPage<'p> {
    /// Its name.
    pub(crate) name: &'p str,
    /// What came of it.
    pub(crate) outcome: Vec<(&'static str, String)>,
    /// The heads of the table of settings.
    pub(crate) heads: &'p [String],
    /// Its rows, by rank.
    pub(crate) rows: &'p [Vec<String>],
    /// Settings in all.
    pub(crate) settings: usize,
    /// Shares of the variance, if they are known.
    pub(crate) shares: Option<Vec<Vec<String>>>,
    /// Settings that failed: number, values, reason.
    pub(crate) failed: &'p [(String, String, String)],
    /// Pictures by their names, as SVG.
    pub(crate) pictures: &'p [(&'static str, String)],
}

/// What each picture shows.
fn caption(name: &str) -> &'static str {
    match name {
        "parallel-axes" => {
            "Each setting is a line through its values; the last axis is its result, the best at the top."
        }
        "values" => "The result of each setting over each of its values.",
        _ => "Results in the order of time, and the best so far.",
    }
}

/// The page.
pub(crate) fn sweep_page(content: &SweepPage<'_>) -> String {
    let heads: Vec<&str> = content.heads.iter().map(String::as_str).collect();
    let rows: Vec<(bool, Vec<Cell>)> = content
        .rows
        .iter()
        .enumerate()
        .map(|(at, row)| (at == 0, row.iter().map(|cell| Cell::Number(cell.clone())).collect()))
        .collect();
    let more = match content.settings - content.rows.len() {
        0 => String::new(),
        more => format!(
            "<p>{} more settings are in the output of <code>sweep show --json</code>.</p>",
            count(more as u64)
        ),
    };
    let shares = content.shares.as_ref().map_or_else(String::new, |rows| {
        let rows: Vec<(bool, Vec<Cell>)> = rows
            .iter()
            .map(|row| {
                let cell = |at: usize| Cell::Number(row[at].clone());
                (false, vec![Cell::Code(row[0].clone()), cell(1), cell(2)])
            })
            .collect();
        let body = format!(
            "<p>The share of the variance of the results that each setting explains by itself, with its standard error.</p>\n{}",
            table(&["setting", "share", "±"], &rows)
        );
        section("shares", "What explains the results", &body)
    });
    let failed = if content.failed.is_empty() {
        String::new()
    } else {
        let rows: Vec<(bool, Vec<Cell>)> = content
            .failed
            .iter()
            .map(|(number, values, reason)| {
                let cells = vec![
                    Cell::Number(number.clone()),
                    Cell::Code(values.clone()),
                    Cell::Words(reason.clone()),
                ];
                (false, cells)
            })
            .collect();
        section("failed", "Settings that failed", &table(&["setting", "values", "reason"], &rows))
    };
    let pictures: String =
        content.pictures.iter().map(|(name, svg)| figure(name, svg, caption(name))).collect();
    let pictures = if pictures.is_empty() { String::new() } else { section("charts", "Charts", &pictures) };
    // A terminal has a line for each path.
    let outcome: Vec<(&str, String)> =
        content.outcome.iter().map(|(name, value)| (*name, value.replace('\n', ", "))).collect();
    let title = format!("Sweep: {}", content.name);
    let body = format!(
        "<h1>{}</h1>\n{}{pictures}{shares}{}{failed}",
        text(&title),
        section("outcome", "Outcome", &pairs(&outcome)),
        section("settings", "Settings by rank", &format!("{}{more}", table(&heads, &rows))),
    );
    page(&title, &body)
}
