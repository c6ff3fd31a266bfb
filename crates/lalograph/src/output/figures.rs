//! Figures of runs in words.

use lalograph_lab::run::records::Figures;

use crate::output::number::{figure, percent_of};

/// A figure by its name in words.
pub(crate) fn in_words(name: &str, value: f64) -> (String, String) {
    match name {
        "macro_f1" => ("macro F1".to_owned(), format!("{value:.3}")),
        "solved" => (name.to_owned(), if value == 1.0 { "yes" } else { "no" }.to_owned()),
        _ if name.contains("accuracy") => (name.replace('_', " "), percent_of(value)),
        _ => (name.replace('_', " "), figure(value)),
    }
}

/// Figures besides perplexity, by their names in words.
pub(crate) fn other_figures(figures: &Figures) -> impl Iterator<Item = (String, String)> {
    let others = figures.iter().filter(|(name, _)| *name != "perplexity");
    others.map(|(name, value)| in_words(name, value))
}
