//! The sizes and choices that settle a language model's weights.

use thiserror::Error;

use crate::blocks::recurrent::cell::Cell;
use crate::blocks::recurrent::start::StartingValues;
use crate::blocks::stack::StackShape;
use crate::heads::softmax::{Softmax, SoftmaxSettings};

/// The shape of a model.
#[derive(Debug, Clone, PartialEq)]
pub struct LanguageModelShape {
    /// Token indices, reserved ones included.
    pub vocabulary: usize,
    /// Width of a token's vector.
    pub embedding: usize,
    /// Width of each recurrent layer.
    pub hidden: usize,
    /// Recurrent layers, one on the other.
    pub layers: usize,
    /// Their kind.
    pub cell: Cell,
    /// Whether the layers' outputs are normalised.
    pub layer_norm: bool,
    /// Whether layers from the second on add their input to their output.
    pub residual: bool,
    /// Whether the state before the first token is learnt instead of zero.
    pub learn_first_state: bool,
    /// Whether the output's weights are the token vectors (Press and Wolf, 2017), read through a matrix.
    pub tied: bool,
    /// Distribution over the vocabulary.
    pub softmax: SoftmaxSettings,
    /// Initialisation of weights; unused by a trained model.
    pub start: StartingValues,
}

impl LanguageModelShape {
    /// One layer of a kind, everything else at its default.
    pub fn new(vocabulary: usize, embedding: usize, hidden: usize, cell: Cell) -> Self {
        Self {
            vocabulary,
            embedding,
            hidden,
            layers: 1,
            cell,
            layer_norm: false,
            residual: false,
            learn_first_state: false,
            tied: false,
            softmax: SoftmaxSettings::full(),
            start: StartingValues::default_for(cell),
        }
    }
}

impl LanguageModelShape {
    /// The shape of its recurrent layers.
    pub fn stack(&self) -> StackShape {
        StackShape {
            cell: self.cell,
            inputs: self.embedding,
            hidden: self.hidden,
            layers: self.layers,
            both_directions: false,
            layer_norm: self.layer_norm,
            residual: self.residual,
            learn_first_state: self.learn_first_state,
            start: self.start,
        }
    }
}

/// A shape that no model can have.
#[derive(Debug, Error, PartialEq, Eq)]
pub enum ShapeError {
    /// A size is zero.
    #[error("the {0} must be above 0")]
    Zero(&'static str),
    /// A size is out of all proportion.
    #[error("the {name} of {value} is above the limit of {limit}")]
    TooLarge {
        /// Which.
        name: &'static str,
        /// The value.
        value: usize,
        /// The limit.
        limit: usize,
    },
    /// Clusters that do not divide the vocabulary.
    #[error(
        "the last indices of clusters must rise and be below the vocabulary size of {vocabulary}: {ends:?}"
    )]
    Clusters {
        /// Their ends.
        ends: Vec<usize>,
        /// The vocabulary's size.
        vocabulary: usize,
    },
    /// A clustered softmax has narrower vectors for rare tokens, which cannot be the embedding's.
    #[error(
        "a clustered softmax cannot share its vectors with the embedding: rare tokens have narrower vectors"
    )]
    TiedClusters,
}

pub(super) fn check(shape: &LanguageModelShape) -> Result<(), ShapeError> {
    for (name, value, limit) in [
        ("vocabulary size", shape.vocabulary, 1 << 24),
        ("embedding width", shape.embedding, 1 << 14),
        ("hidden width", shape.hidden, 1 << 14),
        ("number of layers", shape.layers, 64),
    ] {
        if value == 0 {
            return Err(ShapeError::Zero(name));
        }
        if value > limit {
            return Err(ShapeError::TooLarge { name, value, limit });
        }
    }
    match shape.softmax.kind {
        Softmax::Full => {}
        Softmax::Sampled if shape.softmax.samples == 0 => {
            return Err(ShapeError::Zero("number of sampled tokens"));
        }
        Softmax::Sampled => {}
        Softmax::Clustered if shape.tied => return Err(ShapeError::TiedClusters),
        Softmax::Clustered => {
            let clusters = &shape.softmax.clusters;
            let ends = &clusters.ends;
            let rising = ends.windows(2).all(|pair| pair[0] < pair[1]);
            let inside = ends.first().is_some_and(|&end| end > 0)
                && ends.last().is_some_and(|&end| end < shape.vocabulary);
            if clusters.shrink == 0 {
                return Err(ShapeError::Zero("cluster shrink factor"));
            }
            if !(rising && inside) {
                return Err(ShapeError::Clusters { ends: ends.clone(), vocabulary: shape.vocabulary });
            }
        }
    }
    Ok(())
}
