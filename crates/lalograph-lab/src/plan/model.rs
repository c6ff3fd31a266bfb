//! `[model]`: the network.

use std::path::PathBuf;

use lalograph_net::Cell;
use serde::{Deserialize, Serialize};

/// The kind of recurrent layer, by name.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum CellName {
    /// One sum through tanh.
    PlainTanh,
    /// One sum, cut off below zero.
    PlainRelu,
    /// Gated recurrent unit.
    Gru,
    /// Long short-term memory.
    #[default]
    Lstm,
}

impl CellName {
    /// The cell of that name.
    pub fn cell(self) -> Cell {
        match self {
            Self::PlainTanh => Cell::PlainTanh,
            Self::PlainRelu => Cell::PlainRelu,
            Self::Gru => Cell::Gru,
            Self::Lstm => Cell::Lstm,
        }
    }
}

/// The way in which layers read a window.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Directions {
    /// From its beginning.
    #[default]
    Forward,
    /// From both ends.
    Both,
}

/// How the distribution over the vocabulary is computed.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum SoftmaxName {
    /// Over all tokens.
    #[default]
    Full,
    /// Over clusters of tokens by frequency.
    Clustered,
    /// Over all tokens, but trained against a sample of them.
    Sampled,
}

/// How recurrent matrices begin.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RecurrentStartName {
    /// Orthogonal.
    #[default]
    Orthogonal,
    /// Uniform numbers.
    Uniform,
    /// Normal numbers.
    Normal,
}

/// How input weights and token vectors begin.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum InputStartName {
    /// Uniform numbers.
    #[default]
    Uniform,
    /// Normal numbers.
    Normal,
}

/// `[model]`: the network.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct ModelPlan {
    /// The recurrent layers' kind: `plain_tanh`, `plain_relu`, `gru` or `lstm`.
    pub cell: CellName,
    /// Width of a token's vector.
    pub embedding: usize,
    /// Width of each recurrent layer.
    pub hidden: usize,
    /// Recurrent layers.
    pub layers: usize,
    /// `forward`, or `both` for layers that also read backwards, which a model that predicts the next token cannot: it would have read it.
    pub directions: Directions,
    /// Whether each layer's outputs are normalised.
    pub layer_norm: bool,
    /// Whether layers from the second on add their input to their output.
    pub residual: bool,
    /// Whether the state before a text is learnt instead of zero.
    pub learn_first_state: bool,
    /// Whether the output's weights are the token vectors; where `embedding` and `hidden` differ, a matrix stands between.
    pub tied: bool,
    /// `full`; `clustered` for large vocabularies ordered by frequency, as word vocabularies are; `sampled` to train against a sample of the vocabulary. Perplexity is exact with all three.
    pub softmax: SoftmaxName,
    /// Where the clusters end, rising; empty for a usual division.
    pub clusters: Vec<usize>,
    /// Each cluster's vectors are narrower by this factor than those of the one before.
    pub cluster_shrink: usize,
    /// Tokens of the sample that a sampled softmax is trained against.
    pub softmax_samples: usize,
    /// How recurrent matrices begin: `orthogonal`, `uniform` or `normal`.
    pub recurrent_start: RecurrentStartName,
    /// Their size: 1 for matrices that keep lengths, less for a past that fades.
    pub recurrent_gain: f64,
    /// How input weights and token vectors begin: `uniform` or `normal`, of equal variance.
    pub input_start: InputStartName,
    /// A file of word vectors that the token vectors begin with, `embedding` numbers each: less their mean, and each at the size of the usual first values. Words without one begin as usual. `groups.embedding_rate` says whether they are learnt on: 0 leaves them as they are.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub vectors: Option<PathBuf>,
    /// First bias of the gate that keeps what is remembered; without one 3 for `lstm`, 1 for `gru`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub keep_bias: Option<f64>,
}

impl Default for ModelPlan {
    fn default() -> Self {
        Self {
            cell: CellName::Lstm,
            embedding: 128,
            hidden: 256,
            layers: 1,
            directions: Directions::Forward,
            layer_norm: false,
            residual: false,
            learn_first_state: false,
            tied: false,
            softmax: SoftmaxName::Full,
            clusters: Vec::new(),
            cluster_shrink: 4,
            softmax_samples: 1000,
            recurrent_start: RecurrentStartName::Orthogonal,
            recurrent_gain: 1.0,
            input_start: InputStartName::Uniform,
            vectors: None,
            keep_bias: None,
        }
    }
}
