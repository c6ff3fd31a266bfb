//! A run's `run.json`: its state and origin, besides its plan.

use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use super::records::{Evaluation, Figures};

/// Format name of a description.
pub const FORMAT: &str = "lalograph run";
/// The version of its form.
pub const VERSION: u32 = 1;

/// The recorded state of a run.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RunStatus {
    /// The run is being trained, or its process died.
    #[default]
    Running,
    /// All steps were made, or it ended early ([`EarlyEnd`]).
    Finished,
    /// The run was stopped by its user; its best model so far is kept.
    Interrupted,
    /// The run failed with an error.
    Failed,
}

/// Why a finished run ended before its last step.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum EarlyEnd {
    /// Nothing was gained any more.
    Patience,
    /// The time of its plan was over.
    Time,
}

/// The true state of a run: what is written down, and whether a process holds it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Standing {
    /// A process is training it.
    Running,
    /// All steps were made, or it was stopped early.
    Finished,
    /// Somebody stopped it.
    Interrupted,
    /// The run failed with an error.
    Failed,
    /// Its process ended without a word.
    Died,
}

impl Standing {
    /// In one word.
    pub fn name(self) -> &'static str {
        match self {
            Self::Running => "running",
            Self::Finished => "finished",
            Self::Interrupted => "interrupted",
            Self::Failed => "failed",
            Self::Died => "died",
        }
    }
}

/// A process continued a run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Resumption {
    /// When, as [`RunDescription::started`].
    pub time: String,
    /// After which step.
    pub step: u64,
    /// Changes of the plan, as `section.key = value`.
    pub changed: Vec<String>,
}

/// Facts about the text of a run before training.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TextFacts {
    /// Tokens learnt from in a pass.
    pub training_tokens: u64,
    /// Tokens of the validation text.
    pub validation_tokens: u64,
    /// Tokens of the test text.
    pub test_tokens: u64,
    /// The share of the validation tokens that the vocabulary does not know.
    pub unknown_share: Option<f64>,
    /// The share of the training tokens that it does not know, of a language model.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub training_unknown_share: Option<f64>,
    /// The share of the validation documents that occurs word for word in the training text.
    pub seen_share: Option<f64>,
    /// Mean loss of the unigram model on the validation text.
    pub unigram_loss: Option<f64>,
    /// Mean loss of the unigram model on the training text itself.
    pub training_unigram_loss: Option<f64>,
    /// The share of the validation documents that cleaning changed.
    pub changed_share: Option<f64>,
    /// Steps of one epoch.
    pub steps_per_epoch: u64,
    /// Facts about the classes of a classifier's documents.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub classes: Option<ClassFacts>,
}

/// Facts about the classes of a classifier's documents before training.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ClassFacts {
    /// Number of classes.
    pub classes: u64,
    /// Training documents.
    pub training_documents: u64,
    /// Validation documents.
    pub validation_documents: u64,
    /// Test documents.
    pub test_documents: u64,
    /// Training documents of the smallest class.
    pub smallest_class: u64,
    /// Share of the most frequent class in the validation documents.
    pub majority_share: f64,
    /// Share of the training documents that are cut to the length.
    pub cut_share: f64,
    /// Validation documents that are near copies of training documents.
    pub validation_copies: u64,
    /// Test documents that are.
    pub test_copies: u64,
}

/// `run.json`: what a run is, besides its plan.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RunDescription {
    /// [`FORMAT`]: distinguishes a run from any other folder.
    pub format: String,
    /// [`VERSION`].
    pub version: u32,
    /// Hash of the plan in the folder: description and plan change together or not at all.
    pub plan_hash: String,
    /// Its name, that of its folder.
    pub name: String,
    /// The kind of its task, such as `language model`.
    pub task: String,
    /// When it began, by the clock of the machine, with the offset from UTC.
    pub started: String,
    /// Its state.
    pub status: RunStatus,
    /// The version of the program.
    pub program_version: String,
    /// Documents read.
    pub documents: u64,
    /// Raw bytes of their text.
    pub text_bytes: u64,
    /// Hash of their text.
    pub text_hash: String,
    /// Of a tuned model, the hash of its base's text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub old_text_hash: Option<String>,
    /// Hash of the vocabulary.
    pub vocabulary_hash: String,
    /// Hash of a classifier's split.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub split_hash: Option<String>,
    /// Steps made.
    pub steps: u64,
    /// Lowest validation loss, if any was measured.
    pub best_validation_loss: Option<f64>,
    /// The task's figures of that validation.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub best_figures: Option<Figures>,
    /// The folder that the plan's paths are meant from.
    pub working_folder: Option<PathBuf>,
    /// Indices of the vocabulary.
    pub vocabulary_size: u64,
    /// Numbers that are learnt.
    pub parameters: u64,
    /// Steps planned.
    pub planned_steps: u64,
    /// The step of the lowest validation loss.
    pub best_step: Option<u64>,
    /// Why it ended before its last step, if it did.
    pub ended_early: Option<EarlyEnd>,
    /// The test part under the weights that were kept.
    pub test: Option<Evaluation>,
    /// Why it could not continue.
    pub failure: Option<String>,
    /// The step at which its numbers were no longer finite, if that is why.
    pub not_finite_step: Option<u64>,
    /// Facts about its text.
    pub text: TextFacts,
    /// When it was resumed.
    pub resumed: Vec<Resumption>,
}
