//! `runs list`: a line for each run.

use std::path::PathBuf;

use lalograph_lab::RunFolder;
use lalograph_lab::run::description::Standing;
use lalograph_lab::run::records::last_step;
use lalograph_lab::run::shelf;
use serde::Serialize;

use super::figures::{from_loss, steps};
use crate::cli::ListArgs;
use crate::failure::Failure;
use crate::files;
use crate::output::number::bytes;
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
    best_validation_perplexity: Option<f64>,
    bytes: u64,
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
                best_validation_perplexity: description.best_validation_loss.map(f64::exp),
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
    let rows: Vec<Vec<String>> = runs
        .iter()
        .map(|run| {
            vec![
                run.name.clone(),
                // To the minute, without the offset.
                run.started.get(..16).unwrap_or(&run.started).replace('T', " "),
                run.status.name().to_owned(),
                steps(run.steps, run.planned_steps),
                from_loss(run.best_validation_perplexity.map(f64::ln)),
                bytes(run.bytes),
            ]
        })
        .collect();
    let columns = [Column::Text, Column::Text, Column::Text, Column::Number, Column::Number, Column::Number];
    let heads = ["run", "started", "status", "steps", "validation perplexity", "size"];
    screen.line(&table(screen, &heads, &columns, &rows))
}
