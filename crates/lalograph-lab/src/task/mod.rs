//! Tasks: what a run trains, and on what. The training loop knows a task only by the traits here; each task has a room of its own.

pub mod classifier;
pub mod events;
pub(crate) mod growth;
pub mod language;
pub(crate) mod start;
pub mod vectors;

use std::collections::BTreeMap;

use lalograph_net::Network;
use lalograph_net::step::exchange::Rank;
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::artefact::container::Assets;
use crate::data::source::Windows;
use crate::error::LabError;
use crate::plan::Plan;
use crate::run::description::TextFacts;
use crate::run::records::{Evaluation, Figures, FlowRecord};
pub use crate::training::evaluator::Evaluator;
use crate::training::trainer::Trainer;

/// A task whose first weights may come from files.
pub trait Startable {
    /// Checks that the files with the first weights still exist, before anything is changed.
    ///
    /// # Errors
    /// A file is missing.
    fn check_start(&self) -> Result<(), LabError>;
}

/// A task ready for training: plan resolved, data read, weights laid out.
pub trait Task: Startable + Sync {
    /// The network.
    type Net: Network;
    /// Notes of its duties.
    type Note: Note;

    /// The kind of the task, as files name it.
    const KIND: &'static str;

    /// The plan, resolved.
    fn plan(&self) -> &Plan;

    /// The network.
    fn net(&self) -> &Self::Net;

    /// Steps to make.
    fn steps(&self) -> u64;

    /// Facts about the data before training.
    fn facts(&self) -> TextFacts;

    /// The training data, epoch after epoch.
    fn windows(&self) -> Box<dyn Windows<<Self::Net as Network>::Window> + '_>;

    /// Data shared by all lanes of a step.
    fn shared(&self) -> <Self::Net as Network>::Shared<f32>;

    /// Changes first values that were drawn, by `[start]` of the plan. Only for a run that has made no step.
    ///
    /// # Errors
    /// A start that does not fit.
    fn start(&self, weights: &mut [f32]) -> Result<(), LabError>;

    /// The validation data, if there is any; `rank` says which part of it is read here.
    fn validation(&self, rank: Rank) -> Option<Box<dyn Evaluator<Self::Net> + '_>>;

    /// The test data, if there is any; `rank` says which part of it is read here.
    fn test(&self, rank: Rank) -> Option<Box<dyn Evaluator<Self::Net> + '_>>;

    /// Duties besides recording and validating, in this order.
    fn duties(&self) -> Vec<Box<dyn Duty<Self> + '_>>;

    /// Figures of a mean training loss, and of the share of targets predicted right (0 for a network that does not count them).
    fn training_figures(&self, loss: f64, right: f64) -> Figures;

    /// Whether the weights are validated before the first step too.
    fn validates_first(&self) -> bool {
        false
    }

    /// What decides which weights are kept, when training stops early and when the `plateau` schedule lowers the rate: lower is better.
    fn criterion(&self, evaluation: &Evaluation) -> f64 {
        evaluation.loss
    }

    /// Contents of a model file besides weights.
    ///
    /// # Errors
    /// Something that has no form as text.
    fn assets(&self) -> Result<Assets, LabError>;
}

/// A line that a duty writes down.
pub trait Note: Serialize + DeserializeOwned + Send {
    /// A measurement of how far back gradients reach, if this is one: hints read it.
    fn flow(&self) -> Option<&FlowRecord> {
        None
    }
}

/// A task without duties writes nothing.
impl Note for () {}

/// Something that a task does now and then. Its notes go to the file of its name.
pub trait Duty<T: Task + ?Sized>: Send {
    /// Its name, and that of its file of records.
    fn name(&self) -> &'static str;

    /// Whether all processes of a run take part: the others perform it too, and their notes are dropped.
    fn needs_all(&self) -> bool {
        false
    }

    /// Whether it comes before the line of training figures and the validation of its step, or after them.
    fn comes_first(&self) -> bool {
        false
    }

    /// Whether the duty is due after a step; `over` says whether that step was the last.
    fn is_due(&self, step: u64, over: bool) -> bool;

    /// Does it; none if it was stopped, and is to be done again from its beginning.
    ///
    /// # Errors
    /// Whatever it meets.
    fn perform(&mut self, moment: Moment<'_, '_, T::Net>) -> Result<Option<Vec<T::Note>>, LabError>;
}

/// The input of a duty.
pub struct Moment<'m, 't, N: Network> {
    /// The trainer after the current step.
    pub trainer: &'m mut Trainer<'t, N>,
    /// The last validation, if there was one.
    pub validation: Option<&'m Evaluation>,
    /// Asked now and then whether to continue.
    pub go_on: &'m mut dyn FnMut() -> bool,
}

/// The last measurement of gradient flow among the last notes of the duties.
pub(crate) fn flow_of<'n, N: Note>(notes: &'n BTreeMap<&'static str, N>) -> Option<&'n FlowRecord> {
    notes.values().find_map(Note::flow)
}
