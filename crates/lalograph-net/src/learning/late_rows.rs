//! Rows of a table that are moved late: when they are read again, by all the steps that they have missed.
//!
//! A step gives most rows of a table of token vectors no gradient, and Adam moves them all the same, since its means live on. To move all rows
//! in every step is to read and write the whole table. A late row makes its steps one after another before it is read: first the one that it has a
//! gradient for, which waits in the sum of the lanes, then those without. The arithmetic is that of moving all rows, so the weights are the same to
//! the bit, but a row is fetched once for all its steps and stays in the cache meanwhile.

use std::ops::Range;

use rayon::prelude::*;

use super::rule::{Prepared, Update};
use crate::numbers::prefetch::prefetch;
use crate::numbers::real::Real;
use crate::vectorised;

/// Rows that are worked on as one piece.
const BLOCK: usize = 256;
/// Steps that are remembered, after which all rows catch up.
const REMEMBERED: usize = 4096;

/// A step that a row can miss.
pub(super) type Passed<T> = (Prepared<T>, Update<T>);

/// The rows of one table.
#[derive(Debug, Clone)]
pub struct LateRows<T> {
    table: Range<usize>,
    width: usize,
    rows: Vec<LateRow>,
    /// Whether each row is read in the step under way.
    read: Vec<bool>,
    /// Steps that all rows have made, and the ones since.
    behind: u64,
    passed: Vec<Passed<T>>,
    /// Whether all of them leave weights alone that have no gradient, but for what the rule remembers.
    still: bool,
    none: Vec<T>,
}

/// Where a row is.
#[derive(Debug, Clone, Copy, Default)]
struct LateRow {
    /// Steps that it has made.
    made: u64,
    /// Whether it was read for the step after them, whose gradient waits for it.
    waits: bool,
}

/// The numbers of a table that the optimiser moves: weights, the gradients that wait for them, and what the optimiser remembers of each.
pub(super) struct Moved<'a, T> {
    pub(super) weights: &'a mut [T],
    pub(super) gradient: &'a mut [T],
    pub(super) first: &'a mut [T],
    pub(super) second: &'a mut [T],
}

/// One row of each array.
struct MovedRow<'a, T> {
    weights: &'a mut [T],
    gradient: &'a mut [T],
    first: &'a mut [T],
    second: &'a mut [T],
}

impl<T: Real> LateRows<T> {
    /// All rows of the table at `table`, each of `width` numbers.
    pub(super) fn new(table: Range<usize>, width: usize) -> Self {
        let rows = table.len() / width;
        Self {
            rows: vec![LateRow::default(); rows],
            read: vec![false; rows],
            behind: 0,
            passed: Vec::with_capacity(REMEMBERED),
            still: true,
            none: vec![T::ZERO; width],
            table,
            width,
        }
    }

    /// Place of the table.
    pub fn table(&self) -> &Range<usize> {
        &self.table
    }

    /// Numbers of a row.
    pub fn width(&self) -> usize {
        self.width
    }

    /// Whether each row is read in the step under way: only those can have a gradient of that step.
    pub fn read(&self) -> &[bool] {
        &self.read
    }

    /// Whether all rows have made all steps.
    pub(super) fn is_settled(&self) -> bool {
        self.passed.is_empty()
    }

    /// Continues with all rows at the same step, and no gradient that waits.
    pub(super) fn settle_at(&mut self, step: u64) {
        self.rows.fill(LateRow { made: step, waits: false });
        self.forget(step);
    }

    fn forget(&mut self, step: u64) {
        self.behind = step;
        self.passed.clear();
        self.still = true;
    }

    /// Brings the rows that are about to be read up to date, and makes room for their gradients.
    pub(super) fn catch_up(&mut self, moved: Moved<'_, T>, rows: impl Iterator<Item = u32>) {
        self.read.fill(false);
        rows.for_each(|row| self.read[row as usize] = true);
        self.each(moved, true);
    }

    /// Brings all rows up to date.
    pub(super) fn settle(&mut self, moved: Moved<'_, T>) {
        if !self.is_settled() {
            self.each(moved, false);
            self.forget(self.behind + self.passed.len() as u64);
        }
    }

    /// Makes a step, which all rows will make when they catch up.
    pub(super) fn step(&mut self, passed: Passed<T>) {
        self.still &= passed.1.is_still();
        self.passed.push(passed);
    }

    /// Whether no more steps can be remembered: all rows must catch up.
    pub(super) fn is_full(&self) -> bool {
        self.passed.len() == REMEMBERED
    }

