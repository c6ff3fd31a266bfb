//! `runs compare`: runs side by side.

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

use lalograph_lab::measure::decisions::Paired;
use lalograph_lab::run::description::{RunDescription, Standing};
use lalograph_lab::run::history::{RunHistory, differing_settings};
use lalograph_lab::run::records::{Figures, MetricsRecord, SampleRecord};
use serde::Serialize;

use super::figures::steps;
use super::report::begin_pages;
use crate::cli::CompareArgs;
use crate::commands::classify::{SameDocuments, on_same_documents};
use crate::commands::lookup::find_run;
use crate::failure::Failure;
use crate::files;
use crate::output::chart::Picture;
use crate::output::figures::other_figures;
use crate::output::loss_scale::LossScale;
use crate::output::number::{bytes, count, counted, duration, p_value, percent_of, perplexity, points};
use crate::output::page::{ComparisonRows, comparison_page};
use crate::output::palette::ASH;
use crate::output::run_charts::comparison_chart;
use crate::output::screen::Screen;
use crate::output::table::{Column, facts, table};
use crate::output::training::HintLine;
use crate::output::wrap::indented;

/// JSON output of `runs compare`.
#[derive(Serialize)]
struct CompareDocument<'a> {
    runs: Vec<Compared<'a>>,
    /// Each setting with its value in every run, null if it is not set.
    differing_settings: Vec<Differing>,
}

/// One run among others.
#[derive(Serialize)]
struct Compared<'a> {
    name: String,
    path: PathBuf,
    status: Standing,
    steps: u64,
    best_validation_loss: Option<f64>,
    /// Null for a classifier, as the other perplexities.
    best_validation_perplexity: Option<f64>,
    best_step: Option<u64>,
    /// The task's figures of the best validation.
    figures: Option<&'a Figures>,
    test_perplexity: Option<f64>,
    training_perplexity: Option<f64>,
    seconds: Option<f64>,
    parameters: u64,
    /// Null unless all runs are classifiers with the same documents and parts.
    same_documents: Option<OnSameDocuments>,
    samples: &'a [SampleRecord],
    hints: Vec<serde_json::Value>,
}

/// A classifier's run on the held-out documents that all runs have.
#[derive(Serialize)]
struct OnSameDocuments {
    part: &'static str,
    documents: usize,
    accuracy: f64,
    /// Beside the first run; null for that run.
    paired: Option<Paired>,
}

/// A setting in which runs differ.
#[derive(Serialize)]
struct Differing {
    setting: String,
    values: Vec<Option<String>>,
}

/// Runs the command.
pub(super) fn run(args: &CompareArgs, screen: &Screen) -> Result<(), Failure> {
    let histories = args
        .names
        .iter()
        .map(|name| Ok(RunHistory::read(find_run(&args.place.runs, name)?)?))
        .collect::<Result<Vec<_>, Failure>>()?;
    let plans: Vec<_> = histories.iter().map(|history| &history.plan).collect();
    let differing = differing_settings(&plans)?;
    let same = on_same_documents(&histories, screen)?;
    let rows = rows(&histories, &differing, same.as_ref());
    let written = match &args.output {
        Some(folder) => Some(write(folder, args.force, &histories, &rows)?),
        None => None,
    };
    if args.json {
        return screen.json(&document(&histories, differing, same.as_ref()));
    }
    let mut heads = vec![""];
    heads.extend(rows.names.iter().map(String::as_str));
    let columns: Vec<Column> =
        std::iter::once(Column::Text).chain(rows.names.iter().map(|_| Column::Number)).collect();
    let lines = |rows: &[(String, Vec<String>)]| -> Vec<Vec<String>> {
        rows.iter().map(|(name, values)| [std::slice::from_ref(name), values].concat()).collect()
    };
    screen.line(&format!(
        "{}\n{}",
        screen.heading("Figures"),
        table(screen, &heads, &columns, &lines(&rows.figures))
    ))?;
    if rows.settings.is_empty() {
        screen.line("\nThe runs have the same settings.")?;
    } else {
        // Values may be long: they are words, to be broken where they must.
        let columns = vec![Column::Text; heads.len()];
        let drawn = table(screen, &heads, &columns, &lines(&rows.settings));
        screen.line(&format!("\n{}\n{drawn}", screen.heading("Settings that differ")))?;
    }
    show_samples(&histories, screen)?;
    if let Some(page) = written {
        screen.line(&format!("\n{}", facts(screen, &[("page", page.display().to_string())])))?;
    }
    Ok(())
}

