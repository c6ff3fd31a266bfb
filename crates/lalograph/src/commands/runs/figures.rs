//! Figures of runs in words.

use lalograph_lab::run::records::Figures;

use crate::output::figures::other_figures;
use crate::output::number::count;

/// Steps made, of how many.
pub(super) fn steps(made: u64, planned: u64) -> String {
    if planned == 0 { count(made) } else { format!("{} of {}", count(made), count(planned)) }
}

/// A task's figures besides perplexity, as a suffix: `, accuracy 93.1 %`.
pub(super) fn besides(figures: Option<&Figures>) -> String {
    let named = figures.into_iter().flat_map(other_figures);
    named.map(|(name, value)| format!(", {name} {value}")).collect()
}
