//! `runs list`: a line for each run.

use std::path::PathBuf;

use lalograph_lab::RunFolder;
use lalograph_lab::run::description::Standing;
use lalograph_lab::run::records::{Figures, last_step};
use lalograph_lab::run::shelf;
use serde::Serialize;

use super::figures::steps;
use crate::cli::ListArgs;
use crate::failure::Failure;
use crate::files;
use crate::output::number::{bytes, percent_of, perplexity};
use crate::output::screen::Screen;
use crate::output::table::{Column, table};

/// JSON output of `runs list`.
#[derive(Serialize)]
struct ListDocument {
    runs: Vec<Listed>,
}

/// One run.
#[derive(Serialize)]
struct Listed {
    name: String,
    path: PathBuf,
    started: String,
    status: Standing,
    steps: u64,
    planned_steps: u64,
    /// Null for a classifier, whose loss is not the logarithm of a perplexity.
    best_validation_perplexity: Option<f64>,
    best_figures: Option<Figures>,
    bytes: u64,
}

impl Listed {
    /// The best validation: the accuracy of a classifier, the perplexity of a language model, named unless all runs have a perplexity.
    fn best(&self, named: bool) -> String {
        let accuracy = self.best_figures.as_ref().and_then(|figures| figures.get("accuracy"));
        match (accuracy, self.best_validation_perplexity) {
            (Some(accuracy), _) => format!("accuracy {}", percent_of(accuracy)),
            (None, Some(figure)) if named => format!("perplexity {}", perplexity(figure)),
            (None, Some(figure)) => perplexity(figure),
            (None, None) => "-".to_owned(),
        }
    }
}

/// Runs the command.
pub(super) fn run(args: &ListArgs, screen: &Screen) -> Result<(), Failure> {
    shelf::tidy(&*files::storage(), &args.place.runs);
    let mut runs = Vec::new();
    for run in RunFolder::all(&args.place.runs)? {
        match run.description() {
            Ok(description) => runs.push(Listed {
                status: run.standing(description.status),
                bytes: run.bytes(),
                name: run.name(),
                path: run.path().to_owned(),
                started: description.started,
                // In training, the last record is newer than the description.
                steps: last_step(&run.metrics()).unwrap_or(0).max(description.steps),
                planned_steps: description.planned_steps,
                best_validation_perplexity: description
                    .best_validation_loss
                    .filter(|_| description.text.classes.is_none())
                    .map(f64::exp),
                best_figures: description.best_figures,
            }),
            Err(error) => screen.warn(&format!("{error}; run left out")),
        }
    }
    runs.sort_by(|a, b| (&a.started, &a.name).cmp(&(&b.started, &b.name)));
    if args.json {
        return screen.json(&ListDocument { runs });
    }
    if runs.is_empty() {
        screen.note(&format!(
            "no runs in {}; use --runs DIR for runs in another folder",
            args.place.runs.display()
        ));
        return Ok(());
    }
    let mixed = runs
        .iter()
        .any(|run| run.best_figures.as_ref().is_some_and(|figures| figures.get("accuracy").is_some()));
    let rows: Vec<Vec<String>> = runs
        .iter()
        .map(|run| {
            vec![
                run.name.clone(),
                // To the minute, without the offset.
                run.started.get(..16).unwrap_or(&run.started).replace('T', " "),
                run.status.name().to_owned(),
                steps(run.steps, run.planned_steps),
                run.best(mixed),
                bytes(run.bytes),
            ]
        })
        .collect();
    let columns = [Column::Text, Column::Text, Column::Text, Column::Number, Column::Number, Column::Number];
    let best = if mixed { "best validation" } else { "validation perplexity" };
    let heads = ["run", "started", "status", "steps", best, "size"];
    screen.line(&table(screen, &heads, &columns, &rows))
}
