//! Moving the weights.

use rayon::prelude::*;

use crate::clipping::Clipped;
use crate::parameters::{Group, Layout};
use crate::real::Real;
use crate::vectorised;

/// Numbers handled as one piece: fixed, so that sums are added in the same order on any number of threads.
pub(crate) const PIECE: usize = 1 << 14;

/// The rule by which a gradient moves weights. In the formulas `w` is a weight, `g` its gradient, `a` the learning rate.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Rule {
    /// Gradient descent: `v = m v + g; w -= a v` with momentum `m` (Polyak, 1964), or `w -= a (g + m v)` looking ahead (Nesterov, 1983; in the form
    /// of Sutskever et al., 2013).
    Descent {
        /// m, 0 for none.
        momentum: f64,
        /// Whether to look ahead.
        nesterov: bool,
    },
    /// `s = d s + (1 - d) g^2; w -= a g / (sqrt(s) + e)` (Tieleman and Hinton, 2012).
    RmsProp {
        /// d.
        decay: f64,
        /// e.
        epsilon: f64,
    },
    /// Adam (Kingma and Ba, 2015), or AdamW (Loshchilov and Hutter, 2019) if the weight decay is kept apart from the gradient.
    Adam {
        /// Decay of the mean of gradients.
        beta1: f64,
        /// Decay of the mean of their squares.
        beta2: f64,
        /// Added to the root, against division by zero.
        epsilon: f64,
        /// Whether weight decay is applied to the weights themselves: `w -= a l w`.
        apart: bool,
    },
}

impl Rule {
    /// Adam with the settings of its paper.
    pub const ADAM: Self = Self::Adam { beta1: 0.9, beta2: 0.999, epsilon: 1e-8, apart: false };

    /// Numbers kept for each weight.
    pub fn state_parts(&self) -> usize {
        match *self {
            Self::Descent { momentum, .. } => usize::from(momentum > 0.0),
            Self::RmsProp { .. } => 1,
            Self::Adam { .. } => 2,
        }
    }
}

/// What an optimiser does.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct OptimiserSettings {
    /// The rule.
    pub rule: Rule,
    /// l: the share of each weight that is taken off for each unit of learning rate; added to the gradient as `l w` unless the rule keeps it apart.
    /// Only for tensors that [`crate::Tensor::decays`].
    pub weight_decay: f64,
    /// After this step the mean of the weights over all later steps is kept, to be judged and saved (Polyak and Juditsky, 1992).
    pub average_after: Option<u64>,
    /// By which the learning rate is multiplied, for each [`Group`]; 0 leaves its weights as they are.
    pub group_rates: [f64; Group::ALL.len()],
}

impl OptimiserSettings {
    /// A rule and nothing else.
    pub fn new(rule: Rule) -> Self {
        Self { rule, weight_decay: 0.0, average_after: None, group_rates: [1.0; Group::ALL.len()] }
    }
}

/// A stretch of weights that are treated alike.
#[derive(Debug, Clone)]
struct Stretch {
    /// Within its piece.
    from: usize,
    to: usize,
    group: Group,
    decays: bool,
}

/// An optimiser with what it remembers of the gradients so far.
#[derive(Debug, Clone)]
pub struct Optimiser<T> {
    settings: OptimiserSettings,
    steps: u64,
    first: Vec<T>,
    second: Vec<T>,
    average: Vec<T>,
    pieces: Vec<Vec<Stretch>>,
}

/// The numbers of one update that are the same for all weights of a stretch.
#[derive(Clone, Copy)]
struct Update<T> {
    rate: T,
    factor: T,
    limit: T,
    /// Of the weight into its gradient.
    decay: T,
    /// Of the weight by itself.
    shrink: T,
}

impl<T: Real> Optimiser<T> {
    /// An optimiser for the weights of this layout that has seen nothing yet.
    pub fn new(settings: OptimiserSettings, layout: &Layout) -> Self {
        let count = layout.len();
        let zeros = |wanted: bool| vec![T::ZERO; if wanted { count } else { 0 }];
        let parts = settings.rule.state_parts();
        let mut pieces = vec![Vec::new(); count.div_ceil(PIECE)];
        for tensor in layout.tensors() {
            let mut from = tensor.range.start;
            while from < tensor.range.end {
                let piece = from / PIECE;
                let to = tensor.range.end.min((piece + 1) * PIECE);
                let (start, decays) = (piece * PIECE, tensor.decays());
                pieces[piece].push(Stretch {
                    from: from - start,
                    to: to - start,
                    group: tensor.group,
                    decays,
                });
                from = to;
            }
        }
        Self {
            settings,
            steps: 0,
            first: zeros(parts > 0),
            second: zeros(parts > 1),
            average: zeros(settings.average_after.is_some()),
            pieces,
        }
    }

