//! The figure that trials are compared by.

use crate::plan::{Criterion, Plan};
use crate::run::records::Evaluation;

/// The figure that trials are compared by, always on the validation part.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Figure {
    /// Perplexity of a language model.
    Perplexity,
    /// Bits per byte of a language model: where vocabularies differ, perplexities do not compare.
    BitsPerByte,
    /// Loss of a classifier.
    Loss,
    /// Accuracy of a classifier.
    Accuracy,
    /// Macro F1 of a classifier.
    MacroF1,
    /// Rank correlation of word vectors with a file of similarities.
    Similarity,
    /// Share of the analogies of a file that word vectors answer first.
    Analogies,
    /// The mean of both.
    WordTasks,
}

impl Figure {
    /// The figure for trials of a plan in which these settings vary.
    pub fn of<'k>(plan: &Plan, mut varied: impl Iterator<Item = &'k str>) -> Self {
        if let Some(own) = &plan.vectors {
            return match (&own.similarity, &own.analogies) {
                (Some(_), Some(_)) => Self::WordTasks,
                (None, Some(_)) => Self::Analogies,
                (_, None) => Self::Similarity,
            };
        }
        match &plan.classifier {
            Some(own) => match own.criterion {
                Criterion::Loss => Self::Loss,
                Criterion::Accuracy => Self::Accuracy,
                Criterion::MacroF1 => Self::MacroF1,
            },
            None if varied.any(|key| key.starts_with("vocabulary.") || key.starts_with("corpus.")) => {
                Self::BitsPerByte
            }
            None => Self::Perplexity,
        }
    }

    /// The number that trials are ordered and averaged by: lower is better. Of perplexities it is the logarithm.
    pub fn cost(self, evaluation: &Evaluation) -> f64 {
        let share = |name| 1.0 - evaluation.figure(name).unwrap_or(0.0);
        match self {
            Self::Perplexity | Self::Loss => evaluation.loss,
            // Their loss is what is missing to 1.
            Self::Similarity | Self::Analogies | Self::WordTasks => evaluation.loss,
            Self::BitsPerByte => evaluation.figure("bits_per_byte").unwrap_or(f64::INFINITY),
            Self::Accuracy => share("accuracy"),
            Self::MacroF1 => share("macro_f1"),
        }
    }

    /// The figure of such a number.
    pub fn of_cost(self, cost: f64) -> f64 {
        match self {
            Self::Perplexity => cost.exp(),
            Self::BitsPerByte | Self::Loss => cost,
            Self::Accuracy | Self::MacroF1 | Self::Similarity | Self::Analogies | Self::WordTasks => {
                1.0 - cost
            }
        }
    }

    /// Its name for people.
    pub fn name(self) -> &'static str {
        match self {
            Self::Perplexity => "validation perplexity",
            Self::BitsPerByte => "validation bits per byte",
            Self::Loss => "validation loss",
            Self::Accuracy => "validation accuracy",
            Self::MacroF1 => "validation macro F1",
            Self::Similarity => "rank correlation with similarities",
            Self::Analogies => "share of analogies answered first",
            Self::WordTasks => "mean of similarity and analogies",
        }
    }

    /// Its name in JSON.
    pub fn key(self) -> &'static str {
        match self {
            Self::Perplexity => "perplexity",
            Self::BitsPerByte => "bits_per_byte",
            Self::Loss => "loss",
            Self::Accuracy => "accuracy",
            Self::MacroF1 => "macro_f1",
            Self::Similarity => "similarity",
            Self::Analogies => "analogies",
            Self::WordTasks => "word_tasks",
        }
    }

    /// Whether a higher figure is better.
    pub fn rises(self) -> bool {
        !matches!(self, Self::Perplexity | Self::BitsPerByte | Self::Loss)
    }
}
