//! Matrices packed into panels, in the order in which tiles read them.

use rayon::prelude::*;

use super::view::Matrix;
use crate::numbers::real::Real;
use crate::numbers::rooms::Rooms;

/// At most so many products are added up between two visits of an output number: a piece of the right factor of this depth stays in the
/// second-level cache, one of the left factor in the first.
const DEPTH: usize = 512;
/// Numbers of the right factor that are worked on together, for the same reason.
pub(super) const RIGHT_NUMBERS: usize = 96 * 1024;
/// Rows of the left factor that are packed together: whole tiles of 4, 6 and 8 rows.
pub(super) const LEFT_ROWS: usize = 96;

/// Products added up between two visits of an output number, where `rows` are to be added up in all: strips of about equal depth, since a thin
/// one at the end visits the output as often as a deep one.
pub(super) fn depth_of(rows: usize) -> usize {
    rows.div_ceil(rows.div_ceil(DEPTH).max(1)).next_multiple_of(4).max(4)
}

/// A matrix packed to be the right factor of many products.
#[derive(Debug, Clone, Default)]
pub struct Packed<T> {
    /// Strips of [`depth_of`] rows; in each, panels of as many columns as a tile has; in each, row after row. The last panel is
    /// filled up with zeros.
    pub(super) data: Vec<T>,
    pub(super) rows: usize,
    pub(super) columns: usize,
}

impl<T: Real> Packed<T> {
    /// Room for a matrix of this size.
    pub fn new(rows: usize, columns: usize) -> Self {
        Self { data: vec![T::ZERO; Self::len_for(rows, columns)], rows, columns }
    }

    /// Numbers that a packed matrix of this size holds, filling included.
    pub fn len_for(rows: usize, columns: usize) -> usize {
        rows * panels::<T>(columns) * T::kernel().columns()
    }

    /// A matrix, packed.
    pub fn of(matrix: Matrix<'_, T>) -> Self {
        let mut packed = Self::new(matrix.rows, matrix.columns);
        packed.pack(matrix);
        packed
    }

    /// Packs another matrix of the same size.
    ///
    /// # Panics
    /// If its size is another.
    pub fn pack(&mut self, matrix: Matrix<'_, T>) {
        self.check(matrix);
        let (strip, most) = (self.strip(), depth_of(matrix.rows));
        for (data, from) in self.data.chunks_mut((strip * most).max(1)).zip((0..matrix.rows).step_by(most)) {
            let depth = most.min(matrix.rows - from);
            pack_panels(matrix.rows(from, from + depth), T::kernel().columns(), data);
        }
    }

    /// The same, on all threads of the current pool.
    ///
    /// # Panics
    /// If its size is another.
    pub fn pack_side_by_side(&mut self, matrix: Matrix<'_, T>) {
        self.check(matrix);
        let (strip, most) = (self.strip(), depth_of(matrix.rows));
        self.data.par_chunks_mut((strip * most).max(1)).enumerate().for_each(|(index, data)| {
            let from = index * most;
            let depth = most.min(matrix.rows - from);
            let rows = matrix.rows(from, from + depth);
            let panel = T::kernel().columns() * depth;
            data.par_chunks_mut(8 * panel).enumerate().for_each(|(index, data)| {
                let first = index * 8 * T::kernel().columns();
                let last = (first + 8 * T::kernel().columns()).min(matrix.columns);
                pack_panels(rows.columns(first, last), T::kernel().columns(), data);
            });
        });
    }

    /// Numbers of one row, filling included.
    fn strip(&self) -> usize {
        panels::<T>(self.columns) * T::kernel().columns()
    }

    fn check(&self, matrix: Matrix<'_, T>) {
        assert_eq!((matrix.rows, matrix.columns), (self.rows, self.columns), "size of a packed matrix");
    }

    /// Numbers that it holds, filling included.
    pub fn len(&self) -> usize {
        self.data.len()
    }

    /// Whether it holds none.
    pub fn is_empty(&self) -> bool {
        self.data.is_empty()
    }
}

/// Panels that cover so many columns.
pub(super) fn panels<T: Real>(columns: usize) -> usize {
    columns.div_ceil(T::kernel().columns())
}

