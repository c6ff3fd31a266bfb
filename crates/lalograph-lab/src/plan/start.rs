//! `[start]`: where the first values of weights come from.

use std::path::PathBuf;

use super::section::section;

section! {
    /// where the first values of weights come from, where they are not drawn.
    pub struct StartPlan in "start" {
        /// A file of word vectors that fills the token vectors, `model.embedding` numbers each: less their mean, and each at the size of the usual first values. Words without one begin as usual. `groups.embedding_rate` says whether they are trained on: 0 leaves them as they are.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub vectors: Option<PathBuf> = None,
        /// A model file, or the folder of a run, whose tensors fill those of the same name. Shapes and vocabulary must be the same.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub model: Option<PathBuf> = None,
    }
}
