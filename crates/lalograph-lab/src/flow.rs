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

use lalograph_text::corpus::ReadObserver;
use lalograph_text::tokens::{HeldOut, encode_corpus};
use lalograph_text::{Corpus, Reading};

use crate::error::LabError;
use crate::model_file::ModelFile;
use crate::plan::{TrainingPlan, WindowKind};
use crate::records::FlowRecord;
use crate::streams::{TrainingWindows, WindowBuffer};

/// Rows that are measured: enough for a mean.
pub(crate) const ROWS: usize = 8;

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

/// Windows of a text that are measured, at most.
const WINDOWS: usize = 16;

/// Measures a model over a corpus, encoded with `threads` threads: the mean over some windows of `window` tokens, spread over the text. The
/// record's step is that of the model.
///
/// # Errors
/// A text that is shorter than a window; whatever reading meets.
pub fn flow_over(
    file: &ModelFile,
    corpus: &Corpus,
    threads: usize,
    observer: &mut dyn ReadObserver,
    window: usize,
) -> Result<(FlowRecord, Reading), LabError> {
    let encoded = encode_corpus(corpus, &file.vocabulary, &HeldOut::Nothing, None, threads, observer)?;
    let text = &encoded.training;
    let rows = (text.len() / window.max(1)).min(ROWS);
    if rows == 0 {
        return Err(LabError::TooShort { tokens: text.len(), rows: 1, window, needed: window });
    }
    let plan = TrainingPlan {
        batch: rows,
        window,
        windows: WindowKind::Carried,
        window_jitter: 0.0,
        ..file.plan.training.clone()
    };
    let mut windows = TrainingWindows::new(text, &plan);
    let mut buffer = WindowBuffer::new(true);
    let mut meter = FlowMeter::new(&file.model, &plan);
    let packed = file.model.packed_for_learning(&file.weights);
    let count = windows.windows().min(WINDOWS);
    let mut mean: Option<FlowRecord> = None;
    for index in 0..count {
        windows.window(0, index * windows.windows() / count, &mut buffer);
        let record = meter.measure(&file.model, packed.with(&file.weights), buffer.batch());
        match &mut mean {
            None => mean = Some(record),
            Some(mean) => add(mean, &record),
        }
    }
    let mut mean = mean.unwrap_or_default();
    mean.step = file.progress.step;
    let share = 1.0 / count.max(1) as f64;
    mean.by_distance
        .iter_mut()
        .flatten()
        .chain(mean.by_parameter.values_mut())
        .for_each(|norm| *norm *= share);
    Ok((mean, encoded.reading))
}

fn add(sum: &mut FlowRecord, other: &FlowRecord) {
    for (sum, other) in sum.by_distance.iter_mut().zip(&other.by_distance) {
        // Windows of nearly equal length: a distance that not all have is left out.
        sum.truncate(other.len());
        sum.iter_mut().zip(other).for_each(|(sum, norm)| *sum += norm);
    }
    for (sum, norm) in sum.by_parameter.values_mut().zip(other.by_parameter.values()) {
        *sum += norm;
    }
}
