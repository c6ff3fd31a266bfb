//! A classifier as the training loop knows it.

use lalograph_net::Network;
use lalograph_net::models::classifier::{Classifier, DocumentWindow};
use lalograph_net::step::exchange::{Exchange, Rank};

use super::evaluate::{HeldOutDocuments, criterion};
use super::learner::{ClassifierTask, PreparedClassifier};
use super::linear::solve;
use super::model::{TASK, classifier_assets};
use crate::artefact::container::Assets;
use crate::data::documents::DocumentBatches;
use crate::data::source::Windows;
use crate::error::LabError;
use crate::measure::forecast::{Forecast, forecast};
use crate::plan::Plan;
use crate::run::description::TextFacts;
use crate::run::records::{Evaluation, Figures};
use crate::task::{Duty, Evaluator, Startable, Task};
use crate::training::company;
use crate::training::events::TrainingObserver;
use crate::training::run_loop::{self, Running, TrainingOutcome};

impl Startable for ClassifierTask {
    fn check_start(&self) -> Result<(), LabError> {
        self.start.check()
    }
}

impl Task for ClassifierTask {
    type Net = Classifier;
    type Note = ();

    const KIND: &'static str = TASK;

    fn plan(&self) -> &Plan {
        &self.data.plan
    }

    fn net(&self) -> &Classifier {
        &self.net
    }

    fn steps(&self) -> u64 {
        self.steps
    }

    fn facts(&self) -> TextFacts {
        self.data.facts
    }

    fn windows(&self) -> Box<dyn Windows<DocumentWindow> + '_> {
        Box::new(DocumentBatches::new(
            &self.data.training,
            self.data.plan.training.batch,
            self.data.plan.training.seed,
        ))
    }

    fn shared(&self) {}

    fn start(&self, weights: &mut [f32]) -> Result<(), LabError> {
        match self.data.input.vocabulary() {
            Some(vocabulary) => self.start.fill(self.net.layout(), weights, vocabulary),
            None => Ok(()),
        }
    }

    fn validation(&self, rank: Rank) -> Option<Box<dyn Evaluator<Classifier> + '_>> {
        HeldOutDocuments::boxed(&self.net, &self.data.validation, self.data.plan.training.lanes, rank)
    }

    fn test(&self, rank: Rank) -> Option<Box<dyn Evaluator<Classifier> + '_>> {
        HeldOutDocuments::boxed(&self.net, &self.data.test, self.data.plan.training.lanes, rank)
    }

    fn duties(&self) -> Vec<Box<dyn Duty<Self> + '_>> {
        Vec::new()
    }

    fn training_figures(&self, _: f64, right: f64) -> Figures {
        Figures::of([("accuracy", right)])
    }

    fn criterion(&self, evaluation: &Evaluation) -> f64 {
        criterion(&self.data.plan, evaluation)
    }

    fn assets(&self) -> Result<Assets, LabError> {
        classifier_assets(&self.data.plan, &self.data.input, &self.data.classes, None)
    }
}

/// Forecasts the time of a classifier's run: [`forecast`] for this task, compiled in this crate. None for a linear classifier, whose number of
/// iterations is not known beforehand, or if it was stopped.
///
/// # Errors
/// As for [`forecast`].
pub fn forecast_classifier(
    prepared: &PreparedClassifier,
    threads: usize,
    seconds: f64,
    go_on: &mut (dyn FnMut() -> bool + Send),
) -> Result<Option<Forecast>, LabError> {
    match prepared {
        PreparedClassifier::Network(task) => forecast(&**task, threads, seconds, go_on),
        PreparedClassifier::Linear(_) => Ok(None),
    }
}

/// Trains a classifier's run from its position: [`run_loop::train`] for a network, compiled in this crate, and the solver for a linear one, which
/// always begins with its first step.
///
/// # Errors
/// As for [`run_loop::train`].
pub fn train_classifier(
    prepared: &PreparedClassifier,
    running: Running,
    threads: usize,
    observer: &mut (dyn TrainingObserver<()> + Send),
) -> Result<TrainingOutcome, LabError> {
    match prepared {
        PreparedClassifier::Network(task) => run_loop::train(&**task, running, threads, observer),
        PreparedClassifier::Linear(task) => solve(task, running, threads, observer),
    }
}

/// Computes the lanes of this process for a run that process 0 trains: [`company::follow`] for a network, compiled in this crate. A linear classifier is
/// solved by process 0 alone.
///
/// # Errors
/// As for [`company::follow`].
pub fn follow_classifier(
    prepared: &PreparedClassifier,
    exchange: Box<dyn Exchange<f32>>,
    threads: usize,
    stops: &(dyn Fn() -> bool + Sync),
) -> Result<(), LabError> {
    match prepared {
        PreparedClassifier::Network(task) => company::follow(&**task, exchange, threads, stops),
        PreparedClassifier::Linear(_) => Ok(()),
    }
}
