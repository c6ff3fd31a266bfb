//! The second direction of a layer that reads a window from both ends (Schuster and Paliwal, 1997).

use super::recurrent::walk::{Recurrent, Tape, TapeRoom};
use super::recurrent::window::{Extent, Window};
use crate::numbers::real::Real;
use crate::numbers::rooms::Rooms;
use crate::products::pack::Workspace;
use crate::weights::gradient::Gradient;
use crate::weights::packed::Parameters;

/// Values that a backward-reading layer keeps, and its working memory.
#[derive(Debug, Clone, Default)]
pub(super) struct ReverseTape<T> {
    tape: Tape<T>,
    state: Vec<T>,
    x: Vec<T>,
    resets: Vec<bool>,
    /// Both directions side by side.
    joined: Vec<T>,
    d_one: Vec<T>,
    d_x: Vec<T>,
}

impl<T: Real> ReverseTape<T> {
    /// The tape that a layer needs to read windows backwards.
    pub(super) fn within(layer: &Recurrent, room: TapeRoom, rooms: &mut Rooms) -> Self {
        let tokens = room.extent.tokens();
        Self {
            // The reverse direction always has rows that are reset: at each end of a text.
            tape: layer.tape(TapeRoom { resets: true, ..room }, rooms),
            state: rooms.zeros(room.extent.rows * layer.state_width()),
            x: rooms.zeros(tokens * layer.inputs()),
            resets: rooms.zeros(tokens),
            joined: rooms.zeros(2 * tokens * layer.hidden()),
            d_one: rooms.zeros_if(room.training, tokens * layer.hidden()),
            d_x: rooms.zeros_if(room.training, tokens * layer.inputs()),
        }
    }

    /// The tape of the layer itself.
    pub(super) fn tape(&mut self) -> &mut Tape<T> {
        &mut self.tape
    }

    /// Both directions side by side: tokens x twice the layer's width.
    pub(super) fn joined(&self) -> &[T] {
        &self.joined
    }
}

/// Steps of a window in the opposite order.
fn turned<T: Copy>(steps: usize, block: usize, from: &[T], to: &mut [T]) {
    for step in 0..steps {
        let other = steps - 1 - step;
        to[step * block..(step + 1) * block].copy_from_slice(&from[other * block..(other + 1) * block]);
    }
}

/// Runs a layer from the window's end to its beginning. Where a row is reset, the text before it has ended, and there the
/// reverse direction begins.
pub(super) fn read_reverse<T: Real>(
    layer: &Recurrent,
    weights: Parameters<'_, T>,
    window: Window<'_>,
    x: &[T],
    reverse: &mut ReverseTape<T>,
    work: &mut Workspace<T>,
) {
    let Extent { steps, rows } = window.extent;
    let tokens = window.extent.tokens();
    turned(steps, rows * layer.inputs(), x, &mut reverse.x);
    for step in 0..steps {
        for row in 0..rows {
            // Step `step` of the turned window is at `steps - 1 - step`; what follows it there is one further.
            let after = (steps - step) * rows + row;
            let begins = step == 0 || window.resets.is_some_and(|resets| resets[after]);
            reverse.resets[step * rows + row] = begins;
        }
    }
    let turned = Window { extent: window.extent, resets: Some(&reverse.resets[..tokens]) };
    let x = &reverse.x[..tokens * layer.inputs()];
    // A window may have fewer rows than there is room for.
    let state = &mut reverse.state[..rows * layer.state_width()];
    layer.forward(weights, turned, x, state, &mut reverse.tape, work);
}

/// Puts both directions' outputs side by side.
pub(super) fn join<T: Real>(extent: Extent, hidden: usize, forward: &Tape<T>, reverse: &mut ReverseTape<T>) {
    let Extent { steps, rows } = extent;
    let ahead = forward.window_outputs(extent, hidden);
    let back = reverse.tape.window_outputs(extent, hidden);
    for (token, to) in reverse.joined.chunks_exact_mut(2 * hidden).take(extent.tokens()).enumerate() {
        let (step, row) = (token / rows, token % rows);
        let other = (steps - 1 - step) * rows + row;
        to[..hidden].copy_from_slice(&ahead[token * hidden..(token + 1) * hidden]);
        to[hidden..].copy_from_slice(&back[other * hidden..(other + 1) * hidden]);
    }
}

/// One direction's part of joined gradients, `direction` 0 or 1, in the order in which that direction reads.
pub(super) fn take_direction<'r, T: Real>(
    extent: Extent,
    hidden: usize,
    joined: &[T],
    direction: usize,
    reverse: &'r mut ReverseTape<T>,
) -> &'r [T] {
    let Extent { steps, rows } = extent;
    let out = &mut reverse.d_one[..extent.tokens() * hidden];
    for (token, from) in joined.chunks_exact(2 * hidden).enumerate() {
        let (step, row) = (token / rows, token % rows);
        let place = if direction == 0 { token } else { (steps - 1 - step) * rows + row };
        let from = &from[direction * hidden..(direction + 1) * hidden];
        out[place * hidden..(place + 1) * hidden].copy_from_slice(from);
    }
    out
}

/// The backward pass of [`read_reverse`]; adds to `d_x`.
#[expect(clippy::too_many_arguments, reason = "inputs, outputs and scratch of one pass")]
pub(super) fn reverse_backward<T: Real>(
    layer: &Recurrent,
    weights: Parameters<'_, T>,
    window: Window<'_>,
    d_joined: &[T],
    reverse: &mut ReverseTape<T>,
    gradient: &mut Gradient<'_, T>,
    d_x: &mut [T],
    work: &mut Workspace<T>,
) {
    let Extent { steps, rows } = window.extent;
    let tokens = window.extent.tokens();
    let block = rows * layer.inputs();
    take_direction(window.extent, layer.hidden(), d_joined, 1, reverse);
    let ReverseTape { tape, x, resets, d_one, d_x: d_turned, .. } = reverse;
    let turned = Window { extent: window.extent, resets: Some(&resets[..tokens]) };
    let d_turned = &mut d_turned[..steps * block];
    let (x, d_one) = (&x[..steps * block], &d_one[..tokens * layer.hidden()]);
    layer.backward(weights, turned, x, d_one, tape, gradient, d_turned, work);
    for step in 0..steps {
        let from = &d_turned[(steps - 1 - step) * block..(steps - step) * block];
        d_x[step * block..(step + 1) * block].iter_mut().zip(from).for_each(|(d, &x)| *d += x);
    }
}
