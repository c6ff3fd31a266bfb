//! The plan: everything that decides what a run does, as a TOML file.

use std::path::PathBuf;

use lalograph_net::clipping::Clipping;
use lalograph_net::dropout::DropoutRates;
use lalograph_net::model::Regularisation;
use lalograph_net::optimiser::{OptimiserSettings, Rule};
use lalograph_net::output::{Clusters, SoftmaxKind};
use lalograph_net::recurrent::{RecurrentStart, StartingValues};
use lalograph_net::{Cell, LanguageModelShape};
use lalograph_text::corpus::{Limits, TableStyle};
use lalograph_text::vocabulary::VocabularySpec;
use lalograph_text::{Cleaning, CleaningStep, CorpusSpec, Division, Form, Reserved, Unit};
use serde::{Deserialize, Serialize};
use thiserror::Error;

/// What is wrong with a plan.
#[derive(Debug, Error)]
pub enum PlanError {
    /// Not TOML, or a value of the wrong kind; the text draws the place.
    #[error("{0}")]
    Syntax(String),
    /// A key that no plan has.
    #[error("no setting `{key}`{}", .nearest.as_ref().map(|near| format!("; did you mean `{near}`?")).unwrap_or_default())]
    Unknown {
        /// The key, with its section.
        key: String,
        /// The known key most like it.
        nearest: Option<String>,
    },
    /// A value outside its range.
    #[error("`{key}` is {value}, and must be {must}")]
    Range {
        /// The key, with its section.
        key: &'static str,
        /// Its value.
        value: String,
        /// What it must be.
        must: &'static str,
    },
    /// An override that is not `section.key=value`.
    #[error("`{0}` is not of the form section.key=value")]
    Override(String),
}

/// Everything that decides what a run does.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Plan {
    /// What is read.
    pub corpus: CorpusPlan,
    /// How text becomes indices.
    pub vocabulary: VocabularyPlan,
    /// The network.
    pub model: ModelPlan,
    /// How it learns.
    pub training: TrainingPlan,
    /// How weights are moved.
    pub optimiser: OptimiserPlan,
    /// What keeps it from learning by heart.
    pub regularisation: RegularisationPlan,
    /// What differs between groups of weights.
    pub groups: GroupsPlan,
    /// What it writes meanwhile.
    pub samples: SamplesPlan,
}

/// `[corpus]`: what is read.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct CorpusPlan {
    /// Files, folders, or patterns such as `letters/*.txt`. Gzip and Zstandard are unpacked.
    pub paths: Vec<PathBuf>,
    /// Whether folders inside folders are read.
    pub recursive: bool,
    /// What the files hold: `auto` (as their names say), `text`, `csv`, `tsv` or `json_lines`.
    pub form: Form,
    /// What one document of a text is: `file` (also when this is not said), `line` or `paragraph`. A row of a table is a document.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub document: Option<Division>,
    /// Columns (by name or number) or fields (by path, such as `visit.notes`) that hold the text; without any, `text`.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub text: Vec<String>,
    /// The column or field that holds the class.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// Whether the folder just below the one that was named is the class.
    pub folder_labels: bool,
    /// The character between the fields of a table, where it is not the usual comma or tab.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub delimiter: Option<char>,
    /// Whether fields may stand in quotation marks, where that is not as usual: yes in CSV, no in TSV.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub quoted: Option<bool>,
    /// Whether the first row of a table names its columns.
    pub head: bool,
    /// The encoding of all files; without one it is found out for each.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub encoding: Option<String>,
    /// The longest document, in bytes; longer ones are left out.
    pub longest_bytes: u64,
    /// How many times their size compressed files may grow to.
    pub expansion: u64,
    /// Whether anything that would be left out is an error.
    pub strict: bool,
    /// Only the first so many documents.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub first: Option<u64>,
    /// The share of documents held out to judge by, 0 to 0.9.
    pub validation_share: f64,
    /// A split file that says which documents are learnt from and which are held out, instead of the share.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub split: Option<PathBuf>,
}

