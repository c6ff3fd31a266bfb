//! What hints are computed from: the records of a run, as curves, and the hints that runs of every task share.

use super::hint::Hint;
use crate::plan::Plan;
use crate::run::description::TextFacts;
use crate::run::records::{FlowRecord, MetricsRecord};

/// Training loss that rises by this much above its lowest was driven up: perplexity rises by half.
const DRIVEN_UP: f64 = 0.4;
/// Shares of validation text that are too much.
const MUCH_UNKNOWN: f64 = 0.05;
/// Share of validation text that counts where unknown tokens were not learnt: a hundredth raises the perplexity by about a tenth.
const UNKNOWN_AT_ALL: f64 = 0.01;
/// Share of that share in the training text below which they were not.
const UNKNOWN_IN_TRAINING: f64 = 0.02;
const MUCH_SEEN: f64 = 0.01;

/// The status of a run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stage {
    /// The run continues, or was interrupted.
    UnderWay,
    /// All steps were made.
    Ended,
    /// Its numbers were no longer finite at this step.
    NotFinite(u64),
}

/// The records that hints are computed from.
#[derive(Debug, Clone, Copy)]
pub struct Evidence<'a> {
    /// Its plan.
    pub plan: &'a Plan,
    /// Its text.
    pub text: &'a TextFacts,
    /// Its lines of metrics.
    pub metrics: &'a [MetricsRecord],
    /// The last measurement of how far back gradients reach, if there was one.
    pub flow: Option<&'a FlowRecord>,
    /// Its status.
    pub stage: Stage,
}

impl Evidence<'_> {
    pub(super) fn clipped(&self) -> bool {
        let clipping = self.plan.clipping();
        clipping.norm.is_some() || clipping.group_norms.iter().any(Option::is_some)
    }

    pub(super) fn gated(&self) -> bool {
        self.plan.model.cell.gates() > 1
    }
}

/// A line of training figures.
#[derive(Debug, Clone, Copy)]
pub(super) struct Trained {
    pub(super) step: u64,
    pub(super) loss: f64,
    pub(super) norm: f64,
}

/// The lines as curves.
pub(super) struct Curves {
    pub(super) training: Vec<Trained>,
    pub(super) validation: Vec<(u64, f64)>,
    /// Whether training loss is the logarithm of a perplexity; with a sampled softmax it is not, and hints about it would mislead.
    pub(super) exact: bool,
}

impl Curves {
    pub(super) fn of(metrics: &[MetricsRecord]) -> Self {
        let (mut training, mut validation, mut exact) = (Vec::new(), Vec::new(), true);
        for record in metrics {
            match *record {
                MetricsRecord::Training { step, loss, gradient_norm, .. } => {
                    training.push(Trained { step, loss, norm: gradient_norm });
                    exact &= record.figure("perplexity").is_some();
                }
                MetricsRecord::Validation { step, loss, .. } => validation.push((step, loss)),
                MetricsRecord::Test { .. } => {}
            }
        }
        Self { training, validation, exact }
    }

    /// Training loss up to a step: the mean over the last three lines.
    pub(super) fn training_at(&self, step: u64) -> Option<f64> {
        let end = self.training.partition_point(|line| line.step <= step);
        mean(&self.training[end.saturating_sub(3)..end])
    }

    pub(super) fn last_step(&self) -> u64 {
        let validated = self.validation.last().map_or(0, |(step, _)| *step);
        self.training.last().map_or(0, |line| line.step).max(validated)
    }
}

pub(super) fn mean(lines: &[Trained]) -> Option<f64> {
    (!lines.is_empty()).then(|| lines.iter().map(|line| line.loss).sum::<f64>() / lines.len() as f64)
}

pub(super) fn many_unknown(text: &TextFacts) -> Option<Hint> {
    text.unknown_share.filter(|&share| share > MUCH_UNKNOWN).map(|share| Hint::ManyUnknownTokens { share })
}

/// What an unknown token is like was not in the training text, so its loss is that of a token that never comes.
pub(super) fn unknown_not_learnt(text: &TextFacts) -> Option<Hint> {
    let (share, training) = (text.unknown_share?, text.training_unknown_share?);
    (share > UNKNOWN_AT_ALL && training < UNKNOWN_IN_TRAINING * share)
        .then_some(Hint::UnknownNotLearnt { share })
}

pub(super) fn seen(text: &TextFacts) -> Option<Hint> {
    text.seen_share.filter(|&share| share > MUCH_SEEN).map(|share| Hint::ValidationSeenInTraining { share })
}

pub(super) fn rate_too_high(evidence: &Evidence<'_>, curves: &Curves) -> Option<Hint> {
    let learning_rate = evidence.plan.training.learning_rate;
    let high = |step, from: Option<f64>, to: Option<f64>| Hint::LearningRateTooHigh {
        learning_rate,
        step,
        from_perplexity: from.map(f64::exp),
        to_perplexity: to.map(f64::exp),
    };
    if let Stage::NotFinite(step) = evidence.stage {
        return Some(high(step, None, None));
    }
    if !curves.exact {
        return None;
    }
    // Means over three lines, so that one hard window is no rise.
    let smooth: Vec<(u64, f64)> =
        curves.training.windows(3).filter_map(|lines| Some((lines[2].step, mean(lines)?))).collect();
    let (mut lowest, mut worst) = (f64::INFINITY, None);
    for &(step, loss) in &smooth {
        lowest = lowest.min(loss);
        if loss > lowest + DRIVEN_UP && worst.is_none_or(|(_, _, rise)| loss - lowest > rise) {
            worst = Some((step, lowest, loss - lowest));
        }
    }
    worst.map(|(step, from, rise)| high(step, Some(from), Some(from + rise)))
}
