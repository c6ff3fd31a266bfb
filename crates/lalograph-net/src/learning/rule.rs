//! The rules by which gradients move weights.

use crate::numbers::real::Real;

crate::choice! {
    /// The rule by which a gradient moves weights. In the formulas `w` is a weight, `g` its gradient, `a` the learning rate; the
    /// other letters are fields of [`OptimiserSettings`].
    pub enum Rule = Adam {
        /// Gradient descent: `w -= a g`.
        Sgd = "sgd",
        /// Gradient descent with momentum: `v = m v + g; w -= a v` (Polyak, 1964).
        Momentum = "momentum",
        /// Momentum that looks ahead: `v = m v + g; w -= a (g + m v)` (Nesterov, 1983; in the form of Sutskever et al., 2013).
        Nesterov = "nesterov",
        /// By the root of the mean square of gradients: `s = sqrt(b2 s^2 + (1 - b2) g^2); w -= a g / (s + e)` (Tieleman and Hinton, 2012).
        Rmsprop = "rmsprop",
        /// By means of gradients and of their squares (Kingma and Ba, 2015).
        Adam = "adam",
        /// Adam with weight decay apart from the gradient: `w -= a l w` (Loshchilov and Hutter, 2019).
        Adamw = "adamw",
    }
}

/// Settings of an optimiser.
#[derive(Debug, Clone, PartialEq)]
pub struct OptimiserSettings {
    /// The rule.
    pub rule: Rule,
    /// m, of momentum and Nesterov's.
    pub momentum: f64,
    /// b1, decay of the mean of gradients.
    pub beta1: f64,
    /// b2, decay of the mean of their squares.
    pub beta2: f64,
    /// e, added to roots, against division by zero.
    pub epsilon: f64,
    /// l: the share of each weight that is taken off for each unit of learning rate; added to the gradient as `l w` unless the rule
    /// keeps it apart. Only for tensors that [`Tensor::decays`](crate::Tensor::decays).
    pub weight_decay: f64,
    /// The step after which the mean of the weights over all later steps is kept, to be validated and saved (Polyak and Juditsky, 1992).
    pub average_after: Option<u64>,
    /// By which the learning rate is multiplied, for each group; 1 for groups beyond the list, 0 leaves weights as they are.
    pub group_rates: Vec<f64>,
    /// By which it is multiplied further for tensors whose name begins with a text, such as `layer.1.`.
    pub part_rates: Vec<(String, f64)>,
}

impl OptimiserSettings {
    /// A rule with the settings of its paper, no decay and no mean.
    pub fn new(rule: Rule) -> Self {
        Self {
            rule,
            momentum: 0.9,
            beta1: 0.9,
            beta2: 0.999,
            epsilon: 1e-8,
            weight_decay: 0.0,
            average_after: None,
            group_rates: Vec::new(),
            part_rates: Vec::new(),
        }
    }

    /// Numbers kept for each weight, the mean of the weights included.
    pub fn state_parts(&self) -> usize {
        self.rule_parts() + usize::from(self.average_after.is_some())
    }

    /// Numbers that the rule keeps for each weight.
    pub(super) fn rule_parts(&self) -> usize {
        match self.rule {
            Rule::Sgd => 0,
            Rule::Momentum | Rule::Nesterov => usize::from(self.momentum > 0.0),
            Rule::Rmsprop => 1,
            Rule::Adam | Rule::Adamw => 2,
        }
    }
}

/// The numbers of one update that are the same for all weights of a stretch.
#[derive(Debug, Clone, Copy)]
pub(super) struct Update<T> {
    pub(super) rate: T,
    pub(super) factor: T,
    pub(super) limit: T,
    /// Of the weight into its gradient.
    pub(super) decay: T,
    /// Of the weight by itself.
    pub(super) shrink: T,
}

impl<T: Real> Update<T> {
    /// Whether it leaves weights alone that have no gradient, but for what a rule remembers.
    pub(super) fn is_still(&self) -> bool {
        self.decay == T::ZERO && self.shrink == T::ZERO
    }
}

/// Weights that stay in registers while they make the steps that they have missed.
const STRIP: usize = 32;

/// Steps of Adam without a gradient and without decay: both means fade, and the weights move on.
#[inline(always)]
fn fade<T: Real>(
    steps: &[(Prepared<T>, Update<T>)],
    weights: &mut [T; STRIP],
    first: &mut [T; STRIP],
    second: &mut [T; STRIP],
) {
    let (mut w, mut m, mut s) = (*weights, *first, *second);
    for (rule, update) in steps {
        let &Prepared::Adam { keep, ref root, scale, epsilon, .. } = rule else { continue };
        let rate = update.rate * scale;
        for i in 0..STRIP {
            m[i] = (keep * m[i]).without_dust();
            s[i] = root.fade(s[i]);
            w[i] -= rate * m[i] / (s[i] + epsilon);
        }
    }
    (*weights, *first, *second) = (w, m, s);
}

/// How the root of the mean square of gradients goes on. The root is remembered and not its square: without a gradient it fades by a factor, so
/// that a weight which catches up with many steps needs no roots.
#[derive(Debug, Clone, Copy)]
pub(super) struct RootMeanSquare<T> {
    keep: T,
    new: T,
    fading: T,
}

