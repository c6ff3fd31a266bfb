//! The task of a language model.

use std::path::PathBuf;

use lalograph_net::heads::sampled::SharedSample;
use lalograph_net::models::language::TokenWindow;
use lalograph_net::{LanguageModel, Network};
use lalograph_text::Vocabulary;
use lalograph_text::tokens::EncodedCorpus;

use super::duties::{FlowDuty, LanguageNote, SamplesDuty};
use super::evaluate::HeldOutText;
use super::model::language_assets;
use super::start::Start;
use crate::artefact::container::Assets;
use crate::data::source::Windows;
use crate::data::windows::TrainingWindows;
use crate::error::LabError;
use crate::plan::Plan;
use crate::run::description::{RunDescription, TextFacts};
use crate::run::records::Figures;
use crate::task::{Duty, Evaluator, Task};

/// A language model that is ready to be trained: the plan resolved, its corpus read, its model laid out.
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
    /// What samples go on from: the plan's seed texts and those drawn from the validation text.
    pub seed_texts: Vec<String>,
    /// What is known of the text beforehand.
    pub facts: TextFacts,
    /// What the weights start from.
    pub(super) start: Start,
}

impl LanguageTask {
    /// The description of a new run of this.
    pub fn describe(
        &self,
        name: &str,
        started: String,
        program_version: &str,
        working_folder: Option<PathBuf>,
    ) -> RunDescription {
        RunDescription {
            name: name.to_owned(),
            task: Self::KIND.to_owned(),
            started,
            program_version: program_version.to_owned(),
            documents: self.corpus.reading.documents,
            text_bytes: self.corpus.reading.bytes,
            text_hash: self.corpus.text_hash.clone(),
            vocabulary_hash: self.vocabulary.hash(),
            working_folder,
            vocabulary_size: self.vocabulary.len() as u64,
            parameters: self.model.layout().len() as u64,
            planned_steps: self.steps,
            text: self.facts,
            ..RunDescription::default()
        }
    }

    /// The files of a new run besides plan and description, with their contents.
    pub fn run_files(&self) -> [(&'static str, String); 1] {
        [("vocabulary.json", self.vocabulary.to_json())]
    }
}

impl Task for LanguageTask {
    type Net = LanguageModel;
    type Note = LanguageNote;

    const KIND: &'static str = "language model";

    fn plan(&self) -> &Plan {
        &self.plan
    }

    fn net(&self) -> &LanguageModel {
        &self.model
    }

    fn steps(&self) -> u64 {
        self.steps
    }

    fn facts(&self) -> TextFacts {
        self.facts
    }

    fn windows(&self) -> Box<dyn Windows<TokenWindow> + '_> {
        Box::new(TrainingWindows::new(&self.corpus.training, &self.plan.training))
    }

    fn shared(&self) -> SharedSample<f32> {
        self.model.shared(|| self.corpus.training.counts(self.vocabulary.len()))
    }

    fn start(&self, weights: &mut [f32]) -> Result<(), LabError> {
        self.start.fill(&self.model, weights, &self.vocabulary)
    }

    fn validation(&self) -> Option<Box<dyn Evaluator<LanguageModel> + '_>> {
        let text = self.corpus.validation.beginning(self.plan.training.validate_share);
        HeldOutText::boxed(&self.plan, &self.model, text)
    }

    fn test(&self) -> Option<Box<dyn Evaluator<LanguageModel> + '_>> {
        HeldOutText::boxed(&self.plan, &self.model, self.corpus.test.clone())
    }

    fn duties(&self) -> Vec<Box<dyn Duty<Self> + '_>> {
        vec![Box::new(FlowDuty::new(self)), Box::new(SamplesDuty::new(self))]
    }

    fn training_figures(&self, loss: f64) -> Figures {
        // Against a sample of the vocabulary the loss is no perplexity's logarithm.
        if self.model.samples().is_none() {
            Figures::of([("perplexity", loss.exp())])
        } else {
            Figures::default()
        }
    }

    fn assets(&self) -> Result<Assets, LabError> {
        language_assets(&self.plan, &self.vocabulary)
    }
}
