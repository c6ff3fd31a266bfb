//! The trainer: windows, lanes, weights and optimiser of a run, one step after another. It knows neither files nor plans.

use lalograph_net::Network;
use lalograph_net::blocks::regularisation::{LaneUse, Regularisation};
use lalograph_net::learning::clipping::{Clipped, Clipping, GradientMeter};
use lalograph_net::learning::late_rows::LateRows;
use lalograph_net::learning::optimiser::{Optimiser, OptimiserSettings};
use lalograph_net::models::network::{Draw, LaneRoom};
use lalograph_net::step::exchange::Exchange;
use lalograph_net::step::lanes::Lanes;
use lalograph_net::step::team::Team;
use lalograph_net::weights::first_values::first_values;
use lalograph_net::weights::packed::{PackedWeights, Parameters, Pass};

use crate::data::source::Windows;
use crate::error::LabError;

/// Training settings.
#[derive(Debug, Clone, PartialEq)]
pub struct TrainerSettings {
    /// Fixes first values, dropout and samples.
    pub seed: u64,
    /// Lanes that the batch is cut into.
    pub lanes: usize,
    /// Regularisation.
    pub regularisation: Regularisation,
    /// Gradient clipping.
    pub clipping: Clipping,
    /// The optimiser.
    pub optimiser: OptimiserSettings,
}

/// Everything that a step changes.
pub struct Trainer<'t, N: Network> {
    net: &'t N,
    seed: u64,
    clipping: Clipping,
    windows: Box<dyn Windows<N::Window> + 't>,
    exchange: Box<dyn Exchange<f32> + 't>,
    team: Team<N, f32>,
    weights: Vec<f32>,
    packed: PackedWeights<f32>,
    meter: GradientMeter,
    optimiser: Optimiser<f32>,
    step: u64,
}

/// A gradient that was computed and not yet applied.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Learnt {
    /// Tokens, or other steps, that were read.
    pub tokens: u64,
    /// The mean loss of the targets.
    pub loss: f64,
    /// The share of the targets that were predicted right, if the network counts them.
    pub right: f64,
}

impl<'t, N: Network> Trainer<'t, N> {
    /// A trainer that has made no step.
    pub fn new(
        net: &'t N,
        settings: TrainerSettings,
        windows: Box<dyn Windows<N::Window> + 't>,
        exchange: Box<dyn Exchange<f32> + 't>,
        shared: N::Shared<f32>,
    ) -> Self {
        let TrainerSettings { seed, lanes, regularisation, clipping, optimiser } = settings;
        let room = LaneRoom {
            extent: windows.extent(),
            used_for: LaneUse::Training(regularisation),
            resets: windows.resets(),
        };
        let lanes = Lanes::new(room.extent.rows, lanes);
        let here = exchange.lanes(lanes.count());
        let layout = net.layout();
        let optimiser = Optimiser::new(optimiser, layout);
        let optimiser = match net.table() {
            Some((table, width)) => optimiser.with_late_rows(table, width),
            None => optimiser,
        };
        Self {
            net,
            seed,
            clipping,
            windows,
            exchange,
            team: Team::new(net, room, lanes, here, shared),
            weights: first_values(layout, seed),
            packed: PackedWeights::new(layout, true),
            meter: GradientMeter::with_table(
                layout,
                optimiser.late_rows().map(|late| (late.table().clone(), late.width())),
            ),
            optimiser,
            step: 0,
        }
    }

    /// Steps made.
    pub fn step(&self) -> u64 {
        self.step
    }

    /// Steps of one epoch.
    pub fn steps_per_epoch(&self) -> u64 {
        self.windows.count() as u64
    }

    /// Which epoch and window the step after so many is about.
    fn position(&self, step: u64) -> (u64, usize) {
        (step / self.steps_per_epoch(), (step % self.steps_per_epoch()) as usize)
    }

    /// Goes on as if `step` steps had been made, with weights, states and the optimiser's memory put back beforehand.
    ///
    /// # Errors
    /// The data cannot be read any more.
    pub(crate) fn go_to(&mut self, step: u64) -> Result<(), LabError> {
        self.step = step;
        if let Some(last) = step.checked_sub(1) {
            // The last window is in hand again, for what is still to be done with it.
            let (epoch, window) = self.position(last);
            self.windows.go_to(epoch, window);
            self.windows.fill(epoch, window, &mut self.team.windows_mut())?;
        }
        Ok(())
    }

