//! `[vectors]`: word vectors. A plan with this section trains word vectors.

use std::path::PathBuf;

use lalograph_vectors::pieces::Pieces;
use lalograph_vectors::pmi::Factorising;
use lalograph_vectors::train::{Direction, Settings};

use super::section::section;

section! {
    /// word vectors, instead of a language model.
    pub struct VectorsPlan in "vectors" {
        /// Direction of prediction: `word_to_context` (predict each word of the context from the word) or `context_to_word` (predict the word from the mean of its context).
        pub direction: Direction = Direction::WordToContext,
        /// Dimensions of a vector.
        pub dimensions: usize = 128,
        /// Context window: at most this many words on each side; the size is drawn between 1 and this number for each word.
        pub window: usize = 4,
        /// Always use the whole context window.
        pub fixed_window: bool = false,
        /// Negative samples for each prediction; 0 = full softmax. With `factorise` the shift.
        pub negative_samples: usize = 6,
        /// Randomly skip words more frequent than this share; 0 = never.
        pub subsample: f64 = 0.004,
        /// Initial learning rate, with linear decay to almost 0. If not set, 0.06, or 0.25 for `context_to_word`.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub learning_rate: Option<f64> = None,
        /// Number of epochs.
        pub epochs: u64 = 8,
        /// Shortest and longest word pieces in characters, such as `[2, 5]`, whose vectors are trained too, so that unseen words have vectors; if empty, no pieces.
        pub pieces: Vec<usize> = Vec::new(),
        /// Number of rows that all pieces are hashed to.
        pub piece_rows: u32 = 100_000,
        /// Count co-occurrences and factorise the matrix of shifted positive pointwise mutual information instead of predicting.
        pub factorise: bool = false,
        /// Parts of the text to train on in parallel. Results depend on it, but not on the number of threads.
        pub lanes: usize = 2,
        /// File of word similarities. The trials of a sweep are compared by the rank correlation with it, with `analogies` by the mean of both figures.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub similarity: Option<PathBuf> = None,
        /// File of analogies. The trials of a sweep are compared by the share answered first.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub analogies: Option<PathBuf> = None,
    }
}

/// Method of making vectors.
#[derive(Debug, Clone, PartialEq)]
pub enum VectorsWay {
    /// By prediction.
    Predicting(Settings),
    /// By counting and factorising.
    Factorising(Factorising),
}

impl VectorsPlan {
    /// How the vectors are made.
    pub fn way(&self, seed: u64) -> VectorsWay {
        if self.factorise {
            return VectorsWay::Factorising(Factorising {
                dimensions: self.dimensions,
                window: self.window,
                shift: self.negative_samples.max(1) as f64,
                seed,
            });
        }
        let default = match self.direction {
            Direction::ContextToWord => 0.25,
            Direction::WordToContext => 0.06,
        };
        VectorsWay::Predicting(Settings {
            direction: self.direction,
            dimensions: self.dimensions,
            window: self.window,
            fixed_window: self.fixed_window,
            negative_samples: self.negative_samples,
            subsample: self.subsample,
            learning_rate: self.learning_rate.unwrap_or(default),
            epochs: self.epochs,
            pieces: match self.pieces[..] {
                [shortest, longest] => Some(Pieces { shortest, longest, rows: self.piece_rows }),
                _ => None,
            },
            seed,
            lanes: Some(self.lanes),
        })
    }
}

#[cfg(test)]
mod tests {
    use lalograph_vectors::train::Settings;

    use super::{VectorsPlan, VectorsWay};

    #[test]
    fn the_defaults_are_those_of_the_library() {
        assert_eq!(VectorsPlan::default().way(1), VectorsWay::Predicting(Settings::default()));
    }
}
