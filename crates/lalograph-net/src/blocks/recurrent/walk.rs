//! A recurrent layer: the walk of a cell through a window of text, forwards and back.
//!
//! The inputs of all steps meet their weights in one large product; only the recurrence is done step by step, with its weights packed
//! once for the window.

use std::ops::Range;

use super::cell::{Backward, Cell, Forward};
use super::start::StartingValues;
use super::window::{Extent, Window};
use crate::blocks::dropout;
use crate::numbers::real::Real;
use crate::numbers::rooms::Rooms;
use crate::products::multiply::{add_column_sums, multiply, multiply_packed};
use crate::products::pack::Workspace;
use crate::products::view::{Accumulation, Matrix, MatrixMut};
use crate::weights::gradient::Gradient;
use crate::weights::layout::{GroupId, Initial, Layout, PackId, ReadIn};
use crate::weights::packed::Parameters;

/// Sizes of a tape.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TapeRoom {
    /// The largest window.
    pub extent: Extent,
    /// Backward passes.
    pub training: bool,
    /// Windows in which rows are reset.
    pub resets: bool,
    /// Dropout on the recurrent path.
    pub recurrent_dropout: bool,
}

/// Values that a layer keeps from its forward pass for its backward pass, and its working memory. Made once for the
/// largest window; smaller windows use its beginning.
#[derive(Debug, Clone, Default)]
pub struct Tape<T> {
    /// Gates, steps x rows x (gates * hidden); the gradients of their sums after the backward pass.
    gates: Vec<T>,
    /// Outputs with those before the window in front: (steps + 1) x rows x hidden.
    outputs: Vec<T>,
    /// Memories likewise, for cells that have them.
    cells: Vec<T>,
    /// Values that the cell keeps: steps x rows x hidden.
    kept: Vec<T>,
    /// The recurrent product of one step, for cells that need it by itself: rows x (gates * hidden).
    product: Vec<T>,
    /// The state that each step begins with, where that is not the one before: steps x rows x hidden each.
    entered_outputs: Vec<T>,
    entered_cells: Vec<T>,
    /// The outputs that each step was fed, after dropout: steps x rows x hidden.
    fed: Vec<T>,
    /// The mask of the recurrent path, one for the window: rows x hidden.
    pub(in crate::blocks) mask: Vec<T>,
    pub(in crate::blocks) masked: bool,
    /// Gradients flowing back from the next step: rows x hidden each.
    d_next: Vec<T>,
    d_cell: Vec<T>,
    d_fed: Vec<T>,
    /// The norm of the gradient by each step's outputs, if requested.
    pub(in crate::blocks) flow: Option<Vec<f64>>,
}

impl<T: Real> Tape<T> {
    /// The outputs of the window: steps x rows x hidden.
    pub fn window_outputs(&self, extent: Extent, hidden: usize) -> &[T] {
        let row = extent.rows * hidden;
        &self.outputs[row..row + extent.tokens() * hidden]
    }
}

/// One layer in one direction: where its weights lie, and its sizes.
#[derive(Debug, Clone)]
pub struct Recurrent {
    cell: Cell,
    inputs: usize,
    hidden: usize,
    input: Range<usize>,
    recurrent: Range<usize>,
    bias: Range<usize>,
    /// The bias inside the reset gate's reach, for the GRU.
    candidate_bias: Range<usize>,
    /// The state before the first token, if it is a parameter.
    first_state: Option<Range<usize>>,
    input_pack: PackId,
    recurrent_pack: PackId,
    /// Input weights transposed, for the sums that inputs and outputs share and for those that they do not.
    shared_back: PackId,
    own_back: Option<PackId>,
    recurrent_back: PackId,
}

