//! The model file of a language model, and a model that is ready to be used.

use std::path::Path;

use lalograph_net::weights::packed::{PackedWeights, Parameters, Pass};
use lalograph_net::{LanguageModel, Network};
use lalograph_storage::{Existing, Storage, WholeFile};
use lalograph_text::Vocabulary;

use crate::artefact::container::{Assets, Container, Header, json};
use crate::artefact::model_file::{KIND, Trained, load_model, read_weights, save_model};
use crate::error::LabError;
use crate::plan::Plan;

/// The task that such files name.
pub(super) const TASK: &str = "language model";

/// Contents of a model file or checkpoint of a language model besides weights.
pub(super) fn language_assets(plan: &Plan, vocabulary: &Vocabulary) -> Result<Assets, LabError> {
    Ok(Assets::from([
        ("task", TASK.to_owned()),
        ("plan", plan.to_toml()?),
        ("vocabulary", vocabulary.to_json()?),
        ("cleaning", json(vocabulary.cleaning())?),
    ]))
}

/// A language model with all that is needed to use it.
#[derive(Debug, Clone)]
pub struct ModelFile {
    /// The plan that it was trained by.
    pub plan: Plan,
    /// The vocabulary, with its cleaning.
    pub vocabulary: Vocabulary,
    /// Progress of its training.
    pub trained: Trained,
    /// The architecture.
    pub model: LanguageModel,
    /// All weights, in the layout of [`Network::layout`].
    pub weights: Vec<f32>,
}

impl ModelFile {
    /// Writes the file whole, or not at all.
    ///
    /// # Errors
    /// The place is taken; the file system refuses.
    pub fn save(&self, storage: &dyn Storage, path: &Path, existing: Existing) -> Result<(), LabError> {
        let assets = language_assets(&self.plan, &self.vocabulary)?;
        let file = WholeFile::create(storage, path, existing)?;
        save_model(file, assets, &self.trained, self.model.layout(), &self.weights)
    }

    /// Reads and checks a model file.
    ///
    /// # Errors
    /// The file cannot be read; it is damaged, cut short, of another kind, or its parts contradict each other.
    pub fn load(path: &Path) -> Result<Self, LabError> {
        load_model(path, TASK, Self::of)
    }

    /// Reads the file's bytes; the error is a phrase that says what is wrong.
    ///
    /// # Errors
    /// As for [`ModelFile::load`].
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, String> {
        Self::of(Container::read(bytes, KIND)?)
    }

    fn of(file: Container) -> Result<Self, String> {
        let mut whole = Self::without_weights(&file)?;
        whole.weights = read_weights(file, whole.model.layout())?;
        Ok(whole)
    }

    /// All but the weights, which are left in the file: its tensors are those of the model's layout.
    ///
    /// # Errors
    /// As for [`ModelFile::load`], as a phrase.
    pub fn without_weights(file: &Header) -> Result<Self, String> {
        let task = file.asset("task")?;
        if task != TASK {
            return Err(format!("it is a model of another task: {task}"));
        }
        let plan = Plan::from_toml(file.asset("plan")?, &[]).map_err(|error| format!("its plan: {error}"))?;
        let vocabulary =
            Vocabulary::from_json(file.asset("vocabulary")?).map_err(|error| error.to_string())?;
        let trained: Trained = serde_json::from_str(file.asset("trained")?)
            .map_err(|error| format!("how far it was trained: {error}"))?;
        let model = LanguageModel::new(plan.shape(vocabulary.len())).map_err(|error| error.to_string())?;
        file.check_layout(model.layout())?;
        Ok(Self { plan, vocabulary, trained, model, weights: Vec::new() })
    }
}

/// A language model whose weights are packed, to be read by many at once.
#[derive(Debug, Clone)]
pub struct ReadyModel {
    file: ModelFile,
    packed: PackedWeights<f32>,
}

impl ReadyModel {
    /// Packs the weights of a model.
    pub fn new(file: ModelFile) -> Self {
        Self { packed: PackedWeights::reading(file.model.layout(), &file.weights), file }
    }

    /// The model.
    pub fn file(&self) -> &ModelFile {
        &self.file
    }

    /// The architecture.
    pub fn model(&self) -> &LanguageModel {
        &self.file.model
    }

    /// The vocabulary.
    pub fn vocabulary(&self) -> &Vocabulary {
        &self.file.vocabulary
    }

    /// The weights, ready to be read.
    pub fn parameters(&self) -> Parameters<'_, f32> {
        self.packed.with(&self.file.weights)
    }

    /// Whether the state is reset where a document begins, as in training.
    pub fn resets(&self) -> bool {
        self.file.plan.training.reset_at_documents
    }

    /// Takes other weights of the same model.
    pub(super) fn set_weights(&mut self, weights: &[f32]) {
        self.file.weights.copy_from_slice(weights);
        self.packed.update(self.file.model.layout(), &self.file.weights, Pass::Reading);
    }
}
