//! How far back in time gradients reach: the loss at the end of a window is followed back through every layer and step.
//!
//! Norms that fall by a steady factor from step to step have vanished within a few of them, and the model cannot learn what lies
//! further back; norms that grow explode (Bengio, Simard and Frasconi, 1994).

use std::collections::BTreeMap;

use lalograph_net::LanguageModel;
use lalograph_net::clipping::{Clipping, GradientMeter};
use lalograph_net::model::{Lane, Purpose, Regularisation};
use lalograph_net::output::{Candidates, IGNORED, Sampler};
use lalograph_net::parameters::Weights;
use lalograph_net::recurrent::Extent;
use lalograph_net::step::Batch;

use crate::plan::TrainingPlan;
use crate::records::FlowRecord;
use crate::streams::TrainingWindows;

/// Rows that are measured: enough for a mean.
const ROWS: usize = 8;

/// Measures windows of one plan.
pub struct FlowMeter {
    batch: usize,
    lane: Lane<f32>,
    meter: GradientMeter,
    /// What a sampled softmax is trained against: here, every token.
    sample: Option<(Sampler, Candidates<f32>)>,
}

impl FlowMeter {
    /// Makes room to work in.
    pub fn new(model: &LanguageModel, plan: &TrainingPlan) -> Self {
        let extent = Extent { steps: TrainingWindows::most_steps(plan), rows: ROWS.min(plan.batch) };
        let mut lane = model.lane(extent, Purpose::Training(Regularisation::default()), false);
        model.watch_flow(&mut lane);
        let sample = model.samples().map(|samples| {
            let sampler = Sampler::new(&vec![1; model.shape().vocabulary]);
            let mut candidates = Candidates::default();
            let mut random = lalograph_net::random::stream(0, "gradient flow", &[]);
            candidates.draw(&sampler, samples, &mut random);
            (sampler, candidates)
        });
        Self { batch: plan.batch, lane, meter: GradientMeter::new(model.layout()), sample }
    }

    /// Measures the first rows of a window; each begins with no state, and so that distances mean the same in all, no row begins anew.
    pub fn measure(
        &mut self,
        model: &LanguageModel,
        weights: Weights<'_, f32>,
        batch: Batch<'_>,
    ) -> FlowRecord {
        let rows = self.lane.capacity().rows;
        let steps = batch.inputs.len() / self.batch;
        let inputs: Vec<u32> =
            batch.inputs.chunks_exact(self.batch).flat_map(|step| step[..rows].iter().copied()).collect();
        let mut targets = vec![IGNORED; inputs.len()];
        if let Some(last) = batch.targets.chunks_exact(self.batch).last() {
            targets[(steps - 1) * rows..].copy_from_slice(&last[..rows]);
        }
        model.begin(weights, &mut self.lane);
        model.forward(weights, &inputs, None, &mut self.lane, None);
        let sample = self.sample.as_ref().map(|(sampler, candidates)| (sampler, candidates));
        model.learn(weights, &targets, 1.0 / rows as f64, &mut self.lane, None, sample);
        let by_distance =
            model.flow(&self.lane).into_iter().map(|layer| layer[..steps].iter().rev().copied().collect());
        let whole = self.lane.whole_gradient(model.layout());
        self.meter.measure(&whole, &Clipping::default());
        let names = model.layout().tensors().iter().map(|tensor| tensor.name.clone());
        FlowRecord {
            step: 0,
            by_distance: by_distance.collect(),
            by_parameter: names.zip(self.meter.norms().iter().copied()).collect::<BTreeMap<_, _>>(),
        }
    }
}
