//! What a plan will cost before any of it is trained: parameters, memory, operations.

use std::ops::Range;

use lalograph_net::LanguageModel;
use lalograph_net::model::{Purpose, Regularisation};
use lalograph_net::recurrent::Extent;
use serde::Serialize;

use crate::error::LabError;
use crate::flow::ROWS as FLOW_ROWS;
use crate::plan::Plan;
use crate::streams::TrainingWindows;
use crate::train::JUDGED_ROWS;

/// Bytes of one number.
const NUMBER: u64 = 4;

/// One parameter of the model.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct ParameterCost {
    /// Its name in the model file.
    pub name: String,
    /// Its sizes, outermost first.
    pub shape: Vec<usize>,
    /// Numbers in it.
    pub parameters: u64,
}

/// What training keeps in memory, in bytes, besides the text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct MemoryCost {
    /// The weights.
    pub weights: u64,
    /// Copies of them in the order in which products read them.
    pub packed_weights: u64,
    /// The gradients of all lanes.
    pub gradients: u64,
    /// What the optimiser remembers.
    pub optimiser: u64,
    /// What lanes keep of a window, and the room that they work in.
    pub activations: u64,
    /// The lanes in which the validation text is judged.
    pub validation: u64,
    /// The best weights so far.
    pub best_weights: u64,
    /// The lane in which it is measured how far back gradients reach.
    pub flow: u64,
}

impl MemoryCost {
    /// All of it.
    pub fn total(&self) -> u64 {
        self.weights
            + self.packed_weights
            + self.gradients
            + self.optimiser
            + self.activations
            + self.validation
            + self.best_weights
            + self.flow
    }
}

/// What a plan costs over a vocabulary.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Cost {
    /// Token indices, reserved ones included.
    pub vocabulary: usize,
    /// The parameters in the order of the model file.
    pub layers: Vec<ParameterCost>,
    /// Numbers that are learnt.
    pub parameters: u64,
    /// Memory while training.
    pub bytes: MemoryCost,
    /// Matrix operations to read a token and predict the next, a multiplication and an addition counted as two.
    pub forward_operations_per_token: f64,
    /// Those to learn from a token.
    pub training_operations_per_token: f64,
    /// Tokens of a step.
    pub tokens_per_step: u64,
}

/// Works it out. `share_of` is the share of tokens with an index in a range.
///
/// # Errors
/// A model that cannot be made.
pub fn cost(
    plan: &Plan,
    vocabulary: usize,
    share_of: &dyn Fn(Range<usize>) -> f64,
) -> Result<Cost, LabError> {
    let model = LanguageModel::new(plan.shape(vocabulary))?;
    let training = &plan.training;
    let layout = model.layout();
    let layers = layout.tensors().iter().map(|tensor| ParameterCost {
        name: tensor.name.clone(),
        shape: tensor.shape.clone(),
        parameters: tensor.range.len() as u64,
    });
    let parameters = layout.len() as u64;
    let settings = plan.optimiser(1);
    let optimiser = settings.rule.state_parts() as u64 + u64::from(settings.average_after.is_some());
    let purpose = Purpose::Training(plan.regularisation());
    let fresh = TrainingWindows::begin_anew(training);
    let lanes = training.lanes.clamp(1, training.batch);
    let steps = TrainingWindows::most_steps(training);
    let (mut activations, mut gradients) = (0, layout.len());
    for lane in 0..lanes {
        let rows = (lane + 1) * training.batch / lanes - lane * training.batch / lanes;
        let (all, gradient) = model.lane_len(Extent { steps, rows }, purpose, fresh);
        activations += all - gradient;
        gradients += if lane == 0 { 0 } else { gradient };
    }
    let judged = (0..lanes.min(JUDGED_ROWS)).map(|lane| {
        let lanes = lanes.min(JUDGED_ROWS);
        let rows = (lane + 1) * JUDGED_ROWS / lanes - lane * JUDGED_ROWS / lanes;
        model.lane_len(Extent { steps: training.window, rows }, Purpose::Reading, true).0 as u64
    });
    let validation: u64 = judged.sum();
    let rows = FLOW_ROWS.min(training.batch);
    let flow_lane =
        || model.lane_len(Extent { steps, rows }, Purpose::Training(Regularisation::default()), false).0;
    let flow = if training.flow_every > 0 { flow_lane() + layout.len() } else { 0 };
    let operations = model.operations(training.window, share_of);
    Ok(Cost {
        vocabulary,
        layers: layers.collect(),
        parameters,
        bytes: MemoryCost {
            weights: parameters * NUMBER,
            packed_weights: layout.packed_len::<f32>() as u64 * NUMBER,
            gradients: gradients as u64 * NUMBER,
            optimiser: optimiser * parameters * NUMBER,
            activations: activations as u64 * NUMBER,
            validation: validation * NUMBER,
            best_weights: parameters * NUMBER,
            flow: flow as u64 * NUMBER,
        },
        forward_operations_per_token: operations.forward,
        training_operations_per_token: operations.training,
        tokens_per_step: (training.batch * training.window) as u64,
    })
}

/// The share of tokens in a range of indices where counts fall as one over the rank, as those of words do (Zipf, 1935): for when nothing
/// better is known.
pub fn zipf_share(vocabulary: usize) -> impl Fn(Range<usize>) -> f64 {
    let sums: Vec<f64> = std::iter::once(0.0)
        .chain(zipf_counts(vocabulary).iter().scan(0.0, |sum, &count| {
            *sum += count as f64;
            Some(*sum)
        }))
        .collect();
    move |range: Range<usize>| {
        let last = sums.len() - 1;
        (sums[range.end.min(last)] - sums[range.start.min(last)]) / sums[last].max(1.0)
    }
}

/// Counts that fall as one over the rank.
pub fn zipf_counts(vocabulary: usize) -> Vec<u64> {
    (0..vocabulary).map(|rank| (1e9 / (rank as f64 + 2.7)) as u64).collect()
}
