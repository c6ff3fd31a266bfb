//! `classify score`: how good classifiers are on documents with class labels.

mod calibrate;
mod json;
mod page;
mod scored;
mod show;

use std::path::{Path, PathBuf};

use lalograph_lab::ReadyClassifier;
use lalograph_lab::measure::curves::{Aim, best_threshold};
use lalograph_storage::Existing;

use self::calibrate::calibrate;
use self::page::score_page;
use self::scored::Score;
pub(super) use self::scored::read_all;
use self::show::show;
use super::documents::{Named, labelled};
use super::model::{load, positive_class, threshold_of};
use crate::cli::{AimChoice, ClassifyScoreArgs};
use crate::commands::input::threads;
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::chart::write_pictures;
use crate::output::decision_charts::decision_charts;
use crate::output::screen::Screen;

/// Runs the command.
pub(super) fn run(args: &ClassifyScoreArgs, screen: &Screen) -> Result<(), Failure> {
    interrupt::listen();
    let names: Vec<&Path> = std::iter::once(&args.model).chain(&args.beside).map(AsRef::as_ref).collect();
    let mut models = names.iter().map(|name| load(name)).collect::<Result<Vec<_>, _>>()?;
    let (threshold, aim) = thresholds(args, &models[0])?;
    let calibrated = if args.calibrate { Some(calibrate(args, &mut models, screen)?) } else { None };
    let Some(first) = models.first() else { return Ok(()) };
    let named = Named { model: &args.model, paths: &args.paths, reading: &args.reading, part: &args.part };
    let corpus = labelled(named, first, screen)?;
    let how = (args.reading.left_out.as_deref(), threads(args.threads), threshold);
    let scored = read_all(&models, &corpus, how, "scoring", screen)?;
    let mut decisions = scored.decisions(&models);
    if let Some((class, probability)) = threshold {
        decisions[0] = decisions[0].with_threshold(class, probability);
    }
    let aimed = aim.and_then(|(class, aim)| Some((class, best_threshold(&decisions[0], class, aim)?)));
    let all =
        Score { names: &names, models: &models, decisions: &decisions, scored: &scored, aimed, calibrated };
    write_files(&all, args, screen)?;
    if args.json {
        return screen.json(&json::document(&all, args.mistakes));
    }
    show(&all, args.mistakes, screen)
}

/// The places of the probabilities that `--threshold` and `--threshold-aim` are about.
type Thresholds = (Option<(usize, f64)>, Option<(usize, Aim)>);

fn thresholds(args: &ClassifyScoreArgs, model: &ReadyClassifier) -> Result<Thresholds, Failure> {
    let threshold = threshold_of(args.threshold, args.positive.as_deref(), model)?;
    let class = || positive_class(args.positive.as_deref(), model);
    let aim = match (args.threshold_aim, &args.mistake_costs[..]) {
        (None, []) => None,
        (None, _) => return Err(Failure::Usage("--mistake-costs needs --threshold-aim cost".into())),
        (Some(AimChoice::F1), []) => Some((class()?, Aim::F1)),
        (Some(AimChoice::F1), _) => {
            return Err(Failure::Usage("--mistake-costs has no effect on --threshold-aim f1".into()));
        }
        (Some(AimChoice::Cost), &[missed, false_alarm]) if missed >= 0.0 && false_alarm >= 0.0 => {
            Some((class()?, Aim::Cost { missed, false_alarm }))
        }
        (Some(AimChoice::Cost), _) => {
            return Err(Failure::Usage(
                "--threshold-aim cost needs --mistake-costs MISSED,FALSE-ALARM, both 0 or above".into(),
            ));
        }
    };
    Ok((threshold, aim))
}

/// Writes the charts and the page that were asked for: all of them, or none.
fn write_files(all: &Score<'_>, args: &ClassifyScoreArgs, screen: &Screen) -> Result<(), Failure> {
    let charts = match &args.pictures {
        Some(_) => decision_charts(&all.decisions[0], &all.models[0].classes),
        None => Vec::new(),
    };
    let folder = args.pictures.clone().unwrap_or_default();
    let stems: Vec<PathBuf> = charts.iter().map(|(name, _)| folder.join(name)).collect();
    let mut places: Vec<PathBuf> = stems.iter().flat_map(|stem| files::picture(stem)).collect();
    places.extend(args.page.clone());
    if places.is_empty() {
        return Ok(());
    }
    let mut set = files::begin("score", &places, Existing::replaced_if(args.force))?;
    let names: Vec<&str> = charts.iter().map(|(name, _)| *name).collect();
    for ((_, scene), stem) in charts.into_iter().zip(&stems) {
        write_pictures(scene, &mut set, stem)?;
    }
    if let Some(path) = &args.page {
        set.write(path, score_page(all, args.mistakes)?.as_bytes())?;
    }
    set.finish()?;
    if !names.is_empty() {
        screen.note(&format!("written to {}: {}", folder.display(), names.join(", ")));
    }
    if let Some(path) = &args.page {
        screen.note(&format!("written to {}", path.display()));
    }
    Ok(())
}