    /// Moves rows by the steps they missed: those that are about to be read, or all.
    fn each(&mut self, moved: Moved<'_, T>, reading: bool) {
        let Self { table, width, rows, read, behind, passed, still, none } = self;
        let (size, width) = (BLOCK * *width, *width);
        let (behind, now) = (*behind, *behind + passed.len() as u64);
        let (passed, still, none) = (&passed[..], *still, &none[..]);
        let catch_up = |row: &mut LateRow, moved: MovedRow<'_, T>| {
            let MovedRow { weights, gradient, first, second } = moved;
            let waited = row.waits;
            let mut missed = &passed[(row.made - behind) as usize..];
            if row.waits
                && let Some(((rule, update), rest)) = missed.split_first()
            {
                vectorised!(rule.apply(*update, weights, gradient, first, second));
                missed = rest;
                row.waits = false;
            }
            let rests = missed.is_empty() || still && is_zero(first) && is_zero(second);
            if !rests {
                vectorised!(Prepared::apply_idle(missed, still, none, weights, first, second));
            }
            row.made = now;
            // A gradient whose step is not made yet is still needed, unless another comes in its place.
            if waited && (reading || !row.waits) {
                gradient.fill(T::ZERO);
            }
            row.waits |= reading;
        };
        let block = |rows: &mut [LateRow], read: &[bool], moved: MovedRow<'_, T>| {
            let MovedRow { weights, gradient, first, second } = moved;
            let numbers = |row: usize| row * width..(row + 1) * width;
            let mut chosen = (0..read.len()).filter(|&row| !reading || read[row]).peekable();
            while let Some(row) = chosen.next() {
                if let Some(&next) = chosen.peek() {
                    let next = numbers(next);
                    for array in [&*weights, &*gradient, &*first, &*second] {
                        prefetch(array.get(next.clone()).unwrap_or_default());
                    }
                }
                let at = numbers(row);
                let moved = MovedRow {
                    weights: &mut weights[at.clone()],
                    gradient: &mut gradient[at.clone()],
                    first: first.get_mut(at.clone()).unwrap_or_default(),
                    second: second.get_mut(at).unwrap_or_default(),
                };
                catch_up(&mut rows[row], moved);
            }
        };
        let Moved { weights, gradient, first, second } = moved;
        let blocks = rows.par_chunks_mut(BLOCK).zip(read.par_chunks(BLOCK));
        let blocks = blocks.zip(
            weights[table.clone()].par_chunks_mut(size).zip(gradient[table.clone()].par_chunks_mut(size)),
        );
        match (first.is_empty(), second.is_empty()) {
            (true, _) => blocks.for_each(|((rows, read), (weights, gradient))| {
                block(rows, read, MovedRow { weights, gradient, first: &mut [], second: &mut [] });
            }),
            (false, true) => blocks.zip(first[table.clone()].par_chunks_mut(size)).for_each(
                |(((rows, read), (weights, gradient)), first)| {
                    block(rows, read, MovedRow { weights, gradient, first, second: &mut [] });
                },
            ),
            (false, false) => {
                let (first, second) = (&mut first[table.clone()], &mut second[table.clone()]);
                let memory = first.par_chunks_mut(size).zip(second.par_chunks_mut(size));
                blocks.zip(memory).for_each(|(((rows, read), (weights, gradient)), (first, second))| {
                    block(rows, read, MovedRow { weights, gradient, first, second });
                });
            }
        }
    }
}

/// Whether there is nothing to remember of a row.
fn is_zero<T: Real>(numbers: &[T]) -> bool {
    numbers.iter().all(|&x| x == T::ZERO)
}

#[cfg(test)]
mod tests {
    use crate::learning::clipping::Clipped;
    use crate::learning::optimiser::{Optimiser, OptimiserSettings, Rule};
    use crate::weights::layout::{Initial, Layout};

    const ROWS: usize = 150;
    /// Two strips of numbers and a rest.
    const WIDTH: usize = 69;

    fn layout() -> Layout {
        let mut layout = Layout::default();
        let [table, output] = ["embedding", "output"].map(|name| layout.group(name));
        layout.push("table", &[ROWS, WIDTH], table, Initial::Constant(0.0));
        layout.push("rest", &[37, 3], output, Initial::Constant(0.0));
        layout
    }

    /// The rows that a step reads: each step a few, some of them always, the last hundred never.
    fn read(step: usize) -> Vec<u32> {
        (0..6).map(|i| if i < 2 { i as u32 } else { ((step * 31 + i * 7) % 50) as u32 }).collect()
    }

    /// A gradient of those rows and of the rest.
    fn gradient(step: usize) -> Vec<f32> {
        let rows = read(step);
        let number = |at: usize| ((at * 7919 + step * 104_729) % 211) as f32 / 70.0 - 1.5;
        let has = |at: usize| at >= ROWS * WIDTH || rows.contains(&((at / WIDTH) as u32));
        (0..layout().len()).map(|at| if has(at) { number(at) } else { 0.0 }).collect()
    }

    /// Adds a gradient to what is held, as the sum of the lanes does: rows that are read, and the rest in place of what was there.
    fn hold(held: &mut [f32], gradient: &[f32], rows: &[u32]) {
        for (at, (held, &x)) in held.iter_mut().zip(gradient).enumerate() {
            if at >= ROWS * WIDTH {
                *held = x;
            } else if rows.contains(&((at / WIDTH) as u32)) {
                *held += x;
            }
        }
    }

