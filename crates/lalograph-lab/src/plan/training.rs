//! `[training]`, `[optimiser]`, `[regularisation]` and `[groups]`: how the network learns.

use lalograph_net::learning::optimiser::Rule;

use super::section::section;

lalograph_net::choice! {
    /// How the learning rate moves after its warm-up.
    pub enum Schedule = Cosine {
        /// It stays.
        Constant = "constant",
        /// It falls by a factor every so many steps.
        Step = "step",
        /// The same, spread evenly over the steps.
        Exponential = "exponential",
        /// It falls along half a cosine.
        Cosine = "cosine",
        /// It falls with the square root of the steps.
        InverseSquareRoot = "inverse_square_root",
        /// It rises for a third of the steps and falls for the rest.
        OneCycle = "one_cycle",
        /// It falls by a factor when validation no longer improves.
        Plateau = "plateau",
    }
}

lalograph_net::choice! {
    /// How windows are taken from the text.
    pub enum WindowKind = Carried {
        /// Streams read in order, the state carried from window to window.
        Carried = "carried",
        /// Windows by themselves, shuffled.
        Independent = "independent",
        /// Whole documents, one after the other.
        Documents = "documents",
    }
}

lalograph_net::choice! {
    /// Which tokens of a window are predicted.
    pub enum LossAt = Every {
        /// Every token.
        Every = "every",
        /// The last.
        Last = "last",
    }
}

section! {
    /// how the network learns.
    pub struct TrainingPlan in "training" {
        /// Fixes initial values, dropout, the split and the samples.
        #[serde(with = "super::large")]
        pub seed: u64 = 1,
        /// Passes over the training text.
        pub epochs: u64 = 10,
        /// Optimiser steps, instead of epochs.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub steps: Option<u64> = None,
        /// Streams of text read side by side.
        pub batch: usize = 32,
        /// Tokens of each stream in one step; gradients are cut at the window's edge.
        pub window: usize = 64,
        /// `carried`: streams read in order, the state carried from window to window; `independent`: windows by themselves, shuffled, each beginning anew; `documents`: each row reads whole documents one after the other, dealt so that rows are equally long, each beginning anew.
        pub windows: WindowKind = WindowKind::Carried,
        /// Tokens from the beginning of one independent window to that of the next; without it the window's length, so that none overlap.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub stride: Option<usize> = None,
        /// What is predicted in an independent window: `every` token or the `last`.
        pub loss_at: LossAt = LossAt::Every,
        /// By which share the edges of carried windows are moved at random, from 0 to 0.5, so that the same tokens are not always last.
        pub window_jitter: f64 = 0.0,
        /// Whether the state begins anew where a document does, in training and wherever text is judged.
        pub reset_at_documents: bool = true,
        /// Parts that the batch is cut into, to be computed side by side. Part of the result: more parts, other rounding.
        pub lanes: usize = 2,
        /// The learning rate at its height.
        pub learning_rate: f64 = 0.002,
        /// Steps over which it rises from zero.
        pub warmup_steps: u64 = 50,
        /// How it moves then: `constant`; `step` and `exponential` (by `schedule_factor` every `schedule_steps`); `cosine` (to `schedule_end` of its height at the last step); `inverse_square_root` (of the steps since the warm-up, halved after three times `schedule_steps`); `one_cycle` (up for a third of the steps, down to `schedule_end`); `plateau` (by `schedule_factor` after `schedule_patience` validations without a gain).
        pub schedule: Schedule = Schedule::Cosine,
        /// What `step`, `exponential` and `plateau` multiply the rate by.
        pub schedule_factor: f64 = 0.5,
        /// Steps for `step`, `exponential` and `inverse_square_root`.
        pub schedule_steps: u64 = 1000,
        /// The share of its height at which the rate ends, for `cosine` and `one_cycle`.
        pub schedule_end: f64 = 0.01,
        /// Validations without a gain that `plateau` waits for.
        pub schedule_patience: u64 = 2,
        /// The whole gradient's norm is brought down to this; 0 for no limit.
        pub clip_norm: f64 = 1.0,
        /// Each number of the gradient is brought down to this before; 0 for no limit.
        pub clip_value: f64 = 0.0,
        /// Share of numbers dropped from token vectors, between layers and before the output, 0 to 0.95. `[regularisation]` sets each by itself.
        pub dropout: f64 = 0.1,
        /// Validate every so many steps; 0 for never by steps. There is always a validation at the end.
        pub validate_every: u64 = 200,
        /// Validate every so many epochs too, such as 1 or 0.5; 0 for never by epochs.
        pub validate_every_epochs: f64 = 0.0,
        /// The share of the validation text that is used while training, from its beginning, above 0 and at most 1: always the same documents.
        pub validate_share: f64 = 1.0,
        /// Stop after so many validations without a gain, and keep the best weights; 0 for never.
        pub patience: u64 = 0,
        /// What counts as a gain for `patience`: a validation loss lower by more than this.
        pub minimum_gain: f64 = 0.0,
        /// Write a line of training figures every so many steps.
        pub record_every: u64 = 20,
        /// Measure how far back in time gradients reach every so many steps; 0 for never.
        pub flow_every: u64 = 200,
    }
}

