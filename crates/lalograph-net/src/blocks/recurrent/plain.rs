//! The plain cell: `h = a(x W + h' U + b)` with `a` either `tanh` or `max(0, .)`.

use crate::numbers::activation::tanh;
use crate::numbers::real::Real;

/// Squashes the sums into `outputs`.
#[inline(always)]
pub(super) fn forward<T: Real>(relu: bool, gates: &[T], outputs: &mut [T]) {
    if relu {
        for (h, &z) in outputs.iter_mut().zip(gates) {
            *h = z.greater(T::ZERO);
        }
    } else {
        for (h, &z) in outputs.iter_mut().zip(gates) {
            *h = tanh(z);
        }
    }
}

/// Replaces the sums by their gradients.
#[inline(always)]
pub(super) fn backward<T: Real>(relu: bool, gates: &mut [T], outputs: &[T], d_out: &[T], d_next: &[T]) {
    let all = gates.iter_mut().zip(outputs).zip(d_out.iter().zip(d_next));
    if relu {
        for ((z, &h), (&d_out, &d_next)) in all {
            *z = if h > T::ZERO { (d_out + d_next).without_dust() } else { T::ZERO };
        }
    } else {
        for ((z, &h), (&d_out, &d_next)) in all {
            *z = ((d_out + d_next) * (T::ONE - h * h)).without_dust();
        }
    }
}
