//! `[model]`: the network.

use lalograph_net::Cell;
use lalograph_net::blocks::recurrent::start::{InputStart, RecurrentStart};
use lalograph_net::heads::softmax::Softmax;

use super::section::section;

lalograph_net::choice! {
    /// The way in which layers read a window.
    pub enum Directions = Forward {
        /// From its beginning.
        Forward = "forward",
        /// From both ends.
        Both = "both",
    }
}

section! {
    /// the network.
    pub struct ModelPlan in "model" {
        /// The recurrent layers' kind: `plain_tanh`, `plain_relu`, `gru` or `lstm`.
        pub cell: Cell = Cell::Lstm,
        /// Width of a token's vector.
        pub embedding: usize = 128,
        /// Width of each recurrent layer.
        pub hidden: usize = 256,
        /// Recurrent layers.
        pub layers: usize = 1,
        /// `forward`, or `both` for layers that also read backwards, which a model that predicts the next token cannot: it would have read it.
        pub directions: Directions = Directions::Forward,
        /// Whether each layer's outputs are normalised.
        pub layer_norm: bool = false,
        /// Whether layers from the second on add their input to their output.
        pub residual: bool = false,
        /// Whether the state before a text is learnt instead of zero.
        pub learn_first_state: bool = false,
        /// Whether the output's weights are the token vectors; where `embedding` and `hidden` differ, a matrix stands between.
        pub tied: bool = false,
        /// `full`; `clustered` for large vocabularies ordered by frequency, as word vocabularies are; `sampled` to train against a sample of the vocabulary. Perplexity is exact with all three.
        pub softmax: Softmax = Softmax::Full,
        /// Where the clusters end, rising; empty for a usual division.
        pub clusters: Vec<usize> = Vec::new(),
        /// Each cluster's vectors are narrower by this factor than those of the one before.
        pub cluster_shrink: usize = 4,
        /// Tokens of the sample that a sampled softmax is trained against.
        pub softmax_samples: usize = 1000,
        /// How recurrent matrices begin: `orthogonal`, `uniform` or `normal`.
        pub recurrent_start: RecurrentStart = RecurrentStart::Orthogonal,
        /// Their size: 1 for matrices that keep lengths, less for a past that fades.
        pub recurrent_gain: f64 = 1.0,
        /// How input weights and token vectors begin: `uniform` or `normal`, of equal variance.
        pub input_start: InputStart = InputStart::Uniform,
        /// First bias of the gate that keeps what is remembered; without one 3 for `lstm`, 1 for `gru`.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub keep_bias: Option<f64> = None,
    }
}
