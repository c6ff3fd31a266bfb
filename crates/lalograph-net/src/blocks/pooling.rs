//! Pooling over time: one vector for the vectors of all steps of a document.

use crate::numbers::real::Real;
use crate::numbers::rooms::Rooms;
use crate::vectorised;

crate::choice! {
    /// Pooling over the steps of a document.
    pub enum Pooling = Both {
        /// The mean of all steps.
        Mean = "mean",
        /// The maximum of all steps, number by number.
        Max = "max",
        /// Mean and maximum, side by side.
        Both = "both",
        /// The last state of each direction of a recurrent network.
        Last = "last",
    }
}

impl Pooling {
    fn has_mean(self) -> bool {
        matches!(self, Self::Mean | Self::Both)
    }

    fn has_max(self) -> bool {
        matches!(self, Self::Max | Self::Both)
    }
}

/// Pooling of vectors of one width.
#[derive(Debug, Clone, Copy)]
pub struct Pool {
    pooling: Pooling,
    width: usize,
    /// Numbers from here on are of a direction that reads from the end: their last state is at the first step.
    reverse_from: usize,
}

/// Sums and maxima so far, a row a document.
#[derive(Debug, Clone, Default)]
pub struct PoolTape<T> {
    sums: Vec<T>,
    best: Vec<T>,
    /// The step of each maximum.
    at: Vec<u32>,
}

/// Columns that are pooled together.
const COLUMNS: usize = 64;

#[inline(always)]
fn add_up<'x, T: Real>(sums: &mut [T], rows: impl Iterator<Item = &'x [T]>) {
    match <&mut [T; COLUMNS]>::try_from(&mut *sums) {
        Ok(sums) => {
            let mut sum = *sums;
            for x in rows {
                sum.iter_mut().zip(x).for_each(|(sum, &x)| *sum += x);
            }
            *sums = sum;
        }
        Err(_) => rows.for_each(|x| sums.iter_mut().zip(x).for_each(|(sum, &x)| *sum += x)),
    }
}

#[inline(always)]
fn find_best<'x, T: Real>(best: &mut [T], at: &mut [u32], from: usize, rows: impl Iterator<Item = &'x [T]>) {
    let better = |best: &mut [T], at: &mut [u32], step: u32, x: &[T]| {
        for ((best, at), &x) in best.iter_mut().zip(at).zip(x) {
            let above = x > *best;
            *best = if above { x } else { *best };
            *at = if above { step } else { *at };
        }
    };
    match (<&mut [T; COLUMNS]>::try_from(&mut *best), <&mut [u32; COLUMNS]>::try_from(&mut *at)) {
        (Ok(best), Ok(at)) => {
            let (mut greatest, mut place) = (*best, *at);
            for (step, x) in (from as u32..).zip(rows) {
                better(&mut greatest, &mut place, step, x);
            }
            (*best, *at) = (greatest, place);
        }
        _ => (from as u32..).zip(rows).for_each(|(step, x)| better(best, at, step, x)),
    }
}

impl Pool {
    /// Pools vectors of `width` numbers, of which those from `reverse_from` on are of a direction that reads from the end.
    pub fn new(pooling: Pooling, width: usize, reverse_from: usize) -> Self {
        Self { pooling, width, reverse_from }
    }

    /// Width of the pooled vector.
    pub fn outputs(&self) -> usize {
        if self.pooling == Pooling::Both { 2 * self.width } else { self.width }
    }

    /// Memory for `rows` documents.
    pub fn tape<T: Real>(&self, rows: usize, rooms: &mut Rooms) -> PoolTape<T> {
        let numbers = rows * self.width;
        PoolTape {
            sums: rooms.zeros_if(self.pooling.has_mean(), numbers),
            best: rooms.zeros_if(self.pooling != Pooling::Mean, numbers),
            at: rooms.zeros_if(self.pooling.has_max(), numbers),
        }
    }

