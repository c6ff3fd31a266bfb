//! The report of a run.

use lalograph_lab::measure::cost::Cost;
use lalograph_lab::run::history::{RunHistory, settings};
use lalograph_lab::run::records::Figures;
use lalograph_lab::training::hints::Hint;

use super::parts::{Cell, figure, page, pairs, section, table, text};
use super::samples::{moment, moments, range};
use crate::failure::Failure;
use crate::output::figures::in_words;
use crate::output::loss_scale::LossScale;
use crate::output::number::{count, perplexity};

/// Moments of the samples that are shown; the page of samples has them all.
const MOMENTS: usize = 5;

/// The pictures of a report as SVG, as far as there are any.
#[derive(Debug, Default)]
pub(crate) struct ReportPictures {
    /// Perplexity over steps.
    pub(crate) learning: Option<String>,
    /// Gradient norm over steps.
    pub(crate) gradient: Option<String>,
    /// The learning rate over steps.
    pub(crate) rate: Option<String>,
    /// Gradient by distance in time.
    pub(crate) flow: Option<String>,
}

/// The page. `about` is what there is to know of the run, in pairs.
pub(crate) fn report_page(
    history: &RunHistory,
    about: &[(&str, String)],
    hints: &[Hint],
    cost: Option<&Cost>,
    pictures: &ReportPictures,
) -> Result<String, Failure> {
    let parts: Vec<(&str, &str, String)> = [
        ("curves", "Curves", curves(history, pictures)),
        ("samples", "Samples during training", some_samples(history)),
        ("run", "The run", pairs(about)),
        ("layers", "Layers", cost.map_or_else(String::new, layers)),
        ("flow", "Gradient flow", flow(pictures)),
        ("settings", "Settings", all_settings(history)?),
    ]
    .into_iter()
    .filter(|(.., body)| !body.is_empty())
    .collect();
    let name = history.run.name();
    let links: String =
        parts.iter().map(|(id, heading, _)| format!("<a href=\"#{id}\">{}</a>", text(heading))).collect();
    let sections: String = parts.iter().map(|(id, heading, body)| section(id, heading, body)).collect();
    let started = history.description.started.replace('T', " ");
    let body = format!(
        "<h1>{}</h1>\n<p class=\"lead\">{}. Started {}, {}.</p>\n<nav>{links}</nav>\n{}{}{sections}",
        text(&name),
        text(&model(about)),
        text(started.get(..16).unwrap_or(&started)),
        history.standing.name(),
        figures(history),
        hint_list(hints),
    );
    Ok(page(&format!("{name}: report"), &body))
}

/// The model as the beginning of a sentence.
fn model(about: &[(&str, String)]) -> String {
    let model = about.iter().find(|(name, _)| *name == "model").map_or("a model", |(_, model)| model);
    let mut characters = model.chars();
    characters.next().map_or_else(String::new, |first| first.to_uppercase().chain(characters).collect())
}

/// The figures that a person looks for first.
fn figures(history: &RunHistory) -> String {
    let description = &history.description;
    let mut tiles: Vec<(String, String)> = Vec::new();
    let scale = LossScale::of(&history.plan);
    if let Some(loss) = description.best_validation_loss {
        let at = description.best_step.map_or_else(String::new, |step| format!(", step {}", count(step)));
        tiles.push((scale.of_loss(Some(loss)), format!("validation {}, best{at}", scale.name())));
    }
    for (name, value) in history.best_figures().into_iter().flat_map(Figures::iter) {
        if name != "perplexity" {
            let (words, figure) = in_words(name, value);
            let what = match name {
                "old_perplexity" => "perplexity of the old text, at the same step".to_owned(),
                "moved" => "distance from the base, over its norm".to_owned(),
                _ => format!("validation {words}, best"),
            };
            tiles.push((figure, what));
        }
    }
    if let Some(test) = &description.test {
        tiles.push((scale.of_loss(Some(test.loss)), format!("test {}, with the kept weights", scale.name())));
        if scale == LossScale::Loss {
            let figures = test.figures.iter().map(|(name, value)| in_words(name, value));
            tiles.extend(figures.map(|(words, figure)| (figure, format!("test {words}"))));
        }
    }
    if let Some(training) = history.training_perplexity() {
        let dropout = if with_dropout(history) { ", with dropout" } else { "" };
        tiles.push((perplexity(training), format!("training perplexity, last steps{dropout}")));
    }
    if let Some(unigram) = description.text.unigram_loss {
        tiles.push((perplexity(unigram.exp()), "unigram perplexity, to compare with validation".to_owned()));
    }
    tiles.push((count(history.steps()), format!("steps of {}", count(description.planned_steps))));
    let items: String = tiles
        .iter()
        .map(|(figure, what)| format!("<li><b>{}</b><span>{}</span></li>\n", text(figure), text(what)))
        .collect();
    format!("<ul class=\"figures\">\n{items}</ul>\n")
}