section! {
    /// how weights are moved.
    pub struct OptimiserPlan in "optimiser" {
        /// `sgd`, `momentum`, `nesterov`, `rmsprop`, `adam`, `adamw` (weight decay apart from the gradient) or `averaged_sgd` (the mean of the weights over the last steps is judged and saved).
        pub rule: Rule = Rule::Adam,
        /// Of `momentum` and `nesterov`.
        pub momentum: f64 = 0.9,
        /// Decay of the mean of gradients, for `adam` and `adamw`.
        pub beta1: f64 = 0.9,
        /// Decay of the mean of their squares, for `adam`, `adamw` and `rmsprop`.
        pub beta2: f64 = 0.999,
        /// Added to the root, for the same.
        pub epsilon: f64 = 1e-8,
        /// The share of the steps after which `averaged_sgd` begins its mean.
        pub average_from: f64 = 0.5,
        /// Draws matrices towards zero: added to the gradient in proportion to the weight, or with `adamw` taken off the weight in proportion to the learning rate. Biases and gains are left alone.
        pub weight_decay: f64 = 0.0,
    }
}

section! {
    /// what keeps the network from learning by heart.
    pub struct RegularisationPlan in "regularisation" {
        /// Share of numbers dropped from token vectors; without it `training.dropout`.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub dropout_inputs: Option<f64> = None,
        /// Share dropped between layers; without it `training.dropout`.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub dropout_layers: Option<f64> = None,
        /// Share dropped before the output; without it `training.dropout`.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub dropout_output: Option<f64> = None,
        /// Share dropped from what a layer hands to its own next step, the same numbers through a whole window.
        pub dropout_recurrent: f64 = 0.0,
        /// Share of words whose vectors are dropped whole, wherever they stand in a window.
        pub dropout_words: f64 = 0.0,
        /// Factor of the mean square of the last layer's outputs, added to the loss.
        pub activation_penalty: f64 = 0.0,
        /// Factor of the mean square of their change from token to token, added to the loss.
        pub temporal_penalty: f64 = 0.0,
        /// Share of the wanted distribution that is spread over the vocabulary, or over a cluster of it. Not with a sampled softmax.
        pub label_smoothing: f64 = 0.0,
    }
}

section! {
    /// what differs between token vectors, recurrent layers and output.
    pub struct GroupsPlan in "groups" {
        /// By which the learning rate of the token vectors is multiplied; 0 leaves them as they are.
        pub embedding_rate: f64 = 1.0,
        /// The same for the recurrent layers.
        pub layers_rate: f64 = 1.0,
        /// The same for the output.
        pub output_rate: f64 = 1.0,
        /// The norm of the token vectors' gradient is brought down to this before the whole is; 0 for no limit.
        pub embedding_clip_norm: f64 = 0.0,
        /// The same for the recurrent layers.
        pub layers_clip_norm: f64 = 0.0,
        /// The same for the output.
        pub output_clip_norm: f64 = 0.0,
    }
}
