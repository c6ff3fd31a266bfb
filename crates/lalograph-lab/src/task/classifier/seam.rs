//! A classifier as the training loop knows it.

use lalograph_net::Network;
use lalograph_net::models::classifier::{Classifier, DocumentWindow};

use super::evaluate::HeldOutDocuments;
use super::learner::ClassifierTask;
use super::model::{TASK, classifier_assets};
use crate::artefact::container::Assets;
use crate::data::documents::DocumentBatches;
use crate::data::source::Windows;
use crate::error::LabError;
use crate::plan::{Criterion, Plan};
use crate::run::description::TextFacts;
use crate::run::records::{Evaluation, Figures};
use crate::task::{Duty, Evaluator, Task};
use crate::training::events::TrainingObserver;
use crate::training::run_loop::{self, Running, TrainingOutcome};

impl Task for ClassifierTask {
    type Net = Classifier;
    type Note = ();

    const KIND: &'static str = TASK;

    fn plan(&self) -> &Plan {
        &self.plan
    }

    fn net(&self) -> &Classifier {
        &self.net
    }

    fn steps(&self) -> u64 {
        self.steps
    }

    fn facts(&self) -> TextFacts {
        self.facts
    }

    fn windows(&self) -> Box<dyn Windows<DocumentWindow> + '_> {
        Box::new(DocumentBatches::new(&self.training, self.plan.training.batch, self.plan.training.seed))
    }

    fn shared(&self) {}

    fn check_start(&self) -> Result<(), LabError> {
        self.start.check()
    }

    fn start(&self, weights: &mut [f32]) -> Result<(), LabError> {
        match self.input.vocabulary() {
            Some(vocabulary) => self.start.fill(self.net.layout(), weights, vocabulary),
            None => Ok(()),
        }
    }

    fn validation(&self) -> Option<Box<dyn Evaluator<Classifier> + '_>> {
        HeldOutDocuments::boxed(&self.net, &self.validation, self.plan.training.lanes)
    }

    fn test(&self) -> Option<Box<dyn Evaluator<Classifier> + '_>> {
        HeldOutDocuments::boxed(&self.net, &self.test, self.plan.training.lanes)
    }

    fn duties(&self) -> Vec<Box<dyn Duty<Self> + '_>> {
        Vec::new()
    }

    fn training_figures(&self, _: f64, right: f64) -> Figures {
        Figures::of([("accuracy", right)])
    }

    fn criterion(&self, evaluation: &Evaluation) -> f64 {
        let figure = |name| 1.0 - evaluation.figure(name).unwrap_or(0.0);
        match self.plan.classifier.as_ref().map(|plan| plan.criterion).unwrap_or_default() {
            Criterion::Loss => evaluation.loss,
            Criterion::Accuracy => figure("accuracy"),
            Criterion::MacroF1 => figure("macro_f1"),
        }
    }

    fn assets(&self) -> Result<Assets, LabError> {
        classifier_assets(&self.plan, &self.input, &self.classes)
    }
}

/// Trains a classifier's run from its position: [`run_loop::train`] for this task, compiled in this crate.
///
/// # Errors
/// As for [`run_loop::train`].
pub fn train_classifier(
    task: &ClassifierTask,
    running: Running,
    threads: usize,
    observer: &mut (dyn TrainingObserver<()> + Send),
) -> Result<TrainingOutcome, LabError> {
    run_loop::train(task, running, threads, observer)
}