    /// One update of `weights` by a clipped gradient.
    pub fn step(&mut self, weights: &mut [T], gradient: &[T], learning_rate: f64, clipped: &Clipped) {
        self.steps += 1;
        let OptimiserSettings { rule, weight_decay, average_after, group_rates } = self.settings;
        let steps = self.steps;
        let update = |stretch: &Stretch| {
            let group = stretch.group.index();
            let rate = learning_rate * group_rates[group];
            let decay = if stretch.decays { weight_decay } else { 0.0 };
            let apart = matches!(rule, Rule::Adam { apart: true, .. });
            Update {
                rate: T::of(rate),
                factor: T::of(clipped.factors[group]),
                limit: T::of(clipped.value.unwrap_or(f64::MAX).min(1e30)),
                decay: T::of(if apart { 0.0 } else { decay }),
                shrink: T::of(if apart { rate * decay } else { 0.0 }),
            }
        };
        let rule = Prepared::of(rule, steps);
        let piece =
            |weights: &mut [T], gradient: &[T], stretches: &[Stretch], first: &mut [T], second: &mut [T]| {
                for stretch in stretches {
                    let at = stretch.from..stretch.to;
                    let (weights, gradient) = (&mut weights[at.clone()], &gradient[at.clone()]);
                    let first = first.get_mut(at.clone()).unwrap_or_default();
                    let second = second.get_mut(at).unwrap_or_default();
                    let update = update(stretch);
                    vectorised!(rule.apply(update, weights, gradient, first, second));
                }
            };
        let pieces = weights.par_chunks_mut(PIECE).zip(gradient.par_chunks(PIECE)).zip(&self.pieces);
        let (first, second) = (self.first.par_chunks_mut(PIECE), self.second.par_chunks_mut(PIECE));
        match self.settings.rule.state_parts() {
            0 => pieces.for_each(|((w, g), stretches)| piece(w, g, stretches, &mut [], &mut [])),
            1 => pieces.zip(first).for_each(|(((w, g), stretches), v)| piece(w, g, stretches, v, &mut [])),
            _ => pieces
                .zip(first.zip(second))
                .for_each(|(((w, g), stretches), (m, v))| piece(w, g, stretches, m, v)),
        }
        if let Some(after) = average_after.filter(|&after| steps > after) {
            let share = T::of(1.0 / (steps - after) as f64);
            self.average.par_chunks_mut(PIECE).zip(weights.par_chunks(PIECE)).for_each(
                |(average, weights)| {
                    vectorised!({
                        average.iter_mut().zip(weights).for_each(|(mean, &w)| *mean += (w - *mean) * share)
                    });
                },
            );
        }
    }

    /// The weights to judge and save: their mean, once it is being kept, else those in hand.
    pub fn settled<'a>(&'a self, weights: &'a [T]) -> &'a [T] {
        match self.settings.average_after {
            Some(after) if self.steps > after => &self.average,
            _ => weights,
        }
    }

    /// Updates made.
    pub fn steps(&self) -> u64 {
        self.steps
    }

    /// What it remembers, by name: each array is empty, or one number for each weight. To go on exactly, hand a copy of it to [`Optimiser::remember`].
    pub fn memory(&self) -> [(&'static str, &[T]); 3] {
        [("first", &self.first), ("second", &self.second), ("average", &self.average)]
    }

    /// Goes on as an optimiser of the same settings did after so many updates, with what it remembered then, in the order of [`Optimiser::memory`].
    ///
    /// # Panics
    /// If an array's length is not that of this optimiser's.
    pub fn remember(&mut self, steps: u64, memory: [&[T]; 3]) {
        self.steps = steps;
        for (own, other) in [&mut self.first, &mut self.second, &mut self.average].into_iter().zip(memory) {
            own.copy_from_slice(other);
        }
    }

    /// Numbers that it remembers.
    pub fn len(&self) -> usize {
        self.first.len() + self.second.len() + self.average.len()
    }

    /// Whether it remembers nothing.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
}

/// A rule with what is the same for all weights of a step worked out.
#[derive(Clone, Copy)]
enum Prepared<T> {
    Descent { momentum: T, nesterov: bool },
    RmsProp { keep: T, new: T, epsilon: T },
    Adam { keep: [T; 2], new: [T; 2], scale: T, epsilon: T },
}

impl<T: Real> Prepared<T> {
    fn of(rule: Rule, steps: u64) -> Self {
        match rule {
            Rule::Descent { momentum, nesterov } => Self::Descent { momentum: T::of(momentum), nesterov },
            Rule::RmsProp { decay, epsilon } => {
                Self::RmsProp { keep: T::of(decay), new: T::of(1.0 - decay), epsilon: T::of(epsilon) }
            }
            Rule::Adam { beta1, beta2, epsilon, .. } => {
                let exponent = i32::try_from(steps).unwrap_or(i32::MAX);
                let (bias1, bias2) = (1.0 - beta1.powi(exponent), 1.0 - beta2.powi(exponent));
                // m^ / (sqrt(v^) + e) with the corrections moved out of the loop.
                Self::Adam {
                    keep: [T::of(beta1), T::of(beta2)],
                    new: [T::of(1.0 - beta1), T::of(1.0 - beta2)],
                    scale: T::of(bias2.sqrt() / bias1),
                    epsilon: T::of(epsilon * bias2.sqrt()),
                }
            }
        }
    }

