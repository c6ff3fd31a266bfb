//! `[training]`, `[optimiser]`, `[regularisation]` and `[groups]`: how the network learns.

use lalograph_net::learning::optimiser::Rule;
use lalograph_net::step::exchange::GradientSum;

use super::section::section;

lalograph_net::choice! {
    /// Learning rate after warm-up.
    pub enum Schedule = Cosine {
        /// Constant.
        Constant = "constant",
        /// Reduced by a factor at intervals.
        Step = "step",
        /// The same reduction, at every step.
        Exponential = "exponential",
        /// Half a cosine, down to the last step.
        Cosine = "cosine",
        /// Reduced with the square root of the steps.
        InverseSquareRoot = "inverse_square_root",
        /// Up for a third of the steps, then down.
        OneCycle = "one_cycle",
        /// Reduced by a factor when validation no longer improves.
        Plateau = "plateau",
    }
}

lalograph_net::choice! {
    /// Windows of training text.
    pub enum WindowKind = Carried {
        /// Streams read in order, with the state carried from window to window.
        Carried = "carried",
        /// Shuffled windows, each from the initial state.
        Independent = "independent",
        /// Whole documents, each from the initial state.
        Documents = "documents",
    }
}

lalograph_net::choice! {
    /// Which tokens of a window are predicted.
    pub enum LossAt = Every {
        /// Every token.
        Every = "every",
        /// The last token.
        Last = "last",
    }
}

section! {
    /// training.
    pub struct TrainingPlan in "training" {
        /// Random seed of initial weights, dropout, split and samples.
        #[serde(with = "super::large")]
        pub seed: u64 = 1,
        /// Number of epochs. If not set, from the size of the training text; of a classifier 10 or, if its documents are few, as many as make 300 steps (pooled network: 1,000).
        #[serde(skip_serializing_if = "Option::is_none")]
        pub epochs: Option<u64> = None,
        /// Number of optimiser steps, instead of epochs.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub steps: Option<u64> = None,
        /// Batch size: streams of text in parallel; documents of a classifier.
        pub batch: usize = 16,
        /// Window of truncated backpropagation: tokens of each stream in one step. A recurrent classifier reads longer documents in windows, carries the state and cuts the gradient between them.
        pub window: usize = 32,
        /// `carried`: streams are read in order and the state is carried from window to window; `independent`: shuffled windows, each from the initial state; `documents`: each row of the batch reads whole documents, each from the initial state, and documents are dealt to rows of nearly equal length.
        pub windows: WindowKind = WindowKind::Carried,
        /// Tokens from the start of one independent window to the start of the next; if not set, the length of the window.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub stride: Option<usize> = None,
        /// Tokens of an independent window that are predicted: `every` token or the `last`.
        pub loss_at: LossAt = LossAt::Every,
        /// Share of the window by which the edges of carried windows move at random, 0 to 0.5.
        pub window_jitter: f64 = 0.0,
        /// Reset the state at the start of every document, in training and in scoring.
        pub reset_at_documents: bool = true,
        /// Parts of the batch that are computed in parallel. Results depend on it through rounding.
        pub lanes: usize = 2,
        /// How several processes add up the gradients of their lanes: `ordered`, so that their number changes no bit; `half`, in the same order but rounded to 16 bits on the way; `unordered`, as the message passing library is quickest at. One process adds them up in order.
        pub gradient_sum: GradientSum = GradientSum::Ordered,
        /// Peak learning rate.
        pub learning_rate: f64 = 0.006,
        /// Steps of linear warm-up; if not set, 200, or a quarter of the steps if the run has fewer than 800.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub warmup_steps: Option<u64> = None,
        /// Schedule after the warm-up: `constant`; `step` and `exponential` (by `schedule_factor` every `schedule_steps`); `cosine` (to `schedule_end` of the peak at the last step); `inverse_square_root` (half of the peak after three times `schedule_steps`); `one_cycle` (up for a third of the steps, then down to `schedule_end`); `plateau` (by `schedule_factor` after `schedule_patience` validations without improvement).
        pub schedule: Schedule = Schedule::Cosine,
        /// Factor of the learning rate for `step`, `exponential` and `plateau`.
        pub schedule_factor: f64 = 0.5,
        /// Steps for `step`, `exponential` and `inverse_square_root`.
        pub schedule_steps: u64 = 1000,
        /// Final share of the peak learning rate for `cosine` and `one_cycle`.
        pub schedule_end: f64 = 0.1,
        /// Validations without improvement before `plateau` lowers the learning rate.
        pub schedule_patience: u64 = 2,
        /// Clip the gradient to this norm; 0 = no clipping.
        pub clip_norm: f64 = 0.3,
        /// Clip each number of the gradient to this value first; 0 = no clipping.
        pub clip_value: f64 = 0.0,
        /// Dropout of token vectors, between layers and before the output, 0 to 0.95. `[regularisation]` sets each of them separately. If not set, from the size of the training text.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub dropout: Option<f64> = None,
        /// Validate every N steps, and at the end; 0 = not by steps.
        pub validate_every: u64 = 200,
        /// Validate every N epochs too, such as 1 or 0.5; 0 = not by epochs.
        pub validate_every_epochs: f64 = 0.0,
        /// Share of the validation text to use during training, from its start, above 0 and at most 1.
        pub validate_share: f64 = 1.0,
        /// Stop early after N validations without improvement and keep the best weights; 0 = never.
        pub patience: u64 = 0,
        /// Smallest decrease of validation loss that counts as an improvement for `patience`.
        pub minimum_gain: f64 = 0.0,
        /// End after N minutes of training even if steps are left, with a last validation, and keep the best weights; 0 = never. How many steps are made then depends on the speed of the machine: if at half of that time or later too many are left, a schedule that ends with the last step and the mean of the weights are shortened so that they end with the time.
        pub end_after_minutes: f64 = 0.0,
        /// Record training figures every N steps.
        pub record_every: u64 = 20,
        /// Measure gradient norms by distance in time every N steps; 0 = never.
        pub flow_every: u64 = 200,
    }
}

