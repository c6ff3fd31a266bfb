//! The exchange: work between the gradients of the lanes and the update.

use std::ops::Range;

use rayon::prelude::*;

use crate::heads::loss::Loss;
use crate::learning::piece::PIECE;
use crate::numbers::real::Real;
use crate::vectorised;
use crate::weights::gradient::LaneGradient;

/// Brings lanes together, wherever they are computed. The lanes of a batch are numbered, and their gradients are added in the order of
/// these numbers: however lanes are spread over threads or processes, the sum is the same to the bit.
pub trait Exchange<T: Real>: Send {
    /// Which of `all` lanes are computed here.
    fn lanes(&self, all: usize) -> Range<usize>;

    /// Targets scored in the whole batch, given those of the lanes here.
    fn scored(&mut self, here: u64) -> u64;

    /// Adds up the gradients of all lanes in their order. Those here are given in order; the sum is left in the first of them, which is laid
    /// out over all weights. Returns the sum of the losses, added in the same order.
    fn sum(&mut self, gradients: &mut [LaneGradient<T>], losses: &[Loss]) -> Loss;

    /// Whether anybody wants to stop: all then stop after the same step.
    fn agree(&mut self, stop: bool) -> bool;
}

/// All lanes in this process.
#[derive(Debug, Clone, Default)]
pub struct OneProcess {
    /// The rows of each table that the last sum touched: they alone are not zero.
    touched: Vec<Vec<u32>>,
}

impl<T: Real> Exchange<T> for OneProcess {
    fn lanes(&self, all: usize) -> Range<usize> {
        0..all
    }

    fn scored(&mut self, here: u64) -> u64 {
        here
    }

    fn sum(&mut self, gradients: &mut [LaneGradient<T>], losses: &[Loss]) -> Loss {
        if let Some((first, others)) = gradients.split_first_mut() {
            add_dense(first, others);
            self.add_tables(first, others);
        }
        losses.iter().fold(Loss::default(), |total, lane| Loss {
            sum: total.sum + lane.sum,
            penalty: total.penalty + lane.penalty,
            right: total.right + lane.right,
        })
    }

    fn agree(&mut self, stop: bool) -> bool {
        stop
    }
}

/// Adds the dense parts, lane after lane.
fn add_dense<T: Real>(first: &mut LaneGradient<T>, others: &[LaneGradient<T>]) {
    for other in others {
        let sum = &mut first.dense[other.offset..other.offset + other.dense.len()];
        sum.par_chunks_mut(PIECE).zip(other.dense.par_chunks(PIECE)).for_each(|(sum, other)| {
            vectorised!(sum.iter_mut().zip(other).for_each(|(x, &y)| *x += y));
        });
    }
}

impl OneProcess {
    /// Adds the tables' rows, lane after lane.
    fn add_tables<T: Real>(&mut self, first: &mut LaneGradient<T>, others: &[LaneGradient<T>]) {
        let LaneGradient { dense: whole, tables, .. } = first;
        if self.touched.is_empty() {
            let most = |table: usize| {
                let here = tables[table].rows.capacity();
                here + others.iter().map(|lane| lane.tables[table].rows.capacity()).sum::<usize>()
            };
            self.touched = (0..tables.len()).map(|table| Vec::with_capacity(most(table))).collect();
        }
        for (touched, rows) in self.touched.iter_mut().zip(tables.iter()) {
            let table = &mut whole[rows.table.clone()];
            for row in touched.drain(..) {
                table[row as usize * rows.width..(row as usize + 1) * rows.width].fill(T::ZERO);
            }
        }
        for (index, touched) in self.touched.iter_mut().enumerate() {
            let lanes = tables.get(index).into_iter();
            for rows in lanes.chain(others.iter().filter_map(|lane| lane.tables.get(index))) {
                rows.add_to(whole);
                touched.extend_from_slice(&rows.rows);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::{Exchange, OneProcess};
    use crate::heads::loss::Loss;
    use crate::weights::gradient::{LaneGradient, RowGradient};

    /// Lanes of one table of 3 rows of 2 numbers, and `size` numbers laid out in full after it.
    fn lanes(size: usize, rows: [&[u32]; 3]) -> Vec<LaneGradient<f32>> {
        let lane = |(number, rows): (usize, &[u32])| {
            let x = |i: usize| ((i * 7919 + number * 104_729) % 211) as f32 / 7.0 - 15.0;
            let offset = if number == 0 { 0 } else { 6 };
            let values = rows.iter().flat_map(|&row| [x(row as usize), x(row as usize + 9)]).collect();
            let table = RowGradient { table: 0..6, width: 2, rows: rows.to_vec(), values };
            LaneGradient { dense: (offset..6 + size).map(x).collect(), offset, tables: vec![table] }
        };
        rows.into_iter().enumerate().map(lane).collect()
    }

    #[test]
    fn lanes_are_added_in_order_at_every_size_around_a_piece() {
        for size in [0usize, 1, 7, 16_383, 16_384, 16_385, 40_000] {
            let all = lanes(size, [&[], &[], &[]]);
            let mut summed = all.clone();
            OneProcess::default().sum(&mut summed, &[]);
            for index in 0..size {
                let [a, b, c] = [&all[0].dense[6..], &all[1].dense, &all[2].dense].map(|lane| lane[index]);
                assert_eq!(summed[0].dense[6 + index], (a + b) + c, "{size}: {index}");
            }
        }
    }

    #[test]
    fn rows_are_added_in_order_and_those_of_the_step_before_are_gone() {
        let mut exchange = OneProcess::default();
        let mut first = lanes(1, [&[0, 2], &[2], &[2, 0]]);
        first[0].dense[..6].fill(0.0);
        let expected = |lane: usize, row: usize| first[lane].tables[0].values[2 * row];
        let (top, bottom) =
            (expected(0, 0) + expected(2, 1), (expected(0, 1) + expected(1, 0)) + expected(2, 0));
        exchange.sum(&mut first, &[]);
        assert_eq!([first[0].dense[0], first[0].dense[2], first[0].dense[4]], [top, 0.0, bottom]);
        let mut second = lanes(1, [&[1], &[], &[]]);
        second[0].dense[..6].copy_from_slice(&first[0].dense[..6]);
        exchange.sum(&mut second, &[]);
        assert_eq!([second[0].dense[0], second[0].dense[4]], [0.0, 0.0]);
        assert_eq!(second[0].dense[2..4], second[0].tables[0].values);
    }

    #[test]
    fn losses_are_added_up() {
        let losses = [Loss { sum: 1.0, penalty: 0.5, right: 2 }, Loss { sum: 2.0, penalty: 0.25, right: 1 }];
        let total = OneProcess::default().sum(&mut lanes(0, [&[], &[], &[]]), &losses);
        assert_eq!(total, Loss { sum: 3.0, penalty: 0.75, right: 3 });
    }
}