    #[inline(always)]
    fn apply(self, update: Update<T>, weights: &mut [T], gradient: &[T], first: &mut [T], second: &mut [T]) {
        let Update { rate, factor, limit, decay, shrink } = update;
        let clipped = |g: T, w: T| {
            let g = if g > limit { limit } else { g };
            let g = if g < -limit { -limit } else { g };
            g * factor + decay * w
        };
        match self {
            Self::Descent { .. } if first.is_empty() => {
                for (w, &g) in weights.iter_mut().zip(gradient) {
                    *w -= rate * clipped(g, *w);
                }
            }
            Self::Descent { momentum, nesterov } => {
                for ((w, &g), v) in weights.iter_mut().zip(gradient).zip(first) {
                    let g = clipped(g, *w);
                    *v = momentum * *v + g;
                    *w -= rate * if nesterov { g + momentum * *v } else { *v };
                }
            }
            Self::RmsProp { keep, new, epsilon } => {
                for ((w, &g), s) in weights.iter_mut().zip(gradient).zip(first) {
                    let g = clipped(g, *w);
                    *s = keep * *s + new * (g * g);
                    *w -= rate * g / (s.sqrt() + epsilon);
                }
            }
            Self::Adam { keep, new, scale, epsilon } => {
                let rate = rate * scale;
                for (((w, &g), m), v) in weights.iter_mut().zip(gradient).zip(first).zip(second) {
                    let g = clipped(g, *w);
                    *m = keep[0] * *m + new[0] * g;
                    *v = keep[1] * *v + new[1] * (g * g);
                    *w -= shrink * *w + rate * *m / (v.sqrt() + epsilon);
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::{Optimiser, OptimiserSettings, Rule};
    use crate::clipping::Clipped;
    use crate::parameters::{Group, Initial, Layout};

    /// A matrix that decays and a bias that does not, one number each.
    fn layout() -> Layout {
        let mut layout = Layout::default();
        layout.push("matrix", &[1, 1], Group::Layers, Initial::Constant(0.0));
        layout.push("bias", &[1], Group::Output, Initial::Constant(0.0));
        layout
    }

    const RATE: f64 = 0.1;
    const DECAY: f64 = 0.05;

    fn gradient(step: i32) -> f64 {
        f64::from(step * step % 7) - 2.5
    }

    /// Ten steps of both numbers from 1, by the optimiser.
    fn ten(settings: OptimiserSettings) -> Vec<[f64; 2]> {
        let mut optimiser = Optimiser::new(settings, &layout());
        let mut weights = [1.0f64, 1.0];
        (1..=10)
            .map(|step| {
                optimiser.step(&mut weights, &[gradient(step); 2], RATE, &Clipped::not());
                optimiser.settled(&weights).try_into().unwrap()
            })
            .collect()
    }

    /// Ten steps of one number from 1, by the formula as it is written.
    fn plain(mut next: impl FnMut(i32, f64, f64) -> f64) -> Vec<f64> {
        let mut w = 1.0;
        (1..=10)
            .map(|step| {
                w = next(step, w, gradient(step));
                w
            })
            .collect()
    }

    fn agree(settings: OptimiserSettings, decayed: &[f64], bare: &[f64]) {
        for (found, expected) in ten(settings).iter().zip(decayed.iter().zip(bare)) {
            for (x, y) in found.iter().zip([expected.0, expected.1]) {
                assert!((x - y).abs() < 1e-12, "{settings:?}: {found:?} {expected:?}");
            }
        }
    }

    #[test]
    fn descent_and_its_momenta_follow_their_formulas() {
        let settings = |momentum, nesterov| OptimiserSettings {
            weight_decay: DECAY,
            ..OptimiserSettings::new(Rule::Descent { momentum, nesterov })
        };
        let bare = plain(|_, w, g| w - RATE * g);
        // Without momentum in closed form: the bias is 1 less the rate times the sum of gradients.
        let sum: f64 = (1..=10).map(gradient).sum();
        assert!((bare[9] - (1.0 - RATE * sum)).abs() < 1e-12);
        agree(settings(0.0, false), &plain(|_, w, g| w - RATE * (g + DECAY * w)), &bare);
        for nesterov in [false, true] {
            let with = |decay: f64| {
                let mut v = 0.0;
                plain(move |_, w, g| {
                    let g = g + decay * w;
                    v = 0.9 * v + g;
                    w - RATE * if nesterov { g + 0.9 * v } else { v }
                })
            };
            agree(settings(0.9, nesterov), &with(DECAY), &with(0.0));
        }
    }

    #[test]
    fn rms_propagation_and_both_kinds_of_adam_follow_their_formulas() {
        let settings = |rule| OptimiserSettings { weight_decay: DECAY, ..OptimiserSettings::new(rule) };
        let rms = |decay: f64| {
            let mut s = 0.0;
            plain(move |_, w, g| {
                let g = g + decay * w;
                s = 0.95 * s + 0.05 * g * g;
                w - RATE * g / (f64::sqrt(s) + 1e-6)
            })
        };
        agree(settings(Rule::RmsProp { decay: 0.95, epsilon: 1e-6 }), &rms(DECAY), &rms(0.0));
        for apart in [false, true] {
            let adam = |decay: f64| {
                let (mut m, mut v) = (0.0, 0.0);
                plain(move |t, w, g| {
                    let g = if apart { g } else { g + decay * w };
                    m = 0.9 * m + 0.1 * g;
                    v = 0.999 * v + 0.001 * g * g;
                    let (m_hat, v_hat) = (m / (1.0 - 0.9f64.powi(t)), v / (1.0 - 0.999f64.powi(t)));
                    let shrink = if apart { RATE * decay * w } else { 0.0 };
                    w - RATE * m_hat / (v_hat.sqrt() + 1e-8) - shrink
                })
            };
            let rule = Rule::Adam { beta1: 0.9, beta2: 0.999, epsilon: 1e-8, apart };
            agree(settings(rule), &adam(DECAY), &adam(0.0));
        }
    }

    #[test]
    fn the_average_is_the_mean_of_the_weights_since_it_began() {
        let rule = Rule::Descent { momentum: 0.0, nesterov: false };
        let settings = OptimiserSettings { average_after: Some(4), ..OptimiserSettings::new(rule) };
        let path = plain(|_, w, g| w - RATE * g);
        for (step, found) in ten(settings).iter().enumerate() {
            let since = if step < 4 { &path[step..=step] } else { &path[4..=step] };
            let mean = since.iter().sum::<f64>() / since.len() as f64;
            assert!((found[1] - mean).abs() < 1e-12, "{step}");
        }
    }

    #[test]
    fn groups_have_their_own_rates_and_gradients_their_own_limits() {
        let rule = Rule::Descent { momentum: 0.0, nesterov: false };
        let settings = OptimiserSettings { group_rates: [1.0, 0.0, 2.0], ..OptimiserSettings::new(rule) };
        let mut optimiser = Optimiser::new(settings, &layout());
        let mut weights = [1.0f64, 1.0];
        let clipped = Clipped { value: Some(2.0), factors: [1.0, 1.0, 0.5], ..Clipped::not() };
        optimiser.step(&mut weights, &[5.0, -5.0], RATE, &clipped);
        // The bias: -5 limited to -2, times 0.5, times twice the rate.
        assert_eq!(weights, [1.0, 1.0 + 2.0 * 0.5 * 2.0 * RATE]);
    }

    #[test]
    fn tensors_across_pieces_are_all_moved() {
        let mut layout = Layout::default();
        for (size, group) in [(10_000, Group::Embedding), (40_000, Group::Layers), (3, Group::Output)] {
            layout.push("t", &[size], group, Initial::Constant(0.0));
        }
        let mut optimiser = Optimiser::new(OptimiserSettings::new(Rule::ADAM), &layout);
        let mut weights = vec![0.0f32; layout.len()];
        optimiser.step(&mut weights, &vec![1.0; layout.len()], 0.5, &Clipped::not());
        assert!(weights.iter().all(|&w| (w + 0.5).abs() < 1e-6));
    }
}
