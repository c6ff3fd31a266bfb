//! What makes one step after another: windows, lanes, weights and optimiser of a run.

use lalograph_net::LanguageModel;
use lalograph_net::clipping::{Clipped, Clipping, GradientMeter};
use lalograph_net::initial::initial_weights;
use lalograph_net::model::Purpose;
use lalograph_net::optimiser::Optimiser;
use lalograph_net::parameters::{PackedWeights, Weights};
use lalograph_net::recurrent::Extent;
use lalograph_net::step::{AddLanes, Batch, Draw, Team};
use lalograph_text::tokens::TokenSequence;

use crate::plan::Plan;
use crate::streams::{TrainingWindows, WindowBuffer};

/// Everything that a step changes.
pub(crate) struct Trainer<'t> {
    model: &'t LanguageModel,
    seed: u64,
    clipping: Clipping,
    windows: TrainingWindows<'t>,
    buffer: WindowBuffer,
    pub(crate) team: Team<f32>,
    pub(crate) weights: Vec<f32>,
    packed: PackedWeights<f32>,
    meter: GradientMeter,
    pub(crate) optimiser: Optimiser<f32>,
    /// Steps made.
    pub(crate) step: u64,
}

/// A gradient, not yet applied.
pub(crate) struct Learnt {
    /// Tokens predicted.
    pub(crate) tokens: u64,
    /// Mean loss of them.
    pub(crate) loss: f64,
    /// Its norms and limits.
    pub(crate) clipped: Clipped,
}

impl<'t> Trainer<'t> {
    /// A trainer that has made no step of a run of `steps` steps over `text`. `counts` says how often each token is met, for a sampled softmax.
    pub(crate) fn new(
        plan: &Plan,
        model: &'t LanguageModel,
        text: &'t TokenSequence,
        steps: u64,
        counts: impl FnOnce() -> Vec<u64>,
    ) -> Self {
        let training = &plan.training;
        let extent = Extent { steps: TrainingWindows::most_steps(training), rows: training.batch };
        let begins = TrainingWindows::begin_anew(training);
        let purpose = Purpose::Training(plan.regularisation());
        let mut team = Team::new(model, extent, training.lanes, purpose, begins);
        if model.samples().is_some() {
            team = team.sampling_by(&counts());
        }
        Self {
            model,
            seed: training.seed,
            clipping: plan.clipping(),
            windows: TrainingWindows::new(text, training),
            buffer: WindowBuffer::new(begins),
            team,
            weights: initial_weights(model.layout(), training.seed),
            packed: PackedWeights::new(model.layout(), true),
            meter: GradientMeter::new(model.layout()),
            optimiser: Optimiser::new(plan.optimiser(steps), model.layout()),
            step: 0,
        }
    }

    /// Steps of one pass over the text.
    pub(crate) fn steps_per_epoch(&self) -> u64 {
        self.windows.windows() as u64
    }

    /// Which pass and window the step after so many is about.
    fn position(&self, step: u64) -> (u64, usize) {
        (step / self.steps_per_epoch(), (step % self.steps_per_epoch()) as usize)
    }

    /// Goes on as if `step` steps had been made, with weights, states and the optimiser's memory put back beforehand.
    pub(crate) fn go_to(&mut self, step: u64) {
        self.step = step;
        if let Some(last) = step.checked_sub(1) {
            // The last window is in hand again, for what is still to be done with it.
            let (pass, window) = self.position(last);
            self.windows.go_to(pass, window, &mut self.buffer);
            self.windows.window(pass, window, &mut self.buffer);
        }
    }

    /// Computes the gradient of the next window.
    pub(crate) fn learn(&mut self) -> Learnt {
        let (pass, window) = self.position(self.step);
        self.windows.window(pass, window, &mut self.buffer);
        self.packed.update(self.model.layout(), &self.weights);
        let weights = self.packed.with(&self.weights);
        let batch = self.buffer.batch();
        if window == 0 && batch.fresh.is_none() {
            self.team.begin(self.model, weights);
        }
        let draw = Draw { seed: self.seed, step: self.step };
        let loss = self.team.learn(self.model, weights, batch, draw, &mut AddLanes);
        let clipped = self.meter.measure(self.team.gradient(), &self.clipping);
        let tokens = self.buffer.scored();
        Learnt { tokens, loss: loss.sum / tokens.max(1) as f64, clipped }
    }

    /// Moves the weights by the gradient that was learnt.
    pub(crate) fn apply(&mut self, learning_rate: f64, learnt: &Learnt) {
        self.optimiser.step(&mut self.weights, self.team.gradient(), learning_rate, &learnt.clipped);
        self.step += 1;
    }

    /// The first parameter whose gradient is not finite.
    pub(crate) fn first_not_finite(&self) -> Option<&str> {
        self.meter.first_not_finite().map(|index| self.model.layout().tensors()[index].name.as_str())
    }

    /// The weights to judge and keep, ready to be read.
    pub(crate) fn settled(&mut self) -> Weights<'_, f32> {
        let settled = self.optimiser.settled(&self.weights);
        self.packed.update(self.model.layout(), settled);
        self.packed.with(settled)
    }

    /// Any weights, ready to be read.
    pub(crate) fn pack<'w>(&'w mut self, weights: &'w [f32]) -> Weights<'w, f32> {
        self.packed.update(self.model.layout(), weights);
        self.packed.with(weights)
    }

    /// The last window and the weights in hand, ready to be read.
    pub(crate) fn last_window_and_weights(&mut self) -> (Batch<'_>, Weights<'_, f32>) {
        self.packed.update(self.model.layout(), &self.weights);
        (self.buffer.batch(), self.packed.with(&self.weights))
    }
}
