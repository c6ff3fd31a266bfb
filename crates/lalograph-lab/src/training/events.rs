//! Events of training, for observers.

use std::ops::ControlFlow;

use super::hints::Hint;
use crate::run::records::MetricsRecord;

/// Something that happened while a run was trained. `N` is what the duties of its task write down.
#[derive(Debug)]
pub enum TrainingEvent<'a, N> {
    /// The first step is about to be made.
    Started {
        /// Steps planned.
        steps: u64,
        /// Steps made already.
        made: u64,
        /// Numbers that are trained.
        parameters: usize,
    },
    /// A step was made.
    Step {
        /// Its number, from 1.
        step: u64,
        /// Tokens in it.
        tokens: u64,
        /// Its mean training loss.
        loss: f64,
    },
    /// A record was written.
    Metrics(&'a MetricsRecord),
    /// A duty of the task wrote something down.
    Note(&'a N),
    /// The validation part is being read: the share done.
    Validating(f64),
    /// A duty of the task is at work.
    AtWork,
    /// A checkpoint was written after this step.
    Checkpoint(u64),
    /// The figures say something that they did not say before.
    Hint(&'a Hint),
}

impl<'a> TrainingEvent<'a, ()> {
    /// The same event of a task without duties, for an observer of a task with some; `None` for a note, which such a task does not write.
    pub fn without_notes<N>(&self) -> Option<TrainingEvent<'a, N>> {
        Some(match *self {
            Self::Started { steps, made, parameters } => TrainingEvent::Started { steps, made, parameters },
            Self::Step { step, tokens, loss } => TrainingEvent::Step { step, tokens, loss },
            Self::Metrics(record) => TrainingEvent::Metrics(record),
            Self::Note(()) => return None,
            Self::Validating(share) => TrainingEvent::Validating(share),
            Self::AtWork => TrainingEvent::AtWork,
            Self::Checkpoint(step) => TrainingEvent::Checkpoint(step),
            Self::Hint(hint) => TrainingEvent::Hint(hint),
        })
    }
}

/// Somebody who hears of what happens.
pub trait TrainingObserver<N> {
    /// Hears of an event. Breaking ends the run after the current step, with everything so far kept.
    fn event(&mut self, event: &TrainingEvent<'_, N>) -> ControlFlow<()>;
}

impl<N, F: FnMut(&TrainingEvent<'_, N>) -> ControlFlow<()>> TrainingObserver<N> for F {
    fn event(&mut self, event: &TrainingEvent<'_, N>) -> ControlFlow<()> {
        self(event)
    }
}
