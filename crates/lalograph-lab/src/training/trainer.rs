//! The trainer: windows, lanes, weights and optimiser of a run, one step after another. It knows neither files nor plans.

use lalograph_net::Network;
use lalograph_net::blocks::regularisation::{LaneUse, Regularisation};
use lalograph_net::learning::clipping::{Clipped, Clipping, GradientMeter};
use lalograph_net::learning::late_rows::LateRows;
use lalograph_net::learning::optimiser::{Optimiser, OptimiserSettings};
use lalograph_net::models::network::{Draw, LaneRoom};
use lalograph_net::step::awake::Awake;
use lalograph_net::step::exchange::{Exchange, GradientSum};
use lalograph_net::step::lanes::Lanes;
use lalograph_net::step::team::Team;
use lalograph_net::weights::first_values::first_values;
use lalograph_net::weights::packed::{PackedWeights, Parameters, Pass};

use super::evaluator::Evaluator;
use crate::data::source::Windows;
use crate::error::LabError;
use crate::run::records::Evaluation;

/// Training settings.
#[derive(Debug, Clone, PartialEq)]
pub struct TrainerSettings {
    /// Fixes first values, dropout and samples.
    pub seed: u64,
    /// Lanes that the batch is cut into.
    pub lanes: usize,
    /// How several processes add up gradients.
    pub gradient_sum: GradientSum,
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
    /// The rows of the table that a step reads, if the others may be behind.
    rows: Vec<u32>,
    awake: Awake,
    step: u64,
}