/// The last samples, those of one temperature below each other.
fn show_samples(histories: &[RunHistory], screen: &Screen) -> Result<(), Failure> {
    let mut temperatures: Vec<f64> =
        histories.iter().flat_map(RunHistory::last_samples).map(|sample| sample.temperature).collect();
    temperatures.sort_by(f64::total_cmp);
    temperatures.dedup();
    for temperature in temperatures {
        screen.line(&format!("\n{}", screen.heading(&format!("Samples at temperature {temperature:?}"))))?;
        for history in histories {
            let Some(sample) = history.last_samples().iter().find(|sample| sample.temperature == temperature)
            else {
                continue;
            };
            let head = format!("  {}, step {}", history.run.name(), count(sample.step));
            screen.line(&screen.styled(ASH.style().bold(), &head))?;
            let text = format!("{}{}", sample.seed_text, sample.text);
            screen.line(&indented(&text, screen.width().saturating_sub(2)).replace("  ", "    "))?;
        }
    }
    Ok(())
}

/// The tasks' figures of the best validations besides perplexity: each figure that any run has, and its value for every run.
fn said_besides(histories: &[RunHistory]) -> Vec<(String, Vec<String>)> {
    let of = |history: &RunHistory| -> BTreeMap<String, String> {
        history.best_figures().into_iter().flat_map(other_figures).collect()
    };
    let all: Vec<_> = histories.iter().map(of).collect();
    let names: BTreeSet<&String> = all.iter().flat_map(BTreeMap::keys).collect();
    let value = |figures: &BTreeMap<String, String>, name: &String| {
        figures.get(name).cloned().unwrap_or_else(|| "-".to_owned())
    };
    let row = |name: &String| (name.clone(), all.iter().map(|figures| value(figures, name)).collect());
    names.into_iter().map(row).collect()
}

type LossOf = fn(&RunDescription) -> Option<f64>;

fn rows(
    histories: &[RunHistory],
    differing: &[(String, Vec<Option<String>>)],
    same: Option<&SameDocuments>,
) -> ComparisonRows {
    let each = |what: &str, of: &dyn Fn(&RunHistory) -> String| -> (String, Vec<String>) {
        (what.to_owned(), histories.iter().map(of).collect())
    };
    let optional = |value: Option<f64>| value.map_or_else(|| "-".to_owned(), perplexity);
    let scale = |history: &RunHistory| LossScale::of(&history.plan);
    let has = |wanted: LossScale| histories.iter().any(|history| scale(history) == wanted);
    // A loss is shown by the scale of its run, and not by that of another task.
    let of = |wanted: LossScale, loss: LossOf| {
        move |history: &RunHistory| {
            wanted.of_loss(loss(&history.description).filter(|_| scale(history) == wanted))
        }
    };
    let best: LossOf = |description| description.best_validation_loss;
    let tested: LossOf = |description| Some(description.test.as_ref()?.loss);
    let mut figures = vec![each("status", &|history| history.standing.name().to_owned())];
    if has(LossScale::Perplexity) {
        figures.push(each("validation perplexity", &of(LossScale::Perplexity, best)));
    }
    if has(LossScale::Loss) {
        figures.push(each("validation loss", &of(LossScale::Loss, best)));
    }
    figures.extend(said_besides(histories));
    figures.push(each("at step", &|history| {
        history.description.best_step.map_or_else(|| "-".to_owned(), count)
    }));
    if has(LossScale::Perplexity) {
        figures.push(each("test perplexity", &of(LossScale::Perplexity, tested)));
        figures.push(each("training perplexity", &|history| optional(history.training_perplexity())));
    }
    if has(LossScale::Loss) {
        figures.push(each("test loss", &of(LossScale::Loss, tested)));
    }
    figures.extend(same.into_iter().flat_map(paired_rows));
    figures.extend([
        each("steps", &|history| steps(history.steps(), history.description.planned_steps)),
        each("time", &|history| history.seconds().map_or_else(|| "-".to_owned(), duration)),
        each("parameters", &|history| count(history.description.parameters)),
        each("size", &|history| bytes(history.run.bytes())),
    ]);
    ComparisonRows {
        names: histories.iter().map(|history| history.run.name()).collect(),
        figures,
        settings: differing
            .iter()
            .map(|(key, values)| {
                let values = values.iter().map(|value| value.clone().unwrap_or_else(|| "-".to_owned()));
                (key.clone(), values.collect())
            })
            .collect(),
    }
}