fn with_dropout(history: &RunHistory) -> bool {
    history.plan.regularisation().dropout.any()
}

fn hint_list(hints: &[Hint]) -> String {
    let items: String = hints.iter().map(|hint| format!("<li>{}</li>\n", text(&hint.to_string()))).collect();
    let items =
        if items.is_empty() { "<li class=\"none\">No problems found.</li>\n".to_owned() } else { items };
    format!("<ul class=\"hints\">\n{items}</ul>\n")
}

fn curves(history: &RunHistory, pictures: &ReportPictures) -> String {
    let perplexities = match (LossScale::of(&history.plan), with_dropout(history)) {
        (LossScale::Perplexity, true) => {
            "Perplexity over steps. Training perplexity is measured with dropout, so it can be above validation perplexity."
        }
        (LossScale::Perplexity, false) => "Perplexity over steps.",
        (LossScale::Loss, true) => {
            "Loss over steps. Training loss is measured with dropout, so it can be above validation loss."
        }
        (LossScale::Loss, false) => "Loss over steps.",
    };
    let all = [
        ("learning", &pictures.learning, perplexities),
        (
            "gradient",
            &pictures.gradient,
            "The norm of the whole gradient before and after clipping, mean over the steps of each record.",
        ),
        ("rate", &pictures.rate, "The learning rate at each record."),
    ];
    all.iter().filter_map(|(id, svg, caption)| Some(figure(id, svg.as_ref()?, caption))).collect()
}

fn flow(pictures: &ReportPictures) -> String {
    let caption = "The norm of the gradient of one token's loss with respect to the outputs of each layer, by distance in tokens: first measurement dotted, last solid. Where it is a thousandth, almost nothing is learnt.";
    pictures.flow.as_ref().map_or_else(String::new, |svg| figure("flow", svg, caption))
}

fn some_samples(history: &RunHistory) -> String {
    let all = moments(history);
    if all.is_empty() {
        return String::new();
    }
    let shown = all.len().min(MOMENTS);
    let range = range(history);
    let mut chosen: Vec<usize> = (0..shown).map(|i| i * (all.len() - 1) / (shown - 1).max(1)).collect();
    chosen.dedup();
    let body: String = chosen.iter().map(|&index| moment(all[index], range)).collect();
    let lead =
        format!("{} of {} moments; <a href=\"samples.html\">all of them</a>.", chosen.len(), all.len());
    format!("<p class=\"lead\">{lead}</p>\n{body}")
}

fn layers(cost: &Cost) -> String {
    let row = |name: &str, shape: String, parameters: u64| {
        (false, vec![Cell::Code(name.to_owned()), Cell::Words(shape), Cell::Number(count(parameters))])
    };
    let mut rows: Vec<(bool, Vec<Cell>)> = cost
        .layers
        .iter()
        .map(|layer| {
            let shape: Vec<String> = layer.shape.iter().map(|&size| count(size as u64)).collect();
            row(&layer.name, shape.join(" \u{d7} "), layer.parameters)
        })
        .collect();
    rows.push(row("all", String::new(), cost.parameters));
    table(&["parameter", "shape", "numbers"], &rows)
}

fn all_settings(history: &RunHistory) -> Result<String, Failure> {
    let default = settings(&history.plan.defaults())?;
    let rows: Vec<(bool, Vec<Cell>)> = settings(&history.plan)?
        .into_iter()
        .map(|setting| {
            let changed = !default.contains(&setting);
            let default = default
                .iter()
                .find(|(key, _)| *key == setting.0)
                .map_or_else(String::new, |(_, value)| value.clone());
            let default = if changed { default } else { String::new() };
            (changed, vec![Cell::Code(setting.0), Cell::Code(setting.1), Cell::Code(default)])
        })
        .collect();
    Ok(format!(
        "<p class=\"lead\">Settings that differ from their defaults are marked.</p>\n{}",
        table(&["setting", "value", "default"], &rows)
    ))
}
