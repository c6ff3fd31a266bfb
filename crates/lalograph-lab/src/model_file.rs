//! The model file: one safetensors file that holds the weights, and in its metadata the plan, the
//! vocabulary and the cleaning. `docs/formats/model.md` is its description.

use std::collections::BTreeMap;
use std::fs;
use std::io::{self, Write};
use std::path::Path;

use lalograph_net::LanguageModel;
use lalograph_text::Vocabulary;
use serde::{Deserialize, Serialize};

use crate::error::LabError;
use crate::files::{Existing, WholeFile};
use crate::plan::Plan;
use crate::sealed::{Numbers, Sealed, json, write_sealed};

const FORMAT: &str = "lalograph model";
const VERSION: &str = "2";
/// The version before: of a time when the state was always carried on from document to document.
const CARRIED_VERSION: &str = "1";

/// How far a model was trained.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Progress {
    /// Optimiser steps made.
    pub step: u64,
    /// Tokens learnt from.
    pub tokens: u64,
    /// Mean loss on validation text at that step, if it was measured.
    pub validation_loss: Option<f64>,
}

/// A model with all that is needed to use it.
pub struct ModelFile {
    /// The plan that it was trained by.
    pub plan: Plan,
    /// The vocabulary, with its cleaning.
    pub vocabulary: Vocabulary,
    /// How far it was trained.
    pub progress: Progress,
    /// The architecture.
    pub model: LanguageModel,
    /// All weights, laid out as [`LanguageModel::layout`] says.
    pub weights: Vec<f32>,
}

/// The content of a model file, borrowed: what is written while a model is trained, without a copy of its weights.
#[derive(Clone, Copy)]
pub(crate) struct ModelContent<'a> {
    pub(crate) plan: &'a Plan,
    pub(crate) vocabulary: &'a Vocabulary,
    pub(crate) progress: &'a Progress,
    pub(crate) model: &'a LanguageModel,
    pub(crate) weights: &'a [f32],
}

impl ModelContent<'_> {
    /// The metadata, but for the seal.
    pub(crate) fn metadata(&self, format: &str, version: &str) -> BTreeMap<&'static str, String> {
        BTreeMap::from([
            ("format", format.to_owned()),
            ("version", version.to_owned()),
            ("plan", self.plan.to_toml()),
            ("vocabulary", self.vocabulary.to_json()),
            ("cleaning", json(self.vocabulary.cleaning())),
            ("progress", json(self.progress)),
        ])
    }

    /// The weights, each tensor by its name.
    pub(crate) fn tensors(&self) -> Vec<Numbers<'_>> {
        let tensors = self.model.layout().tensors().iter();
        tensors
            .map(|tensor| Numbers {
                name: tensor.name.clone(),
                shape: tensor.shape.clone(),
                values: &self.weights[tensor.range.clone()],
            })
            .collect()
    }

    fn write_to(&self, version: &str, out: impl Write) -> io::Result<()> {
        write_sealed(self.metadata(FORMAT, version), &self.tensors(), out)
    }

    /// Writes the file whole, or not at all.
    ///
    /// # Errors
    /// The place is taken; the file system refuses.
    pub(crate) fn save(self, path: &Path, existing: Existing) -> Result<(), LabError> {
        let mut file = WholeFile::create(path, existing)?;
        self.write_to(VERSION, &mut file).map_err(LabError::at(path))?;
        file.finish()
    }
}