    #[test]
    fn late_rows_are_those_of_moving_all_rows_in_every_step_to_the_bit() {
        let layout = layout();
        for rule in [Rule::Sgd, Rule::Momentum, Rule::Nesterov, Rule::Rmsprop, Rule::Adam, Rule::Adamw] {
            for weight_decay in [0.0, 0.01] {
                let settings = OptimiserSettings {
                    weight_decay,
                    group_rates: vec![0.5, 1.0],
                    ..OptimiserSettings::new(rule)
                };
                let mut all = Optimiser::new(settings.clone(), &layout);
                let mut late = Optimiser::new(settings, &layout).with_late_rows(0..ROWS * WIDTH, WIDTH);
                let start: Vec<f32> = (0..layout.len()).map(|at| (at % 13) as f32 / 13.0 - 0.5).collect();
                let (mut weights, mut weights_late) = (start.clone(), start);
                let mut held = vec![0.0; layout.len()];
                for step in 0..200 {
                    let (gradient, rate) = (gradient(step), 0.01 + 0.001 * (step % 9) as f64);
                    let clipped = Clipped { value: Some(1.2), factors: vec![0.9, 0.7], ..Clipped::default() };
                    late.catch_up(&mut weights_late, &mut held, read(step).into_iter());
                    for row in read(step) {
                        let at = row as usize * WIDTH..(row as usize + 1) * WIDTH;
                        assert_eq!(weights[at.clone()], weights_late[at.clone()], "{rule:?} {step}");
                        assert!(held[at].iter().all(|&x| x == 0.0), "{rule:?} {step}");
                    }
                    hold(&mut held, &gradient, &read(step));
                    if step % 10 == 3 {
                        // A gradient that is not used: nothing of it is left, and those that wait are kept.
                        late.settle(&mut weights_late, &mut held);
                        hold(&mut held, &vec![7.0; layout.len()], &read(step));
                        late.catch_up(&mut weights_late, &mut held, read(step).into_iter());
                        hold(&mut held, &gradient, &read(step));
                    }
                    all.step(&mut weights, &gradient, rate, &clipped);
                    late.step(&mut weights_late, &held, rate, &clipped);
                    assert!(!late.is_settled());
                    // At moments of any kind, as validations and checkpoints are.
                    if step % 37 == 0 {
                        late.settle(&mut weights_late, &mut held);
                        assert_eq!(weights, weights_late, "{rule:?} {step}");
                        let memory = all.memory().map(|(_, numbers)| numbers.to_vec());
                        assert_eq!(late.memory().map(|(_, numbers)| numbers.to_vec()), memory);
                    }
                    if step == 111 {
                        // Continued from its memory, as from a checkpoint.
                        let (steps, memory) =
                            (all.steps(), all.memory().map(|(_, numbers)| numbers.to_vec()));
                        late.remember(steps, [&memory[0], &memory[1], &memory[2]]);
                        weights_late.clone_from(&weights);
                    }
                }
                late.settle(&mut weights_late, &mut held);
                assert!(late.is_settled() && held[..ROWS * WIDTH].iter().all(|&x| x == 0.0));
                assert_eq!(weights, weights_late, "{rule:?}");
            }
        }
    }

    #[test]
    fn more_steps_than_are_remembered_are_no_loss() {
        let layout = layout();
        let mut all = Optimiser::new(OptimiserSettings::new(Rule::Adam), &layout);
        let mut late = all.clone().with_late_rows(0..ROWS * WIDTH, WIDTH);
        let (mut weights, mut weights_late) = (vec![0.1f32; layout.len()], vec![0.1f32; layout.len()]);
        let mut held = vec![0.0; layout.len()];
        // Row 7 has a gradient in the first step alone.
        for step in 0..super::REMEMBERED + 50 {
            let row = if step == 0 { 7 } else { 8 };
            let mut gradient = vec![0.0; layout.len()];
            gradient[row * WIDTH..(row + 1) * WIDTH].fill(0.5);
            all.step(&mut weights, &gradient, 1e-3, &Clipped::default());
            late.catch_up(&mut weights_late, &mut held, std::iter::once(row as u32));
            hold(&mut held, &gradient, &[row as u32]);
            late.step(&mut weights_late, &held, 1e-3, &Clipped::default());
        }
        late.settle(&mut weights_late, &mut held);
        assert_eq!(weights, weights_late);
    }

    #[test]
    fn nothing_is_late_where_a_mean_of_the_weights_is_kept() {
        let settings = OptimiserSettings { average_after: Some(2), ..OptimiserSettings::new(Rule::Sgd) };
        let optimiser = Optimiser::<f32>::new(settings, &layout()).with_late_rows(0..ROWS * WIDTH, WIDTH);
        assert!(optimiser.late_rows().is_none() && optimiser.is_settled());
    }
}
