//! The documents that a classifier is scored on or explained with.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use lalograph_lab::artefact::texts::read_split;
use lalograph_lab::plan::CorpusPlan;
use lalograph_lab::{LabError, Plan, ReadyClassifier, RunFolder};
use lalograph_text::{Corpus, CorpusSpec, Part, Split};

use crate::cli::{PartArgs, ReadingArgs};
use crate::commands::lookup::path_meant;
use crate::commands::reading::{found, lay_over, refuse_idle};
use crate::commands::training_text::base;
use crate::failure::Failure;
use crate::output::screen::Screen;

/// What the command line says about the documents.
#[derive(Clone, Copy)]
pub(super) struct Named<'a> {
    pub(super) model: &'a Path,
    pub(super) paths: &'a [PathBuf],
    pub(super) reading: &'a ReadingArgs,
    pub(super) part: &'a PartArgs,
}

/// Documents with labels: those that were named, or a part of the classifier's own that had no influence on its weights.
pub(super) fn labelled(
    named: Named<'_>,
    model: &ReadyClassifier,
    screen: &Screen,
) -> Result<Corpus, Failure> {
    find(named, model.plan.corpus.clone(), true, screen)
}

/// Documents with or without labels. Those that were named have the labels of the training documents only if the options ask for labels.
pub(super) fn any(named: Named<'_>, model: &ReadyClassifier, screen: &Screen) -> Result<Corpus, Failure> {
    let plan = model.plan.corpus.clone();
    let plan = match named.paths {
        [] => plan,
        _ => CorpusPlan { label: None, folder_labels: false, ..plan },
    };
    find(named, plan, false, screen)
}

/// The split of a run, and the part that had no influence on its weights: the test part, or the validation part if there is none.
pub(super) fn own_part(run: &RunFolder) -> Result<(Split, Part), Failure> {
    let split = read_split(&run.split())?;
    let tested = split.counted.get(&Part::Test).is_some_and(|classes| !classes.is_empty());
    Ok((split, if tested { Part::Test } else { Part::Validation }))
}

fn find(
    Named { model, paths, reading, part }: Named<'_>,
    mut plan: CorpusPlan,
    needs_labels: bool,
    screen: &Screen,
) -> Result<Corpus, Failure> {
    let mut part = match (&part.split, part.part) {
        (Some(path), Some(part)) => Some((Arc::new(read_split(path)?), part.into())),
        _ => None,
    };
    if paths.is_empty() {
        let path = path_meant(model);
        if let Ok(run) = RunFolder::open(&path) {
            let mut whole = Plan { corpus: plan, ..Plan::default() };
            if let Some(base) = base(&run.description()?, screen) {
                whole.start_paths_at(&base);
            }
            plan = whole.corpus;
            if part.is_none() && run.split().is_file() {
                let (split, own) = own_part(&run)?;
                screen.note(&format!("reading the {} part of the run's documents", own.name()));
                part = Some((Arc::new(split), own));
            }
        }
    } else {
        plan.paths = paths.to_vec();
        plan.first = None;
    }
    lay_over(reading, &mut plan);
    if needs_labels && plan.label.is_none() && !plan.folder_labels {
        return Err(LabError::NoLabels.into());
    }
    let corpus = found(&CorpusSpec { part, ..plan.spec() })?;
    refuse_idle(reading, &corpus)?;
    Ok(corpus)
}