section! {
    /// the optimiser.
    pub struct OptimiserPlan in "optimiser" {
        /// `sgd`, `momentum`, `nesterov`, `rmsprop`, `adam` or `adamw` (decoupled weight decay).
        pub rule: Rule = Rule::Adam,
        /// Momentum of `momentum` and `nesterov`.
        pub momentum: f64 = 0.9,
        /// Decay of the mean of gradients, for `adam` and `adamw`.
        pub beta1: f64 = 0.9,
        /// Decay of the mean of squared gradients, for `adam`, `adamw` and `rmsprop`.
        pub beta2: f64 = 0.999,
        /// Added to the root of that mean.
        pub epsilon: f64 = 1e-8,
        /// Share of the steps after which a mean of the weights over all later steps starts; it is validated and saved in their place. If not set, no mean.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub average_from: Option<f64> = None,
        /// Weight decay of matrices: added to the gradient, or with `adamw` decoupled from it. Biases and gains do not decay.
        pub weight_decay: f64 = 0.0,
    }
}

section! {
    /// regularisation.
    pub struct RegularisationPlan in "regularisation" {
        /// Dropout of token vectors; if not set, `training.dropout` (0 in a `pooled` classifier and for rows of numbers).
        #[serde(skip_serializing_if = "Option::is_none")]
        pub dropout_inputs: Option<f64> = None,
        /// Dropout between layers; if not set, `training.dropout`.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub dropout_layers: Option<f64> = None,
        /// Dropout before the output; if not set, `training.dropout`.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub dropout_output: Option<f64> = None,
        /// Dropout of the recurrent connections, with one mask for a whole window.
        pub dropout_recurrent: f64 = 0.0,
        /// Share of words whose whole vectors are dropped, at all positions in a window.
        pub dropout_words: f64 = 0.0,
        /// Factor of the mean square of the last layer's outputs, added to the loss.
        pub activation_penalty: f64 = 0.0,
        /// Factor of the mean square of their change from token to token, added to the loss.
        pub temporal_penalty: f64 = 0.0,
        /// Share of the target distribution that is spread over the vocabulary, over one cluster, or over the classes. Not with a sampled softmax.
        pub label_smoothing: f64 = 0.0,
    }
}

section! {
    /// learning rates and clipping by group of weights.
    pub struct GroupsPlan in "groups" {
        /// Factor of the learning rate of the token vectors; 0 = frozen.
        pub embedding_rate: f64 = 1.0,
        /// Factor of the learning rate of the recurrent layers; 0 = frozen.
        pub layers_rate: f64 = 1.0,
        /// Factors of the learning rate of single recurrent layers, from the first, together with `layers_rate`; those of layers beyond the list are 1.
        pub layer_rates: Vec<f64> = Vec::new(),
        /// Factor of the learning rate of the output; 0 = frozen.
        pub output_rate: f64 = 1.0,
        /// Clip the gradient of the token vectors to this norm before `clip_norm`; 0 = no clipping.
        pub embedding_clip_norm: f64 = 0.0,
        /// The same for the recurrent layers.
        pub layers_clip_norm: f64 = 0.0,
        /// The same for the output.
        pub output_clip_norm: f64 = 0.0,
    }
}
