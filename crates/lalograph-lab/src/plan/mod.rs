//! The plan: everything that decides what a run does, as a TOML file.
//!
//! One file a group of sections; [`reading`] gets them out of a file and finds what is wrong in it, [`reference`] says what each setting is.

pub(crate) mod by_size;
mod check;
mod classifier;
mod corpus;
mod error;
mod expected;
mod keeping;
mod large;
mod model;
mod reading;
pub mod reference;
pub(crate) mod section;
mod start;
pub mod template;
mod training;
mod tune;
mod vectors;

use std::path::{Path, PathBuf};

use lalograph_net::LanguageModelShape;
use lalograph_net::blocks::dropout::DropoutRates;
use lalograph_net::blocks::regularisation::Regularisation;
use lalograph_net::heads::clustered::Clusters;
use lalograph_net::heads::softmax::SoftmaxSettings;
use lalograph_net::learning::clipping::Clipping;
use lalograph_net::learning::optimiser::OptimiserSettings;
use lalograph_text::Reserved;
use lalograph_text::pairs::PairRule;
use serde::{Deserialize, Serialize};

pub use classifier::{
    ClassWeights, ClassifierPlan, Criterion, DocumentLength, Keep, NetworkKind, NumberOrder, TermChoice,
    TermValues,
};
pub use corpus::{CorpusPlan, VocabularyPlan};
pub use error::{Place, PlanError};
pub use expected::{ExpectedPlan, Fulfilment};
pub use keeping::{CheckpointsPlan, SamplesPlan, Texts};
pub use model::{Directions, ModelPlan};
pub use reading::{Problem, problems};
pub use start::StartPlan;
pub use training::{
    GroupsPlan, LossAt, OptimiserPlan, RegularisationPlan, Schedule, TrainingPlan, WindowKind,
};
pub use tune::{LossOn, NewVectors, TunePlan};
pub use vectors::{VectorsPlan, VectorsWay};

/// Everything that decides what a run does.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Plan {
    /// Input tokens.
    pub corpus: CorpusPlan,
    /// Vocabulary settings.
    pub vocabulary: VocabularyPlan,
    /// The network.
    pub model: ModelPlan,
    /// The classifier, in a plan of one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub classifier: Option<ClassifierPlan>,
    /// Word vectors, in a plan of them.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub vectors: Option<VectorsPlan>,
    /// Origin of the initial weights.
    pub start: StartPlan,
    /// Tuning, in a plan that continues from a model.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tune: Option<TunePlan>,
    /// Training settings.
    pub training: TrainingPlan,
    /// The optimiser.
    pub optimiser: OptimiserPlan,
    /// Regularisation settings.
    pub regularisation: RegularisationPlan,
    /// Settings by group of weights.
    pub groups: GroupsPlan,
    /// Settings of samples.
    pub samples: SamplesPlan,
    /// Settings of checkpoints.
    pub checkpoints: CheckpointsPlan,
    /// What is expected, in a plan that was made for a time and a text.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expected: Option<ExpectedPlan>,
}

impl Plan {
    /// The network for a vocabulary of `vocabulary` tokens.
    pub fn shape(&self, vocabulary: usize) -> LanguageModelShape {
        let model = &self.model;
        let (embedding, hidden) = self.widths();
        let clusters = if model.clusters.is_empty() {
            Clusters { shrink: model.cluster_shrink, ..Clusters::default_for(vocabulary) }
        } else {
            Clusters { ends: model.clusters.clone(), shrink: model.cluster_shrink }
        };
        LanguageModelShape {
            layers: model.layers,
            layer_norm: model.layer_norm,
            residual: model.residual,
            learn_first_state: model.learn_first_state,
            tied: self.shares_vectors(),
            softmax: SoftmaxSettings {
                kind: self.softmax(vocabulary),
                clusters,
                samples: model.softmax_samples,
                excluded: Reserved::NEVER_PREDICTED.to_vec(),
            },
            start: self.starting_values(),
            ..LanguageModelShape::new(vocabulary, embedding, hidden, model.cell)
        }
    }

