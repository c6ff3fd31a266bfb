//! Gradients of one lane: in full for most tensors, by rows for tables of which a window touches few rows.

use std::ops::Range;
use std::sync::mpsc::Sender;

use crate::numbers::real::Real;
use crate::numbers::rooms::Rooms;

/// A view of the dense part of a gradient, in the order of the weights from `offset` on.
#[derive(Debug)]
pub struct Gradient<'a, T> {
    /// The numbers.
    pub data: &'a mut [T],
    /// Offset in the layout.
    pub offset: usize,
    /// Who waits for parts of it that will not change any more.
    pub handover: Option<Handover<'a, T>>,
}

/// Where the dense gradients of the lanes of a step go while the lanes are still computed. A backward pass ends with the first layer, whose tensors are the
/// first in the layout: so parts come from the end of the layout to its beginning.
#[derive(Debug, Clone)]
pub struct Handover<'a, T> {
    /// The number of the lane among those of this process.
    pub lane: usize,
    /// Takes the parts.
    pub to: Sender<Finished<'a, T>>,
}

/// A part of the dense gradient of a lane that will not change any more.
#[derive(Debug)]
pub struct Finished<'a, T> {
    /// The number of the lane among those of this process.
    pub lane: usize,
    /// Offset in the layout.
    pub offset: usize,
    /// The numbers.
    pub numbers: &'a mut [T],
}

impl<T> Gradient<'_, T> {
    /// The gradient of one tensor.
    pub fn part(&mut self, range: &Range<usize>) -> &mut [T] {
        &mut self.data[range.start - self.offset..range.end - self.offset]
    }

    /// Hands over everything from a place in the layout on, if somebody waits for it.
    pub fn finish(&mut self, from: usize) {
        if let Some(Handover { lane, to }) = &self.handover {
            let (rest, numbers) = std::mem::take(&mut self.data).split_at_mut(from - self.offset);
            self.data = rest;
            // Who no longer listens needs nothing.
            let _ = to.send(Finished { lane: *lane, offset: from, numbers });
        }
    }

    /// The same gradient, of which nothing is handed over yet: more will be added to it.
    pub fn unfinished(&mut self) -> Gradient<'_, T> {
        Gradient { data: self.data, offset: self.offset, handover: None }
    }
}

/// The gradient of a lane while it is computed.
#[derive(Debug)]
pub struct GradientParts<'a, T> {
    /// The dense part.
    pub dense: Gradient<'a, T>,
    /// The touched rows of each table.
    pub tables: &'a mut [RowGradient<T>],
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

    /// To be computed: the dense part, and the tables.
    pub fn parts(&mut self) -> GradientParts<'_, T> {
        let dense = Gradient { data: &mut self.dense, offset: self.offset, handover: None };
        GradientParts { dense, tables: &mut self.tables }
    }

    /// All of it, rows added up: `count` numbers laid out like the weights.
    pub fn whole(&self, count: usize) -> Vec<T> {
        let mut whole = vec![T::ZERO; count];
        whole[self.offset..self.offset + self.dense.len()].copy_from_slice(&self.dense);
        self.tables.iter().for_each(|rows| rows.add_to(&mut whole));
        whole
    }
}
