//! `[classifier]`: the network and the data of a classifier. A plan with this section trains a classifier, and any other a language model.

use std::collections::BTreeMap;
use std::fmt;
use std::str::FromStr;

use lalograph_net::blocks::dense::Activation;
use lalograph_net::blocks::pooling::Pooling;
use lalograph_net::blocks::recurrent::start::StartingValues;
use lalograph_net::blocks::stack::StackShape;
use lalograph_net::linear::Penalty;
use lalograph_net::models::classifier::{Body, ClassifierInput, ClassifierShape};
use serde::de::{Error, Visitor};
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use super::section::section;
use super::{Directions, Plan};

lalograph_net::choice! {
    /// Network of a classifier.
    pub enum NetworkKind = Recurrent {
        /// Token vectors, pooled.
        Pooled = "pooled",
        /// Filters over neighbouring tokens, and the maximum of each.
        Convolution = "convolution",
        /// Recurrent layers, pooled over time.
        Recurrent = "recurrent",
        /// Logistic regression on the terms of a document, without the order of its tokens.
        Linear = "linear",
    }
}

lalograph_net::choice! {
    /// Tokens that a linear network has weights for.
    pub enum TermChoice = MutualInformation {
        /// All tokens of the training documents.
        All = "all",
        /// The most frequent tokens of the vocabulary.
        MostFrequent = "most_frequent",
        /// The tokens whose presence in a document has the greatest mutual information with the class.
        MutualInformation = "mutual_information",
        /// The tokens of a list.
        Listed = "listed",
    }
}

lalograph_net::choice! {
    /// Value of a term in a document.
    pub enum TermValues = Roots {
        /// How often it occurs.
        Counts = "counts",
        /// Its share of the tokens.
        Frequencies = "frequencies",
        /// The square root of its share of the tokens.
        Roots = "roots",
        /// Its count times its inverse document frequency, with documents of length 1.
        TfIdf = "tf_idf",
    }
}

lalograph_net::choice! {
    /// The part of a longer document that is kept.
    pub enum Keep = Beginning {
        /// Its beginning.
        Beginning = "beginning",
        /// Its end.
        End = "end",
        /// Half of the length from each end.
        BothEnds = "both_ends",
    }
}

lalograph_net::choice! {
    /// Weights of the classes in the loss.
    pub enum ClassWeights = Equal {
        /// 1 for every class.
        Equal = "equal",
        /// In inverse proportion to the number of training documents; the mean over the documents is 1.
        Balanced = "balanced",
    }
}

lalograph_net::choice! {
    /// Figure of the validation that decides which weights are kept and when training stops early.
    pub enum Criterion = Loss {
        /// The lowest loss.
        Loss = "loss",
        /// The highest accuracy.
        Accuracy = "accuracy",
        /// The highest macro F1.
        MacroF1 = "macro_f1",
    }
}

lalograph_net::choice! {
    /// Order of the numbers in a row.
    pub enum NumberOrder = ByStep {
        /// All features of the first step, then those of the second.
        ByStep = "by_step",
        /// All steps of the first feature, then those of the second.
        ByFeature = "by_feature",
    }
}

/// Longest document in tokens.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DocumentLength {
    /// The length that keeps 95 % of the training documents whole.
    Most,
    /// Every document is read to its end.
    Whole,
    /// This many tokens.
    Tokens(usize),
}

impl FromStr for DocumentLength {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match (text, text.parse()) {
            ("most", _) => Ok(Self::Most),
            ("whole", _) => Ok(Self::Whole),
            (_, Ok(tokens)) if tokens > 0 => Ok(Self::Tokens(tokens)),
            _ => Err(format!("`{text}` must be a number of tokens above 0, `most` or `whole`")),
        }
    }
}

impl fmt::Display for DocumentLength {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Most => formatter.write_str("most"),
            Self::Whole => formatter.write_str("whole"),
            Self::Tokens(tokens) => tokens.fmt(formatter),
        }
    }
}

impl Serialize for DocumentLength {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self {
            Self::Tokens(tokens) => serializer.serialize_u64(*tokens as u64),
            name => serializer.collect_str(name),
        }
    }
}

impl<'de> Deserialize<'de> for DocumentLength {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Length;

        impl Visitor<'_> for Length {
            type Value = DocumentLength;