impl ModelFile {
    fn content(&self) -> ModelContent<'_> {
        let Self { plan, vocabulary, progress, model, weights } = self;
        ModelContent { plan, vocabulary, progress, model, weights }
    }

    /// The file's bytes: the same for the same content.
    pub fn to_bytes(&self) -> Vec<u8> {
        self.to_bytes_of(VERSION)
    }

    fn to_bytes_of(&self, version: &str) -> Vec<u8> {
        let mut bytes = Vec::new();
        // Memory takes everything.
        let _ = self.content().write_to(version, &mut bytes);
        bytes
    }

    /// Writes the file whole, or not at all.
    ///
    /// # Errors
    /// The place is taken; the file system refuses.
    pub fn save(&self, path: &Path, existing: Existing) -> Result<(), LabError> {
        self.content().save(path, existing)
    }

    /// Reads and checks a model file.
    ///
    /// # Errors
    /// The file cannot be read; it is damaged, cut short, of another kind, or its parts contradict each other.
    pub fn load(path: &Path) -> Result<Self, LabError> {
        let bytes = fs::read(path).map_err(LabError::at(path))?;
        Self::from_bytes(&bytes).map_err(|what| LabError::BadModel { path: path.to_owned(), what })
    }

    /// Reads the file's bytes; the error is a phrase that says what is wrong.
    ///
    /// # Errors
    /// As for [`ModelFile::load`].
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, String> {
        let file = Sealed::read(bytes)?;
        if file.entry("format")? != FORMAT {
            return Err(format!("its format is `{}`, not `{FORMAT}`", file.entry("format")?));
        }
        let version = file.entry("version")?;
        if ![VERSION, CARRIED_VERSION].contains(&version) {
            return Err(format!(
                "its version is {version}, and this program reads versions {CARRIED_VERSION} and {VERSION}"
            ));
        }
        let Described { mut plan, vocabulary, progress, model } = Described::read(&file)?;
        if version == CARRIED_VERSION {
            plan.training.reset_at_documents = false;
        }
        let weights = weights(&file, &model)?;
        let tensors = model.layout().tensors().len();
        if file.len() != tensors {
            return Err(format!("it holds {} tensors, and its plan asks for {tensors}", file.len()));
        }
        file.check()?;
        if let Some(position) = weights.iter().position(|w| !w.is_finite()) {
            return Err(format!("weight {position} is not a finite number"));
        }
        Ok(Self { plan, vocabulary, progress, model, weights })
    }
}

/// What the metadata says of a model.
pub(crate) struct Described {
    pub(crate) plan: Plan,
    pub(crate) vocabulary: Vocabulary,
    pub(crate) progress: Progress,
    pub(crate) model: LanguageModel,
}

impl Described {
    /// Reads it; the error is a phrase.
    pub(crate) fn read(file: &Sealed<'_>) -> Result<Self, String> {
        let plan = Plan::from_toml(file.entry("plan")?, &[]).map_err(|error| format!("its plan: {error}"))?;
        let vocabulary =
            Vocabulary::from_json(file.entry("vocabulary")?).map_err(|error| error.to_string())?;
        let progress: Progress = serde_json::from_str(file.entry("progress")?)
            .map_err(|error| format!("its progress: {error}"))?;
        let model = LanguageModel::new(plan.shape(vocabulary.len())).map_err(|error| error.to_string())?;
        Ok(Self { plan, vocabulary, progress, model })
    }
}

/// All weights of a model, each tensor where its layout has it.
pub(crate) fn weights(file: &Sealed<'_>, model: &LanguageModel) -> Result<Vec<f32>, String> {
    let mut weights = Vec::with_capacity(model.layout().len());
    for tensor in model.layout().tensors() {
        let (words, _) = file.bytes(&tensor.name, &tensor.shape)?.as_chunks::<4>();
        weights.extend(words.iter().map(|word| f32::from_le_bytes(*word)));
    }
    Ok(weights)
}

#[cfg(test)]
mod tests {
    use super::{CARRIED_VERSION, ModelFile, Progress};
    use crate::plan::Plan;
    use lalograph_net::LanguageModel;
    use lalograph_net::initial::initial_weights;
    use lalograph_text::VocabularyBuilder;

    #[test]
    fn a_file_of_the_first_version_is_read_as_it_was_trained() {
        let plan = Plan::from_toml("[model]\nembedding = 3\nhidden = 4\n", &[]).unwrap();
        let mut builder = VocabularyBuilder::new(&plan.vocabulary.spec());
        builder.add("the bees came home");
        let vocabulary = builder.finish(1).unwrap();
        let model = LanguageModel::new(plan.shape(vocabulary.len())).unwrap();
        let weights = initial_weights(model.layout(), 1);
        let file = ModelFile { plan, vocabulary, progress: Progress::default(), model, weights };
        let now = ModelFile::from_bytes(&file.to_bytes()).unwrap();
        assert_eq!((&now.plan, &now.weights), (&file.plan, &file.weights));
        assert!(now.plan.training.reset_at_documents);
        let before = ModelFile::from_bytes(&file.to_bytes_of(CARRIED_VERSION)).unwrap();
        assert!(!before.plan.training.reset_at_documents);
        assert_eq!(before.weights, file.weights);
        let error = ModelFile::from_bytes(&file.to_bytes_of("3")).err().unwrap();
        assert!(error.contains("its version is 3"), "{error}");
    }
}
