//! `[training]`, `[optimiser]`, `[regularisation]` and `[groups]`: how the network learns.

use serde::{Deserialize, Serialize};

/// How the learning rate moves after its warm-up.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ScheduleName {
    /// It stays.
    Constant,
    /// It falls by a factor every so many steps.
    Step,
    /// The same, spread evenly over the steps.
    Exponential,
    /// It falls along half a cosine.
    #[default]
    Cosine,
    /// It falls with the square root of the steps.
    InverseSquareRoot,
    /// It rises for a third of the steps and falls for the rest.
    OneCycle,
    /// It falls by a factor when validation no longer improves.
    Plateau,
}

/// How windows are taken from the text.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum WindowKind {
    /// Streams read in order.
    #[default]
    Carried,
    /// Windows by themselves.
    Independent,
    /// Whole documents.
    Documents,
}

/// Which tokens of a window are predicted.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum LossAt {
    /// Every token.
    #[default]
    Every,
    /// The last.
    Last,
}

/// `[training]`: how the network learns.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct TrainingPlan {
    /// Fixes initial values, dropout, the split and the samples.
    pub seed: u64,
    /// Passes over the training text.
    pub epochs: u64,
    /// Optimiser steps, instead of epochs.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub steps: Option<u64>,
    /// Streams of text read side by side.
    pub batch: usize,
    /// Tokens of each stream in one step; gradients are cut at the window's edge.
    pub window: usize,
    /// `carried`: streams read in order, the state carried from window to window; `independent`: windows by themselves, shuffled, each beginning anew; `documents`: each row reads whole documents one after the other, dealt so that rows are equally long, each beginning anew.
    pub windows: WindowKind,
    /// Tokens from the beginning of one independent window to that of the next; without it the window's length, so that none overlap.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stride: Option<usize>,
    /// What is predicted in an independent window: `every` token or the `last`.
    pub loss_at: LossAt,
    /// By which share the edges of carried windows are moved at random, from 0 to 0.5, so that the same tokens are not always last.
    pub window_jitter: f64,
    /// Whether the state begins anew where a document does, in training and wherever text is judged.
    pub reset_at_documents: bool,
    /// Parts that the batch is cut into, to be computed side by side. Part of the result: more parts, other rounding.
    pub lanes: usize,
    /// The learning rate at its height.
    pub learning_rate: f64,
    /// Steps over which it rises from zero.
    pub warmup_steps: u64,
    /// How it moves then: `constant`; `step` and `exponential` (by `schedule_factor` every `schedule_steps`); `cosine` (to `schedule_end` of its height at the last step); `inverse_square_root` (of the steps since the warm-up, halved after three times `schedule_steps`); `one_cycle` (up for a third of the steps, down to `schedule_end`); `plateau` (by `schedule_factor` after `schedule_patience` validations without a gain).
    pub schedule: ScheduleName,
    /// What `step`, `exponential` and `plateau` multiply the rate by.
    pub schedule_factor: f64,
    /// Steps for `step`, `exponential` and `inverse_square_root`.
    pub schedule_steps: u64,
    /// The share of its height at which the rate ends, for `cosine` and `one_cycle`.
    pub schedule_end: f64,
    /// Validations without a gain that `plateau` waits for.
    pub schedule_patience: u64,
    /// The whole gradient's norm is brought down to this; 0 for no limit.
    pub clip_norm: f64,
    /// Each number of the gradient is brought down to this before; 0 for no limit.
    pub clip_value: f64,
    /// Share of numbers dropped from token vectors, between layers and before the output, 0 to 0.95. `[regularisation]` sets each by itself.
    pub dropout: f64,
    /// Judge the validation text every so many steps; with 0 here and for `validate_epochs`, at the end only.
    pub validate_every: u64,
    /// Judge it every so many passes instead, such as 0.5; 0 for by steps.
    pub validate_epochs: f64,
    /// The share of the validation text that is judged while training, from its beginning, above 0 and at most 1: always the same documents.
    pub validate_share: f64,
    /// Stop after so many validations without a gain, and keep the best weights; 0 for never.
    pub patience: u64,
    /// What counts as a gain for `patience`: a validation loss lower by more than this.
    pub minimum_gain: f64,
    /// Write a line of training figures every so many steps.
    pub record_every: u64,
    /// Measure how far back in time gradients reach every so many steps; 0 for never.
    pub flow_every: u64,
}

