//! Moving the weights.

use rayon::prelude::*;

use super::clipping::Clipped;
use super::late_rows::{LateRows, Moved};
use super::piece::PIECE;
pub use super::rule::{OptimiserSettings, Rule};
use super::rule::{Prepared, Update};
use crate::numbers::real::Real;
use crate::vectorised;
use crate::weights::layout::{GroupId, Layout};

/// A stretch of weights that are treated alike.
#[derive(Debug, Clone)]
struct Stretch {
    /// Within its piece.
    from: usize,
    to: usize,
    group: GroupId,
    decays: bool,
    /// Factor of the learning rate.
    rate: f64,
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
    late: Option<(LateRows<T>, Stretch)>,
}

impl<T: Real> Optimiser<T> {
    /// An optimiser for the weights of this layout that has seen nothing yet.
    pub fn new(settings: OptimiserSettings, layout: &Layout) -> Self {
        let count = layout.len();
        let zeros = |wanted: bool| vec![T::ZERO; if wanted { count } else { 0 }];
        let parts = settings.rule_parts();
        let mut pieces = vec![Vec::new(); count.div_ceil(PIECE)];
        let of_group = |group: GroupId| settings.group_rates.get(group.index()).copied().unwrap_or(1.0);
        for tensor in layout.tensors() {
            let parts = settings.part_rates.iter().filter(|(part, _)| tensor.name.starts_with(part));
            let rate = of_group(tensor.group) * parts.map(|(_, rate)| rate).product::<f64>();
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
                    rate,
                });
                from = to;
            }
        }
        Self {
            steps: 0,
            first: zeros(parts > 0),
            second: zeros(parts > 1),
            average: zeros(settings.average_after.is_some()),
            pieces,
            settings,
            late: None,
        }
    }

    /// The same optimiser, which moves the rows of a table late: see [`LateRows`]. Before a step that reads rows of the table they must be
    /// brought up to date ([`Optimiser::catch_up`]), and all of them before anything else reads the weights ([`Optimiser::settle`]). A mean of
    /// the weights needs all of them after every step: then nothing is late.
    #[must_use]
    pub fn with_late_rows(mut self, table: std::ops::Range<usize>, width: usize) -> Self {
        if self.settings.average_after.is_some() {
            return self;
        }
        let mut found = None;
        for (piece, stretches) in self.pieces.iter_mut().enumerate() {
            let inside = |stretch: &Stretch| table.contains(&(piece * PIECE + stretch.from));
            found = stretches.iter().find(|stretch| inside(stretch)).cloned().or(found);
            stretches.retain(|stretch| !inside(stretch));
        }
        self.late = found.map(|stretch| (LateRows::new(table, width), stretch));
        self
    }

    /// The rows that are moved late.
    pub fn late_rows(&self) -> Option<&LateRows<T>> {
        self.late.as_ref().map(|(late, _)| late)
    }

    /// Brings the rows of the late table up to date that the next step reads. Each takes the gradient that waits for it out of `gradient`, so that
    /// the gradient of the next step can be added there.
    pub fn catch_up(&mut self, weights: &mut [T], gradient: &mut [T], rows: impl Iterator<Item = u32>) {
        if self.late_rows().is_some_and(LateRows::is_full) {
            self.settle(weights, gradient);
        }
        if let Some((late, _)) = &mut self.late {
            let (first, second) = (&mut self.first[..], &mut self.second[..]);
            late.catch_up(Moved { weights, gradient, first, second }, rows);
        }
    }

    /// Brings all rows of the late table up to date, with the gradients that wait for them in `gradient`.
    pub fn settle(&mut self, weights: &mut [T], gradient: &mut [T]) {
        if let Some((late, _)) = &mut self.late {
            let (first, second) = (&mut self.first[..], &mut self.second[..]);
            late.settle(Moved { weights, gradient, first, second });
        }
    }

    /// Whether all weights have made all steps.
    pub fn is_settled(&self) -> bool {
        self.late.as_ref().is_none_or(|(late, _)| late.is_settled())
    }

    /// One update of `weights` by a clipped gradient. Of a late table it is only noted: its rows move when they catch up, and until then their gradients must
    /// stay where they are.
    pub fn step(&mut self, weights: &mut [T], gradient: &[T], learning_rate: f64, clipped: &Clipped) {
        self.steps += 1;
        let settings = &self.settings;
        let (rule, steps) = (settings.rule, self.steps);
        let update = |stretch: &Stretch| {
            let group = stretch.group.index();
            let rate = learning_rate * stretch.rate;
            let decay = if stretch.decays { settings.weight_decay } else { 0.0 };
            let apart = rule == Rule::Adamw;
            Update {
                rate: T::of(rate),
                factor: T::of(clipped.factor(group)),
                limit: T::of(clipped.value.unwrap_or(f64::MAX).min(1e30)),
                decay: T::of(if apart { 0.0 } else { decay }),
                shrink: T::of(if apart { rate * decay } else { 0.0 }),
            }
        };
        let rule = Prepared::of(settings, steps);
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
        match settings.rule_parts() {
            0 => pieces.for_each(|((w, g), stretches)| piece(w, g, stretches, &mut [], &mut [])),
            1 => pieces.zip(first).for_each(|(((w, g), stretches), v)| piece(w, g, stretches, v, &mut [])),
            _ => pieces
                .zip(first.zip(second))
                .for_each(|(((w, g), stretches), (m, v))| piece(w, g, stretches, m, v)),
        }
        if let Some((late, stretch)) = &mut self.late {
            late.step((rule, update(stretch)));
        }
        if let Some(after) = settings.average_after.filter(|&after| steps > after) {
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

    /// The weights to evaluate and save: their running mean once averaging has started, else the current ones.
    pub fn settled<'a>(&'a self, weights: &'a [T]) -> &'a [T] {
        match self.settings.average_after {
            Some(after) if self.steps > after => &self.average,
            _ => weights,
        }
    }

    /// The step after which the mean of the weights starts, if there is one.
    pub fn averages_after(&self) -> Option<u64> {
        self.settings.average_after
    }

    /// Starts the mean after another step; nothing may have been averaged yet. Without a mean, there is none to start.
    pub fn average_after(&mut self, step: u64) {
        self.settings.average_after = self.settings.average_after.map(|_| step);
    }

    /// Updates made.
    pub fn steps(&self) -> u64 {
        self.steps
    }

    /// The optimiser's state, by name: each array is empty, or one number for each weight. To continue exactly, pass a copy to [`Optimiser::remember`].
    pub fn memory(&self) -> [(&'static str, &[T]); 3] {
        [("first", &self.first), ("second", &self.second), ("average", &self.average)]
    }

    /// Continues as an optimiser of the same settings with its state after `steps` updates, in the order of [`Optimiser::memory`]; no gradient must wait
    /// for its update.
    ///
    /// # Panics
    /// If an array's length is not that of this optimiser's.
    pub fn remember(&mut self, steps: u64, memory: [&[T]; 3]) {
        self.steps = steps;
        if let Some((late, _)) = &mut self.late {
            late.settle_at(steps);
        }
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

#[cfg(test)]
mod tests {
    use super::{Optimiser, OptimiserSettings, Rule};
    use crate::learning::clipping::Clipped;
    use crate::weights::layout::{Initial, Layout};

    /// A matrix that decays and a bias that does not, one number each.
    fn layout() -> Layout {
        let mut layout = Layout::default();
        let [matrix, bias] = ["layers", "output"].map(|name| layout.group(name));
        layout.push("matrix", &[1, 1], matrix, Initial::Constant(0.0));
        layout.push("bias", &[1], bias, Initial::Constant(0.0));
        layout
    }

    const RATE: f64 = 0.1;
    const DECAY: f64 = 0.05;

    fn gradient(step: i32) -> f64 {
        f64::from(step * step % 7) - 2.5
    }

    /// Ten steps of both numbers from 1, by the optimiser.
    fn ten(settings: OptimiserSettings) -> Vec<[f64; 2]> {
        let mut optimiser = Optimiser::new(settings.clone(), &layout());
        let mut weights = [1.0f64, 1.0];
        (1..=10)
            .map(|step| {
                optimiser.step(&mut weights, &[gradient(step); 2], RATE, &Clipped::default());
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
        for (found, expected) in ten(settings.clone()).iter().zip(decayed.iter().zip(bare)) {
            for (x, y) in found.iter().zip([expected.0, expected.1]) {
                assert!((x - y).abs() < 1e-12, "{settings:?}: {found:?} {expected:?}");
            }
        }
    }

    #[test]
    fn descent_and_its_momenta_follow_their_formulas() {
        let settings = |momentum, nesterov| OptimiserSettings {
            weight_decay: DECAY,
            momentum,
            ..OptimiserSettings::new(if nesterov { Rule::Nesterov } else { Rule::Momentum })
        };
        let bare = plain(|_, w, g| w - RATE * g);
        // Without momentum in closed form: the bias is 1 minus the rate times the sum of gradients.
        let sum: f64 = (1..=10).map(gradient).sum();
        assert!((bare[9] - (1.0 - RATE * sum)).abs() < 1e-12);
        for settings in [
            settings(0.0, false),
            OptimiserSettings { weight_decay: DECAY, ..OptimiserSettings::new(Rule::Sgd) },
        ] {
            agree(settings, &plain(|_, w, g| w - RATE * (g + DECAY * w)), &bare);
        }
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
        let settings_of_rms = OptimiserSettings { beta2: 0.95, epsilon: 1e-6, ..settings(Rule::Rmsprop) };
        agree(settings_of_rms, &rms(DECAY), &rms(0.0));
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
            let rule = if apart { Rule::Adamw } else { Rule::Adam };
            agree(settings(rule), &adam(DECAY), &adam(0.0));
        }
    }

    #[test]
    fn what_is_remembered_fades_to_zero_and_is_never_subnormal() {
        for rule in [Rule::Momentum, Rule::Nesterov, Rule::Rmsprop, Rule::Adam, Rule::Adamw] {
            let settings = OptimiserSettings { beta2: 0.95, ..OptimiserSettings::new(rule) };
            let mut optimiser = Optimiser::new(settings, &layout());
            let mut weights = [1.0f32, 1.0];
            for step in 0..3000 {
                let gradient = if step < 3 { [-2.0, 1e-3] } else { [0.0; 2] };
                optimiser.step(&mut weights, &gradient, 1e-3, &Clipped::default());
                for (name, numbers) in optimiser.memory() {
                    assert!(numbers.iter().all(|x| !x.is_subnormal()), "{rule:?} {step} {name} {numbers:?}");
                }
            }
            assert!(
                optimiser.memory().iter().all(|(_, numbers)| numbers.iter().all(|&x| x == 0.0)),
                "{rule:?}"
            );
        }
    }

    #[test]
    fn the_average_is_the_mean_of_the_weights_since_it_began() {
        let settings = OptimiserSettings { average_after: Some(4), ..OptimiserSettings::new(Rule::Sgd) };
        let path = plain(|_, w, g| w - RATE * g);
        for (step, found) in ten(settings.clone()).iter().enumerate() {
            let since = if step < 4 { &path[step..=step] } else { &path[4..=step] };
            let mean = since.iter().sum::<f64>() / since.len() as f64;
            assert!((found[1] - mean).abs() < 1e-12, "{step}");
        }
    }

    #[test]
    fn the_average_can_be_started_sooner() {
        let after = |after| OptimiserSettings { average_after: after, ..OptimiserSettings::new(Rule::Sgd) };
        let layout = layout();
        let means = [Some(9), Some(2)].map(|from| {
            let mut optimiser = Optimiser::new(after(from), &layout);
            let mut weights = [1.0f64, 1.0];
            for step in 0..4 {
                if step == 2 {
                    optimiser.average_after(2);
                }
                optimiser.step(&mut weights, &[0.5, 2.0], RATE, &Clipped::default());
            }
            optimiser.settled(&weights).to_vec()
        });
        assert_eq!(means[0], means[1]);
        let mut without = Optimiser::<f64>::new(after(None), &layout);
        without.average_after(2);
        assert_eq!(without.averages_after(), None);
    }

    #[test]
    fn groups_have_their_own_rates_and_gradients_their_own_limits() {
        let settings = OptimiserSettings { group_rates: vec![0.0, 2.0], ..OptimiserSettings::new(Rule::Sgd) };
        let mut optimiser = Optimiser::new(settings.clone(), &layout());
        let mut weights = [1.0f64, 1.0];
        let clipped = Clipped { value: Some(2.0), factors: vec![1.0, 0.5], ..Clipped::default() };
        optimiser.step(&mut weights, &[5.0, -5.0], RATE, &clipped);
        // The bias: -5 limited to -2, times 0.5, times twice the rate.
        assert_eq!(weights, [1.0, 1.0 + 2.0 * 0.5 * 2.0 * RATE]);
    }

    #[test]
    fn a_part_has_a_rate_of_its_own_and_with_zero_it_stays() {
        let mut layout = Layout::default();
        let group = layout.group("layers");
        for name in ["layer.1.input", "layer.10.input", "layer.2.input"] {
            layout.push(name, &[1], group, Initial::Constant(0.0));
        }
        let part_rates = vec![("layer.1.".to_owned(), 0.0), ("layer.2.".to_owned(), 3.0)];
        let settings =
            OptimiserSettings { group_rates: vec![0.5], part_rates, ..OptimiserSettings::new(Rule::Sgd) };
        let mut optimiser = Optimiser::new(settings, &layout);
        let mut weights = [1.0f64; 3];
        let clipped = Clipped { factors: vec![1.0], ..Clipped::default() };
        optimiser.step(&mut weights, &[1.0; 3], RATE, &clipped);
        assert_eq!(weights, [1.0, 1.0 - 0.5 * RATE, 1.0 - 1.5 * RATE]);
    }

    #[test]
    fn tensors_across_pieces_are_all_moved() {
        let mut layout = Layout::default();
        for (size, name) in [(10_000, "embedding"), (40_000, "layers"), (3, "output")] {
            let group = layout.group(name);
            layout.push("t", &[size], group, Initial::Constant(0.0));
        }
        let mut optimiser = Optimiser::new(OptimiserSettings::new(Rule::Adam), &layout);
        let mut weights = vec![0.0f32; layout.len()];
        optimiser.step(&mut weights, &vec![1.0; layout.len()], 0.5, &Clipped::default());
        assert!(weights.iter().all(|&w| (w + 0.5).abs() < 1e-6));
    }
}
