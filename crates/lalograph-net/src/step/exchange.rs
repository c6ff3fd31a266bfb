//! The exchange: work between the gradients of the lanes and the update.

use std::ops::Range;
use std::sync::mpsc::Sender;

use rayon::prelude::*;

use crate::heads::loss::Loss;
use crate::learning::piece::PIECE;
use crate::numbers::real::Real;
use crate::vectorised;
use crate::weights::gradient::{Finished, LaneGradient, RowGradient};

crate::choice! {
    /// How several processes add up the gradients of their lanes. Rows of tables are always added in order. A process alone adds in order too.
    pub enum GradientSum = Ordered {
        /// In the order of the lanes, so that the number of processes changes no bit.
        Ordered = "ordered",
        /// In the same order, each sum rounded to 16 bits on its way to the next process.
        Half = "half",
        /// In any order, as the message passing library is quickest at.
        Unordered = "unordered",
    }
}

/// Computes the gradients of the lanes here, which hand over what is finished, if somebody waits for it.
pub type Compute<'c, 'g, T> = &'c mut (dyn FnMut(Option<Sender<Finished<'g, T>>>) + Send + 'c);

/// Brings lanes together, wherever they are computed. The lanes of a batch are numbered, and their gradients are added in the order of
/// these numbers: however lanes are spread over threads or processes, the sum is the same to the bit. What has a default is right for one process.
pub trait Exchange<T: Real>: Send + std::fmt::Debug {
    /// Called once before the first gradient, with the part of the weights whose gradient is dense, and how it is added up.
    fn begin(&mut self, _dense: Range<usize>, _sum: GradientSum) {}

    /// Called once before the first gradient if the rows of the table at this place stay in the sum until somebody takes them out: other tables have
    /// those of the last sum taken out by the next.
    fn leave_rows(&mut self, table: Range<usize>);

    /// This process among those of the run.
    fn rank(&self) -> Rank {
        Rank::ALONE
    }

    /// What all processes say, in their order; `here` is what this one says, of any length.
    fn gather(&mut self, here: &[u8]) -> Vec<Vec<u8>> {
        vec![here.to_vec()]
    }

    /// Tells all others a word, as process 0.
    fn lead(&mut self, _word: &[u8]) {}

    /// The next word of process 0, for all others; none once it has ended.
    fn follow(&mut self) -> Option<Vec<u8>> {
        None
    }

    /// Replaces numbers of rows by those of all processes, in their order.
    fn all_rows(&mut self, _rows: &mut Vec<u32>) {}

    /// Sums over all lanes of two counts, given those of the `lanes` lanes here. A step begins with it.
    fn counted(&mut self, here: [u64; 2], _lanes: usize) -> [u64; 2] {
        here
    }

    /// Has the `lanes` lanes here compute their gradients, and may add up meanwhile what they hand over, before [`Exchange::sum`] adds up the rest. `compute` is called once.
    fn overlap<'g>(&mut self, _lanes: usize, compute: Compute<'_, 'g, T>) {
        compute(None);
    }

    /// Adds up the gradients of all lanes in their order. Those here are given in order; the sum is left in the first of them, which is laid
    /// out over all weights. Returns the sum of the losses, added in the same order.
    fn sum(&mut self, gradients: &mut [LaneGradient<T>], losses: &[Loss]) -> Loss;

    /// Whether anybody wants to stop: all then stop after the same step.
    fn agree(&mut self, stop: bool) -> bool {
        stop
    }
}

/// A process among those that compute the lanes of a run together.
///
/// ```
/// use lalograph_net::step::exchange::Rank;
/// let lanes: Vec<_> = (0..3).map(|number| Rank { number, count: 3 }.lanes(8)).collect();
/// assert_eq!(lanes, [0..2, 2..5, 5..8]);
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Rank {
    /// Its number, from 0.
    pub number: usize,
    /// Processes.
    pub count: usize,
}

impl Rank {
    /// A process that computes everything.
    pub const ALONE: Self = Self { number: 0, count: 1 };

    /// Which of `all` lanes are computed here.
    pub fn lanes(self, all: usize) -> Range<usize> {
        self.number * all / self.count..(self.number + 1) * all / self.count
    }
}

/// Parts of a table that are added up side by side.
const PARTS: usize = 16;

/// All lanes in this process.
#[derive(Debug, Clone, Default)]
pub struct OneProcess {
    /// The rows of each table that the last sum touched: they alone are not zero.
    touched: Vec<TouchedRows>,
    /// The table whose rows are left in the sum.
    left: Option<Range<usize>>,
}

/// Touched rows, part by part of the table, in the order of the lanes.
#[derive(Debug, Clone, Default)]
struct TouchedRows {
    rows: Vec<TouchedRow>,
    /// Where each part begins, and where the last one ends.
    starts: [usize; PARTS + 1],
}

/// A row of a table, and where a lane has its gradient.
#[derive(Debug, Clone, Copy, Default)]
struct TouchedRow {
    row: u32,
    lane: u32,
    place: u32,
}

impl TouchedRow {
    /// The row, `width` wide, among those of a part of the table that begins with the row `first`.
    #[inline]
    fn in_part<'r, T>(&self, first: usize, width: usize, rows: &'r mut [T]) -> &'r mut [T] {
        &mut rows[(self.row as usize - first) * width..][..width]
    }
}

