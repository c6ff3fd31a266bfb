//! The base of a tuned model, and the text that it learnt from.

use std::path::Path;

use lalograph_text::Vocabulary;
use lalograph_text::tokens::TokenSequence;

use super::text::{Given, read_text};
use crate::artefact::texts::read_vocabulary;
use crate::data::mixed::old_rows;
use crate::data::token_cache::TokenCache;
use crate::error::LabError;
use crate::plan::Plan;
use crate::run::folder::RunFolder;
use crate::task::events::PreparationObserver;

/// Files of a tuned run: the plan and the vocabulary of its base, by which the old text is read.
const PLAN: &str = "base-plan.toml";
const VOCABULARY: &str = "base-vocabulary.json";

/// The model that a tuned run continues from.
#[derive(Debug, Clone)]
pub struct Base {
    /// Its vocabulary.
    pub vocabulary: Vocabulary,
    /// The plan by which its text is read, with paths that can be found from here; none if that text is not known.
    pub plan: Option<Plan>,
}

impl Base {
    /// The base that the files in the folder of a tuned run are of.
    ///
    /// # Errors
    /// A file cannot be read or used.
    pub(super) fn of_run(run: &RunFolder) -> Result<Self, LabError> {
        let path = run.path().join(PLAN);
        let plan = match std::fs::read_to_string(&path) {
            Ok(text) => Some(Plan::from_toml(&text, &[])?),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => None,
            Err(error) => return Err(LabError::at(&path)(error)),
        };
        Ok(Self { vocabulary: read_vocabulary(&run.path().join(VOCABULARY))?, plan })
    }

    /// The files that a tuned run keeps of it.
    ///
    /// # Errors
    /// Something has no written form.
    pub(super) fn files(&self) -> Result<Vec<(&'static str, String)>, LabError> {
        let plan = self.plan.as_ref().map(|plan| Ok::<_, LabError>((PLAN, plan.to_toml()?))).transpose()?;
        Ok([Some((VOCABULARY, self.vocabulary.to_json()?)), plan].into_iter().flatten().collect())
    }

    /// Reads the old text that a tuned plan wants. `from` is the folder that paths of the plan are meant from.
    pub(super) fn old_text(
        &self,
        plan: &Plan,
        from: Option<&Path>,
        threads: usize,
        cache: Option<TokenCache<'_>>,
        observer: &mut dyn PreparationObserver,
    ) -> Result<Option<OldText>, LabError> {
        let Some(tune) = plan.tune.as_ref().filter(|tune| tune.measure_old || tune.keep_old > 0.0) else {
            return Ok(None);
        };
        let Some(mut of_base) = self.plan.clone() else {
            return Err(LabError::NoOldText);
        };
        if !tune.old_text.is_empty() {
            let there = |path: &std::path::PathBuf| from.map_or(path.clone(), |from| from.join(path));
            of_base.corpus.paths = tune.old_text.iter().map(there).collect();
            of_base.corpus.split = None;
        }
        let given = Given::Whole(self.vocabulary.clone());
        let (_, corpus) = read_text(&of_base, threads, cache, given, observer)?;
        let rows = old_rows(plan.training.batch, tune.keep_old);
        if corpus.training.len() < rows {
            return Err(LabError::TooShort { tokens: corpus.training.len(), rows, window: 1, needed: rows });
        }
        Ok(Some(OldText {
            training: corpus.training,
            validation: corpus.validation,
            text_hash: corpus.text_hash,
        }))
    }
}

/// The text of a base as its own tokens.
#[derive(Debug)]
pub struct OldText {
    /// What it learnt from.
    pub training: TokenSequence,
    /// What was held out.
    pub validation: TokenSequence,
    /// A hash of all its documents.
    pub text_hash: String,
}
