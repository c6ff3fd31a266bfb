//! State of a run in training, built from its events.

use std::time::{Duration, Instant};

use lalograph_lab::TrainingEvent;
use lalograph_lab::run::records::{MetricsRecord, SampleRecord};
use lalograph_lab::task::language::LanguageNote;

use crate::output::loss_scale::LossScale;

/// Share of the smoothed loss that remains after a step.
const SMOOTH: f64 = 0.97;

/// Points of a curve that are kept.
const CURVE_POINTS: usize = 4096;

/// The figure that a run is watched by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Watched {
    /// Perplexity of a language model.
    Perplexity,
    /// Perplexity on validation text alone: training loss is against a sample of the vocabulary.
    SampledLoss,
    /// Loss and accuracy of a classifier.
    Accuracy,
}

impl Watched {
    /// The scale of the curve.
    pub(crate) fn scale(self) -> LossScale {
        if self == Self::Accuracy { LossScale::Loss } else { LossScale::Perplexity }
    }
}

/// A validation.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Validation {
    pub(crate) step: u64,
    pub(crate) loss: f64,
    pub(crate) perplexity: f64,
    pub(crate) bits_per_byte: f64,
    /// Of a tuned model, perplexity of its base's text.
    pub(crate) old_perplexity: Option<f64>,
    pub(crate) accuracy: f64,
    pub(crate) macro_f1: f64,
    pub(crate) best: bool,
}

/// A line of training figures.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct TrainingFigures {
    pub(crate) learning_rate: f64,
    pub(crate) norm: f64,
    pub(crate) clipped_share: f64,
    pub(crate) tokens_per_second: f64,
    pub(crate) epoch: f64,
    /// Training accuracy of a classifier.
    pub(crate) accuracy: Option<f64>,
}

/// The position of a run.
#[derive(Debug, Clone)]
pub(crate) struct State {
    pub(crate) name: String,
    pub(crate) steps: u64,
    pub(crate) step: u64,
    /// Steps that were made before this process.
    pub(crate) made_before: u64,
    pub(crate) started: Instant,
    /// The figure to show.
    pub(crate) watched: Watched,
    smoothed: f64,
    weight: f64,
    pub(crate) figures: Option<TrainingFigures>,
    pub(crate) training_curve: Vec<(f64, f64)>,
    /// Training accuracy of a classifier, at the same steps.
    pub(crate) accuracy_curve: Vec<(f64, f64)>,
    pub(crate) validations: Vec<Validation>,
    /// The samples of the last step that there were any.
    pub(crate) samples: Vec<SampleRecord>,
    /// The share of held-out text scored so far, during scoring.
    pub(crate) validating: Option<f64>,
    pub(crate) checkpoint: Option<(u64, Instant)>,
    pub(crate) hints: Vec<String>,
}

impl State {
    /// A run of a name that has not started.
    pub(crate) fn new(name: &str, steps: u64, watched: Watched) -> Self {
        Self {
            name: name.to_owned(),
            steps,
            step: 0,
            made_before: 0,
            started: Instant::now(),
            watched,
            smoothed: 0.0,
            weight: 0.0,
            figures: None,
            training_curve: Vec::new(),
            accuracy_curve: Vec::new(),
            validations: Vec::new(),
            samples: Vec::new(),
            validating: None,
            checkpoint: None,
            hints: Vec::new(),
        }
    }

    /// Training loss, smoothed over the last steps; none before the first.
    pub(crate) fn training_loss(&self) -> Option<f64> {
        (self.weight > 0.0).then(|| self.smoothed / self.weight)
    }

    /// Seconds left at the pace so far.
    pub(crate) fn seconds_left(&self, elapsed: Duration) -> Option<f64> {
        let made = self.step.saturating_sub(self.made_before);
        (made > 0).then(|| elapsed.as_secs_f64() / made as f64 * self.steps.saturating_sub(self.step) as f64)
    }

    /// Takes in what happened.
    pub(crate) fn hear(&mut self, event: &TrainingEvent<'_, LanguageNote>) {
        match event {
            TrainingEvent::Started { steps, made, .. } => {
                (self.steps, self.step, self.made_before) = (*steps, *made, *made);
                self.started = Instant::now();
            }
            TrainingEvent::Step { step, loss, .. } => {
                self.step = *step;
                self.validating = None;
                self.smoothed = SMOOTH * self.smoothed + (1.0 - SMOOTH) * loss;
                self.weight = SMOOTH * self.weight + (1.0 - SMOOTH);
            }
            TrainingEvent::Metrics(record) => self.metrics(record),
            TrainingEvent::Note(LanguageNote::Sample(record)) => {
                if self.samples.first().is_some_and(|first| first.step != record.step) {
                    self.samples.clear();
                }
                self.samples.push((*record).clone());
            }
            TrainingEvent::Validating(share) => self.validating = Some(*share),
            TrainingEvent::Checkpoint(step) => self.checkpoint = Some((*step, Instant::now())),
            TrainingEvent::Hint(hint) => self.hints.push(hint.to_string()),
            TrainingEvent::Note(LanguageNote::Flow(_)) | TrainingEvent::AtWork => {}
        }
    }

    fn metrics(&mut self, record: &MetricsRecord) {
        match *record {
            MetricsRecord::Training {
                step,
                epoch,
                loss,
                learning_rate,
                gradient_norm,
                clipped_share,
                tokens_per_second,
                ..
            } => {
                self.figures = Some(TrainingFigures {
                    learning_rate,
                    norm: gradient_norm,
                    clipped_share,
                    tokens_per_second,
                    epoch,
                    accuracy: record.figure("accuracy"),
                });
                self.training_curve.push((step as f64, self.watched.scale().figure(loss)));
                self.accuracy_curve.extend(record.figure("accuracy").map(|accuracy| (step as f64, accuracy)));
                thin_out(&mut self.training_curve);
                thin_out(&mut self.accuracy_curve);
            }
            MetricsRecord::Validation { step, loss, best, .. } => {
                self.validating = None;
                let figure = |name| record.figure(name).unwrap_or(f64::NAN);
                self.validations.push(Validation {
                    step,
                    loss,
                    perplexity: loss.exp(),
                    bits_per_byte: figure("bits_per_byte"),
                    old_perplexity: record.figure("old_perplexity"),
                    accuracy: figure("accuracy"),
                    macro_f1: figure("macro_f1"),
                    best,
                });
            }
            MetricsRecord::Test { .. } => self.validating = None,
        }
    }

    /// The last validation and the one before it.
    pub(crate) fn last_two_validations(&self) -> Option<(Validation, Option<Validation>)> {
        let (last, before) = self.validations.split_last()?;
        Some((*last, before.last().copied()))
    }

    /// The validations as points of the curve.
    pub(crate) fn points(&self) -> impl Iterator<Item = (f64, f64)> + '_ {
        self.validations
            .iter()
            .map(|validation| (validation.step as f64, self.watched.scale().figure(validation.loss)))
    }

    /// The best validation so far.
    pub(crate) fn best(&self) -> Option<Validation> {
        self.validations.iter().rev().find(|validation| validation.best).copied()
    }
}

/// Keeps every second point of a curve that has more than any terminal shows.
fn thin_out(curve: &mut Vec<(f64, f64)>) {
    if curve.len() > CURVE_POINTS {
        let mut index = 0;
        curve.retain(|_| {
            index += 1;
            index % 2 == 1
        });
    }
}