            fn expecting(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
                formatter.write_str("a number of tokens above 0, `most` or `whole`")
            }

            fn visit_i64<E: Error>(self, tokens: i64) -> Result<DocumentLength, E> {
                self.visit_str(&tokens.to_string())
            }

            fn visit_u64<E: Error>(self, tokens: u64) -> Result<DocumentLength, E> {
                self.visit_str(&tokens.to_string())
            }

            fn visit_str<E: Error>(self, text: &str) -> Result<DocumentLength, E> {
                text.parse().map_err(E::custom)
            }
        }

        deserializer.deserialize_any(Length)
    }
}

/// Strengths that are tried if the plan has none.
const L2_STRENGTHS: [f64; 11] = [0.03, 0.01, 3e-3, 1e-3, 3e-4, 1e-4, 3e-5, 1e-5, 3e-6, 1e-6, 3e-7];
const L1_STRENGTHS: [f64; 10] = [0.03, 0.01, 5e-3, 2.5e-3, 1.2e-3, 6e-4, 3e-4, 1.5e-4, 7e-5, 3e-5];

section! {
    /// a classifier of documents, instead of a language model.
    pub struct ClassifierPlan in "classifier" {
        /// Rows of numbers instead of text: the number of features at each step. The columns of the numbers are `corpus.text`, in which `*` matches any characters; if that is empty, all columns but the label and the group. With `corpus.group` each row is a step, and the rows of a group are a document of any length.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub features: Option<usize> = None,
        /// Number of steps of a row of numbers; if not set, the number of columns over `features`. With `corpus.group` the number of rows that each group must have; if not set, any number.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub time_steps: Option<usize> = None,
        /// Order of the columns of numbers: `by_step` (all features of the first step, then those of the second) or `by_feature` (all steps of the first feature, then those of the second).
        pub order: NumberOrder = NumberOrder::ByStep,
        /// Network: `pooled` (token vectors, pooled), `convolution` (filters over neighbouring tokens, and the maximum of each over the document), `recurrent` (the layers of `[model]`, pooled over time) or `linear` (logistic regression on the terms of a document).
        pub network: NetworkKind = NetworkKind::Recurrent,
        /// Pooling over the tokens of a document: `mean`, `max`, `both` (mean and maximum side by side) or, for recurrent networks, `last` (the last state of each direction). A convolution always takes the maximum.
        pub pooling: Pooling = Pooling::Both,
        /// Widths of the filters of a convolution, in tokens, in rising order.
        pub filter_widths: Vec<usize> = vec![1, 2, 4],
        /// Number of filters of each width.
        pub filters: usize = 80,
        /// Widths of dense layers between pooling and output.
        pub dense: Vec<usize> = Vec::new(),
        /// Activation of filters and dense layers: `relu` or `tanh`.
        pub activation: Activation = Activation::Relu,
        /// Terms of a linear network: `all` tokens of the training documents, the `most_frequent`, those with the greatest `mutual_information` between their presence and the class, or those `listed` in `term_list`.
        pub term_choice: TermChoice = TermChoice::MutualInformation,
        /// Number of terms of a linear network, for `most_frequent` and `mutual_information`.
        pub terms: usize = 30_000,
        /// Terms of a linear network with `term_choice = "listed"`.
        #[serde(skip_serializing_if = "Vec::is_empty")]
        pub term_list: Vec<String> = Vec::new(),
        /// Value of a term in a document: `counts`, `frequencies` (its share of the tokens), `roots` (the square root of that share) or `tf_idf` (its count times the logarithm of all documents over those that have it, each document scaled to length 1).
        pub term_values: TermValues = TermValues::Roots,
        /// Products of the values of each two of this many first terms, as further features of a linear network.
        pub term_pairs: usize = 0,
        /// Penalty on the weights of a linear network: `l2` (half the sum of squares) or `l1` (the sum of absolute values: many weights become exactly 0).
        pub penalty: Penalty = Penalty::L2,
        /// Strengths of the penalty, in falling order; the one with the best validation is kept. If empty, ten or eleven strengths that suit the penalty. Weaker ones are not tried after two with a clearly worse validation loss.
        #[serde(skip_serializing_if = "Vec::is_empty")]
        pub strengths: Vec<f64> = Vec::new(),
        /// A linear network is solved when the norm of the gradient is this share of the norm at zero weights.
        pub tolerance: f64 = 1e-4,
        /// Iterations of the solver for each strength, at most.
        pub iterations: u64 = 1000,
        /// Longest document in tokens, or in rows of a group of numbers: a number, `most` (the length that keeps 95 % of the training documents whole; for a linear network every document is whole) or `whole` (every document is read to its end; recurrent networks carry the state from window to window and cut the gradient between them).
        pub length: DocumentLength = DocumentLength::Most,
        /// Part of a longer document to keep: `beginning`, `end` or `both_ends` (half of the length from each end).
        pub keep_part: Keep = Keep::Beginning,
        /// Weights of the classes in the loss: `equal`, or `balanced` (in inverse proportion to the number of training documents).
        pub class_weights: ClassWeights = ClassWeights::Equal,
        /// Weights of single classes, such as `{ failing = 3.0 }`; the other classes keep those of `class_weights`.
        #[serde(skip_serializing_if = "BTreeMap::is_empty")]
        pub weights: BTreeMap<String, f64> = BTreeMap::new(),
        /// Figure of the validation that decides which weights are kept and when training stops early: `loss`, `accuracy` or `macro_f1`.
        pub criterion: Criterion = Criterion::Loss,
        /// Labels whose documents are not used for training, validation or test, such as labels in dispute.
        #[serde(skip_serializing_if = "Vec::is_empty")]
        pub set_aside: Vec<String> = Vec::new(),
        /// Keep near duplicates in the same part: documents whose shingles overlap by at least this share, above 0 and at most 1. If not set, only equal documents are kept together.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub near: Option<f64> = None,
    }
}

