//! The gated recurrent unit (Cho et al., 2014), in the form that needs one recurrent product a step: the reset gate is applied
//! to that product and not before it.
//!
//! ```text
//! r = s(x Wr + h' Ur + br)     z = s(x Wz + h' Uz + bz)
//! n = tanh(x Wn + bn + r * q)  with q = h' Un + bq
//! h = z * h' + (1 - z) * n
//! ```
//!
//! The gates lie side by side in the order update z, reset r, hidden n.

use crate::numbers::activation::{sigmoid, tanh};
use crate::numbers::real::Real;

const GATES: usize = 3;

/// The gate that keeps what is remembered.
pub(super) const UPDATE: usize = 0;

#[inline(always)]
fn split<T>(row: &mut [T], hidden: usize) -> [&mut [T]; GATES] {
    let (z, rest) = row.split_at_mut(hidden);
    let (r, n) = rest.split_at_mut(hidden);
    [z, r, &mut n[..hidden]]
}

/// Squashes the gates in place, given `recurrent`, the product `h' U` (rows x 3 hidden); keeps q.
#[inline(always)]
pub(super) fn forward<T: Real>(
    hidden: usize,
    gates: &mut [T],
    recurrent: &[T],
    candidate_bias: &[T],
    previous: &[T],
    kept: &mut [T],
    outputs: &mut [T],
) {
    let candidate_bias = &candidate_bias[..hidden];
    for (row, (gates, recurrent)) in
        gates.chunks_exact_mut(GATES * hidden).zip(recurrent.chunks_exact(GATES * hidden)).enumerate()
    {
        let [z, r, n] = split(gates, hidden);
        let (from_z, rest) = recurrent.split_at(hidden);
        let (from_r, from_n) = rest.split_at(hidden);
        let from_n = &from_n[..hidden];
        let at = row * hidden..(row + 1) * hidden;
        let (previous, kept, outputs) =
            (&previous[at.clone()][..hidden], &mut kept[at.clone()][..hidden], &mut outputs[at][..hidden]);
        for i in 0..hidden {
            r[i] = sigmoid(r[i] + from_r[i]);
            z[i] = sigmoid(z[i] + from_z[i]);
            kept[i] = from_n[i] + candidate_bias[i];
            n[i] = tanh(n[i] + r[i] * kept[i]);
            outputs[i] = n[i] + z[i] * (previous[i] - n[i]);
        }
    }
}

/// Replaces the gates by the gradients of their recurrent sums (those of z, r and q) and q by the gradient of the sum inside n;
/// `d_next` becomes the part of the gradient by `h'` that does not pass through a product.
#[inline(always)]
pub(super) fn backward<T: Real>(
    hidden: usize,
    gates: &mut [T],
    previous: &[T],
    kept: &mut [T],
    d_out: &[T],
    d_next: &mut [T],
) {
    for (row, gates) in gates.chunks_exact_mut(GATES * hidden).enumerate() {
        let [z, r, n] = split(gates, hidden);
        let at = row * hidden..(row + 1) * hidden;
        let (previous, kept) = (&previous[at.clone()][..hidden], &mut kept[at.clone()][..hidden]);
        let (d_out, d_next) = (&d_out[at.clone()][..hidden], &mut d_next[at][..hidden]);
        for i in 0..hidden {
            let d_h = d_out[i] + d_next[i];
            let (r_i, z_i, n_i) = (r[i], z[i], n[i]);
            let d_n = (d_h * (T::ONE - z_i) * (T::ONE - n_i * n_i)).without_dust();
            z[i] = (d_h * (previous[i] - n_i) * z_i * (T::ONE - z_i)).without_dust();
            r[i] = (d_n * kept[i] * r_i * (T::ONE - r_i)).without_dust();
            n[i] = (d_n * r_i).without_dust();
            kept[i] = d_n;
            d_next[i] = (d_h * z_i).without_dust();
        }
    }
}
