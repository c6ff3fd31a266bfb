//! A language model and its text, ready to be trained.

use std::path::PathBuf;

use lalograph_net::{LanguageModel, Network};
use lalograph_text::Vocabulary;
use lalograph_text::tokens::EncodedCorpus;

use super::base::{Base, OldText};
use super::model::TASK;
use crate::error::LabError;
use crate::plan::Plan;
use crate::run::description::{RunDescription, TextFacts};
use crate::task::start::Start;

/// A language model ready for training: plan resolved, corpus read, weights laid out.
pub struct LanguageTask {
    /// The plan, resolved.
    pub plan: Plan,
    /// The vocabulary, counted on the training part or read from the plan's file.
    pub vocabulary: Vocabulary,
    /// The corpus in its parts.
    pub corpus: EncodedCorpus,
    /// The architecture.
    pub model: LanguageModel,
    /// Steps to make.
    pub steps: u64,
    /// Seed texts for samples: the plan's, and texts drawn from the validation text.
    pub seed_texts: Vec<String>,
    /// Facts about the text before training.
    pub facts: TextFacts,
    /// Of a tuned model, the text of its base.
    pub old: Option<OldText>,
    /// Origin of the initial weights.
    pub(super) start: Start,
    /// The base of a tuned model.
    pub(super) base: Option<Base>,
}

impl LanguageTask {
    /// The description of a new run of this.
    ///
    /// # Errors
    /// The vocabulary has no written form.
    pub fn describe(
        &self,
        name: &str,
        started: String,
        program_version: &str,
        working_folder: Option<PathBuf>,
    ) -> Result<RunDescription, LabError> {
        Ok(RunDescription {
            name: name.to_owned(),
            task: TASK.to_owned(),
            started,
            program_version: program_version.to_owned(),
            documents: self.corpus.reading.documents,
            text_bytes: self.corpus.reading.bytes,
            text_hash: self.corpus.text_hash.clone(),
            old_text_hash: self.old.as_ref().map(|old| old.text_hash.clone()),
            vocabulary_hash: self.vocabulary.hash()?,
            working_folder,
            vocabulary_size: self.vocabulary.len() as u64,
            parameters: self.model.layout().len() as u64,
            planned_steps: self.steps,
            text: self.facts,
            ..RunDescription::default()
        })
    }

    /// The number of vocabulary words with a vector in the plan's file, and the words without one, the most frequent first; `None` without such a file.
    pub fn vectors_found(&self) -> Option<(usize, &[String])> {
        self.start.found()
    }

    /// Of a tuned model, the indices of its base's vocabulary; the others are new.
    pub fn base_tokens(&self) -> Option<usize> {
        self.base.as_ref().map(|base| base.vocabulary.len())
    }

    /// The files of a new run besides plan and description, with their contents.
    ///
    /// # Errors
    /// Something has no written form.
    pub fn run_files(&self) -> Result<Vec<(&'static str, String)>, LabError> {
        let mut files = vec![("vocabulary.json", self.vocabulary.to_json()?)];
        if let Some(base) = &self.base {
            files.extend(base.files()?);
        }
        Ok(files)
    }
}