impl Plan {
    /// The defaults of a plan with a `[classifier]` section.
    pub fn for_classifier() -> Self {
        let mut plan = Self { classifier: Some(ClassifierPlan::default()), ..Self::default() };
        (plan.model.embedding, plan.model.hidden) = (Some(64), Some(96));
        plan.training.window = 256;
        (plan.training.validate_every, plan.training.validate_every_epochs) = (0, 1.0);
        plan.training.dropout = Some(0.3);
        plan
    }

    /// The defaults of a plan of this task.
    pub fn defaults(&self) -> Self {
        if self.classifier.is_some() { Self::for_classifier() } else { Self::default() }
    }

    /// The network of a classifier with this input and these class weights; none if it is linear.
    pub fn classifier_shape(
        &self,
        input: ClassifierInput,
        classes: usize,
        class_weights: Vec<f64>,
    ) -> Option<ClassifierShape> {
        let own = self.classifier.clone().unwrap_or_default();
        let model = &self.model;
        let start = self.starting_values();
        let body = match own.network {
            NetworkKind::Pooled => Body::Pooled { pooling: own.pooling },
            NetworkKind::Convolution => {
                Body::Convolution { widths: own.filter_widths.clone(), filters: own.filters }
            }
            NetworkKind::Recurrent => Body::Recurrent {
                stack: StackShape {
                    cell: model.cell,
                    inputs: input.width(),
                    hidden: self.widths().1,
                    layers: model.layers,
                    both_directions: model.directions == Directions::Both,
                    layer_norm: model.layer_norm,
                    residual: model.residual,
                    learn_first_state: model.learn_first_state,
                    start,
                },
                pooling: own.pooling,
                window: self.training.window,
            },
            NetworkKind::Linear => return None,
        };
        Some(ClassifierShape {
            input,
            classes,
            body,
            dense: own.dense,
            activation: own.activation,
            class_weights,
            start,
        })
    }

    /// The strengths of a linear network's penalty, the strongest first.
    pub fn strengths(&self) -> Vec<f64> {
        let own = self.classifier.clone().unwrap_or_default();
        match (own.strengths.is_empty(), own.penalty) {
            (false, _) => own.strengths,
            (true, Penalty::L2) => L2_STRENGTHS.to_vec(),
            (true, Penalty::L1) => L1_STRENGTHS.to_vec(),
        }
    }

    /// First values of the weights.
    pub(super) fn starting_values(&self) -> StartingValues {
        let model = &self.model;
        let default = StartingValues::default_for(model.cell);
        StartingValues {
            recurrent: model.recurrent_start,
            recurrent_gain: model.recurrent_gain,
            inputs: model.input_start,
            keep_bias: model.keep_bias.unwrap_or(default.keep_bias),
        }
    }
}