impl Default for TrainingPlan {
    fn default() -> Self {
        Self {
            seed: 1,
            epochs: 10,
            steps: None,
            batch: 32,
            window: 64,
            windows: WindowKind::Carried,
            stride: None,
            loss_at: LossAt::Every,
            window_jitter: 0.0,
            reset_at_documents: true,
            lanes: 2,
            learning_rate: 0.002,
            warmup_steps: 50,
            schedule: ScheduleName::Cosine,
            schedule_factor: 0.5,
            schedule_steps: 1000,
            schedule_end: 0.01,
            schedule_patience: 2,
            clip_norm: 1.0,
            clip_value: 0.0,
            dropout: 0.1,
            validate_every: 200,
            validate_epochs: 0.0,
            validate_share: 1.0,
            patience: 0,
            minimum_gain: 0.0,
            record_every: 20,
            flow_every: 200,
        }
    }
}

/// The rule by which weights are moved, by name.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RuleName {
    /// Gradient descent.
    Sgd,
    /// With momentum.
    Momentum,
    /// With momentum that looks ahead.
    Nesterov,
    /// By the root of the mean square.
    Rmsprop,
    /// By means of gradients and of their squares.
    #[default]
    Adam,
    /// The same, weight decay apart.
    Adamw,
    /// Gradient descent whose weights are averaged.
    AveragedSgd,
}

/// `[optimiser]`: how weights are moved.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct OptimiserPlan {
    /// `sgd`, `momentum`, `nesterov`, `rmsprop`, `adam`, `adamw` (weight decay apart from the gradient) or `averaged_sgd` (the mean of the weights over the last steps is judged and saved).
    pub rule: RuleName,
    /// Of `momentum` and `nesterov`.
    pub momentum: f64,
    /// Decay of the mean of gradients, for `adam` and `adamw`.
    pub beta1: f64,
    /// Decay of the mean of their squares, for `adam`, `adamw` and `rmsprop`.
    pub beta2: f64,
    /// Added to the root, for the same.
    pub epsilon: f64,
    /// The share of the steps after which `averaged_sgd` begins its mean.
    pub average_from: f64,
    /// Draws matrices towards zero: added to the gradient in proportion to the weight, or with `adamw` taken off the weight in proportion to the learning rate. Biases and gains are left alone.
    pub weight_decay: f64,
}

impl Default for OptimiserPlan {
    fn default() -> Self {
        Self {
            rule: RuleName::Adam,
            momentum: 0.9,
            beta1: 0.9,
            beta2: 0.999,
            epsilon: 1e-8,
            average_from: 0.5,
            weight_decay: 0.0,
        }
    }
}

/// `[regularisation]`: what keeps the network from learning by heart.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct RegularisationPlan {
    /// Share of numbers dropped from token vectors; without it `training.dropout`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub dropout_inputs: Option<f64>,
    /// Share dropped between layers; without it `training.dropout`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub dropout_layers: Option<f64>,
    /// Share dropped before the output; without it `training.dropout`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub dropout_output: Option<f64>,
    /// Share dropped from what a layer hands to its own next step, the same numbers through a whole window.
    pub dropout_recurrent: f64,
    /// Share of words whose vectors are dropped whole, wherever they stand in a window.
    pub dropout_words: f64,
    /// Factor of the mean square of the last layer's outputs, added to the loss.
    pub activation_penalty: f64,
    /// Factor of the mean square of their change from token to token, added to the loss.
    pub temporal_penalty: f64,
    /// Share of the wanted distribution that is spread over the vocabulary, or over a cluster of it. Not with a sampled softmax.
    pub label_smoothing: f64,
}

/// `[groups]`: what differs between token vectors, recurrent layers and output.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct GroupsPlan {
    /// By which the learning rate of the token vectors is multiplied; 0 leaves them as they are.
    pub embedding_rate: f64,
    /// The same for the recurrent layers.
    pub layers_rate: f64,
    /// The same for the output.
    pub output_rate: f64,
    /// The norm of the token vectors' gradient is brought down to this before the whole is; 0 for no limit.
    pub embedding_clip_norm: f64,
    /// The same for the recurrent layers.
    pub layers_clip_norm: f64,
    /// The same for the output.
    pub output_clip_norm: f64,
}

impl Default for GroupsPlan {
    fn default() -> Self {
        Self {
            embedding_rate: 1.0,
            layers_rate: 1.0,
            output_rate: 1.0,
            embedding_clip_norm: 0.0,
            layers_clip_norm: 0.0,
            output_clip_norm: 0.0,
        }
    }
}
