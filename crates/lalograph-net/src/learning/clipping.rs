//! Measuring a gradient, tensor by tensor, and bringing it down (Pascanu, Mikolov and Bengio, 2013).

use rayon::prelude::*;

use super::piece::PIECE;
use crate::numbers::real::Real;
use crate::vectorised;
use crate::weights::layout::{GroupId, Layout};

/// Limits of gradients: values first, then norms.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Clipping {
    /// The greatest absolute value of a number.
    pub value: Option<f64>,
    /// The greatest norm of the whole gradient.
    pub norm: Option<f64>,
    /// The greatest norm of each group's gradient, before the limit on the whole; no limit for groups beyond the list.
    pub group_norms: Vec<Option<f64>>,
}

/// Measurements of a gradient, and its factors. The default factor is 1.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Clipped {
    /// The norm of the whole gradient as it came.
    pub norm_before: f64,
    /// Its norm within the limits.
    pub norm_after: f64,
    /// The greatest absolute value of a number, if that is limited.
    pub value: Option<f64>,
    /// Factor on each group's gradient; 1 for groups beyond the list.
    pub factors: Vec<f64>,
    /// Whether any number was above the limit of values.
    pub values_limited: bool,
}

impl Clipped {
    /// Factor on a group's gradient.
    pub fn factor(&self, group: usize) -> f64 {
        self.factors.get(group).copied().unwrap_or(1.0)
    }

    /// Whether any limit was met.
    pub fn any(&self) -> bool {
        // Not by the norms: sums that were added in another order differ in their last digits.
        self.values_limited || self.factors.iter().any(|&factor| factor < 1.0)
    }
}

/// Measures gradients of one layout, without allocation.
#[derive(Debug, Clone)]
pub struct GradientMeter {
    tensors: Vec<(std::ops::Range<usize>, GroupId)>,
    /// The stretches that are summed as one piece, and the tensor that each belongs to.
    stretches: Vec<(usize, std::ops::Range<usize>)>,
    /// The table of which some rows alone have a gradient: place and width.
    table: Option<(std::ops::Range<usize>, usize)>,
    /// For each stretch the sums of squares, as it came and within the limit on values.
    sums: Vec<[f64; 2]>,
    /// For each tensor the norm as it came.
    norms: Vec<f64>,
    /// For each group the sum of squares within the limit on values.
    groups: Vec<f64>,
    clipped: Clipped,
}

impl GradientMeter {
    /// A meter for gradients of this layout.
    pub fn new(layout: &Layout) -> Self {
        Self::with_table(layout, None)
    }

    /// The same where few rows of one tensor have a gradient, the table with this place and width of a row: see [`GradientMeter::measure_rows`].
    pub fn with_table(layout: &Layout, table: Option<(std::ops::Range<usize>, usize)>) -> Self {
        let tensors: Vec<_> =
            layout.tensors().iter().map(|tensor| (tensor.range.clone(), tensor.group)).collect();
        let mut stretches = Vec::new();
        for (index, (range, _)) in tensors.iter().enumerate() {
            // Whole rows of the table.
            let size = match &table {
                Some((table, width)) if table == range => (PIECE / width).max(1) * width,
                _ => PIECE,
            };
            for from in range.clone().step_by(size) {
                stretches.push((index, from..(from + size).min(range.end)));
            }
        }
        let groups = layout.groups().len();
        Self {
            sums: vec![[0.0; 2]; stretches.len()],
            norms: vec![0.0; tensors.len()],
            groups: vec![0.0; groups],
            clipped: Clipped { factors: vec![1.0; groups], ..Clipped::default() },
            tensors,
            stretches,
            table,
        }
    }

    /// Measures a gradient and computes its clipping factors.
    pub fn measure<T: Real>(&mut self, gradient: &[T], clipping: &Clipping) -> &Clipped {
        self.measure_rows(gradient, clipping, &[])
    }

