//! Gradient flow: the gradient of the loss at the end of a window, at every layer and earlier step.
//!
//! If the norms fall by a steady factor from step to step, the gradient vanishes, and the model cannot learn from text further back;
//! if they grow, it explodes (Bengio, Simard and Frasconi, 1994).

use std::collections::BTreeMap;
use std::ops::Range;

use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::blocks::regularisation::{LaneUse, Regularisation};
use lalograph_net::heads::loss::IGNORED;
use lalograph_net::heads::sampled::SharedSample;
use lalograph_net::learning::clipping::{Clipping, GradientMeter};
use lalograph_net::models::language::{LanguageLane, TokenWindow};
use lalograph_net::models::network::LaneRoom;
use lalograph_net::numbers::chance::stream;
use lalograph_net::numbers::rooms::Rooms;
use lalograph_net::weights::gradient::LaneGradient;
use lalograph_net::weights::packed::{PackedWeights, Parameters};
use lalograph_net::{LanguageModel, Network};
use lalograph_text::corpus::ReadObserver;
use lalograph_text::tokens::{HeldOut, Learnt, encode_corpus};
use lalograph_text::{Corpus, Reading};

use super::model::ModelFile;
use crate::data::source::Windows;
use crate::data::windows::TrainingWindows;
use crate::error::LabError;
use crate::plan::{LossAt, TrainingPlan, WindowKind};
use crate::run::records::FlowRecord;

/// Rows that are measured: enough for a mean.
pub(crate) const ROWS: usize = 8;

/// Measures windows of one plan.
pub struct FlowMeter {
    lane: LanguageLane<f32>,
    gradient: LaneGradient<f32>,
    meter: GradientMeter,
    /// The negative samples of a sampled softmax; here every token is equally probable.
    shared: SharedSample<f32>,
    window: TokenWindow,
}

/// The room of its lane.
pub(crate) fn room_of(plan: &TrainingPlan) -> LaneRoom {
    let Extent { steps, rows } = TrainingWindows::extent_of(plan);
    LaneRoom {
        extent: Extent { steps, rows: ROWS.min(rows) },
        used_for: LaneUse::Training(Regularisation::default()),
        resets: false,
    }
}

impl FlowMeter {
    /// Makes room to work in.
    pub fn new(model: &LanguageModel, plan: &TrainingPlan) -> Self {
        let (room, rooms) = (room_of(plan), &mut Rooms::making());
        let mut lane = model.lane(room, rooms);
        model.watch_flow(&mut lane);
        let mut shared = model.shared(|| vec![1; model.shape().vocabulary]);
        shared.draw_from(&mut stream(0, "gradient flow", &[]));
        Self {
            lane,
            gradient: model.gradient(room, model.dense(), rooms),
            meter: GradientMeter::new(model.layout()),
            shared,
            window: TokenWindow::default(),
        }
    }

    /// Measures the first rows of a batch, given the windows of its lanes with their rows; each begins with no state, and so that
    /// distances mean the same in all, no row is reset.
    pub fn measure(
        &mut self,
        model: &LanguageModel,
        weights: Parameters<'_, f32>,
        lanes: &[(Range<usize>, &TokenWindow)],
    ) -> FlowRecord {
        let rows = self.lane.capacity().rows;
        let steps = lanes.first().map_or(0, |(rows, window)| window.inputs.len() / rows.len().max(1));
        let window = &mut self.window;
        window.clear();
        for step in 0..steps {
            for (of, from) in lanes.iter().filter(|(of, _)| of.start < rows) {
                let here = step * of.len()..step * of.len() + of.len().min(rows - of.start);
                window.inputs.extend_from_slice(&from.inputs[here.clone()]);
                if step + 1 == steps {
                    window.targets.extend_from_slice(&from.targets[here]);
                } else {
                    window.targets.extend(here.map(|_| IGNORED));
                }
            }
        }
        model.begin(weights, &mut self.lane);
        model.forward(weights, &window.inputs, None, &mut self.lane, None);
        let (lane, gradient) = (&mut self.lane, &mut self.gradient);
        model.backward(
            weights,
            window,
            1.0 / rows as f64,
            lane,
            &mut gradient.parts(),
            None,
            self.shared.drawn(),
        );
        let by_distance =
            model.flow(&self.lane).into_iter().map(|layer| layer[..steps].iter().rev().copied().collect());
        self.meter.measure(&self.gradient.whole(model.layout().len()), &Clipping::default());
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
    let encoded =
        encode_corpus(corpus, &file.vocabulary, &HeldOut::Nothing, Learnt::Text, None, threads, observer)?;
    let text = &encoded.training;
    let all = text.len() / window.max(1);
    let rows = all.min(ROWS);
    if rows == 0 {
        return Err(LabError::TooShort { tokens: text.len(), rows: 1, window, needed: window });
    }
    // Windows by themselves are as long as was asked for; carried ones would be evened out.
    let plan = TrainingPlan {
        batch: rows,
        window,
        windows: WindowKind::Independent,
        stride: None,
        loss_at: LossAt::Every,
        ..file.plan.training.clone()
    };
    let mut windows = TrainingWindows::new(text, &plan);
    let mut buffer = TokenWindow::default();
    let mut meter = FlowMeter::new(&file.model, &plan);
    let packed = PackedWeights::training(file.model.layout(), &file.weights);
    // Only those in which every row has a window.
    let full = all / rows;
    let count = full.min(WINDOWS);
    let mut mean: Option<FlowRecord> = None;
    for index in 0..count {
        let which = index * full / count;
        windows.fill(0, which, &mut std::iter::once((0..rows, &mut buffer)))?;
        let record = meter.measure(&file.model, packed.with(&file.weights), &[(0..rows, &buffer)]);
        match &mut mean {
            None => mean = Some(record),
            Some(mean) => add(mean, &record),
        }
    }
    let Some(mut mean) = mean else {
        return Err(LabError::TooShort { tokens: text.len(), rows, window, needed: rows * window });
    };
    mean.step = file.trained.step;
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