impl Default for CorpusPlan {
    fn default() -> Self {
        let Limits { document_bytes, expansion } = Limits::default();
        Self {
            paths: Vec::new(),
            recursive: false,
            form: Form::Auto,
            document: None,
            text: Vec::new(),
            label: None,
            folder_labels: false,
            delimiter: None,
            quoted: None,
            head: true,
            encoding: None,
            longest_bytes: document_bytes,
            expansion,
            strict: false,
            first: None,
            validation_share: 0.1,
            split: None,
        }
    }
}

impl CorpusPlan {
    /// What to read. A delimiter that is not ASCII is refused by [`Plan::check`].
    pub fn spec(&self) -> CorpusSpec {
        CorpusSpec {
            paths: self.paths.clone(),
            recursive: self.recursive,
            form: self.form,
            division: self.document,
            text: self.text.clone(),
            label: self.label.clone(),
            folder_labels: self.folder_labels,
            keep: Vec::new(),
            table: TableStyle {
                delimiter: self.delimiter.and_then(|c| u8::try_from(c).ok()),
                quoted: self.quoted,
                head: self.head,
            },
            encoding: self.encoding.clone(),
            first: self.first,
            limits: Limits { document_bytes: self.longest_bytes, expansion: self.expansion },
            strict: self.strict,
            part: None,
        }
    }
}

/// `[vocabulary]`: how text becomes indices.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct VocabularyPlan {
    /// A vocabulary file to use as it is. Without one, a vocabulary is counted on the training text, as the other settings say.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub file: Option<PathBuf>,
    /// What a token is: `word`, `character`, `grapheme`, `byte`, `byte_pair` or `unigram`.
    pub unit: Unit,
    /// Cleaning steps in order: `strip_html`, `normal_form_c` (or `_d`, `_kc`, `_kd`), `lower_case`, `split_punctuation`, `drop_punctuation`, `fold_digits`, `plain_line_ends`, `collapse_space`, `{ replace = { pattern = "...", with = "..." } }`.
    pub cleaning: Vec<CleaningStep>,
    /// At most so many tokens besides the reserved ones. Subwords have the 256 bytes among them.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub size: Option<usize>,
    /// Tokens seen at least so often; pairs, where subwords are merged.
    pub minimum_count: u64,
    /// Words or characters that get an index however rare they are.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub include: Vec<String>,
    /// Words or characters that get none however common they are.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub exclude: Vec<String>,
    /// How the reserved tokens are spelt: `padding`, `unknown`, `start`, `end`.
    pub reserved: Reserved,
}

impl Default for VocabularyPlan {
    fn default() -> Self {
        Self {
            file: None,
            unit: Unit::Word,
            cleaning: vec![CleaningStep::NormalFormC],
            size: Some(20_000),
            minimum_count: 1,
            include: Vec::new(),
            exclude: Vec::new(),
            reserved: Reserved::default(),
        }
    }
}

impl VocabularyPlan {
    /// What to build.
    pub fn spec(&self) -> VocabularySpec {
        VocabularySpec {
            unit: self.unit,
            cleaning: Cleaning { steps: self.cleaning.clone() },
            size: self.size,
            minimum_count: self.minimum_count,
            reserved: self.reserved.clone(),
            include: self.include.clone(),
            exclude: self.exclude.clone(),
        }
    }
}

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
            keep_bias: None,
        }
    }
}

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
    /// Judge the validation text every so many steps; 0 for at the end only.
    pub validate_every: u64,
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
            record_every: 20,
            flow_every: 0,
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

/// `[samples]`: what the network writes while it learns.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct SamplesPlan {
    /// One sample for each; above 0.
    pub temperatures: Vec<f64>,
    /// Steps between samples; 0 for at the end only.
    pub every: u64,
    /// Tokens of a sample, at most: it also stops where a document ends.
    pub tokens: usize,
    /// The text that every sample goes on from; empty for the start of a document.
    pub seed_text: String,
}

impl Default for SamplesPlan {
    fn default() -> Self {
        Self { temperatures: vec![0.3, 0.7, 1.0], every: 200, tokens: 60, seed_text: String::new() }
    }
}