    /// Computes the gradient of the next window.
    ///
    /// # Errors
    /// The data cannot be read any more.
    pub fn learn(&mut self) -> Result<Learnt, LabError> {
        let (epoch, window) = self.position(self.step);
        self.windows.fill(epoch, window, &mut self.team.windows_mut())?;
        let (net, team) = (self.net, &self.team);
        let rows = team.windows().flat_map(|(_, window)| net.rows(window)).copied();
        self.optimiser.catch_up(&mut self.weights, rows);
        self.packed.update(self.net.layout(), &self.weights, Pass::Training);
        let weights = self.packed.with(&self.weights);
        if window == 0 && !self.windows.resets() {
            self.team.begin(self.net, weights);
        }
        let draw = Draw { seed: self.seed, step: self.step };
        let (loss, targets) = self.team.learn(self.net, weights, draw, self.exchange.as_mut());
        let tokens = self.exchange.scored(self.team.tokens(self.net));
        let read = self.optimiser.late_rows().map_or(&[][..], LateRows::read);
        self.meter.measure_rows(self.team.gradient(), &self.clipping, read);
        let share = 1.0 / targets.max(1) as f64;
        Ok(Learnt { tokens, loss: loss.sum * share, right: loss.right as f64 * share })
    }

    /// Measurements of the last gradient.
    pub fn clipped(&self) -> &Clipped {
        self.meter.clipped()
    }

    /// Moves the weights by the gradient that was computed.
    pub fn apply(&mut self, learning_rate: f64) {
        self.optimiser.step(&mut self.weights, self.team.gradient(), learning_rate, self.meter.clipped());
        self.step += 1;
    }

    /// The first parameter whose gradient is not finite.
    pub fn first_not_finite(&self) -> Option<&str> {
        self.meter.first_not_finite().map(|index| self.net.layout().tensors()[index].name.as_str())
    }

    /// Whether anybody, here or in another process, wants to stop.
    pub fn agree(&mut self, stop: bool) -> bool {
        self.exchange.agree(stop)
    }

    /// Brings all weights up to date: those of rare tokens may be some steps behind.
    pub fn settle(&mut self) {
        self.optimiser.settle(&mut self.weights);
    }

    /// The weights that are trained, up to date after [`Trainer::settle`].
    pub fn weights(&self) -> &[f32] {
        &self.weights
    }

    /// The same, to be set.
    pub fn weights_mut(&mut self) -> &mut [f32] {
        &mut self.weights
    }

    /// The weights to validate and keep.
    pub fn settled(&mut self) -> &[f32] {
        self.settle();
        self.optimiser.settled(&self.weights)
    }

    /// The same, ready to be read.
    pub fn settled_parameters(&mut self) -> Parameters<'_, f32> {
        self.settle();
        let settled = self.optimiser.settled(&self.weights);
        self.packed.update(self.net.layout(), settled, Pass::Reading);
        self.packed.with(settled)
    }

    /// Any weights, ready to be read.
    pub fn parameters_of<'w>(&'w mut self, weights: &'w [f32]) -> Parameters<'w, f32> {
        self.packed.update(self.net.layout(), weights, Pass::Reading);
        self.packed.with(weights)
    }

    /// The lanes with the windows of the last step, and the weights that are trained, ready for another training pass over them.
    pub fn last_step(&mut self) -> (&Team<N, f32>, Parameters<'_, f32>) {
        self.settle();
        self.packed.update(self.net.layout(), &self.weights, Pass::Training);
        (&self.team, self.packed.with(&self.weights))
    }

    /// The optimiser, with what it remembers.
    pub(crate) fn optimiser(&self) -> &Optimiser<f32> {
        &self.optimiser
    }

    /// The same, to be set.
    pub(crate) fn optimiser_mut(&mut self) -> &mut Optimiser<f32> {
        &mut self.optimiser
    }

    /// The state that each lane carries, with the number of the lane.
    pub(crate) fn states(&self) -> impl Iterator<Item = (usize, &[Vec<f32>])> {
        self.team.states(self.net)
    }

    /// The same, to be set.
    pub(crate) fn states_mut(&mut self) -> impl Iterator<Item = (usize, &mut [Vec<f32>])> {
        self.team.states_mut(self.net)
    }

    /// The network.
    pub fn net(&self) -> &'t N {
        self.net
    }
}
