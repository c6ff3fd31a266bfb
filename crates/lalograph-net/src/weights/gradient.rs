//! Gradients of one lane: in full for most tensors, by rows for tables of which a window touches few rows.

use std::ops::Range;

use crate::numbers::real::Real;
use crate::numbers::rooms::Rooms;

/// A view of the dense part of a gradient, in the order of the weights from `offset` on.
#[derive(Debug)]
pub struct Gradient<'a, T> {
    /// The numbers.
    pub data: &'a mut [T],
    /// Offset in the layout.
    pub offset: usize,
}

impl<T> Gradient<'_, T> {
    /// The gradient of one tensor.
    pub fn part(&mut self, range: &Range<usize>) -> &mut [T] {
        &mut self.data[range.start - self.offset..range.end - self.offset]
    }
}

/// A gradient for some rows of a table, each of which may come more than once: for tables so large that most rows
/// have none.
#[derive(Debug, Clone, Default)]
pub struct RowGradient<T> {
    /// Place of the table.
    pub table: Range<usize>,
    /// Numbers of a row.
    pub width: usize,
    /// The rows.
    pub rows: Vec<u32>,
    /// Their gradients, row after row.
    pub values: Vec<T>,
}

/// The gradient that a lane contributes to a step.
#[derive(Debug, Clone, Default)]
pub struct LaneGradient<T> {
    /// The dense part, in the order of the weights from `offset` on.
    pub dense: Vec<T>,
    /// Offset in the layout.
    pub offset: usize,
    /// The sparse part: the touched rows of each table.
    pub tables: Vec<RowGradient<T>>,
}

impl<T: Real> RowGradient<T> {
    /// Room for so many rows of the table at `table`, each `width` numbers.
    pub fn within(rooms: &mut Rooms, table: Range<usize>, width: usize, rows: usize) -> Self {
        Self { table, width, rows: rooms.list(rows), values: rooms.list(rows * width) }
    }

    /// Adds the rows to a gradient that is laid out like all weights.
    fn add_to(&self, whole: &mut [T]) {
        let table = &mut whole[self.table.clone()];
        for (&row, from) in self.rows.iter().zip(self.values.chunks_exact(self.width.max(1))) {
            let to = &mut table[row as usize * self.width..(row as usize + 1) * self.width];
            to.iter_mut().zip(from).for_each(|(sum, &x)| *sum += x);
        }
    }
}

impl<T: Real> LaneGradient<T> {
    /// Room for the tensors in `dense` in full, and for the tables.
    pub fn within(rooms: &mut Rooms, dense: Range<usize>, tables: Vec<RowGradient<T>>) -> Self {
        Self { dense: rooms.zeros(dense.len()), offset: dense.start, tables }
    }

    /// The dense part, and the tables.
    pub fn parts(&mut self) -> (Gradient<'_, T>, &mut [RowGradient<T>]) {
        (Gradient { data: &mut self.dense, offset: self.offset }, &mut self.tables)
    }

    /// All of it, rows added up: `count` numbers laid out like the weights.
    pub fn whole(&self, count: usize) -> Vec<T> {
        let mut whole = vec![T::ZERO; count];
        whole[self.offset..self.offset + self.dense.len()].copy_from_slice(&self.dense);
        self.tables.iter().for_each(|rows| rows.add_to(&mut whole));
        whole
    }
}