impl Plan {
    /// Reads a plan, with `section.key=value` overrides applied in order. What is not said has its default.
    ///
    /// # Errors
    /// A [`PlanError`]: unknown keys with the nearest known one, wrong kinds with their place, values out of range.
    pub fn from_toml(text: &str, overrides: &[String]) -> Result<Self, PlanError> {
        let mut table: toml::Table = text.parse().map_err(|error: toml::de::Error| syntax(&error))?;
        refuse_unknown(&table)?;
        // Read from the text itself first: only then can a message draw the line.
        let _: Self = toml::from_str(text).map_err(|error| syntax(&error))?;
        for setting in overrides {
            apply_override(&mut table, setting)?;
        }
        refuse_unknown(&table)?;
        let plan: Self = table.try_into().map_err(|error: toml::de::Error| syntax(&error))?;
        plan.check()?;
        Ok(plan)
    }

    /// The whole plan as TOML, every setting written out.
    pub fn to_toml(&self) -> String {
        // Plain data: serialising it cannot fail.
        toml::to_string(self).unwrap_or_default()
    }

    /// Refuses values outside their range.
    ///
    /// # Errors
    /// [`PlanError::Range`] for the first one.
    pub fn check(&self) -> Result<(), PlanError> {
        let Self { corpus, model, training, optimiser, regularisation, groups, samples, .. } = self;
        let range = |key, value: String, must| Err(PlanError::Range { key, value, must });
        if let Some(delimiter) = corpus.delimiter.filter(|c| !c.is_ascii() || matches!(c, '\n' | '\r' | '"'))
        {
            return range(
                "corpus.delimiter",
                format!("{delimiter:?}"),
                "one ASCII character that ends no line and no quotation",
            );
        }
        if model.directions == Directions::Both {
            let must = "`forward`: a layer that reads backwards has read the token that is to be predicted";
            return range("model.directions", "`both`".into(), must);
        }
        if regularisation.label_smoothing > 0.0 && model.softmax == SoftmaxName::Sampled {
            let must = "0 with a sampled softmax, which never sees the whole distribution";
            return range("regularisation.label_smoothing", regularisation.label_smoothing.to_string(), must);
        }
        if training.loss_at == LossAt::Last && training.windows != WindowKind::Independent {
            let must = "`every` unless `training.windows` is `independent`";
            return range("training.loss_at", "`last`".into(), must);
        }
        // Each kind of range once; then which setting must lie in which.
        type Ranged = (&'static str, f64, bool, &'static str);
        fn at_least_one(key: &'static str, value: u64) -> Ranged {
            (key, value as f64, value > 0, "at least 1")
        }
        fn within(key: &'static str, value: f64, (low, high): (f64, f64), must: &'static str) -> Ranged {
            (key, value, (low..=high).contains(&value), must)
        }
        fn share(key: &'static str, value: f64) -> Ranged {
            within(key, value, (0.0, 0.95), "from 0 to 0.95")
        }
        fn not_negative(key: &'static str, value: f64) -> Ranged {
            within(key, value, (0.0, f64::MAX), "0 or above")
        }
        fn limit(key: &'static str, value: f64) -> Ranged {
            within(key, value, (0.0, f64::MAX), "0 (no clipping) or above")
        }
        fn positive_number(key: &'static str, value: f64) -> Ranged {
            (key, value, value > 0.0 && value.is_finite(), "above 0")
        }
        let size = (1.0, 65_536.0);
        let ranges = [
            within(
                "corpus.longest_bytes",
                corpus.longest_bytes as f64,
                (1.0, (1u64 << 31) as f64),
                "from 1 to 2,147,483,648",
            ),
            at_least_one("corpus.expansion", corpus.expansion),
            within("corpus.validation_share", corpus.validation_share, (0.0, 0.9), "from 0 to 0.9"),
            at_least_one("model.embedding", model.embedding as u64),
            at_least_one("model.hidden", model.hidden as u64),
            at_least_one("model.layers", model.layers as u64),
            at_least_one("model.cluster_shrink", model.cluster_shrink as u64),
            within("model.softmax_samples", model.softmax_samples as f64, (1.0, 1e6), "from 1 to 1,000,000"),
            not_negative("model.recurrent_gain", model.recurrent_gain),
            within("model.keep_bias", model.keep_bias.unwrap_or(0.0), (-100.0, 100.0), "from -100 to 100"),
            at_least_one("training.epochs", training.epochs),
            within("training.batch", training.batch as f64, size, "from 1 to 65,536"),
            within("training.window", training.window as f64, size, "from 1 to 65,536"),
            at_least_one("training.stride", training.stride.unwrap_or(1) as u64),
            within("training.window_jitter", training.window_jitter, (0.0, 0.5), "from 0 to 0.5"),
            at_least_one("training.record_every", training.record_every),
            at_least_one("training.lanes", training.lanes as u64),
            positive_number("training.learning_rate", training.learning_rate),
            within(
                "training.schedule_factor",
                training.schedule_factor,
                (1e-6, 1.0),
                "above 0 and at most 1",
            ),
            at_least_one("training.schedule_steps", training.schedule_steps),
            within("training.schedule_end", training.schedule_end, (0.0, 1.0), "from 0 to 1"),
            at_least_one("training.schedule_patience", training.schedule_patience),
            limit("training.clip_norm", training.clip_norm),
            limit("training.clip_value", training.clip_value),
            share("training.dropout", training.dropout),
            at_least_one("training.steps", training.steps.unwrap_or(1)),
            within("optimiser.momentum", optimiser.momentum, (0.0, 0.9999), "from 0 to 0.9999"),
            within("optimiser.beta1", optimiser.beta1, (0.0, 0.9999), "from 0 to 0.9999"),
            within("optimiser.beta2", optimiser.beta2, (0.0, 0.999_999), "from 0 to 0.999999"),
            positive_number("optimiser.epsilon", optimiser.epsilon),
            within("optimiser.average_from", optimiser.average_from, (0.0, 1.0), "from 0 to 1"),
            not_negative("optimiser.weight_decay", optimiser.weight_decay),
            share("regularisation.dropout_inputs", regularisation.dropout_inputs.unwrap_or(0.0)),
            share("regularisation.dropout_layers", regularisation.dropout_layers.unwrap_or(0.0)),
            share("regularisation.dropout_output", regularisation.dropout_output.unwrap_or(0.0)),
            share("regularisation.dropout_recurrent", regularisation.dropout_recurrent),
            share("regularisation.dropout_words", regularisation.dropout_words),
            not_negative("regularisation.activation_penalty", regularisation.activation_penalty),
            not_negative("regularisation.temporal_penalty", regularisation.temporal_penalty),
            share("regularisation.label_smoothing", regularisation.label_smoothing),
            not_negative("groups.embedding_rate", groups.embedding_rate),
            not_negative("groups.layers_rate", groups.layers_rate),
            not_negative("groups.output_rate", groups.output_rate),
            limit("groups.embedding_clip_norm", groups.embedding_clip_norm),
            limit("groups.layers_clip_norm", groups.layers_clip_norm),
            limit("groups.output_clip_norm", groups.output_clip_norm),
        ];
        let temperatures = samples
            .temperatures
            .iter()
            .map(|&t| ("samples.temperatures", t, t > 0.0 && t.is_finite(), "above 0, each of them"));
        match ranges.into_iter().chain(temperatures).find(|(_, _, fine, _)| !fine) {
            Some((key, value, _, must)) => Err(PlanError::Range { key, value: value.to_string(), must }),
            None => Ok(()),
        }
    }

