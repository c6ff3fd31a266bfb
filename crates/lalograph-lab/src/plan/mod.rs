//! The plan: everything that decides what a run does, as a TOML file.
//!
//! One file a group of sections; [`reading`] gets them out of a file and finds what is wrong in it, [`reference`] says what each setting is.

mod check;
mod corpus;
mod keeping;
mod model;
mod reading;
pub mod reference;
pub mod template;
mod training;

use lalograph_net::LanguageModelShape;
use lalograph_net::clipping::Clipping;
use lalograph_net::dropout::DropoutRates;
use lalograph_net::model::Regularisation;
use lalograph_net::optimiser::{OptimiserSettings, Rule};
use lalograph_net::output::{Clusters, SoftmaxKind};
use lalograph_net::recurrent::{RecurrentStart, StartingValues};
use serde::{Deserialize, Serialize};
use thiserror::Error;

pub use corpus::{CorpusPlan, VocabularyPlan};
pub use keeping::{CheckpointsPlan, SamplesPlan, Texts};
pub use model::{CellName, Directions, InputStartName, ModelPlan, RecurrentStartName, SoftmaxName};
pub use reading::{Place, Problem, problems};
pub use training::{
    GroupsPlan, LossAt, OptimiserPlan, RegularisationPlan, RuleName, ScheduleName, TrainingPlan, WindowKind,
};

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
    /// Something wrong at a place of the file.
    #[error("{place}: {problem}")]
    Placed {
        /// Where its name stands.
        place: Place,
        /// What is wrong there.
        problem: Box<PlanError>,
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
    /// What it is resumed from.
    pub checkpoints: CheckpointsPlan,
}

impl Plan {
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