/// The accuracy of classifiers on the same documents, and how it differs from that of the first.
fn paired_rows(same: &SameDocuments) -> Vec<(String, Vec<String>)> {
    let paired = |of: &dyn Fn(Paired) -> String| -> Vec<String> {
        let (first, others) = (&same.decisions[0], &same.decisions[1..]);
        std::iter::once("-".to_owned()).chain(others.iter().map(|other| of(first.paired(other)))).collect()
    };
    let interval = |(low, high): (f64, f64)| format!("{} to {}", points(low), points(high));
    let documents = counted(same.decisions[0].count() as u64, "document", "documents");
    let accuracy = same.decisions.iter().map(|found| percent_of(found.accuracy())).collect();
    vec![
        (format!("accuracy, {documents} of the {} part", same.part.name()), accuracy),
        ("difference, points".to_owned(), paired(&|found| points(found.difference))),
        ("95 % interval".to_owned(), paired(&|found| interval(found.interval))),
        ("p, of equally good classifiers".to_owned(), paired(&|found| p_value(found.p_value))),
    ]
}

/// Writes the page and its picture; returns where the page is.
fn write(
    folder: &std::path::Path,
    force: bool,
    histories: &[RunHistory],
    rows: &ComparisonRows,
) -> Result<PathBuf, Failure> {
    let (page, stem) = (folder.join("comparison.html"), folder.join("comparison"));
    let [svg, png] = files::picture(&stem);
    let mut set = begin_pages("comparison", &[page.clone(), svg, png], force)?;
    let runs: Vec<(String, &[MetricsRecord])> =
        histories.iter().map(|history| (history.run.name(), &history.metrics[..])).collect();
    let classify = histories.iter().all(|history| LossScale::of(&history.plan) == LossScale::Loss);
    let scale = if classify { LossScale::Loss } else { LossScale::Perplexity };
    // Runs of two tasks have no common scale.
    let drawn = runs.iter().zip(histories).filter(|(_, history)| LossScale::of(&history.plan) == scale);
    let runs: Vec<_> = drawn.map(|(run, _)| run.clone()).collect();
    let picture = comparison_chart(scale, &runs).map(Picture::of).transpose()?;
    if let Some(picture) = &picture {
        picture.write(&mut set, &stem)?;
    }
    let svg = picture.as_ref().map(|picture| picture.svg.as_str());
    set.write(&page, comparison_page(rows, histories, svg).as_bytes())?;
    set.finish()?;
    Ok(page)
}

/// The perplexity of a loss, unless it is a classifier's.
fn perplexity_of(history: &RunHistory, loss: Option<f64>) -> Option<f64> {
    loss.filter(|_| LossScale::of(&history.plan) == LossScale::Perplexity).map(f64::exp)
}

fn document<'h>(
    histories: &'h [RunHistory],
    differing: Vec<(String, Vec<Option<String>>)>,
    same: Option<&SameDocuments>,
) -> CompareDocument<'h> {
    let paired = |number: usize| {
        let same = same?;
        let found = &same.decisions[number];
        Some(OnSameDocuments {
            part: same.part.name(),
            documents: found.count(),
            accuracy: found.accuracy(),
            paired: (number > 0).then(|| same.decisions[0].paired(found)),
        })
    };
    let compared = histories.iter().enumerate().map(|(number, history)| {
        let hints = history.hints();
        let hints = hints.iter().filter_map(|hint| serde_json::to_value(HintLine::new(hint)).ok()).collect();
        Compared {
            name: history.run.name(),
            path: history.run.path().to_owned(),
            status: history.standing,
            steps: history.steps(),
            best_validation_loss: history.description.best_validation_loss,
            best_validation_perplexity: perplexity_of(history, history.description.best_validation_loss),
            best_step: history.description.best_step,
            figures: history.best_figures(),
            test_perplexity: perplexity_of(history, history.description.test.as_ref().map(|test| test.loss)),
            training_perplexity: history.training_perplexity(),
            seconds: history.seconds(),
            parameters: history.description.parameters,
            same_documents: paired(number),
            samples: history.last_samples(),
            hints,
        }
    });
    CompareDocument {
        runs: compared.collect(),
        differing_settings: differing
            .into_iter()
            .map(|(setting, values)| Differing { setting, values })
            .collect(),
    }
}