impl TouchedRows {
    /// Sorts the rows of all lanes by the part of the table, `size` rows each, that they are in.
    fn gather<'r>(&mut self, size: usize, lanes: impl Iterator<Item = &'r Vec<u32>> + Clone) {
        // Room for as many as there can be, so that no step asks for more.
        let most: usize = lanes.clone().map(Vec::capacity).sum();
        self.rows.reserve(most.saturating_sub(self.rows.len()));
        self.starts.fill(0);
        for &row in lanes.clone().flatten() {
            self.starts[row as usize / size + 1] += 1;
        }
        for part in 0..PARTS {
            self.starts[part + 1] += self.starts[part];
        }
        self.rows.resize(self.starts[PARTS], TouchedRow::default());
        let mut next = self.starts;
        for (lane, rows) in lanes.enumerate() {
            for (&row, place) in rows.iter().zip(0..) {
                let to = &mut next[row as usize / size];
                self.rows[*to] = TouchedRow { row, lane: lane as u32, place };
                *to += 1;
            }
        }
    }

    fn part(&self, number: usize) -> &[TouchedRow] {
        &self.rows[self.starts[number]..self.starts[number + 1]]
    }
}

impl<T: Real> Exchange<T> for OneProcess {
    fn leave_rows(&mut self, table: Range<usize>) {
        self.left = Some(table);
    }

    fn sum(&mut self, gradients: &mut [LaneGradient<T>], losses: &[Loss]) -> Loss {
        if let Some((first, others)) = gradients.split_first_mut() {
            add_dense(first, others);
            let LaneGradient { dense: whole, tables, .. } = first;
            self.add_tables(whole, 1 + others.len(), |lane| match lane {
                0 => tables,
                lane => &others[lane - 1].tables,
            });
        }
        total(losses)
    }
}

/// The losses of all lanes, added in their order.
pub(super) fn total<'l>(losses: impl IntoIterator<Item = &'l Loss>) -> Loss {
    losses.into_iter().fold(Loss::default(), |total, lane| Loss {
        sum: total.sum + lane.sum,
        penalty: total.penalty + lane.penalty,
        right: total.right + lane.right,
    })
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
    /// Adds the rows of all tables, lane after lane, to a gradient that is laid out like the weights.
    pub(super) fn add_tables<'t, T: Real>(
        &mut self,
        whole: &mut [T],
        lanes: usize,
        tables: impl Fn(usize) -> &'t [RowGradient<T>] + Sync,
    ) {
        let first = tables(0);
        self.touched.resize_with(first.len(), TouchedRows::default);
        // What the step before left is taken out of all tables before anything is added: input and output may share one.
        let left = self.left.as_ref();
        for (touched, table) in self.touched.iter().zip(first).filter(|(_, table)| left != Some(&table.table))
        {
            by_parts(whole, table, |number, first, rows| {
                let touched = touched.part(number).iter();
                touched.for_each(|touched| touched.in_part(first, table.width, rows).fill(T::ZERO));
            });
        }
        for (index, (touched, table)) in self.touched.iter_mut().zip(first).enumerate() {
            touched.gather(rows_of_a_part(table), (0..lanes).map(|lane| &tables(lane)[index].rows));
            let width = table.width;
            by_parts(whole, table, |number, first, rows| {
                vectorised!({
                    for touched in touched.part(number) {
                        let values = &tables(touched.lane as usize)[index].values;
                        let from = &values[touched.place as usize * width..][..width];
                        let sum = touched.in_part(first, width, rows);
                        sum.iter_mut().zip(from).for_each(|(sum, &x)| *sum += x);
                    }
                });
            });
        }
    }
}

/// Rows of each part of a table but the last.
fn rows_of_a_part<T>(table: &RowGradient<T>) -> usize {
    (table.table.len() / table.width.max(1)).div_ceil(PARTS).max(1)
}

/// Calls `work` side by side for the parts of a table: with the number of the part, its first row, and its rows.
fn by_parts<T: Real>(whole: &mut [T], table: &RowGradient<T>, work: impl Fn(usize, usize, &mut [T]) + Sync) {
    let (part, width) = (rows_of_a_part(table), table.width.max(1));
    let parts = whole[table.table.clone()].par_chunks_mut(part * width);
    parts.enumerate().for_each(|(number, rows)| work(number, number * part, rows));
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
    fn rows_that_are_left_stay_in_the_sum() {
        let mut exchange = OneProcess::default();
        Exchange::<f32>::leave_rows(&mut exchange, 0..6);
        let mut first = lanes(1, [&[0], &[], &[]]);
        first[0].dense[..6].fill(0.0);
        exchange.sum(&mut first, &[]);
        let mut second = lanes(1, [&[1], &[], &[]]);
        second[0].dense[..6].copy_from_slice(&first[0].dense[..6]);
        exchange.sum(&mut second, &[]);
        assert_eq!(second[0].dense[..2], first[0].tables[0].values);
        assert_eq!(second[0].dense[2..4], second[0].tables[0].values);
    }

    #[test]
    fn two_gradients_of_one_table_are_both_in_the_sum() {
        let mut exchange = OneProcess::default();
        let mut sum = vec![0.0; 7];
        for rows in [[&[0u32][..], &[1]], [&[1], &[0, 2]], [&[1], &[1]]] {
            let [mut first, second] = rows.map(|rows| lanes(1, [rows, &[], &[]]).swap_remove(0));
            first.tables.extend(second.tables);
            first.dense = vec![0.0; 7];
            let expected = first.whole(7);
            first.dense = sum;
            exchange.sum(std::slice::from_mut(&mut first), &[]);
            assert_eq!(first.dense, expected);
            sum = first.dense;
        }
    }

    #[test]
    fn losses_are_added_up() {
        let losses = [Loss { sum: 1.0, penalty: 0.5, right: 2 }, Loss { sum: 2.0, penalty: 0.25, right: 1 }];
        let total = OneProcess::default().sum(&mut lanes(0, [&[], &[], &[]]), &losses);
        assert_eq!(total, Loss { sum: 3.0, penalty: 0.75, right: 3 });
    }
}