/// A layer of a lane.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct LaneLayer {
    pub(crate) lane: usize,
    pub(crate) layer: usize,
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
        mut exchange: Box<dyn Exchange<f32> + 't>,
        shared: N::Shared<f32>,
    ) -> Self {
        let TrainerSettings { seed, lanes, gradient_sum, regularisation, clipping, optimiser } = settings;
        exchange.begin(net.dense(), gradient_sum);
        let room = LaneRoom {
            extent: windows.extent(),
            used_for: LaneUse::Training(regularisation),
            resets: windows.resets(),
        };
        let lanes = Lanes::new(room.extent.rows, lanes);
        let here = exchange.rank().lanes(lanes.count());
        let layout = net.layout();
        let optimiser = Optimiser::new(optimiser, layout);
        let optimiser = match net.table() {
            Some((table, width)) => optimiser.with_late_rows(table, width),
            None => optimiser,
        };
        if let Some(late) = optimiser.late_rows() {
            exchange.leave_rows(late.table().clone());
        }
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
            rows: Vec::new(),
            awake: Awake::default(),
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
        self.awake.wake();
        let (epoch, window) = self.position(self.step);
        self.windows.fill(epoch, window, &mut self.team.windows_mut())?;
        let (net, team) = (self.net, &mut self.team);
        if self.optimiser.late_rows().is_some() {
            self.rows.clear();
            self.rows.extend(team.windows().flat_map(|(_, window)| net.rows(window)));
            self.exchange.all_rows(&mut self.rows);
            self.optimiser.catch_up(&mut self.weights, team.gradient_mut(), self.rows.iter().copied());
        }
        self.packed.update(self.net.layout(), &self.weights, Pass::Training);
        let weights = self.packed.with(&self.weights);
        if window == 0 && !self.windows.resets() {
            self.team.begin(self.net, weights);
        }
        let draw = Draw { seed: self.seed, step: self.step };
        let batch = self.team.learn(self.net, weights, draw, self.exchange.as_mut());
        let read = self.optimiser.late_rows().map_or(&[][..], LateRows::read);
        self.meter.measure_rows(self.team.gradient(), &self.clipping, read);
        let share = 1.0 / batch.scored.max(1) as f64;
        Ok(Learnt {
            tokens: batch.tokens,
            loss: batch.loss.sum * share,
            right: batch.loss.right as f64 * share,
        })
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
        self.optimiser.settle(&mut self.weights, self.team.gradient_mut());
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

    /// Has an evaluator read its data, divided among the processes, with `weights` or, without, those to validate and keep.
    ///
    /// # Errors
    /// As for [`Evaluator::evaluate`].
    pub fn evaluate(
        &mut self,
        data: &mut dyn Evaluator<N>,
        weights: Option<&[f32]>,
        progress: &mut dyn FnMut(f64) -> bool,
    ) -> Result<Option<Evaluation>, LabError> {
        self.settle();
        let weights = weights.unwrap_or_else(|| self.optimiser.settled(&self.weights));
        self.packed.update(self.net.layout(), weights, Pass::Reading);
        data.evaluate(self.net, self.packed.with(weights), self.exchange.as_mut(), progress)
    }

    /// The lanes here with the windows of the last step, the weights that are trained, ready for another training pass over them, and what brings the
    /// lanes of all processes together.
    pub fn last_step(&mut self) -> (&Team<N, f32>, Parameters<'_, f32>, &mut (dyn Exchange<f32> + 't)) {
        self.settle();
        self.packed.update(self.net.layout(), &self.weights, Pass::Training);
        (&self.team, self.packed.with(&self.weights), self.exchange.as_mut())
    }

    /// The optimiser, with what it remembers.
    pub(crate) fn optimiser(&self) -> &Optimiser<f32> {
        &self.optimiser
    }

    /// The same, to be set.
    pub(crate) fn optimiser_mut(&mut self) -> &mut Optimiser<f32> {
        &mut self.optimiser
    }

    /// The state that each lane carries, lanes of other processes included, with the names of lane and layer.
    pub(crate) fn states(&mut self) -> Vec<(LaneLayer, Vec<f32>)> {
        let mut here = Vec::new();
        for (_, states) in self.team.states(self.net) {
            states.iter().for_each(|layer| here.extend_from_slice(bytemuck::cast_slice(layer)));
        }
        let all = self.exchange.gather(&here).concat();
        let mut numbers = all.chunks_exact(4).map(|bytes| bytes.try_into().map_or(0.0, f32::from_le_bytes));
        let lengths = self.state_lengths();
        lengths.into_iter().map(|(name, length)| (name, numbers.by_ref().take(length).collect())).collect()
    }

    /// Numbers of the state of every lane and layer, whatever process computes them.
    pub(crate) fn state_lengths(&self) -> Vec<(LaneLayer, usize)> {
        let lanes = self.team.lanes();
        let Some((first, own)) = self.team.states(self.net).next() else { return Vec::new() };
        let rows = lanes.rows_of(first).len();
        let widths: Vec<usize> = own.iter().map(|layer| layer.len() / rows.max(1)).collect();
        (0..lanes.count())
            .flat_map(|lane| {
                let rows = lanes.rows_of(lane).len();
                widths.iter().enumerate().map(move |(layer, width)| (LaneLayer { lane, layer }, rows * width))
            })
            .collect()
    }

    /// The state that each lane here carries, with the number of the lane, to be set.
    pub(crate) fn states_mut(&mut self) -> impl Iterator<Item = (usize, &mut [Vec<f32>])> {
        self.team.states_mut(self.net)
    }

    /// Goes on from the position of another process: weights, the optimiser's steps and memory, and the states of all lanes, layer by layer, where
    /// there are any yet.
    ///
    /// # Errors
    /// The numbers are not those of this run; the data cannot be read any more.
    pub(crate) fn take_over(
        &mut self,
        step: u64,
        weights: &[f32],
        (steps, memory): (u64, [&[f32]; 3]),
        states: &[f32],
    ) -> Result<(), LabError> {
        let lengths = self.state_lengths();
        let all: usize = lengths.iter().map(|(_, length)| length).sum();
        let fits = weights.len() == self.weights.len()
            && self.optimiser.memory().map(|(_, own)| own.len()) == memory.map(<[f32]>::len)
            && (states.is_empty() || states.len() == all);
        if !fits {
            return Err(LabError::OtherProgram);
        }
        self.weights.copy_from_slice(weights);
        self.optimiser.remember(steps, memory);
        self.go_to(step)?;
        let mut rest = states;
        for (name, length) in lengths.into_iter().filter(|_| !states.is_empty()) {
            let (values, others) = rest.split_at(length);
            rest = others;
            for (lane, layers) in self.team.states_mut(self.net) {
                if lane == name.lane {
                    layers[name.layer].copy_from_slice(values);
                }
            }
        }
        Ok(())
    }

    /// What the processes of the run do together.
    pub(crate) fn exchange(&mut self) -> &mut (dyn Exchange<f32> + 't) {
        self.exchange.as_mut()
    }

    /// Lanes of all processes, bytes of the gradient that is dense, and bytes of the rows that the lanes here touched in the last step.
    pub(crate) fn exchanged(&self) -> (usize, usize, usize) {
        let dense = self.net.dense().len() * size_of::<f32>();
        (self.team.lanes().count(), dense, self.team.row_bytes())
    }

    /// The network.
    pub fn net(&self) -> &'t N {
        self.net
    }
}
