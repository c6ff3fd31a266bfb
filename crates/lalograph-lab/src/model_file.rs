//! The model file: one safetensors file that holds the weights, and in its metadata the plan, the
//! vocabulary and the cleaning. `docs/formats/model.md` is its description.

use std::collections::BTreeMap;
use std::fs;
use std::io::{self, Write};
use std::path::Path;

use lalograph_net::LanguageModel;
use lalograph_text::Vocabulary;
use safetensors::SafeTensors;
use safetensors::tensor::Dtype;
use serde::{Deserialize, Serialize};

use crate::error::LabError;
use crate::files::{Existing, WholeFile};
use crate::plan::Plan;

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

#[derive(Serialize)]
struct TensorEntry<'a> {
    dtype: &'static str,
    shape: &'a [usize],
    data_offsets: [usize; 2],
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
    /// Writes the file's bytes: the same for the same content, whatever the machine's clock says.
    ///
    /// The header is written here and not by the safetensors crate, whose metadata map has no fixed order.
    fn write_to(self, version: &str, mut out: impl Write) -> io::Result<()> {
        let mut metadata = BTreeMap::from([
            ("format", FORMAT.to_owned()),
            ("version", version.to_owned()),
            ("plan", self.plan.to_toml()),
            ("vocabulary", self.vocabulary.to_json()),
            ("cleaning", json(self.vocabulary.cleaning())),
            ("progress", json(self.progress)),
        ]);
        let mut hash = metadata_hash(&metadata);
        for_bytes(self.weights, |bytes| {
            hash.update(bytes);
            Ok(())
        })?;
        metadata.insert("content_hash", hash.finalize().to_hex().to_string());
        let mut header = serde_json::Map::new();
        header.insert("__metadata__".into(), serde_json::json!(metadata));
        for tensor in self.model.layout().tensors() {
            let entry = TensorEntry {
                dtype: "F32",
                shape: &tensor.shape,
                data_offsets: [tensor.range.start * 4, tensor.range.end * 4],
            };
            header.insert(tensor.name.clone(), serde_json::json!(entry));
        }
        let mut header = json(&header).into_bytes();
        // The tensors begin at a multiple of eight, as the format asks.
        header.resize(header.len().next_multiple_of(8), b' ');
        out.write_all(&(header.len() as u64).to_le_bytes())?;
        out.write_all(&header)?;
        for_bytes(self.weights, |bytes| out.write_all(bytes))
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

/// Hands numbers on as bytes, some at a time.
fn for_bytes(numbers: &[f32], mut each: impl FnMut(&[u8]) -> io::Result<()>) -> io::Result<()> {
    let mut bytes = Vec::with_capacity(1 << 16);
    for numbers in numbers.chunks(1 << 14) {
        bytes.clear();
        bytes.extend(numbers.iter().flat_map(|number| number.to_le_bytes()));
        each(&bytes)?;
    }
    Ok(())
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
        let damaged = |error: safetensors::SafeTensorError| format!("it is cut short or damaged ({error})");
        let (_, header) = SafeTensors::read_metadata(bytes).map_err(damaged)?;
        let tensors = SafeTensors::deserialize(bytes).map_err(damaged)?;
        let metadata =
            header.metadata().as_ref().ok_or("it has no metadata, so it is not one of Lalograph's")?;
        let entry = |key: &str| -> Result<&str, String> {
            metadata.get(key).map(String::as_str).ok_or_else(|| format!("its metadata has no `{key}`"))
        };
        if entry("format")? != FORMAT {
            return Err(format!("its format is `{}`, not `{FORMAT}`", entry("format")?));
        }
        let version = entry("version")?;
        if ![VERSION, CARRIED_VERSION].contains(&version) {
            return Err(format!(
                "its version is {version}, and this program reads versions {CARRIED_VERSION} and {VERSION}"
            ));
        }
        let mut plan = Plan::from_toml(entry("plan")?, &[]).map_err(|error| format!("its plan: {error}"))?;
        if version == CARRIED_VERSION {
            plan.training.reset_at_documents = false;
        }
        let vocabulary = Vocabulary::from_json(entry("vocabulary")?).map_err(|error| error.to_string())?;
        let progress: Progress =
            serde_json::from_str(entry("progress")?).map_err(|error| format!("its progress: {error}"))?;
        let model = LanguageModel::new(plan.shape(vocabulary.len())).map_err(|error| error.to_string())?;

        let mut data = Vec::with_capacity(model.layout().len() * 4);
        for tensor in model.layout().tensors() {
            let name = &tensor.name;
            let found = tensors.tensor(name).map_err(|_| format!("the tensor `{name}` is missing"))?;
            if found.dtype() != Dtype::F32 || found.shape() != tensor.shape {
                return Err(format!(
                    "the tensor `{name}` is {:?} {:?}, and its plan asks for F32 {:?}",
                    found.dtype(),
                    found.shape(),
                    tensor.shape
                ));
            }
            data.extend_from_slice(found.data());
        }
        if tensors.len() != model.layout().tensors().len() {
            return Err(format!(
                "it holds {} tensors, and its plan asks for {}",
                tensors.len(),
                model.layout().tensors().len()
            ));
        }
        let stored = entry("content_hash")?;
        let known: BTreeMap<&str, String> = metadata
            .iter()
            .filter(|(key, _)| *key != "content_hash")
            .map(|(key, value)| (key.as_str(), value.clone()))
            .collect();
        if metadata_hash(&known).update(&data).finalize().to_hex().as_str() != stored {
            return Err("its content does not match its hash: it was altered after it was written".into());
        }
        let (words, _) = data.as_chunks::<4>();
        let weights: Vec<f32> = words.iter().map(|word| f32::from_le_bytes(*word)).collect();
        if let Some(position) = weights.iter().position(|w| !w.is_finite()) {
            return Err(format!("weight {position} is not a finite number"));
        }
        Ok(Self { plan, vocabulary, progress, model, weights })
    }
}

fn json<T: Serialize>(value: &T) -> String {
    // Plain data with string keys: serialising it cannot fail.
    serde_json::to_string(value).unwrap_or_default()
}

/// BLAKE3 of every metadata key and value in the order of the keys, each with its length before it; the tensors' bytes are to follow.
fn metadata_hash(metadata: &BTreeMap<&str, String>) -> blake3::Hasher {
    let mut hash = blake3::Hasher::new();
    for (key, value) in metadata {
        for part in [key.as_bytes(), value.as_bytes()] {
            hash.update(&(part.len() as u64).to_le_bytes());
            hash.update(part);
        }
    }
    hash
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
