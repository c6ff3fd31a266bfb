//! Layer normalisation (Ba, Kiros and Hinton, 2016): each token's vector is brought to mean 0 and variance 1, then to a learnt
//! gain and bias for each unit.

use std::ops::Range;

use crate::numbers::real::Real;
use crate::numbers::rooms::Rooms;
use crate::weights::gradient::Gradient;
use crate::weights::layout::{GroupId, Initial, Layout};
use crate::weights::packed::Parameters;

/// Added to the variance, against division by zero.
const EPSILON: f64 = 1e-5;

/// Places of gains and biases.
#[derive(Debug, Clone)]
pub struct LayerNorm {
    width: usize,
    gain: Range<usize>,
    bias: Range<usize>,
}

/// Data for the backward pass.
#[derive(Debug, Clone, Default)]
pub struct NormTape<T> {
    /// The normalised vectors: tokens x width.
    normal: Vec<T>,
    /// One over each vector's standard deviation.
    scale: Vec<T>,
}

impl LayerNorm {
    /// Adds gains and biases to `layout` under `name`.
    pub fn new(layout: &mut Layout, name: &str, group: GroupId, width: usize) -> Self {
        let mut push = |what: &str, value| {
            layout.push(format!("{name}.{what}"), &[width], group, Initial::Constant(value))
        };
        Self { width, gain: push("gain", 1.0), bias: push("bias", 0.0) }
    }

    /// Room for so many tokens.
    pub fn tape<T: Real>(&self, tokens: usize, rooms: &mut Rooms) -> NormTape<T> {
        NormTape { normal: rooms.zeros(tokens * self.width), scale: rooms.zeros(tokens) }
    }

    /// Writes the normalised form of `x` to `out`, both tokens x width.
    pub fn forward<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        x: &[T],
        out: &mut [T],
        tape: &mut NormTape<T>,
    ) {
        let (gain, bias) = (weights.part(&self.gain), weights.part(&self.bias));
        let share = T::of(1.0 / self.width as f64);
        let rows = x.chunks_exact(self.width).zip(out.chunks_exact_mut(self.width));
        let kept = tape.normal.chunks_exact_mut(self.width).zip(&mut tape.scale);
        for ((x, out), (normal, scale)) in rows.zip(kept) {
            let mean = x.iter().copied().sum::<T>() * share;
            let variance = x.iter().map(|&x| (x - mean) * (x - mean)).sum::<T>() * share;
            *scale = T::ONE / (variance + T::of(EPSILON)).sqrt();
            for i in 0..self.width {
                normal[i] = (x[i] - mean) * *scale;
                out[i] = normal[i] * gain[i] + bias[i];
            }
        }
    }

    /// Writes the gradients of gains and biases, and that by `x` to `d_x`.
    pub fn backward<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        d_out: &[T],
        tape: &NormTape<T>,
        gradient: &mut Gradient<'_, T>,
        d_x: &mut [T],
    ) {
        let gain = weights.part(&self.gain);
        let share = T::of(1.0 / self.width as f64);
        for range in [&self.gain, &self.bias] {
            gradient.part(range).fill(T::ZERO);
        }
        let rows = d_out.chunks_exact(self.width).zip(d_x.chunks_exact_mut(self.width));
        for ((d_out, d_x), (normal, &scale)) in
            rows.zip(tape.normal.chunks_exact(self.width).zip(&tape.scale))
        {
            let (mut sum, mut along) = (T::ZERO, T::ZERO);
            for i in 0..self.width {
                let d = d_out[i] * gain[i];
                sum += d;
                along += d * normal[i];
            }
            let (sum, along) = (sum * share, along * share);
            for i in 0..self.width {
                d_x[i] = scale * (d_out[i] * gain[i] - sum - normal[i] * along);
            }
            let d_gain = gradient.part(&self.gain);
            for i in 0..self.width {
                d_gain[i] += d_out[i] * normal[i];
            }
            let d_bias = gradient.part(&self.bias);
            for i in 0..self.width {
                d_bias[i] += d_out[i];
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::LayerNorm;
    use crate::numbers::rooms::Rooms;
    use crate::weights::layout::Layout;
    use crate::weights::packed::PackedWeights;

    #[test]
    fn a_vector_is_brought_to_mean_0_and_variance_1() {
        let mut layout = Layout::default();
        let group = layout.group("layers");
        let norm = LayerNorm::new(&mut layout, "norm", group, 4);
        let weights = [1.0, 1.0, 2.0, 1.0, 0.0, 0.5, 0.0, 0.0];
        let packed = PackedWeights::new(&layout, false);
        let mut tape = norm.tape(1, &mut Rooms::making());
        let mut out = [0.0f64; 4];
        // 1, 2, 3 and 6: mean 3, variance 14 / 4.
        norm.forward(packed.with(&weights), &[1.0, 2.0, 3.0, 6.0], &mut out, &mut tape);
        let root = (3.5f64 + 1e-5).sqrt();
        for (x, y) in out.iter().zip([-2.0 / root, -1.0 / root + 0.5, 0.0, 3.0 / root]) {
            assert!((x - y).abs() < 1e-12, "{out:?}");
        }
    }
}
