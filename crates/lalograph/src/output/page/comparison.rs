//! Runs compared on a page.

use lalograph_lab::run::history::RunHistory;

use super::parts::{Cell, figure, page, sample, section, table, text};
use crate::output::number::count;

/// A comparison, ready for output.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Rows {
    /// The runs' names.
    pub(crate) names: Vec<String>,
    /// Figures: what, and its value for each run.
    pub(crate) figures: Vec<(String, Vec<String>)>,
    /// Settings that differ: the key, and its value for each run.
    pub(crate) settings: Vec<(String, Vec<String>)>,
}

/// The page.
pub(crate) fn comparison_page(rows: &Rows, histories: &[RunHistory], picture: Option<&str>) -> String {
    let mut heads = vec![""];
    heads.extend(rows.names.iter().map(String::as_str));
    let figures: Vec<(bool, Vec<Cell>)> = rows
        .figures
        .iter()
        .map(|(what, values)| {
            let values = values.iter().map(|value| Cell::Number(value.clone()));
            (false, std::iter::once(Cell::Words(what.clone())).chain(values).collect())
        })
        .collect();
    let settings: Vec<(bool, Vec<Cell>)> = rows
        .settings
        .iter()
        .map(|(key, values)| {
            let values = values.iter().map(|value| Cell::Code(value.clone()));
            (false, std::iter::once(Cell::Code(key.clone())).chain(values).collect())
        })
        .collect();
    let settings = if settings.is_empty() {
        "<p>The runs have the same settings.</p>".to_owned()
    } else {
        table(&heads, &settings)
    };
    let title = format!("Runs compared: {}", rows.names.join(", "));
    let curves = picture.map_or_else(String::new, |svg| {
        section("curves", "Curves", &figure("curves", svg, "Perplexity of each run over its steps."))
    });
    let body = format!(
        "<h1>{}</h1>\n{}{curves}{}{}",
        text(&title),
        section("figures", "Figures", &table(&heads, &figures)),
        section("settings", "Settings that differ", &settings),
        section("samples", "Samples at the same temperature", &samples(histories)),
    );
    page(&title, &body)
}

/// The last samples of each run, those of one temperature next to each other.
fn samples(histories: &[RunHistory]) -> String {
    let mut temperatures: Vec<f64> =
        histories.iter().flat_map(RunHistory::last_samples).map(|sample| sample.temperature).collect();
    temperatures.sort_by(f64::total_cmp);
    temperatures.dedup();
    let mut out = String::new();
    for temperature in temperatures {
        let cards: String = histories
            .iter()
            .filter_map(|history| {
                let record = history.last_samples().iter().find(|s| s.temperature == temperature)?;
                Some(sample(&format!("{}, step {}", history.run.name(), count(record.step)), record))
            })
            .collect();
        out.push_str(&format!(
            "<h3>temperature {temperature:?}</h3>\n<div class=\"samples\">\n{cards}</div>\n"
        ));
    }
    if out.is_empty() { "<p>None of the runs has written samples.</p>".to_owned() } else { out }
}
