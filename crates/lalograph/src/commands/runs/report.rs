//! `runs report`: a run as a page, and its pictures.

use std::path::{Path, PathBuf};

use kuva::render::render::Scene;
use lalograph_lab::LabError;
use lalograph_lab::measure::cost::{Cost, cost, zipf_share};
use lalograph_lab::run::history::RunHistory;
use lalograph_lab::storage::files::{Existing, read_vocabulary, write_whole};
use serde::Serialize;

use super::show::about;
use crate::cli::ReportArgs;
use crate::commands::lookup::find_run;
use crate::failure::Failure;
use crate::output::chart::{Level, Picture, learning_curve};
use crate::output::flow_chart::flow_chart;
use crate::output::page::{ReportPictures, report_page, samples_page};
use crate::output::run_charts::{gradient_chart, rate_chart};
use crate::output::screen::Screen;
use crate::output::table::facts;

/// What `runs report --json` prints.
#[derive(Serialize)]
struct ReportDocument<'a> {
    report: &'a Path,
    samples: &'a Path,
    pictures: &'a [PathBuf],
}

/// Runs the command.
pub(super) fn run(args: &ReportArgs, screen: &Screen) -> Result<(), Failure> {
    let history = RunHistory::read(find_run(&args.place.folder.runs, &args.place.run)?)?;
    let folder = args.output.clone().unwrap_or_else(|| history.run.path().join("report"));
    let existing = if args.force { Existing::Replace } else { Existing::Keep };
    let (page, samples) = (folder.join("report.html"), folder.join("samples.html"));
    refuse_taken(&[&page, &samples], existing)?;
    let hints = history.hints();
    let cost = layers(&history)?;
    std::fs::create_dir_all(&folder).map_err(LabError::at(&folder))?;

    let levels: Vec<Level<'_>> = history
        .description
        .text
        .unigram_loss
        .map(|loss| Level { perplexity: loss.exp(), name: "unigram model" })
        .into_iter()
        .collect();
    let mut drawn = Vec::new();
    let mut draw = |name: &str, scene: Option<Scene>| -> Result<Option<String>, Failure> {
        let Some(scene) = scene else {
            return Ok(None);
        };
        let picture = Picture::of(scene)?;
        let stem = folder.join(name);
        picture.write(&stem, existing)?;
        drawn.extend(["svg", "png"].map(|extension| stem.with_extension(extension)));
        Ok(Some(picture.svg))
    };
    let title = format!("Learning: {}", history.run.name());
    let pictures = ReportPictures {
        learning: draw("learning", learning_curve(&title, &history.metrics, &levels))?,
        gradient: draw("gradient-norm", gradient_chart(&history.metrics))?,
        rate: draw("learning-rate", rate_chart(&history.metrics))?,
        flow: draw("gradient-flow", flow_chart(&history.flow))?,
    };
    let about = about(&history);
    write_whole(&page, report_page(&history, &about, &hints, cost.as_ref(), &pictures).as_bytes(), existing)?;
    write_whole(&samples, samples_page(&history).as_bytes(), existing)?;
    if args.json {
        return screen.json(&ReportDocument { report: &page, samples: &samples, pictures: &drawn });
    }
    let names: Vec<String> = drawn
        .iter()
        .filter_map(|path| path.file_name().map(|name| name.to_string_lossy().into_owned()))
        .collect();
    let rows = [
        ("report", page.display().to_string()),
        ("samples", samples.display().to_string()),
        ("pictures", names.join(", ")),
    ];
    screen.line(&facts(screen, &rows))
}

/// The layers of a run's model; none of a task without a vocabulary, whose model no plan describes.
fn layers(history: &RunHistory) -> Result<Option<Cost>, Failure> {
    let vocabulary = history.run.vocabulary();
    let indices = match history.description.vocabulary_size {
        0 if !vocabulary.exists() => return Ok(None),
        0 => read_vocabulary(&vocabulary)?.len(),
        indices => indices as usize,
    };
    Ok(Some(cost(&history.plan, indices, &zipf_share(indices))?))
}

/// Refuses places that are taken before anything is written.
pub(super) fn refuse_taken(paths: &[&Path], existing: Existing) -> Result<(), Failure> {
    match paths.iter().find(|path| existing == Existing::Keep && path.exists()) {
        Some(path) => {
            let remedy = "--force replaces it, --output writes it elsewhere";
            Err(Failure::with_remedy(LabError::Exists(path.to_path_buf()), remedy))
        }
        None => Ok(()),
    }
}
