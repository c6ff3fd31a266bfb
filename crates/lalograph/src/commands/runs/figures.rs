//! Figures of runs in words.

use lalograph_lab::run::records::Figures;

use crate::output::number::{count, figure, percent_of};

/// Steps made, of how many.
pub(super) fn steps(made: u64, planned: u64) -> String {
    if planned == 0 { count(made) } else { format!("{} of {}", count(made), count(planned)) }
}

/// A task's figures besides perplexity, as a suffix: `, accuracy 93.1 %`.
pub(super) fn besides(figures: Option<&Figures>) -> String {
    let named = figures.into_iter().flat_map(other_figures);
    named.map(|(name, value)| format!(", {name} {value}")).collect()
}

/// Figures besides perplexity, by their names in words.
pub(super) fn other_figures(figures: &Figures) -> impl Iterator<Item = (String, String)> {
    let others = figures.iter().filter(|(name, _)| *name != "perplexity");
    others.map(|(name, value)| match name {
        "macro_f1" => ("macro F1".to_owned(), format!("{value:.3}")),
        "solved" => (name.to_owned(), if value == 1.0 { "yes" } else { "no" }.to_owned()),
        _ if name.contains("accuracy") => (name.replace('_', " "), percent_of(value)),
        _ => (name.replace('_', " "), figure(value)),
    })
}
