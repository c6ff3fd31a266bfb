//! Samples during training: all samples of a run, moment by moment.

use lalograph_lab::run::history::RunHistory;
use lalograph_lab::run::records::SampleRecord;

use super::parts::{page, sample, section, text};
use crate::output::number::{count, perplexity};

/// The samples of a run by the step that they were written after.
pub(super) fn moments(history: &RunHistory) -> Vec<&[SampleRecord]> {
    history.samples.chunk_by(|a, b| a.step == b.step).collect()
}

/// One moment: how good the model was, and what it wrote, by seed text and temperature. `worst` and `best` are the highest and lowest
/// logarithms of perplexity of all moments.
pub(super) fn moment(samples: &[SampleRecord], (worst, best): (f64, f64)) -> String {
    let Some(first) = samples.first() else {
        return String::new();
    };
    let how_good = first.validation_perplexity.map_or_else(
        || "<span>before the first validation</span>".to_owned(),
        |p| {
            let share = if worst > best { (p.ln() - best) / (worst - best) } else { 0.0 };
            format!(
                "<span>validation perplexity {}</span><div class=\"meter\" aria-hidden=\"true\"><i style=\"width:{:.1}%\"></i></div>",
                perplexity(p),
                100.0 * share.clamp(0.01, 1.0)
            )
        },
    );
    let mut out = format!("<div class=\"moment\"><b>step {}</b>{how_good}</div>\n", count(first.step));
    for with_one_seed in samples.chunk_by(|a, b| a.seed_text == b.seed_text) {
        let cards: String = with_one_seed
            .iter()
            .map(|record| sample(&format!("temperature {:?}", record.temperature), record))
            .collect();
        out.push_str(&format!("<div class=\"samples\">\n{cards}</div>\n"));
    }
    out
}

/// The highest and the lowest logarithm of perplexity that any sample was written at.
pub(super) fn range(history: &RunHistory) -> (f64, f64) {
    let logs = || history.samples.iter().filter_map(|sample| sample.validation_perplexity).map(f64::ln);
    (logs().fold(f64::NEG_INFINITY, f64::max), logs().fold(f64::INFINITY, f64::min))
}

/// The page.
pub(crate) fn samples_page(history: &RunHistory) -> String {
    let range = range(history);
    let moments: String = moments(history).into_iter().map(|samples| moment(samples, range)).collect();
    let name = history.run.name();
    let lead = "Low temperatures are surer and repeat themselves; high temperatures are more varied and make more mistakes. The bar is validation perplexity \
                on a logarithmic scale, from the lowest to the highest of this run: shorter is better.";
    let body = format!(
        "<h1>Samples during training: {}</h1>\n<p class=\"lead\">{lead}</p>\n<nav><a href=\"report.html\">The run's report</a></nav>\n{}",
        text(&name),
        section("samples", "Step by step", &moments)
    );
    page(&format!("Samples during training: {name}"), &body)
}