    /// The network over a vocabulary of so many indices.
    pub fn shape(&self, vocabulary: usize) -> LanguageModelShape {
        let model = &self.model;
        let cell = model.cell.cell();
        let usual = StartingValues::usual(cell);
        LanguageModelShape {
            layers: model.layers,
            layer_norm: model.layer_norm,
            residual: model.residual,
            learn_first_state: model.learn_first_state,
            tied: model.tied,
            softmax: match model.softmax {
                SoftmaxName::Full => SoftmaxKind::Full,
                SoftmaxName::Sampled => SoftmaxKind::Sampled(model.softmax_samples),
                SoftmaxName::Clustered if model.clusters.is_empty() => SoftmaxKind::Clustered(Clusters {
                    shrink: model.cluster_shrink,
                    ..Clusters::usual(vocabulary)
                }),
                SoftmaxName::Clustered => SoftmaxKind::Clustered(Clusters {
                    ends: model.clusters.clone(),
                    shrink: model.cluster_shrink,
                }),
            },
            start: StartingValues {
                recurrent: match model.recurrent_start {
                    RecurrentStartName::Orthogonal => RecurrentStart::Orthogonal,
                    RecurrentStartName::Uniform => RecurrentStart::Uniform,
                    RecurrentStartName::Normal => RecurrentStart::Normal,
                },
                recurrent_gain: model.recurrent_gain,
                normal_inputs: model.input_start == InputStartName::Normal,
                keep_bias: model.keep_bias.unwrap_or(usual.keep_bias),
            },
            ..LanguageModelShape::new(vocabulary, model.embedding, model.hidden, cell)
        }
    }

