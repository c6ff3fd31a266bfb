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
        /// Cell of the recurrent layers: `plain_tanh`, `plain_relu`, `gru` or `lstm`. The outputs of `plain_relu` have no bound: on real text half of its runs diverge, even at a learning rate of 0.0003.
        pub cell: Cell = Cell::Lstm,
        /// Width of the token vectors. If not set, from the size of the training text.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub embedding: Option<usize> = None,
        /// Width of each recurrent layer. If not set, from the size of the training text.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub hidden: Option<usize> = None,
        /// Number of recurrent layers.
        pub layers: usize = 1,
        /// `forward`, or `both`: layers also read from the end, for classifiers only.
        pub directions: Directions = Directions::Forward,
        /// Normalise the outputs of each layer.
        pub layer_norm: bool = false,
        /// Add the input of each layer from the second on to its output.
        pub residual: bool = false,
        /// Learn the initial state instead of starting from zero.
        pub learn_first_state: bool = false,
        /// Share one table of vectors between input and output, with a projection before the output. If not set, shared where tokens are words or subwords, unless the softmax is `clustered` or the vectors start from a file.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub shared_vectors: Option<bool> = None,
        /// `full`; `clustered` for large vocabularies ordered by frequency, such as words; `sampled` to train against a sample of the vocabulary. Perplexity is exact with all three. If not set, sampled for 5,000 tokens and more, and full for fewer or with label smoothing.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub softmax: Option<Softmax> = None,
        /// Last indices of the clusters, in rising order; if empty, computed from the vocabulary size.
        pub clusters: Vec<usize> = Vec::new(),
        /// Factor by which the vectors of each cluster are narrower than those of the cluster before.
        pub cluster_shrink: usize = 4,
        /// Sample size of a sampled softmax.
        pub softmax_samples: usize = 1000,
        /// Initialisation of recurrent matrices: `orthogonal`, `uniform` or `normal`.
        pub recurrent_start: RecurrentStart = RecurrentStart::Orthogonal,
        /// Scale of the initial recurrent matrices; with 1, orthogonal matrices keep the length of a state.
        pub recurrent_gain: f64 = 1.0,
        /// Initialisation of input weights and token vectors: `uniform` or `normal`, of equal variance.
        pub input_start: InputStart = InputStart::Uniform,
        /// Initial bias of the gate that keeps the state: the forget gate of an LSTM, the update gate of a GRU. If not set, 0 for `lstm` and -1 for `gru`.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub keep_bias: Option<f64> = None,
    }
}