/// Room to pack factors in; made once, used by every product of a lane.
#[derive(Debug, Clone, Default)]
pub struct Workspace<T> {
    pub(super) left: Vec<T>,
    pub(super) right: Vec<T>,
}

impl<T: Real> Workspace<T> {
    /// Room for every product.
    pub fn new() -> Self {
        Self::within(&mut Rooms::making())
    }

    /// The same, as one of the rooms of a lane.
    pub fn within(rooms: &mut Rooms) -> Self {
        let kernel = T::kernel();
        Self {
            left: rooms.zeros(DEPTH * LEFT_ROWS.next_multiple_of(kernel.rows())),
            right: rooms.zeros(RIGHT_NUMBERS.max(DEPTH * kernel.columns())),
        }
    }
}

/// Packs a matrix into panels of `width` columns, row after row, the last one filled up with zeros.
pub(super) fn pack_panels<T: Real>(matrix: Matrix<'_, T>, width: usize, out: &mut [T]) {
    let depth = matrix.rows;
    if depth == 0 {
        return;
    }
    for (panel, first) in out.chunks_exact_mut(width * depth).zip((0..matrix.columns).step_by(width)) {
        let count = width.min(matrix.columns - first);
        let part = matrix.columns(first, first + count);
        if count < width {
            panel.fill(T::ZERO);
        }
        if matrix.column_stride == 1 && count == width {
            match width {
                // The widths of the usual tiles: copies of a known size need no call.
                64 => copy_rows::<64, T>(part, panel),
                48 => copy_rows::<48, T>(part, panel),
                32 => copy_rows::<32, T>(part, panel),
                16 => copy_rows::<16, T>(part, panel),
                8 => copy_rows::<8, T>(part, panel),
                6 => copy_rows::<6, T>(part, panel),
                4 => copy_rows::<4, T>(part, panel),
                _ => copy_any_rows(part, width, panel),
            }
        } else if matrix.column_stride == 1 {
            copy_any_rows(part, width, panel);
        } else if matrix.row_stride == 1 {
            transpose_into(part, width, panel);
        } else {
            for (row, to) in panel.chunks_exact_mut(width).enumerate() {
                for (column, x) in to[..count].iter_mut().enumerate() {
                    *x = part.data[row * part.row_stride + column * part.column_stride];
                }
            }
        }
    }
}

fn copy_rows<const WIDTH: usize, T: Real>(part: Matrix<'_, T>, panel: &mut [T]) {
    let (to, _) = panel.as_chunks_mut::<WIDTH>();
    for (row, to) in to.iter_mut().enumerate() {
        if let Some(from) = part.data[row * part.row_stride..].first_chunk::<WIDTH>() {
            *to = *from;
        }
    }
}

fn copy_any_rows<T: Real>(part: Matrix<'_, T>, width: usize, panel: &mut [T]) {
    for (row, to) in panel.chunks_exact_mut(width).enumerate() {
        to[..part.columns].copy_from_slice(&part.data[row * part.row_stride..][..part.columns]);
    }
}

/// Packs a panel whose columns lie in order: blocks of 16 x 16, so that every line of memory is read once.
fn transpose_into<T: Real>(part: Matrix<'_, T>, width: usize, panel: &mut [T]) {
    const BLOCK: usize = 16;
    let depth = part.rows;
    for first in (0..depth).step_by(BLOCK) {
        let rows = BLOCK.min(depth - first);
        for left in (0..part.columns).step_by(BLOCK) {
            let columns = BLOCK.min(part.columns - left);
            if rows == BLOCK && columns == BLOCK {
                let mut block = [[T::ZERO; BLOCK]; BLOCK];
                for (column, to) in block.iter_mut().enumerate() {
                    to.copy_from_slice(&part.data[(left + column) * part.column_stride + first..][..BLOCK]);
                }
                for row in 0..BLOCK {
                    let to = &mut panel[(first + row) * width + left..][..BLOCK];
                    for (x, from) in to.iter_mut().zip(&block) {
                        *x = from[row];
                    }
                }
                continue;
            }
            for column in left..left + columns {
                let from = &part.data[column * part.column_stride + first..][..rows];
                for (row, &x) in from.iter().enumerate() {
                    panel[(first + row) * width + column] = x;
                }
            }
        }
    }
}
