//! The text that a model was trained on, read again by way of its run.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use lalograph_lab::data::token_cache::TokenCache;
use lalograph_lab::measure::documents::ReadDocument;
use lalograph_lab::run::description::RunDescription;
use lalograph_lab::sweep::folder::SweepFolder;
use lalograph_lab::{LanguageTask, RunFolder, prepare_again, training_documents};
use lalograph_storage::Existing;

use super::input::threads;
use super::lookup::path_meant;
use super::training::reading;
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::progress::{Measure, Progress};
use crate::output::screen::Screen;

/// The folder that a run's relative paths start from, if it is not the current one.
pub(super) fn base(description: &RunDescription, screen: &Screen) -> Option<PathBuf> {
    let base = description.working_folder.clone();
    let base = base.filter(|base| base.is_dir() && std::env::current_dir().ok().as_ref() != Some(base));
    if let Some(base) = &base {
        screen.note(&format!(
            "paths of the plan are relative to {}, where the run was started",
            base.display()
        ));
    }
    base
}

/// The stored tokens of a run's corpus.
pub(super) fn tokens_of(run: &RunFolder) -> Option<PathBuf> {
    let beside = run.path().parent()?;
    // The trials of a sweep share the encoded corpora of the runs beside the sweep.
    let sweep = beside.parent().filter(|folder| SweepFolder::is_one(folder));
    Some(sweep.and_then(Path::parent).unwrap_or(beside).join(files::TOKENS))
}

/// The text that a model was trained on.
pub(super) struct TrainingText {
    /// Its tokens in their parts, and the rest of what training began with.
    pub(super) task: LanguageTask,
    base: Option<PathBuf>,
}

impl TrainingText {
    /// Documents of the training part as they are in their files, by their numbers from 0.
    pub(super) fn documents(
        &self,
        numbers: &BTreeSet<u64>,
        screen: &Screen,
    ) -> Result<BTreeMap<u64, ReadDocument>, Failure> {
        let mut plan = self.task.plan.clone();
        if let Some(base) = &self.base {
            plan.start_paths_at(base);
        }
        let progress = Progress::new(screen, "finding documents", Measure::Steps, 1);
        let found = training_documents(&plan, self.task.corpus.split, numbers, &mut || !interrupt::asked())?;
        progress.finish();
        Ok(found)
    }
}

/// The text of the model's run, in the parts of that run's split.
pub(super) fn training_text(model: &Path, screen: &Screen) -> Result<TrainingText, Failure> {
    let model = path_meant(model);
    let model = model.as_path();
    let folder = if model.is_dir() { Some(model) } else { model.parent() };
    let run = folder.and_then(|folder| RunFolder::open(folder).ok()).ok_or_else(|| {
        Failure::with_remedy(
            format!("{}: this model file is not in the folder of a run, and the training text is only known there", model.display()),
            "give the folder of the run that it was trained in",
        )
    })?;
    let plan = run.read_plan()?;
    let base = base(&run.description()?, screen);
    let (storage, tokens) = (files::storage(), tokens_of(&run));
    let cache = tokens.as_deref().map(|path| TokenCache { storage: &*storage, path });
    let task = reading(None, Existing::Keep, screen, |observer| {
        prepare_again(&run, &plan, base.as_deref(), threads(None), cache, observer)
    })?;
    Ok(TrainingText { task, base })
}