    /// What training does besides lowering the loss.
    pub fn regularisation(&self) -> Regularisation {
        let RegularisationPlan { activation_penalty, temporal_penalty, label_smoothing, .. } =
            self.regularisation;
        let (plan, usual) = (&self.regularisation, self.training.dropout);
        Regularisation {
            dropout: DropoutRates {
                inputs: plan.dropout_inputs.unwrap_or(usual),
                words: plan.dropout_words,
                layers: plan.dropout_layers.unwrap_or(usual),
                recurrent: plan.dropout_recurrent,
                output: plan.dropout_output.unwrap_or(usual),
            },
            activation_penalty,
            temporal_penalty,
            label_smoothing,
        }
    }

    /// How weights are moved in a run of so many steps.
    pub fn optimiser(&self, steps: u64) -> OptimiserSettings {
        let plan = &self.optimiser;
        let &OptimiserPlan { momentum, beta1, beta2, epsilon, .. } = plan;
        let rule = match plan.rule {
            RuleName::Sgd | RuleName::AveragedSgd => Rule::Descent { momentum: 0.0, nesterov: false },
            RuleName::Momentum => Rule::Descent { momentum, nesterov: false },
            RuleName::Nesterov => Rule::Descent { momentum, nesterov: true },
            RuleName::Rmsprop => Rule::RmsProp { decay: beta2, epsilon },
            RuleName::Adam => Rule::Adam { beta1, beta2, epsilon, apart: false },
            RuleName::Adamw => Rule::Adam { beta1, beta2, epsilon, apart: true },
        };
        let groups = &self.groups;
        OptimiserSettings {
            rule,
            weight_decay: plan.weight_decay,
            average_after: (plan.rule == RuleName::AveragedSgd)
                .then_some((plan.average_from * steps as f64) as u64),
            group_rates: [groups.embedding_rate, groups.layers_rate, groups.output_rate],
        }
    }

    /// How gradients are limited.
    pub fn clipping(&self) -> Clipping {
        let limit = |value: f64| (value > 0.0).then_some(value);
        let GroupsPlan { embedding_clip_norm, layers_clip_norm, output_clip_norm, .. } = self.groups;
        Clipping {
            value: limit(self.training.clip_value),
            norm: limit(self.training.clip_norm),
            group_norms: [embedding_clip_norm, layers_clip_norm, output_clip_norm].map(limit),
        }
    }
}

fn syntax(error: &toml::de::Error) -> PlanError {
    PlanError::Syntax(error.to_string().trim_end().to_owned())
}

/// Every key that a plan may have, as `section.key`.
fn known_keys() -> Vec<String> {
    [
        ("corpus", fields_of::<CorpusPlan>()),
        ("vocabulary", fields_of::<VocabularyPlan>()),
        ("model", fields_of::<ModelPlan>()),
        ("training", fields_of::<TrainingPlan>()),
        ("optimiser", fields_of::<OptimiserPlan>()),
        ("regularisation", fields_of::<RegularisationPlan>()),
        ("groups", fields_of::<GroupsPlan>()),
        ("samples", fields_of::<SamplesPlan>()),
    ]
    .into_iter()
    .flat_map(|(section, keys)| keys.iter().map(move |key| format!("{section}.{key}")))
    .collect()
}

