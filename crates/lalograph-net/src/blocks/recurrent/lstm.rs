//! Long short-term memory (Hochreiter and Schmidhuber, 1997) with a forget gate (Gers, Schmidhuber and Cummins, 2000).
//!
//! ```text
//! i = s(x Wi + h' Ui + bi)     f = s(x Wf + h' Uf + bf)
//! g = tanh(x Wg + h' Ug + bg)  o = s(x Wo + h' Uo + bo)
//! c = f * c' + i * g           h = o * tanh(c)
//! ```
//!
//! The gates lie side by side in the order input i, output o, forget f, cell g.

use crate::numbers::activation::{sigmoid, tanh};
use crate::numbers::real::Real;

const GATES: usize = 4;

/// The gate that keeps what is remembered.
pub(super) const FORGET: usize = 2;

#[inline(always)]
fn split<T>(row: &mut [T], hidden: usize) -> [&mut [T]; GATES] {
    let (i, rest) = row.split_at_mut(hidden);
    let (o, rest) = rest.split_at_mut(hidden);
    let (f, g) = rest.split_at_mut(hidden);
    [i, o, f, &mut g[..hidden]]
}

/// Squashes the gates in place and computes memories and outputs; keeps `tanh(c)`.
#[inline(always)]
pub(super) fn forward<T: Real>(
    hidden: usize,
    gates: &mut [T],
    previous: &[T],
    cells: &mut [T],
    kept: &mut [T],
    outputs: &mut [T],
) {
    for (row, gates) in gates.chunks_exact_mut(GATES * hidden).enumerate() {
        let [i, o, f, g] = split(gates, hidden);
        let at = row * hidden..(row + 1) * hidden;
        let (previous, cells) = (&previous[at.clone()][..hidden], &mut cells[at.clone()][..hidden]);
        let (kept, outputs) = (&mut kept[at.clone()][..hidden], &mut outputs[at][..hidden]);
        for n in 0..hidden {
            i[n] = sigmoid(i[n]);
            f[n] = sigmoid(f[n]);
            g[n] = tanh(g[n]);
            o[n] = sigmoid(o[n]);
            cells[n] = (f[n] * previous[n] + i[n] * g[n]).without_dust();
            kept[n] = tanh(cells[n]);
            outputs[n] = (o[n] * kept[n]).without_dust();
        }
    }
}

/// Replaces the gates by the gradients of their sums, and moves `d_cell` one step back in time.
#[inline(always)]
pub(super) fn backward<T: Real>(
    hidden: usize,
    gates: &mut [T],
    previous: &[T],
    kept: &[T],
    d_out: &[T],
    d_next: &[T],
    d_cell: &mut [T],
) {
    for (row, gates) in gates.chunks_exact_mut(GATES * hidden).enumerate() {
        let [i, o, f, g] = split(gates, hidden);
        let at = row * hidden..(row + 1) * hidden;
        let (previous, kept) = (&previous[at.clone()][..hidden], &kept[at.clone()][..hidden]);
        let (d_out, d_next, d_cell) =
            (&d_out[at.clone()][..hidden], &d_next[at.clone()][..hidden], &mut d_cell[at][..hidden]);
        for n in 0..hidden {
            let d_h = d_out[n] + d_next[n];
            let d_c = d_cell[n] + d_h * o[n] * (T::ONE - kept[n] * kept[n]);
            d_cell[n] = (d_c * f[n]).without_dust();
            let (i_n, f_n, g_n, o_n) = (i[n], f[n], g[n], o[n]);
            i[n] = (d_c * g_n * i_n * (T::ONE - i_n)).without_dust();
            f[n] = (d_c * previous[n] * f_n * (T::ONE - f_n)).without_dust();
            g[n] = (d_c * i_n * (T::ONE - g_n * g_n)).without_dust();
            o[n] = (d_h * kept[n] * o_n * (T::ONE - o_n)).without_dust();
        }
    }
}