impl<T: Real> RootMeanSquare<T> {
    fn of(beta2: f64) -> Self {
        Self { keep: T::of(beta2), new: T::of(1.0 - beta2), fading: T::of(beta2.sqrt()) }
    }

    /// After a step with the gradient `g`. Both ways are computed and one is taken, so that loops over it stay free of branches.
    #[inline(always)]
    fn after(&self, s: T, g: T) -> T {
        let moved = (self.keep * (s * s) + self.new * (g * g)).sqrt();
        if g == T::ZERO { self.fade(s) } else { moved }
    }

    /// After a step without a gradient; zero while its square is not subnormal yet.
    #[inline(always)]
    fn fade(&self, s: T) -> T {
        let faded = self.fading * s;
        if faded < T::of(Self::LEAST) { T::ZERO } else { faded }
    }

    /// 2^-50.
    const LEAST: f64 = 8.881_784_197_001_252e-16;
}

/// A rule with what is the same for all weights of a step computed.
#[derive(Debug, Clone, Copy)]
pub(super) enum Prepared<T> {
    Descent { momentum: T, nesterov: bool },
    RmsProp { root: RootMeanSquare<T>, epsilon: T },
    Adam { keep: T, new: T, root: RootMeanSquare<T>, scale: T, epsilon: T },
}

impl<T: Real> Prepared<T> {
    pub(super) fn of(settings: &OptimiserSettings, steps: u64) -> Self {
        let &OptimiserSettings { rule, momentum, beta1, beta2, epsilon, .. } = settings;
        match rule {
            Rule::Sgd => Self::Descent { momentum: T::ZERO, nesterov: false },
            Rule::Momentum | Rule::Nesterov => {
                Self::Descent { momentum: T::of(momentum), nesterov: rule == Rule::Nesterov }
            }
            Rule::Rmsprop => Self::RmsProp { root: RootMeanSquare::of(beta2), epsilon: T::of(epsilon) },
            Rule::Adam | Rule::Adamw => {
                let exponent = i32::try_from(steps).unwrap_or(i32::MAX);
                let (bias1, bias2) = (1.0 - beta1.powi(exponent), 1.0 - beta2.powi(exponent));
                // m^ / (sqrt(v^) + e) with the corrections moved out of the loop.
                Self::Adam {
                    keep: T::of(beta1),
                    new: T::of(1.0 - beta1),
                    root: RootMeanSquare::of(beta2),
                    scale: T::of(bias2.sqrt() / bias1),
                    epsilon: T::of(epsilon * bias2.sqrt()),
                }
            }
        }
    }

    /// Makes steps without a gradient one after another, as [`Prepared::apply`] would with `none`, zeros for all weights; `still` if all of them are
    /// [`Update::is_still`].
    #[inline(always)]
    pub(super) fn apply_idle(
        steps: &[(Self, Update<T>)],
        still: bool,
        none: &[T],
        weights: &mut [T],
        first: &mut [T],
        second: &mut [T],
    ) {
        let fades = still && matches!(steps.first(), Some((Self::Adam { .. }, _)));
        let strips = if fades { weights.len() / STRIP * STRIP } else { 0 };
        let (strips_of_weights, weights) = weights.split_at_mut(strips);
        let (strips_of_first, first) = first.split_at_mut(strips.min(first.len()));
        let (strips_of_second, second) = second.split_at_mut(strips.min(second.len()));
        let w = strips_of_weights.as_chunks_mut::<STRIP>().0.iter_mut();
        let m = strips_of_first.as_chunks_mut::<STRIP>().0.iter_mut();
        let s = strips_of_second.as_chunks_mut::<STRIP>().0.iter_mut();
        w.zip(m.zip(s)).for_each(|(w, (m, s))| fade(steps, w, m, s));
        steps.iter().for_each(|(rule, update)| rule.apply(*update, weights, none, first, second));
    }

    /// Makes a step. What is remembered of weights that have long had no gradient becomes zero before it is subnormal.
    #[inline(always)]
    pub(super) fn apply(
        self,
        update: Update<T>,
        weights: &mut [T],
        gradient: &[T],
        first: &mut [T],
        second: &mut [T],
    ) {
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
                    *v = (momentum * *v + g).without_dust();
                    *w -= rate * if nesterov { g + momentum * *v } else { *v };
                }
            }
            Self::RmsProp { root, epsilon } => {
                for ((w, &g), s) in weights.iter_mut().zip(gradient).zip(first) {
                    let g = clipped(g, *w);
                    *s = root.after(*s, g);
                    *w -= rate * g / (*s + epsilon);
                }
            }
            Self::Adam { keep, new, root, scale, epsilon } => {
                let rate = rate * scale;
                for (((w, &g), m), s) in weights.iter_mut().zip(gradient).zip(first).zip(second) {
                    let g = clipped(g, *w);
                    *m = (keep * *m + new * g).without_dust();
                    *s = root.after(*s, g);
                    *w -= shrink * *w + rate * *m / (*s + epsilon);
                }
            }
        }
    }
}
