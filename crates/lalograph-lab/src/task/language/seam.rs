//! A language model as the training loop knows it.

use lalograph_net::heads::sampled::SharedSample;
use lalograph_net::models::language::TokenWindow;
use lalograph_net::step::exchange::{Exchange, Rank};
use lalograph_net::weights::first_values::first_values;
use lalograph_net::{LanguageModel, Network};
use lalograph_text::tokens::TokenSequence;

use super::duties::{FlowDuty, LanguageNote, SamplesDuty};
use super::evaluate::HeldOutText;
use super::learner::LanguageTask;
use super::model::{TASK, language_assets};
use super::prepare::windows_of;
use super::tuned::TunedText;
use crate::artefact::container::Assets;
use crate::data::source::Windows;
use crate::error::LabError;
use crate::measure::forecast::{self, Forecast};
use crate::plan::Plan;
use crate::run::description::TextFacts;
use crate::run::records::Figures;
use crate::task::{Duty, Evaluator, Startable, Task};
use crate::training::company;
use crate::training::events::TrainingObserver;
use crate::training::run_loop::{self, Running, TrainingOutcome};

impl Startable for LanguageTask {
    fn check_start(&self) -> Result<(), LabError> {
        self.start.check()
    }
}

impl Task for LanguageTask {
    type Net = LanguageModel;
    type Note = LanguageNote;

    const KIND: &'static str = TASK;

    fn plan(&self) -> &Plan {
        &self.plan
    }

    fn net(&self) -> &LanguageModel {
        &self.model
    }

    fn steps(&self) -> u64 {
        self.steps
    }

    fn facts(&self) -> TextFacts {
        self.facts
    }

    fn windows(&self) -> Box<dyn Windows<TokenWindow> + '_> {
        windows_of(&self.plan, &self.corpus.training, self.old.as_ref())
    }

    fn shared(&self) -> SharedSample<f32> {
        self.model.shared(|| self.corpus.training.counts(self.vocabulary.len()))
    }

    fn start(&self, weights: &mut [f32]) -> Result<(), LabError> {
        self.start.fill(self.model.layout(), weights, &self.vocabulary)
    }

    fn validation(&self, rank: Rank) -> Option<Box<dyn Evaluator<LanguageModel> + '_>> {
        let share = self.plan.training.validate_share;
        let boxed =
            |text: &TokenSequence| HeldOutText::boxed(&self.plan, &self.model, text.beginning(share), rank);
        let new = boxed(&self.corpus.validation)?;
        let Some(tune) = &self.plan.tune else { return Some(new) };
        let old = self.old.as_ref().filter(|_| tune.measure_old).and_then(|old| boxed(&old.validation));
        let mut base = first_values(self.model.layout(), self.plan.training.seed);
        // A base that is gone is an error where weights start from it: a run that continues was started.
        let known = self.start.fill(self.model.layout(), &mut base, &self.vocabulary).is_ok();
        Some(Box::new(TunedText { new, old, base: known.then_some(base) }))
    }

    fn validates_first(&self) -> bool {
        self.plan.tune.is_some()
    }

    fn test(&self, rank: Rank) -> Option<Box<dyn Evaluator<LanguageModel> + '_>> {
        HeldOutText::boxed(&self.plan, &self.model, self.corpus.test.clone(), rank)
    }

    fn duties(&self) -> Vec<Box<dyn Duty<Self> + '_>> {
        vec![Box::new(FlowDuty::new(self)), Box::new(SamplesDuty::new(self))]
    }

    fn training_figures(&self, loss: f64, _: f64) -> Figures {
        // Against a sample of the vocabulary the loss is no perplexity's logarithm.
        if self.model.samples().is_none() {
            Figures::of([("perplexity", loss.exp())])
        } else {
            Figures::default()
        }
    }

    fn assets(&self) -> Result<Assets, LabError> {
        language_assets(&self.plan, &self.vocabulary)
    }
}

/// Forecasts the duration of a language model's run: [`forecast::forecast`] for this task, compiled in this crate.
///
/// # Errors
/// As for [`forecast::forecast`].
pub fn forecast(
    task: &LanguageTask,
    threads: usize,
    seconds: f64,
    go_on: &mut (dyn FnMut() -> bool + Send),
) -> Result<Option<Forecast>, LabError> {
    forecast::forecast(task, threads, seconds, go_on)
}

/// Trains a language model's run from its position: [`run_loop::train`] for this task, compiled in this crate. Generic code is compiled in
/// the crate that calls it, and a program may be compiled for size while this crate is compiled for speed.
///
/// # Errors
/// As for [`run_loop::train`].
pub fn train(
    task: &LanguageTask,
    running: Running,
    threads: usize,
    observer: &mut (dyn TrainingObserver<LanguageNote> + Send),
) -> Result<TrainingOutcome, LabError> {
    run_loop::train(task, running, threads, observer)
}

/// Computes the lanes of this process for a run that process 0 trains: [`company::follow`] for this task, compiled in this crate.
///
/// # Errors
/// As for [`company::follow`].
pub fn follow(
    task: &LanguageTask,
    exchange: Box<dyn Exchange<f32>>,
    threads: usize,
    stops: &(dyn Fn() -> bool + Sync),
) -> Result<(), LabError> {
    company::follow(task, exchange, threads, stops)
}
