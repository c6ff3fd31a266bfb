//! `runs report`: a run as a page, and its pictures.

use std::path::{Path, PathBuf};

use kuva::render::render::Scene;
use lalograph_lab::LabError;
use lalograph_lab::artefact::texts::read_vocabulary;
use lalograph_lab::measure::cost::{Cost, cost, zipf_share};
use lalograph_lab::run::history::RunHistory;
use lalograph_net::LanguageModel;
use lalograph_storage::{Existing, FileSet, StorageError};
use serde::Serialize;

use super::show::about;
use crate::cli::ReportArgs;
use crate::commands::lookup::find_run;
use crate::failure::Failure;
use crate::files;
use crate::output::chart::{Level, Picture, learning_curve};
use crate::output::flow_chart::flow_chart;
use crate::output::loss_scale::LossScale;
use crate::output::page::{ReportPictures, report_page, samples_page};
use crate::output::run_charts::{gradient_chart, rate_chart};
use crate::output::screen::Screen;
use crate::output::table::facts;

/// JSON output of `runs report`.
#[derive(Serialize)]
struct ReportDocument<'a> {
    report: &'a Path,
    samples: Option<&'a Path>,
    pictures: &'a [PathBuf],
}

/// The pictures of a report, by the names of their files.
const PICTURES: [&str; 4] = ["learning", "gradient-norm", "learning-rate", "gradient-flow"];

/// Runs the command.
pub(super) fn run(args: &ReportArgs, screen: &Screen) -> Result<(), Failure> {
    let history = RunHistory::read(find_run(&args.place.folder.runs, &args.place.run)?)?;
    let folder = args.output.clone().unwrap_or_else(|| history.run.path().join("report"));
    let Report { page, samples, pictures } = &write_report(&history, &folder, args.force)?;
    if args.json {
        return screen.json(&ReportDocument { report: page, samples: samples.as_deref(), pictures });
    }
    let names: Vec<String> = pictures
        .iter()
        .filter_map(|path| path.file_name().map(|name| name.to_string_lossy().into_owned()))
        .collect();
    let mut rows = vec![("report", page.display().to_string())];
    rows.extend(samples.iter().map(|samples| ("samples", samples.display().to_string())));
    rows.push(("pictures", names.join(", ")));
    if history.plan.classifier.is_some() {
        let run = history.run.path().display();
        rows.push(("decisions", format!("lalograph classify score {run} --page decisions.html")));
    }
    screen.line(&facts(screen, &rows))
}

/// The files of a report.
pub(super) struct Report {
    page: PathBuf,
    /// Of models that write samples.
    samples: Option<PathBuf>,
    pictures: Vec<PathBuf>,
}

impl Report {
    /// All files.
    pub(super) fn files(&self) -> impl Iterator<Item = &Path> {
        [&self.page].into_iter().chain(&self.samples).chain(&self.pictures).map(PathBuf::as_path)
    }
}

/// Writes the report of a run to a folder.
pub(super) fn write_report(history: &RunHistory, folder: &Path, force: bool) -> Result<Report, Failure> {
    let page = folder.join("report.html");
    let samples = (!history.samples.is_empty()).then(|| folder.join("samples.html"));
    let stems = PICTURES.map(|name| folder.join(name));
    let mut places = vec![page.clone()];
    places.extend(samples.clone());
    places.extend(stems.iter().flat_map(|stem| files::picture(stem)));
    let hints = history.hints();
    let cost = layers(history)?;
    let mut set = begin_pages("report", &places, force)?;

    let unigram = history.description.text.unigram_loss.map(|loss| Level::Unigram(loss.exp()));
    let levels: Vec<Level> = unigram.into_iter().collect();
    let mut drawn = Vec::new();
    let mut draw = |stem: &Path, scene: Option<Scene>| -> Result<Option<String>, Failure> {
        let Some(scene) = scene else {
            return Ok(None);
        };
        let picture = Picture::of(scene)?;
        picture.write(&mut set, stem)?;
        drawn.extend(files::picture(stem));
        Ok(Some(picture.svg))
    };
    let title = format!("Learning: {}", history.run.name());
    let [learning, gradient, rate, flow] = &stems;
    let pictures = ReportPictures {
        learning: draw(
            learning,
            learning_curve(
                LossScale::of(&history.plan),
                &title,
                &history.metrics,
                &levels,
                history.plan.regularisation().dropout.any(),
            ),
        )?,
        gradient: draw(gradient, gradient_chart(&history.metrics))?,
        rate: draw(rate, rate_chart(&history.metrics))?,
        flow: draw(flow, flow_chart(&history.flow))?,
    };
    let about = about(history);
    set.write(&page, report_page(history, &about, &hints, cost.as_ref(), &pictures)?.as_bytes())?;
    if let Some(samples) = &samples {
        set.write(samples, samples_page(history).as_bytes())?;
    }
    set.finish()?;
    Ok(Report { page, samples, pictures: drawn })
}

/// The layers of a run's model; none of a task without a vocabulary, whose model no plan describes.
fn layers(history: &RunHistory) -> Result<Option<Cost>, Failure> {
    if history.plan.classifier.is_some() {
        return Ok(None);
    }
    let vocabulary = history.run.vocabulary();
    let indices = match history.description.vocabulary_size {
        0 if !vocabulary.exists() => return Ok(None),
        0 => read_vocabulary(&vocabulary)?.len(),
        indices => indices as usize,
    };
    // A size in the description that no model can have.
    LanguageModel::new(history.plan.shape(indices)).map_err(LabError::from)?;
    Ok(Some(cost(&history.plan, indices, &zipf_share(indices))?))
}

/// Begins the files of a page; if they exist, the error has the remedy.
pub(crate) fn begin_pages(name: &str, places: &[PathBuf], force: bool) -> Result<FileSet, Failure> {
    match FileSet::begin(&*files::storage(), name, places, Existing::replaced_if(force)) {
        Err(taken @ StorageError::Exists(_)) => {
            Err(Failure::with_remedy(taken, "use --force to replace it, or --output to write elsewhere"))
        }
        set => Ok(set?),
    }
}