    /// Takes in steps of document `row`, from step `from` on; `length` is the number of all its steps. The steps of a document come in
    /// order, from step 0, over one call or several.
    pub fn add<'x, T: Real>(
        &self,
        tape: &mut PoolTape<T>,
        row: usize,
        (from, length): (usize, usize),
        steps: impl Iterator<Item = &'x [T]> + Clone,
    ) {
        let numbers = row * self.width..(row + 1) * self.width;
        let reverse = self.reverse_from;
        let PoolTape { sums, best, at } = tape;
        let sums = sums.get_mut(numbers.clone()).unwrap_or_default();
        let at = at.get_mut(numbers.clone()).unwrap_or_default();
        let best = best.get_mut(numbers).unwrap_or_default();
        if self.pooling == Pooling::Last {
            for (step, x) in (from..).zip(steps) {
                if step + 1 == length {
                    best[..reverse].copy_from_slice(&x[..reverse]);
                }
                if step == 0 {
                    best[reverse..].copy_from_slice(&x[reverse..]);
                }
            }
            return;
        }
        if from == 0 {
            sums.fill(T::ZERO);
            // What is not a number is above nothing: then the first step is kept.
            if let Some(first) = steps.clone().next().filter(|_| !best.is_empty()) {
                best.copy_from_slice(first);
                at.fill(0);
            }
        }
        vectorised!({
            // Some columns at a time: their sums and maxima stay in registers while the steps go by.
            let mut column = 0;
            while column < self.width {
                let columns = column..(column + COLUMNS).min(self.width);
                let rows = steps.clone().map(|x| &x[columns.clone()]);
                if let Some(sums) = sums.get_mut(columns.clone()) {
                    add_up(sums, rows.clone());
                }
                if let (Some(best), Some(at)) = (best.get_mut(columns.clone()), at.get_mut(columns.clone())) {
                    find_best(best, at, from, rows);
                }
                column = columns.end;
            }
        });
    }

    /// The gradient by the vectors of a document, given the gradient `d` by its pooled vector: what every step gets goes to `same`, and the rest as
    /// `(step, number, gradient)` to `single`. Not for [`Pooling::Last`].
    pub fn spread<T: Real>(
        &self,
        tape: &PoolTape<T>,
        row: usize,
        length: usize,
        d: &[T],
        same: &mut [T],
        mut single: impl FnMut(usize, usize, T),
    ) {
        let (mean, best) = d.split_at(if self.pooling.has_mean() { self.width } else { 0 });
        let share = T::of(1.0 / length as f64);
        same.fill(T::ZERO);
        same.iter_mut().zip(mean).for_each(|(same, &d)| *same = d * share);
        let at = tape.at.get(row * self.width..(row + 1) * self.width).unwrap_or_default();
        for (index, (&d, &at)) in best.iter().zip(at).enumerate() {
            single(at as usize, index, d);
        }
    }

    /// Whether every step has a gradient.
    pub fn reaches_all(&self) -> bool {
        self.pooling.has_mean()
    }

    /// Writes the pooled vector of document `row` to `out`: the mean, then the maximum.
    pub fn finish<T: Real>(&self, tape: &PoolTape<T>, row: usize, length: usize, out: &mut [T]) {
        let numbers = row * self.width..(row + 1) * self.width;
        let (mean, best) = out.split_at_mut(if self.pooling.has_mean() { self.width } else { 0 });
        let share = T::of(1.0 / length as f64);
        for (out, &sum) in mean.iter_mut().zip(tape.sums.get(numbers.clone()).unwrap_or_default()) {
            *out = sum * share;
        }
        best.copy_from_slice(tape.best.get(numbers).unwrap_or_default());
    }

    /// Whether steps `from..to` of a document of `length` steps can have a gradient.
    pub fn reaches(&self, (from, to): (usize, usize), length: usize) -> bool {
        if self.pooling != Pooling::Last {
            return from < length;
        }
        (from < length && length <= to) || (from == 0 && self.reverse_from < self.width)
    }

    /// Adds the gradient by steps `from..to` of document `row` to `d_x`, given the gradient `d` by its pooled vector. The vector of a step is at
    /// `place(step)` in `d_x`.
    #[expect(clippy::too_many_arguments, reason = "inputs and outputs of one pass")]
    pub fn backward<T: Real>(
        &self,
        tape: &PoolTape<T>,
        row: usize,
        (from, to): (usize, usize),
        length: usize,
        d: &[T],
        place: impl Fn(usize) -> usize,
        d_x: &mut [T],
    ) {
        let to = to.min(length);
        let (mean, best) = d.split_at(if self.pooling.has_mean() { self.width } else { 0 });
        if self.pooling == Pooling::Last {
            let mut add = |step: usize, numbers: std::ops::Range<usize>| {
                if (from..to).contains(&step) {
                    let d_x = &mut d_x[place(step)..][numbers.clone()];
                    d_x.iter_mut().zip(&best[numbers]).for_each(|(d_x, &d)| *d_x += d);
                }
            };
            add(length - 1, 0..self.reverse_from);
            add(0, self.reverse_from..self.width);
            return;
        }
        let share = T::of(1.0 / length as f64);
        if !mean.is_empty() {
            vectorised!({
                for step in from..to {
                    let d_x = &mut d_x[place(step)..][..self.width];
                    for (d_x, &d) in d_x.iter_mut().zip(mean) {
                        *d_x += d * share;
                    }
                }
            });
        }
        let at = tape.at.get(row * self.width..(row + 1) * self.width).unwrap_or_default();
        for (index, (&d, &at)) in best.iter().zip(at).enumerate() {
            if (from..to).contains(&(at as usize)) {
                d_x[place(at as usize) + index] += d;
            }
        }
    }
}