    /// The seed of the split into parts.
    pub fn split_seed(&self) -> u64 {
        self.corpus.split_seed.unwrap_or(self.training.seed)
    }

    /// All paths that it names, in one order.
    pub(crate) fn paths_mut(&mut self) -> impl Iterator<Item = &mut PathBuf> {
        let Self { corpus, vocabulary, vectors, start, tune, .. } = self;
        let read = corpus.paths.iter_mut().chain(&mut corpus.split).chain(&mut vocabulary.file);
        let old = tune.iter_mut().flat_map(|tune| &mut tune.old_text);
        let judges = vectors.iter_mut().flat_map(|own| own.similarity.iter_mut().chain(&mut own.analogies));
        read.chain(&mut start.vectors).chain(&mut start.model).chain(old).chain(judges)
    }

    /// Takes every path that is not absolute to be meant from this folder.
    pub fn start_paths_at(&mut self, folder: &Path) {
        self.paths_mut().for_each(|path| *path = folder.join(&path));
    }

    /// Regularisation.
    pub fn regularisation(&self) -> Regularisation {
        let RegularisationPlan { activation_penalty, temporal_penalty, label_smoothing, .. } =
            self.regularisation;
        let (plan, default) = (&self.regularisation, self.dropout());
        Regularisation {
            dropout: DropoutRates {
                inputs: plan.dropout_inputs.unwrap_or(if self.keeps_inputs() { 0.0 } else { default }),
                words: plan.dropout_words,
                layers: plan.dropout_layers.unwrap_or(default),
                recurrent: plan.dropout_recurrent,
                output: plan.dropout_output.unwrap_or(default),
            },
            activation_penalty,
            temporal_penalty,
            label_smoothing,
        }
    }

    /// Whether the inputs of the first layer are whole unless the plan says otherwise: the mean of token vectors hardly changes when some
    /// numbers are dropped, and of a few measured numbers none can stand for another.
    fn keeps_inputs(&self) -> bool {
        let kept = |own: &ClassifierPlan| own.network == NetworkKind::Pooled || own.features.is_some();
        self.classifier.as_ref().is_some_and(kept)
    }

    /// The optimiser of a run of so many steps.
    pub fn optimiser(&self, steps: u64) -> OptimiserSettings {
        let plan = &self.optimiser;
        let groups = &self.groups;
        OptimiserSettings {
            rule: plan.rule,
            momentum: plan.momentum,
            beta1: plan.beta1,
            beta2: plan.beta2,
            epsilon: plan.epsilon,
            weight_decay: plan.weight_decay,
            average_after: plan.average_from.map(|share| (share * steps as f64) as u64),
            group_rates: vec![groups.embedding_rate, groups.layers_rate, groups.output_rate],
            part_rates: (1..)
                .zip(&groups.layer_rates)
                .map(|(layer, &rate)| (format!("layer.{layer}."), rate))
                .collect(),
        }
    }

    /// How documents that are pairs become tokens; `None` if they are no pairs.
    pub fn pair_rule(&self) -> Option<PairRule> {
        let tune = self.tune.clone().unwrap_or_default();
        self.corpus.prompt.as_ref().map(|_| PairRule {
            longest_prompt: tune.longest_prompt,
            longest_answer: tune.longest_answer,
            loss_on_prompts: tune.loss_on == LossOn::All,
        })
    }

    /// Gradient clipping.
    pub fn clipping(&self) -> Clipping {
        let limit = |value: f64| (value > 0.0).then_some(value);
        let GroupsPlan { embedding_clip_norm, layers_clip_norm, output_clip_norm, .. } = self.groups;
        Clipping {
            value: limit(self.training.clip_value),
            norm: limit(self.training.clip_norm),
            group_norms: [embedding_clip_norm, layers_clip_norm, output_clip_norm].map(limit).to_vec(),
        }
    }
}