impl Recurrent {
    /// Adds the layer's tensors to `layout` under `name`. Input weights have variance 1 / inputs; biases are zero but for that of the
    /// gate that keeps.
    pub fn new(
        layout: &mut Layout,
        name: &str,
        group: GroupId,
        cell: Cell,
        (inputs, hidden): (usize, usize),
        learn_first_state: bool,
        start: StartingValues,
    ) -> Self {
        let width = cell.gates() * hidden;
        let spread = start.spread(1.0 / (inputs as f64).sqrt());
        let bias = match cell.keep_gate() {
            Some(gate) => {
                Initial::ZeroBut { from: gate * hidden, to: (gate + 1) * hidden, value: start.keep_bias }
            }
            None => Initial::Constant(0.0),
        };
        let input = layout.push(format!("{name}.input"), &[inputs, width], group, spread);
        let recurrent =
            layout.push(format!("{name}.recurrent"), &[hidden, width], group, start.recurrent(hidden));
        let bias = layout.push(format!("{name}.bias"), &[width], group, bias);
        let candidate_bias = if cell.keeps_product_apart() {
            layout.push(format!("{name}.candidate_bias"), &[hidden], group, Initial::Constant(0.0))
        } else {
            0..0
        };
        let first_state = learn_first_state.then(|| {
            let shape = [cell.state_parts() * hidden];
            layout.push(format!("{name}.first_state"), &shape, group, Initial::Constant(0.0))
        });
        let shared = cell.shared_gates() * hidden;
        let mut pack = |of: &Range<usize>, rows: usize, part: Range<usize>, back: bool| {
            let read_in = if back { ReadIn::Backward } else { ReadIn::Every };
            layout.pack(of, (rows, width), part, back, read_in)
        };
        Self {
            input_pack: pack(&input, inputs, 0..width, false),
            recurrent_pack: pack(&recurrent, hidden, 0..width, false),
            shared_back: pack(&input, inputs, 0..shared, true),
            own_back: (shared < width).then(|| pack(&input, inputs, shared..width, true)),
            recurrent_back: pack(&recurrent, hidden, 0..width, true),
            cell,
            inputs,
            hidden,
            input,
            recurrent,
            bias,
            candidate_bias,
            first_state,
        }
    }

    /// Width of its input.
    pub fn inputs(&self) -> usize {
        self.inputs
    }

    /// Width of its output.
    pub fn hidden(&self) -> usize {
        self.hidden
    }

    /// Numbers of state that each row carries: the output, and the memory if there is one.
    pub fn state_width(&self) -> usize {
        self.cell.state_parts() * self.hidden
    }

    /// Width of all gates.
    pub fn width(&self) -> usize {
        self.cell.gates() * self.hidden
    }

    /// The tape that windows need.
    pub fn tape<T: Real>(&self, room: TapeRoom, rooms: &mut Rooms) -> Tape<T> {
        let TapeRoom { training, resets, recurrent_dropout, .. } = room;
        let row = room.extent.rows * self.hidden;
        let window = room.extent.steps * row;
        let memory = self.cell.has_memory();
        Tape {
            gates: rooms.zeros(self.cell.gates() * window),
            outputs: rooms.zeros(window + row),
            cells: rooms.zeros_if(memory, window + row),
            kept: rooms.zeros(self.cell.kept_parts() * window),
            product: rooms.zeros_if(self.cell.keeps_product_apart(), self.cell.gates() * row),
            entered_outputs: rooms.zeros_if(resets, window),
            entered_cells: rooms.zeros_if(resets && memory, window),
            fed: rooms.zeros_if(recurrent_dropout, window),
            mask: rooms.zeros_if(recurrent_dropout, row),
            masked: false,
            d_next: rooms.zeros_if(training, row),
            d_cell: rooms.zeros_if(training && memory, row),
            d_fed: rooms.zeros_if(training && recurrent_dropout, row),
            flow: None,
        }
    }

    /// Puts the state before a text into all rows of `state`.
    pub fn begin<T: Real>(&self, weights: Parameters<'_, T>, rows: usize, state: &mut [T]) {
        state.fill(T::ZERO);
        if let Some(first) = &self.first_state {
            let parts =
                state.chunks_exact_mut(rows * self.hidden).zip(weights.part(first).chunks_exact(self.hidden));
            for (part, first) in parts {
                part.chunks_exact_mut(self.hidden).for_each(|row| row.copy_from_slice(first));
            }
        }
    }

