//! The long short-term memory layer (Hochreiter and Schmidhuber, 1997) with a forget gate (Gers, Schmidhuber and Cummins, 2000).
//!
//! With `s` the logistic function and `*` between vectors the product of elements:
//!
//! ```text
//! i = s(x Wi + h' Ui + bi)     f = s(x Wf + h' Uf + bf)
//! g = tanh(x Wg + h' Ug + bg)  o = s(x Wo + h' Uo + bo)
//! c = f * c' + i * g           h = o * tanh(c)
//! ```
//!
//! The four gates stand side by side in one matrix, in the order i, f, g, o, so that a window needs one product for all
//! inputs and one small product a step for the recurrence. The forget gate's bias starts well above zero (Jozefowicz et al., 2015), at a value at which
//! a cell keeps a third of its content over 20 steps: with a bias of 1 it keeps a five-hundredth.

use crate::activation::{sigmoid, tanh, vectorised};
use crate::matrix::{Into, Matrix, add_column_sums, multiply};
use crate::parameters::Layout;
use crate::real::Real;
use crate::recurrent::{Extent, GateWeights, RecurrentLayer, Tape};

const GATES: usize = 4;
/// The logistic function of 3 is 0.95.
const FORGET_BIAS: f64 = 3.0;

/// One layer: where its weights lie, and its sizes.
#[derive(Debug, Clone)]
pub struct Lstm {
    inputs: usize,
    hidden: usize,
    weights: GateWeights,
}

impl Lstm {
    /// Adds the layer's tensors to `layout` under `name`.
    pub fn new(layout: &mut Layout, name: &str, inputs: usize, hidden: usize) -> Self {
        let weights =
            GateWeights::push(layout, name, inputs, hidden, GATES, (hidden..2 * hidden, FORGET_BIAS));
        Self { inputs, hidden, weights }
    }
}

impl<T: Real> RecurrentLayer<T> for Lstm {
    fn inputs(&self) -> usize {
        self.inputs
    }

    fn hidden(&self) -> usize {
        self.hidden
    }

    /// The output and the memory cell.
    fn state_width(&self) -> usize {
        2 * self.hidden
    }

    fn tape(&self, extent: Extent) -> Tape<T> {
        let row = extent.rows * self.hidden;
        let window = extent.steps * row;
        let zeros = |count| vec![T::ZERO; count];
        Tape {
            gates: zeros(GATES * window),
            outputs: zeros(window + row),
            cells: zeros(window + row),
            squashed: zeros(window),
            d_output: zeros(row),
            d_cell: zeros(row),
            transposed: zeros(GATES * self.hidden * self.hidden),
        }
    }

    fn forward(&self, weights: &[T], extent: Extent, x: &[T], state: &mut [T], tape: &mut Tape<T>) {
        let (rows, hidden, width) = (extent.rows, self.hidden, GATES * self.hidden);
        let block = rows * hidden;
        let input = Matrix::new(&weights[self.weights.input.clone()], self.inputs, width);
        let recurrent = Matrix::new(&weights[self.weights.recurrent.clone()], hidden, width);
        let bias = &weights[self.weights.bias.clone()];

        let gates = &mut tape.gates[..extent.tokens() * width];
        for row in gates.chunks_exact_mut(width) {
            row.copy_from_slice(bias);
        }
        multiply(Matrix::new(x, extent.tokens(), self.inputs), input, gates, Into::Add);

        let (state_output, state_cell) = state.split_at_mut(block);
        tape.outputs[..block].copy_from_slice(state_output);
        tape.cells[..block].copy_from_slice(state_cell);
        for step in 0..extent.steps {
            let gates = &mut gates[step * rows * width..(step + 1) * rows * width];
            let (before, after) = tape.outputs.split_at_mut((step + 1) * block);
            let (cells_before, cells_after) = tape.cells.split_at_mut((step + 1) * block);
            multiply(Matrix::new(&before[step * block..], rows, hidden), recurrent, gates, Into::Add);
            let previous = &cells_before[step * block..];
            let squashed = &mut tape.squashed[step * block..(step + 1) * block];
            vectorised(|| {
                gates_forward(
                    hidden,
                    gates,
                    previous,
                    &mut cells_after[..block],
                    squashed,
                    &mut after[..block],
                );
            });
        }
        let end = extent.steps * block;
        state_output.copy_from_slice(&tape.outputs[end..end + block]);
        state_cell.copy_from_slice(&tape.cells[end..end + block]);
    }