/// The names of a struct's fields, as it asks for them when it is read.
fn fields_of<'de, T: Deserialize<'de>>() -> &'static [&'static str] {
    struct Asked<'f>(&'f mut &'static [&'static str]);

    impl<'de> serde::Deserializer<'de> for Asked<'_> {
        type Error = serde::de::value::Error;

        fn deserialize_any<V: serde::de::Visitor<'de>>(self, _: V) -> Result<V::Value, Self::Error> {
            Err(serde::de::Error::custom("only the names are wanted"))
        }

        fn deserialize_struct<V: serde::de::Visitor<'de>>(
            self,
            _: &'static str,
            fields: &'static [&'static str],
            visitor: V,
        ) -> Result<V::Value, Self::Error> {
            *self.0 = fields;
            self.deserialize_any(visitor)
        }

        serde::forward_to_deserialize_any! {
            bool i8 i16 i32 i64 i128 u8 u16 u32 u64 u128 f32 f64 char str string bytes byte_buf option unit
            unit_struct newtype_struct seq tuple tuple_struct map enum identifier ignored_any
        }
    }

    let mut fields: &'static [&'static str] = &[];
    let _ = T::deserialize(Asked(&mut fields));
    fields
}

fn refuse_unknown(table: &toml::Table) -> Result<(), PlanError> {
    let known = known_keys();
    for (section, value) in table {
        let keys: Vec<String> = match value.as_table() {
            Some(inner) if !inner.is_empty() => inner.keys().map(|key| format!("{section}.{key}")).collect(),
            _ => vec![section.clone()],
        };
        for key in keys {
            let is_section = known.iter().any(|k| k.split('.').next() == Some(&*key));
            if !known.contains(&key) && !is_section {
                return Err(PlanError::Unknown { nearest: nearest(&key, &known), key });
            }
        }
    }
    Ok(())
}

/// The known key most like this one, if any is like it at all.
fn nearest(key: &str, known: &[String]) -> Option<String> {
    let last = |name: &str| name.rsplit('.').next().unwrap_or_default().to_owned();
    known
        .iter()
        .map(|k| (strsim::jaro_winkler(key, k).max(strsim::jaro_winkler(&last(key), &last(k))), k))
        .filter(|(likeness, _)| *likeness > 0.8)
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map(|(_, k)| k.clone())
}