    /// The same; `read` says of each row of the table whether it can have a gradient. Without a table it is not needed.
    pub fn measure_rows<T: Real>(&mut self, gradient: &[T], clipping: &Clipping, read: &[bool]) -> &Clipped {
        let limit = clipping.value.map(T::of);
        let table = self.table.as_ref();
        self.sums.par_iter_mut().zip(&self.stretches).for_each(|(sums, (_, range))| {
            let add = |sums: &mut [f64; 2], part: &[T]| {
                let raw = vectorised!(sum_of_squares(part, |x| x));
                sums[0] += raw;
                sums[1] += match limit {
                    None => raw,
                    Some(limit) => vectorised!({
                        sum_of_squares(part, |x| {
                            if x > limit {
                                limit
                            } else if x < -limit {
                                -limit
                            } else {
                                x
                            }
                        })
                    }),
                };
            };
            *sums = [0.0; 2];
            let part = &gradient[range.clone()];
            match table.filter(|(table, _)| table.contains(&range.start)) {
                None => add(sums, part),
                Some((table, width)) => {
                    let read = &read[(range.start - table.start) / width..];
                    let rows = part.chunks_exact(*width).zip(read).filter(|(_, read)| **read);
                    rows.for_each(|(row, _)| add(sums, row));
                }
            }
        });
        self.norms.fill(0.0);
        let mut before = 0.0;
        let Self { groups, clipped, .. } = self;
        groups.fill(0.0);
        for ((tensor, _), [raw, limited]) in self.stretches.iter().zip(&self.sums) {
            self.norms[*tensor] += raw;
            before += raw;
            groups[self.tensors[*tensor].1.index()] += limited;
        }
        self.norms.iter_mut().for_each(|norm| *norm = norm.sqrt());
        let factors = &mut clipped.factors;
        factors.fill(1.0);
        for ((group, limit), to) in groups.iter_mut().zip(&clipping.group_norms).zip(factors.iter_mut()) {
            *to = factor(group.sqrt(), *limit);
            *group *= *to * *to;
        }
        let norm = groups.iter().sum::<f64>().sqrt();
        let whole = factor(norm, clipping.norm);
        factors.iter_mut().for_each(|factor| *factor *= whole);
        clipped.values_limited = self.sums.iter().any(|[raw, limited]| limited < raw);
        clipped.value = clipping.value;
        clipped.norm_before = before.sqrt();
        clipped.norm_after = if clipped.any() { norm * whole } else { clipped.norm_before };
        clipped
    }

    /// The last measurements.
    pub fn clipped(&self) -> &Clipped {
        &self.clipped
    }

    /// The latest norm of each tensor's gradient, in the order of the layout.
    pub fn norms(&self) -> &[f64] {
        &self.norms
    }

    /// The first tensor whose gradient held a number that is not finite.
    pub fn first_not_finite(&self) -> Option<usize> {
        self.norms.iter().position(|norm| !norm.is_finite())
    }
}

/// The factor on a gradient of this norm that brings it to at most `limit`.
fn factor(norm: f64, limit: Option<f64>) -> f64 {
    match limit {
        Some(limit) if norm > limit => limit / norm,
        _ => 1.0,
    }
}

/// Added in a fixed order in double precision.
#[inline(always)]
fn sum_of_squares<T: Real>(numbers: &[T], seen: impl Fn(T) -> T) -> f64 {
    const WIDTH: usize = 16;
    let mut lanes = [0.0f64; WIDTH];
    let (chunks, rest) = numbers.as_chunks::<WIDTH>();
    for chunk in chunks {
        for (lane, &x) in lanes.iter_mut().zip(chunk) {
            let x = seen(x).to_f64();
            *lane += x * x;
        }
    }
    let rest: f64 = rest.iter().map(|&x| seen(x).to_f64() * seen(x).to_f64()).sum();
    lanes.iter().sum::<f64>() + rest
}

#[cfg(test)]
mod tests {
    use super::{Clipping, GradientMeter};
    use crate::weights::layout::{Initial, Layout};

    const GROUPS: [&str; 3] = ["embedding", "layers", "output"];

    fn layout(sizes: [usize; 3]) -> Layout {
        let mut layout = Layout::default();
        for (size, name) in sizes.into_iter().zip(GROUPS) {
            let group = layout.group(name);
            layout.push(name, &[size], group, Initial::Constant(0.0));
        }
        layout
    }

    #[test]
    fn norms_are_those_of_all_pieces() {
        let layout = layout([100_003, 5, 40_000]);
        let mut meter = GradientMeter::new(&layout);
        let gradient: Vec<f32> = (0..layout.len()).map(|i| (i % 7) as f32 - 3.0).collect();
        let clipped = meter.measure(&gradient, &Clipping::default()).clone();
        let norm = |part: &[f32]| part.iter().map(|&x| f64::from(x).powi(2)).sum::<f64>().sqrt();
        assert!((clipped.norm_before - norm(&gradient)).abs() < 1e-9 * clipped.norm_before);
        assert_eq!((clipped.norm_after, clipped.any()), (clipped.norm_before, false));
        for (tensor, found) in layout.tensors().iter().zip(meter.norms()) {
            assert!((norm(&gradient[tensor.range.clone()]) - found).abs() < 1e-9 * found);
        }
    }