    fn backward(
        &self,
        weights: &[T],
        extent: Extent,
        x: &[T],
        d_out: &[T],
        tape: &mut Tape<T>,
        gradient: &mut [T],
        d_x: &mut [T],
    ) {
        let (rows, hidden, width) = (extent.rows, self.hidden, GATES * self.hidden);
        let block = rows * hidden;
        let Tape { gates, outputs, cells, squashed, d_output, d_cell, transposed } = tape;
        transpose(&weights[self.weights.recurrent.clone()], hidden, width, transposed);
        let transposed = Matrix::new(transposed, width, hidden);

        d_output[..block].fill(T::ZERO);
        d_cell[..block].fill(T::ZERO);
        for step in (0..extent.steps).rev() {
            let gates = &mut gates[step * rows * width..(step + 1) * rows * width];
            let from = step * block..(step + 1) * block;
            vectorised(|| {
                gates_backward(
                    hidden,
                    gates,
                    &cells[from.clone()],
                    &squashed[from.clone()],
                    &d_out[from],
                    &d_output[..block],
                    &mut d_cell[..block],
                );
            });
            if step > 0 {
                multiply(Matrix::new(gates, rows, width), transposed, &mut d_output[..block], Into::Replace);
            }
        }

        let tokens = extent.tokens();
        let d_gates = &gates[..tokens * width];
        let d_gates_by_token = Matrix::new(d_gates, tokens, width);
        multiply(
            Matrix::new(x, tokens, self.inputs).transposed(),
            d_gates_by_token,
            &mut gradient[self.weights.input.clone()],
            Into::Add,
        );
        multiply(
            Matrix::new(&outputs[..tokens * hidden], tokens, hidden).transposed(),
            d_gates_by_token,
            &mut gradient[self.weights.recurrent.clone()],
            Into::Add,
        );
        add_column_sums(d_gates, &mut gradient[self.weights.bias.clone()]);
        let input = Matrix::new(&weights[self.weights.input.clone()], self.inputs, width);
        multiply(d_gates_by_token, input.transposed(), d_x, Into::Replace);
    }
}

/// Splits a row of the four gates.
#[inline(always)]
fn split<T>(row: &mut [T], hidden: usize) -> [&mut [T]; GATES] {
    let (i, rest) = row.split_at_mut(hidden);
    let (f, rest) = rest.split_at_mut(hidden);
    let (g, o) = rest.split_at_mut(hidden);
    [i, f, g, &mut o[..hidden]]
}

/// Squashes the gates in place and computes cells and outputs; all arrays are rows x hidden but `gates`.
#[inline(always)]
fn gates_forward<T: Real>(
    hidden: usize,
    gates: &mut [T],
    previous: &[T],
    cells: &mut [T],
    squashed: &mut [T],
    outputs: &mut [T],
) {
    for (row, gates) in gates.chunks_exact_mut(GATES * hidden).enumerate() {
        let [i, f, g, o] = split(gates, hidden);
        let at = row * hidden..(row + 1) * hidden;
        let (previous, cells) = (&previous[at.clone()], &mut cells[at.clone()]);
        let (squashed, outputs) = (&mut squashed[at.clone()], &mut outputs[at]);
        for n in 0..hidden {
            i[n] = sigmoid(i[n]);
            f[n] = sigmoid(f[n]);
            g[n] = tanh(g[n]);
            o[n] = sigmoid(o[n]);
            cells[n] = f[n] * previous[n] + i[n] * g[n];
            squashed[n] = tanh(cells[n]);
            outputs[n] = o[n] * squashed[n];
        }
    }
}

/// Replaces the gates by the gradients of their inputs, and moves `d_cell` one step back in time.
#[inline(always)]
fn gates_backward<T: Real>(
    hidden: usize,
    gates: &mut [T],
    previous: &[T],
    squashed: &[T],
    d_out: &[T],
    d_next: &[T],
    d_cell: &mut [T],
) {
    for (row, gates) in gates.chunks_exact_mut(GATES * hidden).enumerate() {
        let [i, f, g, o] = split(gates, hidden);
        let at = row * hidden..(row + 1) * hidden;
        let (previous, squashed) = (&previous[at.clone()], &squashed[at.clone()]);
        let (d_out, d_next, d_cell) = (&d_out[at.clone()], &d_next[at.clone()], &mut d_cell[at]);
        for n in 0..hidden {
            let d_h = d_out[n] + d_next[n];
            let d_c = d_cell[n] + d_h * o[n] * (T::ONE - squashed[n] * squashed[n]);
            d_cell[n] = d_c * f[n];
            let (i_n, f_n, g_n, o_n) = (i[n], f[n], g[n], o[n]);
            i[n] = d_c * g_n * i_n * (T::ONE - i_n);
            f[n] = d_c * previous[n] * f_n * (T::ONE - f_n);
            g[n] = d_c * i_n * (T::ONE - g_n * g_n);
            o[n] = d_h * squashed[n] * o_n * (T::ONE - o_n);
        }
    }
}

/// Writes the transpose of a rows x columns matrix.
fn transpose<T: Real>(matrix: &[T], rows: usize, columns: usize, out: &mut [T]) {
    const TILE: usize = 16;
    for row_tile in (0..rows).step_by(TILE) {
        for column_tile in (0..columns).step_by(TILE) {
            for column in column_tile..(column_tile + TILE).min(columns) {
                for row in row_tile..(row_tile + TILE).min(rows) {
                    out[column * rows + row] = matrix[row * columns + column];
                }
            }
        }
    }
}
