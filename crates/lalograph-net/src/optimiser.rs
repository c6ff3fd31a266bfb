//! Moving the weights: Adam (Kingma and Ba, 2015), and the norm by which gradients are clipped (Pascanu et al., 2013).

use rayon::prelude::*;

use crate::activation::vectorised;
use crate::real::Real;

/// Numbers handled as one piece: fixed, so that sums are added in the same order on any number of threads.
pub(crate) const PIECE: usize = 1 << 14;

/// Adam's settings. The defaults are those of the paper.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct AdamSettings {
    /// Decay of the mean of gradients.
    pub beta1: f64,
    /// Decay of the mean of their squares.
    pub beta2: f64,
    /// Added to the root, against division by zero.
    pub epsilon: f64,
}

impl Default for AdamSettings {
    fn default() -> Self {
        Self { beta1: 0.9, beta2: 0.999, epsilon: 1e-8 }
    }
}

/// Adam's running means, one pair a weight.
#[derive(Debug, Clone)]
pub struct Adam<T> {
    settings: AdamSettings,
    steps: u64,
    mean: Vec<T>,
    square: Vec<T>,
}

impl<T: Real> Adam<T> {
    /// Starts with means of zero for `count` weights.
    pub fn new(settings: AdamSettings, count: usize) -> Self {
        Self { settings, steps: 0, mean: vec![T::ZERO; count], square: vec![T::ZERO; count] }
    }

    /// One update of `weights` by `factor * gradient`; a factor below 1 is how a clipped gradient is applied without another pass.
    pub fn step(&mut self, weights: &mut [T], gradient: &[T], learning_rate: f64, factor: f64) {
        self.steps += 1;
        let AdamSettings { beta1, beta2, epsilon } = self.settings;
        let exponent = i32::try_from(self.steps).unwrap_or(i32::MAX);
        let (bias1, bias2) = (1.0 - beta1.powi(exponent), 1.0 - beta2.powi(exponent));
        // m^ / (sqrt(v^) + e) with the corrections moved out of the loop.
        let rate = T::of(learning_rate * bias2.sqrt() / bias1);
        let (epsilon, factor) = (T::of(epsilon * bias2.sqrt()), T::of(factor));
        let (keep1, new1) = (T::of(beta1), T::of(1.0 - beta1));
        let (keep2, new2) = (T::of(beta2), T::of(1.0 - beta2));
        weights
            .par_chunks_mut(PIECE)
            .zip(gradient.par_chunks(PIECE))
            .zip(self.mean.par_chunks_mut(PIECE).zip(self.square.par_chunks_mut(PIECE)))
            .for_each(|((weights, gradient), (mean, square))| {
                vectorised(|| {
                    for (((w, &g), m), v) in weights.iter_mut().zip(gradient).zip(mean).zip(square) {
                        let g = g * factor;
                        *m = keep1 * *m + new1 * g;
                        *v = keep2 * *v + new2 * (g * g);
                        *w -= rate * *m / (v.sqrt() + epsilon);
                    }
                });
            });
    }
}

/// The square root of the sum of squares, added in a fixed order in double precision.
pub fn norm<T: Real>(gradient: &[T]) -> f64 {
    let pieces: Vec<f64> = gradient
        .par_chunks(PIECE)
        .map(|piece| {
            vectorised(|| {
                let mut lanes = [0.0f64; 8];
                let chunks = piece.chunks_exact(8);
                let rest: f64 = chunks.remainder().iter().map(|x| x.to_f64() * x.to_f64()).sum();
                for chunk in chunks {
                    for (lane, x) in lanes.iter_mut().zip(chunk) {
                        *lane += x.to_f64() * x.to_f64();
                    }
                }
                lanes.iter().sum::<f64>() + rest
            })
        })
        .collect();
    pieces.iter().sum::<f64>().sqrt()
}

/// What to multiply a gradient of this norm by so that its norm is at most `limit`.
pub fn clip_factor(norm: f64, limit: Option<f64>) -> f64 {
    match limit {
        Some(limit) if norm > limit => limit / norm,
        _ => 1.0,
    }
}

#[cfg(test)]
mod tests {
    use super::{Adam, AdamSettings, clip_factor, norm};

    #[test]
    fn adam_follows_the_papers_algorithm() {
        let (settings, rate) = (AdamSettings::default(), 0.01);
        let gradients = [[0.5, -2.0], [0.1, 3.0], [-0.4, 0.0]];
        let mut weights = [1.0f64, -1.0];
        let mut adam = Adam::new(settings, 2);
        let (mut expected, mut m, mut v) = ([1.0f64, -1.0], [0.0f64; 2], [0.0f64; 2]);
        for (t, gradient) in gradients.iter().enumerate() {
            adam.step(&mut weights, gradient, rate, 0.5);
            for i in 0..2 {
                let g = gradient[i] * 0.5;
                m[i] = 0.9 * m[i] + 0.1 * g;
                v[i] = 0.999 * v[i] + 0.001 * g * g;
                let m_hat = m[i] / (1.0 - 0.9f64.powi(t as i32 + 1));
                let v_hat = v[i] / (1.0 - 0.999f64.powi(t as i32 + 1));
                expected[i] -= rate * m_hat / (v_hat.sqrt() + 1e-8);
            }
        }
        for (w, e) in weights.iter().zip(&expected) {
            assert!((w - e).abs() < 1e-9, "{weights:?} {expected:?}");
        }
    }

    #[test]
    fn the_norm_is_that_of_all_pieces_and_clipping_brings_it_to_the_limit() {
        let gradient: Vec<f32> = (0..100_003).map(|i| (i % 7) as f32 - 3.0).collect();
        let exact: f64 = gradient.iter().map(|&x| f64::from(x).powi(2)).sum::<f64>().sqrt();
        assert!((norm(&gradient) - exact).abs() < 1e-6 * exact);
        assert_eq!(clip_factor(10.0, Some(2.5)), 0.25);
        assert_eq!(clip_factor(2.0, Some(2.5)), 1.0);
        assert_eq!(clip_factor(1e9, None), 1.0);
    }
}
