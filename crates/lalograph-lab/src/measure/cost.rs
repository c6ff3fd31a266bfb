//! The cost of a plan before training: parameters, memory, operations.

use std::ops::Range;

use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::blocks::regularisation::LaneUse;
use lalograph_net::models::network::LaneRoom;
use lalograph_net::step::lanes::Lanes;
use lalograph_net::weights::packed::PackedWeights;
use lalograph_net::{LanguageModel, Network};
use serde::Serialize;

use crate::data::windows::TrainingWindows;
use crate::error::LabError;
use crate::plan::Plan;
use crate::task::language::evaluate::most_validation_rows;
use crate::task::language::flow::room_of as flow_room;

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

/// Memory of training in bytes, without the text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct MemoryCost {
    /// The weights.
    pub weights: u64,
    /// Copies of them in the order in which products read them.
    pub packed_weights: u64,
    /// The gradients of all lanes.
    pub gradients: u64,
    /// State of the optimiser.
    pub optimiser: u64,
    /// Activations of the lanes and their scratch memory.
    pub activations: u64,
    /// The lanes in which the validation text is read.
    pub validation: u64,
    /// The best weights so far.
    pub best_weights: u64,
    /// The lane that measures gradient flow.
    pub flow: u64,
    /// A copy of the weights that samples are written with.
    pub samples: u64,
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
            + self.samples
    }
}

/// The cost of a plan for a vocabulary.
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
    /// Operations to train on a token.
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
    let number = NUMBER as usize;
    let optimiser = plan.optimiser(1).state_parts() as u64;
    let room = LaneRoom {
        extent: TrainingWindows::extent_of(training),
        used_for: LaneUse::Training(plan.regularisation()),
        resets: TrainingWindows::resets_in(training),
    };
    let lanes = Lanes::new(training.batch, training.lanes);
    // The first lane's gradient is where all are added up.
    let (mut activations, mut gradients) = (0, layout.len() * number);
    for lane in 0..lanes.count() {
        let [own, gradient] = model.lane_bytes(room.with_rows(lanes.rows_of(lane).len()));
        let by_rows = gradient - model.dense().len() * number;
        activations += own + by_rows;
        gradients += if lane == 0 { 0 } else { gradient - by_rows };
    }
    let validation_rows = most_validation_rows(training);
    let reading = LaneRoom {
        extent: Extent { steps: training.window, rows: validation_rows },
        used_for: LaneUse::Reading,
        resets: true,
    };
    let reading_lanes = Lanes::new(validation_rows, training.lanes);
    let rows = (0..reading_lanes.count()).map(|lane| reading_lanes.rows_of(lane).len());
    let validation: usize = rows.map(|rows| model.lane_bytes(reading.with_rows(rows))[0]).sum();
    let flow = if training.flow_every > 0 {
        model.lane_bytes(flow_room(training)).iter().sum::<usize>() + layout.len() * number
    } else {
        0
    };
    let samples = if plan.samples.temperatures.is_empty() {
        0
    } else {
        layout.len() * number + PackedWeights::<f32>::bytes_for_reading(layout)
    };
    let operations = model.operations(training.window, share_of);
    Ok(Cost {
        vocabulary,
        layers: layers.collect(),
        parameters,
        bytes: MemoryCost {
            weights: parameters * NUMBER,
            packed_weights: PackedWeights::<f32>::bytes_for(layout) as u64,
            gradients: gradients as u64,
            optimiser: optimiser * parameters * NUMBER,
            activations: activations as u64,
            validation: validation as u64,
            best_weights: parameters * NUMBER,
            flow: flow as u64,
            samples: samples as u64,
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