    #[test]
    fn rows_of_a_table_are_measured_like_all_of_it() {
        let layout = layout([600, 5, 40]);
        let read: Vec<bool> = (0..100).map(|row| row % 7 == 2).collect();
        let number = |at: usize| (at % 11) as f32 - 4.0;
        let has = |at: usize| at >= 600 || read[at / 6];
        let gradient: Vec<f32> = (0..layout.len()).map(|at| if has(at) { number(at) } else { 0.0 }).collect();
        let clipping = Clipping { value: Some(3.0), norm: Some(20.0), ..Clipping::default() };
        let all = GradientMeter::new(&layout).measure(&gradient, &clipping).clone();
        let mut meter = GradientMeter::with_table(&layout, Some((0..600, 6)));
        let rows = meter.measure_rows(&gradient, &clipping, &read);
        assert!((all.norm_before - rows.norm_before).abs() < 1e-9 && rows.values_limited);
        assert!((all.factors[0] - rows.factors[0]).abs() < 1e-12);
    }

    #[test]
    fn limits_are_met_one_after_the_other() {
        let mut meter = GradientMeter::new(&layout([2, 1, 1]));
        let gradient = [3.0, 4.0, 12.0, -100.0];
        let norm = |limit| Clipping { norm: Some(limit), ..Clipping::default() };
        let clipped = meter.measure(&gradient, &norm(1.0));
        let before = (9.0f64 + 16.0 + 144.0 + 10_000.0).sqrt();
        assert!((clipped.norm_before - before).abs() < 1e-12 && (clipped.norm_after - 1.0).abs() < 1e-12);
        assert!(clipped.factors.iter().all(|f| (f - 1.0 / before).abs() < 1e-15));
        assert!(!meter.measure(&gradient, &norm(1e6)).any());

        let limits =
            Clipping { value: Some(12.0), norm: None, group_norms: vec![Some(2.5), None, Some(6.0)] };
        let clipped = meter.measure(&gradient, &limits);
        assert_eq!(clipped.factors, [0.5, 1.0, 0.5]);
        // 1.5, 2, 12 and -100 limited to -12 and halved.
        let after = (1.5f64 * 1.5 + 4.0 + 144.0 + 36.0).sqrt();
        assert!((clipped.norm_after - after).abs() < 1e-12);
    }

    #[test]
    fn the_first_tensor_that_is_not_finite_is_found() {
        let mut meter = GradientMeter::new(&layout([2, 1, 1]));
        meter.measure(&[1.0f32, 2.0, 3.0, f32::INFINITY], &Clipping::default());
        assert_eq!(meter.first_not_finite(), Some(2));
        meter.measure(&[1.0f32, f32::NAN, 3.0, 1.0], &Clipping::default());
        assert_eq!(meter.first_not_finite(), Some(0));
        meter.measure(&[1.0f32, 1e30, 3.0, 1.0], &Clipping::default());
        assert_eq!(meter.first_not_finite(), None);
    }

    #[test]
    fn gradients_within_limits_are_not_clipped_by_rounding() {
        let mut layout = Layout::default();
        for (tensor, group) in [0, 1, 2, 1, 0].into_iter().enumerate() {
            let group = layout.group(GROUPS[group]);
            layout.push(format!("part.{tensor}"), &[37 + tensor], group, Initial::Constant(0.0));
        }
        let mut meter = GradientMeter::new(&layout);
        for seed in 0..200u32 {
            let number = |i: usize| {
                ((i as u32).wrapping_mul(2_654_435_761).wrapping_add(seed * 97) >> 8) as f32 / 1e9 - 0.008
            };
            let gradient: Vec<f32> = (0..layout.len()).map(number).collect();
            for clipping in [
                Clipping::default(),
                Clipping { value: Some(1.0), norm: Some(10.0), group_norms: vec![Some(5.0); 3] },
            ] {
                let clipped = meter.measure(&gradient, &clipping);
                assert!(!clipped.any() && clipped.norm_after == clipped.norm_before, "{seed}: {clipped:?}");
            }
            let tight = meter.measure(&gradient, &Clipping { value: Some(1e-6), ..Clipping::default() });
            assert!(tight.any() && tight.norm_after < tight.norm_before);
        }
    }
}
