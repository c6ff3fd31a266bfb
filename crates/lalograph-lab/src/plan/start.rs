//! `[start]`: where the first values of weights come from.

use std::path::PathBuf;

use super::section::section;

section! {
    /// initial weights from files.
    pub struct StartPlan in "start" {
        /// File of word vectors to initialise the token vectors from; their dimensions must be `model.embedding`. The mean is subtracted, and each vector is scaled to the size of a random initial vector. Words without a vector start at random. To freeze the vectors, set `groups.embedding_rate` to 0.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub vectors: Option<PathBuf> = None,
        /// Model file or run to initialise the weights from, tensor by tensor by name. Shapes and vocabulary must be equal.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub model: Option<PathBuf> = None,
    }
}
