//! Periodic duties of a language model's training: gradient flow and samples.

use std::ops::Range;
use std::sync::Arc;

use lalograph_net::LanguageModel;
use lalograph_net::models::language::TokenWindow;
use lalograph_net::numbers::chance::stream;
use serde::{Deserialize, Serialize};

use super::flow::{FlowMeter, ROWS};
use super::learner::LanguageTask;
use super::model::{ModelFile, ReadyModel};
use crate::artefact::model_file::Trained;
use crate::error::LabError;
use crate::run::records::{FlowRecord, SampleRecord};
use crate::task::{Duty, Moment, Note};
use crate::training::settings::is_due;
use crate::writing::decoding::Decoding;
use crate::writing::generator::{Ended, Generator, Request, Terms};

/// A line that a duty writes down.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum LanguageNote {
    /// Gradient norms by distance in time.
    Flow(FlowRecord),
    /// A sample.
    Sample(SampleRecord),
}

impl Note for LanguageNote {
    fn flow(&self) -> Option<&FlowRecord> {
        match self {
            Self::Flow(record) => Some(record),
            Self::Sample(_) => None,
        }
    }
}

/// Measures how far back in time gradients reach.
pub(super) struct FlowDuty<'a> {
    task: &'a LanguageTask,
    meter: FlowMeter,
}

impl<'a> FlowDuty<'a> {
    pub(super) fn new(task: &'a LanguageTask) -> Self {
        Self { task, meter: FlowMeter::new(&task.model, &task.plan.training) }
    }
}

impl Duty<LanguageTask> for FlowDuty<'_> {
    fn name(&self) -> &'static str {
        FlowRecord::FILE
    }

    fn comes_first(&self) -> bool {
        true
    }

    fn needs_all(&self) -> bool {
        true
    }

    fn is_due(&self, step: u64, _: bool) -> bool {
        is_due(step, (self.task.plan.training.flow_every, 0.0), self.task.facts.steps_per_epoch)
    }

    fn perform(
        &mut self,
        moment: Moment<'_, '_, LanguageModel>,
    ) -> Result<Option<Vec<LanguageNote>>, LabError> {
        let step = moment.trainer.step();
        let (team, weights, exchange) = moment.trainer.last_step();
        let here = written(team.windows().filter(|(rows, _)| rows.start < ROWS));
        let lanes: Vec<_> =
            exchange.gather(bytemuck::cast_slice(&here)).iter().flat_map(|all| read(all)).collect();
        let lanes: Vec<_> = lanes.iter().map(|(rows, window)| (rows.clone(), window)).collect();
        let record = self.meter.measure(&self.task.model, weights, &lanes);
        Ok(Some(vec![LanguageNote::Flow(FlowRecord { step, ..record })]))
    }
}

/// Windows of lanes as numbers: the first row and the row after the last, how many tokens, the tokens and their targets.
fn written<'w>(windows: impl Iterator<Item = (Range<usize>, &'w TokenWindow)>) -> Vec<u32> {
    let mut numbers = Vec::new();
    for (rows, window) in windows {
        numbers.extend([rows.start as u32, rows.end as u32, window.inputs.len() as u32]);
        numbers.extend(&window.inputs);
        numbers.extend(&window.targets);
    }
    numbers
}

/// The same, read again.
fn read(bytes: &[u8]) -> Vec<(Range<usize>, TokenWindow)> {
    let mut numbers = bytes.chunks_exact(4).map(|bytes| bytes.try_into().map_or(0, u32::from_le_bytes));
    let mut windows = Vec::new();
    while let (Some(first), Some(end), Some(tokens)) = (numbers.next(), numbers.next(), numbers.next()) {
        let mut tokens = || numbers.by_ref().take(tokens as usize).collect();
        let window = TokenWindow { inputs: tokens(), targets: tokens(), resets: Vec::new() };
        windows.push((first as usize..end as usize, window));
    }
    windows
}

/// Writes samples at the plan's temperatures.
pub(super) struct SamplesDuty<'a> {
    task: &'a LanguageTask,
    /// The model of the last samples; its memory is used again.
    ready: Option<ReadyModel>,
}

impl<'a> SamplesDuty<'a> {
    pub(super) fn new(task: &'a LanguageTask) -> Self {
        Self { task, ready: None }
    }

    /// The model with the weights to validate and keep.
    fn ready(&mut self, weights: &[f32]) -> ReadyModel {
        let LanguageTask { plan, vocabulary, model, .. } = self.task;
        match self.ready.take() {
            Some(mut ready) => {
                ready.set_weights(weights);
                ready
            }
            None => ReadyModel::new(ModelFile {
                plan: plan.clone(),
                vocabulary: vocabulary.clone(),
                trained: Trained::default(),
                model: model.clone(),
                weights: weights.to_vec(),
            }),
        }
    }
}

impl Duty<LanguageTask> for SamplesDuty<'_> {
    fn name(&self) -> &'static str {
        SampleRecord::FILE
    }

    fn is_due(&self, step: u64, over: bool) -> bool {
        let samples = &self.task.plan.samples;
        let spans = (samples.every, samples.every_epochs);
        over || is_due(step, spans, self.task.facts.steps_per_epoch) || samples.at.contains(&step)
    }

    fn perform(
        &mut self,
        moment: Moment<'_, '_, LanguageModel>,
    ) -> Result<Option<Vec<LanguageNote>>, LabError> {
        let LanguageTask { plan, seed_texts, .. } = self.task;
        if plan.samples.temperatures.is_empty() {
            return Ok(Some(Vec::new()));
        }
        let (step, seed) = (moment.trainer.step(), plan.training.seed);
        let ready = Arc::new(self.ready(moment.trainer.settled()));
        let mut generator = Generator::new(Arc::clone(&ready));
        let mut notes = Vec::with_capacity(plan.samples.temperatures.len() * seed_texts.len());
        for seed_text in seed_texts {
            for &temperature in &plan.samples.temperatures {
                let terms = Terms::new(Decoding::at_temperature(temperature), plan.samples.tokens);
                let request = Request { seed_text, terms };
                let random = stream(seed, "sampling", &[step, notes.len() as u64]);
                let sample = generator.write(&request, random, |_| (moment.go_on)())?;
                if sample.ended == Ended::Stopped {
                    return Ok(None);
                }
                // An answer is below its prompt.
                let answers = self.task.vocabulary.turns().is_some() && !seed_text.is_empty();
                let text = if answers { format!("\n{}", sample.text) } else { sample.text.clone() };
                notes.push(LanguageNote::Sample(SampleRecord {
                    step,
                    validation_perplexity: moment.validation.map(|validation| validation.perplexity()),
                    temperature,
                    seed_text: seed_text.clone(),
                    tokens: sample.tokens(),
                    ended: matches!(sample.ended, Ended::Document | Ended::Answer),
                    text,
                }));
            }
        }
        drop(generator);
        self.ready = Arc::into_inner(ready);
        Ok(Some(notes))
    }
}