    /// Runs the window. `x` is steps x rows x inputs. `state` holds the outputs, rows x hidden, then the memories, and is
    /// moved on to the window's end. The outputs are left in the tape.
    pub fn forward<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        window: Window<'_>,
        x: &[T],
        state: &mut [T],
        tape: &mut Tape<T>,
        work: &mut Workspace<T>,
    ) {
        let Extent { steps, rows } = window.extent;
        let (hidden, width) = (self.hidden, self.width());
        let block = rows * hidden;
        let tokens = window.extent.tokens();
        let Tape {
            gates,
            outputs,
            cells,
            kept,
            product,
            entered_outputs,
            entered_cells,
            fed,
            mask,
            masked,
            ..
        } = tape;

        let gates = &mut gates[..tokens * width];
        let bias = weights.part(&self.bias);
        for row in gates.chunks_exact_mut(width) {
            row.copy_from_slice(bias);
        }
        let input = weights.packed(self.input_pack);
        let x = Matrix::new(x, tokens, self.inputs);
        multiply_packed(x, input, &mut MatrixMut::new(gates, tokens, width), Accumulation::Add, work);

        let recurrent = weights.packed(self.recurrent_pack);
        let first = self.first_state.as_ref().map(|range| weights.part(range).split_at(hidden));
        let (state_output, state_cell) = state.split_at_mut(block);
        let has_memory = self.cell.has_memory();
        outputs[..block].copy_from_slice(state_output);
        if has_memory {
            cells[..block].copy_from_slice(state_cell);
        }
        let product_bias = weights.part(&self.candidate_bias);
        for step in 0..steps {
            let at = step * block..(step + 1) * block;
            let (before, after) = outputs.split_at_mut(at.end);
            let mut previous = &before[at.start..];
            let (memories_before, memories) = cells.split_at_mut(if has_memory { at.end } else { 0 });
            let mut previous_memory = memories_before.get(at.start..).unwrap_or_default();
            if let Some(resets) = window.resets {
                let resets = &resets[step * rows..(step + 1) * rows];
                let entered = &mut entered_outputs[at.clone()];
                entered.copy_from_slice(previous);
                reset_rows(entered, hidden, resets, first.map(|(output, _)| output));
                previous = entered;
                if has_memory {
                    let entered = &mut entered_cells[at.clone()];
                    entered.copy_from_slice(previous_memory);
                    reset_rows(entered, hidden, resets, first.map(|(_, cell)| cell));
                    previous_memory = entered;
                }
            }
            let mut given = previous;
            if *masked {
                let fed = &mut fed[at.clone()];
                fed.copy_from_slice(previous);
                dropout::apply(&mask[..block], fed);
                given = fed;
            }
            let given = Matrix::new(given, rows, hidden);
            let gates = &mut gates[step * rows * width..(step + 1) * rows * width];
            let product = product.get_mut(..rows * width).unwrap_or_default();
            if self.cell.keeps_product_apart() {
                let mut out = MatrixMut::new(product, rows, width);
                multiply_packed(given, recurrent, &mut out, Accumulation::Replace, work);
            } else {
                let mut out = MatrixMut::new(gates, rows, width);
                multiply_packed(given, recurrent, &mut out, Accumulation::Add, work);
            }
            self.cell.forward(Forward {
                hidden,
                gates,
                product,
                product_bias,
                previous,
                previous_memory,
                memory: memories.get_mut(..block).unwrap_or_default(),
                kept: kept.get_mut(at).unwrap_or_default(),
                outputs: &mut after[..block],
            });
        }
        let end = steps * block..(steps + 1) * block;
        state_output.copy_from_slice(&outputs[end.clone()]);
        if has_memory {
            state_cell.copy_from_slice(&cells[end]);
        }
    }

    /// Runs the window backwards from `d_out`, the gradient of the loss by the outputs (steps x rows x hidden): writes the gradient of
    /// the layer's tensors to `gradient` and that of the inputs to `d_x`. No gradient enters from after the window: that cut is
    /// what "truncated" means in truncated backpropagation through time (Williams and Peng, 1990).
    #[expect(clippy::too_many_arguments, reason = "inputs, outputs and scratch of one pass")]
    pub fn backward<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        window: Window<'_>,
        x: &[T],
        d_out: &[T],
        tape: &mut Tape<T>,
        gradient: &mut Gradient<'_, T>,
        d_x: &mut [T],
        work: &mut Workspace<T>,
    ) {
        let Extent { steps, rows } = window.extent;
        let (hidden, width) = (self.hidden, self.width());
        let block = rows * hidden;
        if let Some(range) = &self.first_state {
            gradient.part(range).fill(T::ZERO);
        }
        let recurrent_back = weights.packed(self.recurrent_back);
        let d_next = &mut tape.d_next[..block];
        d_next.fill(T::ZERO);
        tape.d_cell.fill(T::ZERO);
        for step in (0..steps).rev() {
            let at = step * block..(step + 1) * block;
            let gates = &mut tape.gates[step * rows * width..(step + 1) * rows * width];
            let d_out = &d_out[at.clone()];
            if let Some(flow) = &mut tape.flow {
                let square = |(&a, &b): (&T, &T)| (a + b).to_f64() * (a + b).to_f64();
                flow[step] = d_out.iter().zip(d_next.iter()).map(square).sum::<f64>().sqrt();
            }
            let apart = window.resets.is_some();
            let previous = if apart { &tape.entered_outputs } else { &tape.outputs };
            let previous_memory = if apart { &tape.entered_cells } else { &tape.cells };
            self.cell.backward(Backward {
                hidden,
                gates,
                outputs: &tape.outputs[at.end..at.end + block],
                previous: &previous[at.clone()],
                previous_memory: previous_memory.get(at.clone()).unwrap_or_default(),
                kept: tape.kept.get_mut(at).unwrap_or_default(),
                d_out,
                d_next,
                d_memory: tape.d_cell.get_mut(..block).unwrap_or_default(),
            });
            let resets = window.resets.map(|resets| &resets[step * rows..(step + 1) * rows]);
            let learns_first =
                self.first_state.is_some() && resets.is_some_and(|resets| resets.contains(&true));
            if step == 0 && !learns_first {
                break;
            }
            let d_gates = Matrix::new(gates, rows, width);
            // The cell has already added the gradient that needs no product.
            let accumulation =
                if self.cell.passes_outputs_on() { Accumulation::Add } else { Accumulation::Replace };
            if tape.masked {
                let d_fed = &mut tape.d_fed[..block];
                let mut out = MatrixMut::new(d_fed, rows, hidden);
                multiply_packed(d_gates, recurrent_back, &mut out, Accumulation::Replace, work);
                for ((d, &fed), &mask) in d_next.iter_mut().zip(d_fed.iter()).zip(&tape.mask[..block]) {
                    *d = if accumulation == Accumulation::Add { *d + fed * mask } else { fed * mask };
                }
            } else {
                multiply_packed(
                    d_gates,
                    recurrent_back,
                    &mut MatrixMut::new(d_next, rows, hidden),
                    accumulation,
                    work,
                );
            }
            let Some(resets) = resets else { continue };
            let mut first = self.first_state.as_ref().map(|range| gradient.part(range).split_at_mut(hidden));
            for row in (0..rows).filter(|&row| resets[row]) {
                let at = row * hidden..(row + 1) * hidden;
                if let Some((output, cell)) = &mut first {
                    output.iter_mut().zip(&d_next[at.clone()]).for_each(|(sum, &d)| *sum += d);
                    let d_cell = tape.d_cell.get(at.clone()).unwrap_or_default();
                    cell.iter_mut().zip(d_cell).for_each(|(sum, &d)| *sum += d);
                }
                d_next[at.clone()].fill(T::ZERO);
                if let Some(d_cell) = tape.d_cell.get_mut(at) {
                    d_cell.fill(T::ZERO);
                }
            }
        }
        self.weight_gradients(weights, window, x, tape, gradient, d_x, work);
    }

    /// The large products at the end of a backward pass.
    #[expect(clippy::too_many_arguments, reason = "inputs, outputs and scratch of one pass")]
    fn weight_gradients<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        window: Window<'_>,
        x: &[T],
        tape: &Tape<T>,
        gradient: &mut Gradient<'_, T>,
        d_x: &mut [T],
        work: &mut Workspace<T>,
    ) {
        let (hidden, width, inputs) = (self.hidden, self.width(), self.inputs);
        let tokens = window.extent.tokens();
        let d_gates = &tape.gates[..tokens * width];
        let by_token = Matrix::new(d_gates, tokens, width);
        let fed = match (tape.masked, window.resets) {
            (true, _) => &tape.fed,
            (false, Some(_)) => &tape.entered_outputs,
            (false, None) => &tape.outputs,
        };
        let fed = Matrix::new(&fed[..tokens * hidden], tokens, hidden).transposed();
        let out = gradient.part(&self.recurrent);
        multiply(fed, by_token, &mut MatrixMut::new(out, hidden, width), Accumulation::Replace, work);

        let shared = self.cell.shared_gates() * hidden;
        let x = Matrix::new(x, tokens, inputs).transposed();
        let by_shared = by_token.columns(0, shared);
        let out = MatrixMut::new(gradient.part(&self.input), inputs, width);
        multiply(x, by_shared, &mut out.columns(0, shared), Accumulation::Replace, work);
        let mut d_x = MatrixMut::new(d_x, tokens, inputs);
        multiply_packed(by_shared, weights.packed(self.shared_back), &mut d_x, Accumulation::Replace, work);
        let bias = gradient.part(&self.bias);
        bias.fill(T::ZERO);
        add_column_sums(d_gates, bias);

        if let Some(own_back) = self.own_back {
            // The candidate's sum over the inputs has another gradient than the one over the outputs.
            let own = &tape.kept[..tokens * hidden];
            let by_own = Matrix::new(own, tokens, hidden);
            let out = MatrixMut::new(gradient.part(&self.input), inputs, width);
            multiply(x, by_own, &mut out.columns(shared, width), Accumulation::Replace, work);
            multiply_packed(by_own, weights.packed(own_back), &mut d_x, Accumulation::Add, work);
            for unit in 0..hidden {
                let d_q = gradient.part(&self.bias)[shared + unit];
                gradient.part(&self.candidate_bias)[unit] = d_q;
            }
            let bias = &mut gradient.part(&self.bias)[shared..];
            bias.fill(T::ZERO);
            add_column_sums(own, bias);
        }
    }
}

/// Puts the first state, zero if none is learnt, into the rows that are reset.
fn reset_rows<T: Real>(state: &mut [T], hidden: usize, resets: &[bool], first: Option<&[T]>) {
    for (row, _) in state.chunks_exact_mut(hidden).zip(resets).filter(|(_, resets)| **resets) {
        match first {
            Some(first) => row.copy_from_slice(first),
            None => row.fill(T::ZERO),
        }
    }
}
