//! One window of a whole batch: its lanes run side by side, their gradients added in order.

use std::ops::Range;
use std::sync::mpsc::Sender;

use rayon::prelude::*;

use super::exchange::Exchange;
use super::lanes::Lanes;
use crate::heads::loss::Loss;
use crate::models::network::{Draw, LaneRoom, LaneStep, Network};
use crate::numbers::real::Real;
use crate::numbers::rooms::Rooms;
use crate::weights::gradient::{Handover, LaneGradient};
use crate::weights::packed::Parameters;

/// The lanes of a batch that are computed in this process, with their windows and gradients.
pub struct Team<N: Network, T: Real> {
    lanes: Lanes,
    /// The lanes that are computed here.
    here: Range<usize>,
    seats: Vec<Seat<N, T>>,
    gradients: Vec<LaneGradient<T>>,
    losses: Vec<Loss>,
    shared: N::Shared<T>,
}

/// Memory of one lane.
struct Seat<N: Network, T: Real> {
    lane: N::Lane<T>,
    window: N::Window,
}

/// What the lanes of all processes read in a step.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Read {
    /// The sum of the losses.
    pub loss: Loss,
    /// Targets that were scored.
    pub scored: u64,
    /// Tokens, or other steps, without padding.
    pub tokens: u64,
}

impl<N: Network, T: Real> Team<N, T> {
    /// The lanes `here` of a batch of `room.extent.rows` rows.
    pub fn new(net: &N, room: LaneRoom, lanes: Lanes, here: Range<usize>, shared: N::Shared<T>) -> Self {
        let mut rooms = Rooms::making();
        let room_of = |lane: usize| room.with_rows(lanes.rows_of(lane).len());
        let seats = here
            .clone()
            .map(|lane| Seat { lane: net.lane(room_of(lane), &mut rooms), window: N::Window::default() });
        let seats: Vec<Seat<N, T>> = seats.collect();
        let gradients = here.clone().enumerate().map(|(index, lane)| {
            // The first lane's gradient is where all are added up.
            let dense = if index == 0 { 0..net.layout().len() } else { net.dense() };
            net.gradient(room_of(lane), dense, &mut rooms)
        });
        Self {
            gradients: gradients.collect(),
            losses: vec![Loss::default(); seats.len()],
            seats,
            lanes,
            here,
            shared,
        }
    }

    /// Division of the batch.
    pub fn lanes(&self) -> Lanes {
        self.lanes
    }

    /// The windows of the lanes here, each with the rows of the batch that are to be put into it.
    pub fn windows_mut(&mut self) -> impl Iterator<Item = (Range<usize>, &mut N::Window)> {
        let lanes = self.lanes;
        self.here
            .clone()
            .zip(&mut self.seats)
            .map(move |(lane, seat)| (lanes.rows_of(lane), &mut seat.window))
    }

    /// The same, to be read.
    pub fn windows(&self) -> impl Iterator<Item = (Range<usize>, &N::Window)> {
        self.here.clone().zip(&self.seats).map(|(lane, seat)| (self.lanes.rows_of(lane), &seat.window))
    }

    /// Runs the windows forward and backward. The gradient of the *mean* loss over all targets that are scored, and of the penalties, is in
    /// [`Team::gradient`] afterwards.
    pub fn learn(
        &mut self,
        net: &N,
        weights: Parameters<'_, T>,
        draw: Draw,
        exchange: &mut dyn Exchange<T>,
    ) -> Read {
        let scored = self.seats.iter().map(|seat| net.scored(&seat.window)).sum();
        let [scored, tokens] = exchange.counted([scored, self.tokens(net)], self.here.len());
        let scale = 1.0 / scored.max(1) as f64;
        net.draw(&mut self.shared, draw);
        let (shared, first, dense) = (&self.shared, self.here.start, net.dense().start);
        let lanes = self.seats.par_iter_mut().zip(&mut self.gradients).zip(&mut self.losses).enumerate();
        let compute = |to: Option<Sender<_>>| {
            lanes.for_each(|(lane, ((seat, gradient), loss))| {
                let mut gradient = gradient.parts();
                gradient.dense.handover = to.clone().map(|to| Handover { lane, to });
                let step = LaneStep { draw, lane: (first + lane) as u64, scale };
                *loss = net.learn(weights, &seat.window, step, shared, &mut seat.lane, &mut gradient);
                gradient.dense.finish(dense);
            });
        };
        let mut once = Some(compute);
        exchange.overlap(self.here.len(), &mut |to| {
            if let Some(compute) = once.take() {
                compute(to);
            }
        });
        Read { loss: exchange.sum(&mut self.gradients, &self.losses), scored, tokens }
    }

    /// Tokens, or other steps, in the windows here, without padding.
    fn tokens(&self, net: &N) -> u64 {
        self.seats.iter().map(|seat| net.tokens(&seat.window)).sum()
    }

    /// Runs the windows forward only and returns the loss of each lane here.
    pub fn losses(&mut self, net: &N, weights: Parameters<'_, T>) -> impl Iterator<Item = f64> {
        self.seats.par_iter_mut().zip(&mut self.losses).for_each(|(seat, loss)| {
            loss.sum = net.loss(weights, &seat.window, &mut seat.lane);
        });
        self.losses.iter().map(|loss| loss.sum)
    }

    /// Does something with every lane, side by side; the results are in the order of the lanes.
    pub fn each<R: Send>(&mut self, work: impl Fn(&N::Window, &mut N::Lane<T>) -> R + Sync) -> Vec<R> {
        self.seats.par_iter_mut().map(|seat| work(&seat.window, &mut seat.lane)).collect()
    }

    /// The gradient of the last windows, laid out like the weights; of a table whose rows are left in the sum also what is left of windows before.
    pub fn gradient(&self) -> &[T] {
        self.gradients.first().map_or(&[], |lane| &lane.dense)
    }

    /// The same, to take rows out of it.
    pub fn gradient_mut(&mut self) -> &mut [T] {
        self.gradients.first_mut().map_or(&mut [], |lane| &mut lane.dense)
    }

    /// Bytes of the rows of tables that the last windows touched, with their numbers.
    pub fn row_bytes(&self) -> usize {
        let tables = self.gradients.iter().flat_map(|lane| &lane.tables);
        tables.map(|table| size_of_val(&table.rows[..]) + size_of_val(&table.values[..])).sum()
    }

    /// Puts the state before a text into all rows.
    pub fn begin(&mut self, net: &N, weights: Parameters<'_, T>) {
        self.seats.iter_mut().for_each(|seat| net.begin(weights, &mut seat.lane));
    }

    /// The state that each lane carries, one array a layer, with the number of the lane.
    pub fn states(&self, net: &N) -> impl Iterator<Item = (usize, &[Vec<T>])> {
        self.here.clone().zip(self.seats.iter().map(|seat| net.states(&seat.lane)))
    }

    /// The same, to be set.
    pub fn states_mut(&mut self, net: &N) -> impl Iterator<Item = (usize, &mut [Vec<T>])> {
        self.here.clone().zip(self.seats.iter_mut().map(|seat| net.states_mut(&mut seat.lane)))
    }
}
