//! What a model is, for those who ask.

use lalograph_lab::artefact::vectors::VectorFile;
use lalograph_lab::{ModelFile, ReadyClassifier, Trained};
use lalograph_net::{Choice, Network};
use lalograph_text::Vocabulary;
use schemars::JsonSchema;
use serde::Serialize;

/// Kinds of models.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum ModelKind {
    /// Writes text, scores it, talks.
    LanguageModel,
    /// Gives the class of a text or of a row of numbers.
    Classifier,
    /// Has a vector for each word.
    WordVectors,
}

/// The card of a model.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Card {
    /// Name, as it is used in paths.
    pub name: String,
    /// Kind.
    pub kind: ModelKind,
    /// Hash of the file's content, by which a model differs from others.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub content_hash: Option<String>,
    /// Unit of tokens: word, character, byte or a kind of subword.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
    /// Indices of the vocabulary, or words with vectors.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub vocabulary_size: Option<u64>,
    /// Number of weights.
    pub parameters: u64,
    /// The network in a few words.
    pub network: String,
    /// Whether it was trained on prompts and answers.
    pub answers: bool,
    /// Whether there is a token for words outside the vocabulary.
    pub unknown_token: bool,
    /// Classes, in order.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schemars(default)]
    pub classes: Vec<String>,
    /// Features of a step, for a classifier of rows of numbers.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub features: Option<u64>,
    /// Numbers of a vector.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub dimensions: Option<u64>,
    /// Steps trained.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub steps: Option<u64>,
    /// Loss on validation data, natural-log cross-entropy per token or document.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub validation_loss: Option<f64>,
    /// Perplexity on validation text, for a language model.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub validation_perplexity: Option<f64>,
}

impl Card {
    fn new(name: &str, kind: ModelKind, content_hash: Option<String>) -> Self {
        Self {
            name: name.to_owned(),
            kind,
            content_hash,
            unit: None,
            vocabulary_size: None,
            parameters: 0,
            network: String::new(),
            answers: false,
            unknown_token: false,
            classes: Vec::new(),
            features: None,
            dimensions: None,
            steps: None,
            validation_loss: None,
            validation_perplexity: None,
        }
    }

    fn with_vocabulary(self, vocabulary: Option<&Vocabulary>) -> Self {
        let Some(vocabulary) = vocabulary else { return self };
        Self {
            unit: Some(vocabulary.unit().name().replace('_', " ")),
            vocabulary_size: Some(vocabulary.len() as u64),
            answers: vocabulary.turns().is_some(),
            unknown_token: !vocabulary.unit().knows_everything(),
            ..self
        }
    }

    fn with_training(self, trained: &Trained) -> Self {
        Self { steps: Some(trained.step), validation_loss: trained.validation_loss, ..self }
    }

    pub(super) fn of_language(name: &str, file: &ModelFile, hash: Option<String>) -> Self {
        let shape = file.model.shape();
        let network = format!("{} x {} {}", shape.layers, shape.hidden, shape.cell.name().replace('_', " "));
        let card = Self::new(name, ModelKind::LanguageModel, hash)
            .with_vocabulary(Some(&file.vocabulary))
            .with_training(&file.trained);
        Self {
            parameters: file.model.layout().len() as u64,
            network,
            validation_perplexity: card.validation_loss.map(f64::exp),
            ..card
        }
    }

    pub(super) fn of_classifier(name: &str, ready: &ReadyClassifier, hash: Option<String>) -> Self {
        let card = Self::new(name, ModelKind::Classifier, hash)
            .with_vocabulary(ready.input.vocabulary())
            .with_training(&ready.trained);
        let kind = ready.plan.classifier.as_ref().map(|own| own.network.name().replace('_', " "));
        Self {
            parameters: ready.parameters() as u64,
            network: kind.unwrap_or_default(),
            classes: ready.classes.clone(),
            features: ready.features().map(|features| features as u64),
            answers: false,
            ..card
        }
    }

    pub(super) fn of_vectors(name: &str, file: &VectorFile, hash: Option<String>) -> Self {
        let (words, dimensions) = (file.table.words().len(), file.table.dimensions());
        let unit = file.vocabulary.as_ref().map(|vocabulary| vocabulary.unit().name().replace('_', " "));
        Self {
            unit,
            vocabulary_size: Some(words as u64),
            parameters: file.table.values().len() as u64,
            network: format!("{words} vectors of {dimensions}"),
            dimensions: Some(dimensions as u64),
            ..Self::new(name, ModelKind::WordVectors, hash)
        }
    }
}
