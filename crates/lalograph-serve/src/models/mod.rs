//! The models of a service, by name. Requests name them, and never a path.

mod card;

use std::path::Path;
use std::sync::{Arc, OnceLock};

pub use card::{Card, ModelKind};
use lalograph_lab::artefact::tensor_file::TensorFile;
use lalograph_lab::artefact::vectors::VectorFile;
use lalograph_lab::artefact::{model_file, vectors};
use lalograph_lab::{LabError, ModelFile, ReadyClassifier, ReadyModel};
use lalograph_vectors::map::Plane;

use crate::fault::Fault;

/// Word vectors, and where they are in the plane once somebody asked.
#[derive(Debug)]
pub struct ServedVectors {
    /// The vectors.
    pub file: VectorFile,
    pub(crate) map: OnceLock<Plane>,
}

/// What answers the requests.
#[derive(Debug, Clone)]
pub enum Engine {
    /// A language model.
    Language(Arc<ReadyModel>),
    /// A classifier.
    Classifier(Arc<ReadyClassifier>),
    /// Word vectors.
    Vectors(Arc<ServedVectors>),
}

/// A model with its card.
#[derive(Debug, Clone)]
pub struct ServedModel {
    /// Its card.
    pub card: Card,
    /// The model.
    pub engine: Engine,
}

impl ServedModel {
    /// Loads a model file, or word vectors.
    ///
    /// # Errors
    /// The file cannot be read; it is damaged, cut short or of another kind.
    pub fn load(name: &str, path: &Path) -> Result<Self, LabError> {
        let file = match TensorFile::open(path, &[model_file::KIND, vectors::KIND]) {
            Ok(file) => file,
            // Vectors may be a text.
            Err(error) => {
                return VectorFile::load(path, |_| true)
                    .map(|file| Self::vectors(name, file, None))
                    .map_err(|_| error);
            }
        };
        let hash = file.content_hash().ok().map(str::to_owned);
        if file.kind() == vectors::KIND {
            return Ok(Self::vectors(name, VectorFile::load(path, |_| true)?, hash));
        }
        if file.asset("task").is_ok_and(|task| task == "classifier") {
            let ready = ReadyClassifier::load(path)?;
            let card = Card::of_classifier(name, &ready, hash);
            return Ok(Self { card, engine: Engine::Classifier(Arc::new(ready)) });
        }
        let file = ModelFile::load(path)?;
        let card = Card::of_language(name, &file, hash);
        Ok(Self { card, engine: Engine::Language(Arc::new(ReadyModel::new(file))) })
    }

    fn vectors(name: &str, file: VectorFile, hash: Option<String>) -> Self {
        let card = Card::of_vectors(name, &file, hash);
        Self { card, engine: Engine::Vectors(Arc::new(ServedVectors { file, map: OnceLock::new() })) }
    }
}

/// All models of a service, in the order that the operator gave.
#[derive(Debug, Default)]
pub struct Shelf {
    models: Vec<ServedModel>,
}

impl Shelf {
    /// Adds a model; `false` if there is one of that name.
    pub fn add(&mut self, model: ServedModel) -> bool {
        let is_new = self.models.iter().all(|other| other.card.name != model.card.name);
        if is_new {
            self.models.push(model);
        }
        is_new
    }

    /// All models.
    pub fn all(&self) -> impl Iterator<Item = &ServedModel> {
        self.models.iter()
    }

    pub(crate) fn get(&self, name: &str) -> Result<&ServedModel, Fault> {
        self.models.iter().find(|model| model.card.name == name).ok_or_else(|| {
            let names: Vec<&str> = self.models.iter().map(|model| model.card.name.as_str()).collect();
            Fault::missing("there is no model of this name")
                .with_remedy(format!("models: {}", names.join(", ")))
        })
    }

    pub(crate) fn classifier(&self, name: &str) -> Result<Arc<ReadyClassifier>, Fault> {
        match &self.get(name)?.engine {
            Engine::Classifier(ready) => Ok(Arc::clone(ready)),
            _ => Err(self.other_kind(name, ModelKind::Classifier, "a classifier")),
        }
    }

    pub(crate) fn vectors_of(&self, name: &str) -> Result<Arc<ServedVectors>, Fault> {
        match &self.get(name)?.engine {
            Engine::Vectors(vectors) => Ok(Arc::clone(vectors)),
            _ => Err(self.other_kind(name, ModelKind::WordVectors, "word vectors")),
        }
    }

    /// The fault of a model that cannot do what is asked.
    pub(crate) fn other_kind(&self, name: &str, kind: ModelKind, needed: &str) -> Fault {
        let able: Vec<&str> = self
            .all()
            .filter(|model| model.card.kind == kind)
            .map(|model| model.card.name.as_str())
            .collect();
        let fault = Fault::missing(format!("`{name}` cannot do this: it takes {needed}"));
        if able.is_empty() {
            fault
        } else {
            fault.with_remedy(format!("models that can: {}", able.join(", ")))
        }
    }
}