fn apply_override(table: &mut toml::Table, setting: &str) -> Result<(), PlanError> {
    let wrong = || PlanError::Override(setting.to_owned());
    let (path, value) = setting.split_once('=').ok_or_else(wrong)?;
    let (section, key) = path.trim().split_once('.').ok_or_else(wrong)?;
    // What does not read as a TOML value is taken as text, so that quotes need not be quoted in a shell.
    let value = format!("value = {value}")
        .parse::<toml::Table>()
        .ok()
        .and_then(|mut parsed| parsed.remove("value"))
        .unwrap_or_else(|| toml::Value::String(value.trim().to_owned()));
    table
        .entry(section)
        .or_insert_with(|| toml::Value::Table(toml::Table::new()))
        .as_table_mut()
        .ok_or_else(wrong)?
        .insert(key.to_owned(), value);
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::{Plan, PlanError};

    fn read(text: &str, overrides: &[&str]) -> Result<Plan, PlanError> {
        let overrides: Vec<String> = overrides.iter().map(|&s| s.to_owned()).collect();
        Plan::from_toml(text, &overrides)
    }

    #[test]
    fn an_empty_plan_has_every_default_and_a_written_plan_reads_back() {
        let plan = read("", &[]).unwrap();
        assert_eq!(plan, Plan::default());
        assert_eq!(read(&plan.to_toml(), &[]).unwrap(), plan);
    }

    #[test]
    fn overrides_win_over_the_file_and_may_be_bare_words() {
        let text = "[model]\nhidden = 12\n[training]\nseed = 5\n";
        let plan =
            read(text, &["model.hidden=99", "corpus.document=line", "samples.seed_text=Old Pell"]).unwrap();
        assert_eq!((plan.model.hidden, plan.training.seed), (99, 5));
        assert_eq!(plan.corpus.document, Some(lalograph_text::Division::Line));
        assert_eq!(plan.samples.seed_text, "Old Pell");
    }

    #[test]
    fn mistakes_are_named_with_a_remedy() {
        let cases: [(&str, &[&str], &str); 9] = [
            ("[model]\nhiden = 3\n", &[], "no setting `model.hiden`; did you mean `model.hidden`?"),
            ("", &["trainig.seed=3"], "did you mean `training.seed`?"),
            ("[oddity]\n", &[], "no setting `oddity`"),
            ("", &["model.hidden"], "section.key=value"),
            ("[model]\nhidden = \"wide\"\n", &[], "line 2"),
            ("[model\n", &[], "line 1"),
            ("[training]\ndropout = 1.0\n", &[], "`training.dropout` is 1, and must be from 0 to 0.95"),
            ("[samples]\ntemperatures = [0.5, 0.0]\n", &[], "`samples.temperatures` is 0"),
            ("[training]\nbatch = 0\n", &[], "`training.batch` is 0"),
        ];
        for (text, overrides, expected) in cases {
            let message = read(text, overrides).unwrap_err().to_string();
            assert!(message.contains(expected), "{text:?} {overrides:?}: {message}");
        }
    }

    #[test]
    fn every_range_holds_at_its_ends_and_ends_just_beyond_them() {
        let inside = [
            "corpus.validation_share=0",
            "corpus.validation_share=0.9",
            "training.batch=65536",
            "training.window=1",
            "training.clip_norm=0",
            "training.dropout=0.95",
            "training.validate_every=0",
            "training.warmup_steps=0",
            "samples.every=0",
            "samples.temperatures=[]",
            "samples.temperatures=[0.01,50]",
            "training.steps=1",
            "vocabulary.size=1",
            "corpus.first=0",
        ];
        for setting in inside {
            read("", &[setting]).unwrap_or_else(|error| panic!("{setting}: {error}"));
        }
        let outside = [
            "corpus.validation_share=-0.1",
            "corpus.validation_share=0.91",
            "model.embedding=0",
            "model.hidden=0",
            "model.layers=0",
            "training.epochs=0",
            "training.steps=0",
            "training.batch=65537",
            "training.window=0",
            "training.lanes=0",
            "training.record_every=0",
            "training.learning_rate=0.0",
            "training.learning_rate=-1.0",
            "training.learning_rate=inf",
            "training.clip_norm=-0.5",
            "training.clip_norm=nan",
            "training.dropout=0.96",
            "samples.temperatures=[1.0,-1.0]",
            "samples.temperatures=[nan]",
        ];
        for setting in outside {
            let error = read("", &[setting]).expect_err(setting);
            let key = setting.split('=').next().unwrap_or_default();
            assert!(
                matches!(error, PlanError::Range { key: found, .. } if found == key),
                "{setting}: {error}"
            );
        }
        for wrong in ["model.hidden=-3", "training.seed=1.5", "corpus.document=page", "model.cell=abacus"] {
            assert!(matches!(read("", &[wrong]), Err(PlanError::Syntax(_))), "{wrong}");
        }
    }

    #[test]
    fn overrides_without_a_form_are_refused_and_the_last_of_two_wins() {
        for wrong in ["", "=", "model", "model=3", ".hidden=3", "model.hidden"] {
            assert!(read("", &[wrong]).is_err(), "{wrong:?}");
        }
        let plan = read("", &["model.hidden=3", "model.hidden=4"]).unwrap();
        assert_eq!(plan.model.hidden, 4);
        let spaced = read("", &["samples.seed_text=Old = Pell"]).unwrap();
        assert_eq!(spaced.samples.seed_text, "Old = Pell");
    }
}
