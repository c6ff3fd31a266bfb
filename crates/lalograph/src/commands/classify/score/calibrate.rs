//! One temperature for a classifier's scores, fitted to the validation part of its run and kept in its model file.

use std::sync::Arc;

use lalograph_lab::artefact::texts::read_split;
use lalograph_lab::measure::calibration::{at_temperature, fit_temperature};
use lalograph_lab::run::claim::Claim;
use lalograph_lab::{Plan, ReadyClassifier, RunFolder};
use lalograph_storage::{Existing, WholeFile};
use lalograph_text::{CorpusSpec, Part};

use super::scored::{Calibrated, read_all};
use crate::cli::ClassifyScoreArgs;
use crate::commands::input::threads;
use crate::commands::lookup::path_meant;
use crate::commands::reading::found;
use crate::commands::training_text::base;
use crate::failure::Failure;
use crate::files;
use crate::output::number::count;
use crate::output::screen::Screen;

/// The row of a score about it.
pub(super) fn calibrated_row(found: &Calibrated) -> (&'static str, String) {
    let [before, after] = found.losses;
    if found.mistakes == 0 {
        let what = format!(
            "no temperature: none of the {} validation documents is predicted wrong",
            count(found.documents)
        );
        return ("calibration", what);
    }
    let what = format!(
        "temperature {:.3}, fitted to {} validation documents, whose loss goes from {before:.4} to {after:.4}; kept in the model file",
        found.temperature,
        count(found.documents)
    );
    ("calibration", what)
}

/// Fits the temperature of the first classifier and writes it to the model file of its run.
pub(super) fn calibrate(
    args: &ClassifyScoreArgs,
    models: &mut [ReadyClassifier],
    screen: &Screen,
) -> Result<Calibrated, Failure> {
    let Ok(run) = RunFolder::open(&path_meant(&args.model)) else {
        return Err(Failure::Usage(
            "--calibrate needs the folder of a run: the temperature is fitted to its validation part".into(),
        ));
    };
    let claim = Claim::of(&*files::storage(), &run)?;
    let (first, _) = models.split_at_mut(1);
    first[0].temperature = 1.0;
    let mut whole = Plan { corpus: first[0].plan.corpus.clone(), ..Plan::default() };
    if let Some(base) = base(&run.description()?, screen) {
        whole.start_paths_at(&base);
    }
    let part = Some((Arc::new(read_split(&run.split())?), Part::Validation));
    let corpus = found(&CorpusSpec { part, ..whole.corpus.spec() })?;
    let how = (args.reading.left_out.as_deref(), threads(args.threads), None);
    let scored = read_all(first, &corpus, how, "calibrating", screen)?;
    let decisions = scored.decisions(first).remove(0);
    // Without a mistake any confidence fits, the highest best.
    let mistakes = decisions.count() as u64 - decisions.right();
    let temperature = if mistakes == 0 { 1.0 } else { fit_temperature(&decisions) };
    let model = run.model();
    let name = model.file_name().unwrap_or_default();
    first[0].save_calibrated(WholeFile::within(claim.folder(), name, Existing::Replace)?, temperature)?;
    first[0].temperature = temperature;
    let losses = [decisions.loss(), at_temperature(&decisions, temperature).loss()];
    Ok(Calibrated { temperature, documents: decisions.count() as u64, mistakes, losses })
}
