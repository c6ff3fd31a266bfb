//! `[tune]`: training that continues from a model on another text.

use std::path::PathBuf;

use super::section::section;

lalograph_net::choice! {
    /// What the vectors of new tokens start from.
    pub enum NewVectors = Unknown {
        /// The mean of the vectors of the tokens beside them in the training text.
        Beside = "beside",
        /// The vectors of the unknown token, which they were until now.
        Unknown = "unknown",
        /// Random vectors, as in a new model.
        Random = "random",
    }
}

lalograph_net::choice! {
    /// Which tokens of a prompt and its answer count in the loss.
    pub enum LossOn = Answers {
        /// The answer and its end.
        Answers = "answers",
        /// All tokens.
        All = "all",
    }
}

section! {
    /// tuning: training that continues from the model of `start.model` on another text. In a plan without this section `start.model` gives initial weights only.
    pub struct TunePlan in "tune" {
        /// Add this many of the most frequent words or characters of the training text that the vocabulary does not have; the others keep their indices.
        pub new_tokens: usize = 0,
        /// Initial vectors of new tokens: `beside` (the mean of the vectors of the tokens beside them in the training text), `unknown` (those of the unknown token) or `random`.
        pub new_vectors: NewVectors = NewVectors::Unknown,
        /// Tokens of a prompt and its answer that count in the loss: `answers` or `all`.
        pub loss_on: LossOn = LossOn::Answers,
        /// Longest prompt in tokens: of a longer prompt the last tokens are kept. If not set, prompts are read whole.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub longest_prompt: Option<usize> = None,
        /// Longest answer in tokens: of a longer answer the first tokens are kept. If not set, answers are read whole.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub longest_answer: Option<usize> = None,
        /// Old text: files, folders or patterns that are read as the corpus of the base model was. If empty, the corpus of the base model's run.
        pub old_text: Vec<PathBuf> = Vec::new(),
        /// Validate on the validation part of the old text too, which shows what is forgotten.
        pub measure_old: bool = true,
        /// Share of the streams of a batch that read the training part of the old text, 0 to 0.9; at least one stream if above 0.
        pub keep_old: f64 = 0.0,
    }
}
