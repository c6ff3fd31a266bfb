//! Products of row-major matrices, on the calling thread alone, without allocation.
//!
//! The right factor is read in *panels*: strips of as many columns as a tile has, packed so that a tile reads memory in order
//! (Goto and van de Geijn, 2008). Weights are packed once for a whole window, see [`Packed`]; a factor that is used once is
//! packed piece by piece into a [`Workspace`].

use rayon::prelude::*;

use crate::kernel::{Kernel, Tile};
use crate::real::Real;
use crate::vectorised;

/// Products added up between two visits of an output number: a piece of the right factor of this depth stays in the
/// second-level cache, one of the left factor in the first.
const DEPTH: usize = 384;
/// Numbers of the right factor that are worked on together, for the same reason.
const RIGHT_NUMBERS: usize = 96 * 1024;
/// Rows of the left factor that are packed together: whole tiles of 4, 6 and 8 rows.
const LEFT_ROWS: usize = 96;

/// A view of a row-major matrix, or of its transpose, or of some columns of either.
#[derive(Debug, Clone, Copy)]
pub struct Matrix<'a, T> {
    data: &'a [T],
    rows: usize,
    columns: usize,
    row_stride: usize,
    column_stride: usize,
}

impl<'a, T> Matrix<'a, T> {
    /// `rows` x `columns` numbers, row after row.
    ///
    /// # Panics
    /// If `data` is not exactly that long.
    pub fn new(data: &'a [T], rows: usize, columns: usize) -> Self {
        assert_eq!(data.len(), rows * columns, "a matrix of {rows} x {columns}");
        Self { data, rows, columns, row_stride: columns, column_stride: 1 }
    }

    /// The same numbers with rows and columns exchanged; nothing is moved.
    pub fn transposed(self) -> Self {
        Self {
            rows: self.columns,
            columns: self.rows,
            row_stride: self.column_stride,
            column_stride: self.row_stride,
            ..self
        }
    }

    /// Columns `from..to` alone.
    ///
    /// # Panics
    /// If there are no such columns.
    pub fn columns(self, from: usize, to: usize) -> Self {
        assert!(from <= to && to <= self.columns, "columns of a matrix");
        let start = (from * self.column_stride).min(self.data.len());
        Self { data: &self.data[start..], columns: to - from, ..self }
    }

    /// Rows `from..to` alone.
    ///
    /// # Panics
    /// If there are no such rows.
    pub fn rows(self, from: usize, to: usize) -> Self {
        self.transposed().columns(from, to).transposed()
    }
}

/// What happens to the numbers that stand in the output.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Into {
    /// They are replaced by the product.
    Replace,
    /// The product is added to them.
    Add,
}

/// Rows of numbers that a product is written to: some columns of a row-major matrix, or all.
#[derive(Debug)]
pub struct Output<'a, T> {
    data: &'a mut [T],
    rows: usize,
    columns: usize,
    stride: usize,
}

impl<'a, T> Output<'a, T> {
    /// All of `rows` x `columns` numbers.
    ///
    /// # Panics
    /// If `data` is not exactly that long.
    pub fn new(data: &'a mut [T], rows: usize, columns: usize) -> Self {
        assert_eq!(data.len(), rows * columns, "an output of {rows} x {columns}");
        Self { data, rows, columns, stride: columns }
    }

    /// Columns `from..to` alone.
    ///
    /// # Panics
    /// If there are no such columns.
    pub fn columns(self, from: usize, to: usize) -> Self {
        assert!(from <= to && to <= self.columns, "columns of an output");
        let start = from.min(self.data.len());
        Self { data: &mut self.data[start..], columns: to - from, ..self }
    }
}

/// A matrix packed to be the right factor of many products.
#[derive(Debug, Clone, Default)]
pub struct Packed<T> {
    /// Strips of [`DEPTH`] rows; in each, panels of as many columns as a tile has; in each, row after row. The last panel is
    /// filled up with zeros.
    data: Vec<T>,
    rows: usize,
    columns: usize,
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
        let strip = self.strip();
        for (data, from) in self.data.chunks_mut((strip * DEPTH).max(1)).zip((0..matrix.rows).step_by(DEPTH))
        {
            let depth = DEPTH.min(matrix.rows - from);
            pack_panels(matrix.rows(from, from + depth), T::kernel().columns(), data);
        }
    }

    /// The same, on all threads of the pool that it is called in.
    ///
    /// # Panics
    /// If its size is another.
    pub fn pack_side_by_side(&mut self, matrix: Matrix<'_, T>) {
        self.check(matrix);
        let strip = self.strip();
        self.data.par_chunks_mut(strip * DEPTH).enumerate().for_each(|(index, data)| {
            let from = index * DEPTH;
            let depth = DEPTH.min(matrix.rows - from);
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
fn panels<T: Real>(columns: usize) -> usize {
    columns.div_ceil(T::kernel().columns())
}

/// Room to pack factors in; made once, used by every product of a lane.
#[derive(Debug, Clone, Default)]
pub struct Workspace<T> {
    left: Vec<T>,
    right: Vec<T>,
}

impl<T: Real> Workspace<T> {
    /// Room for every product.
    pub fn new() -> Self {
        let kernel = T::kernel();
        let right = RIGHT_NUMBERS.max(DEPTH * kernel.columns());
        Self {
            left: vec![T::ZERO; DEPTH * LEFT_ROWS.next_multiple_of(kernel.rows())],
            right: vec![T::ZERO; right],
        }
    }

    /// Numbers that it holds.
    pub fn len(&self) -> usize {
        self.left.len() + self.right.len()
    }

    /// Whether it holds none: it was not made to be used.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
}

/// `out` becomes `a * b`, or `out + a * b`; `b` was packed before.
///
/// # Panics
/// If the shapes do not fit.
pub fn multiply_packed<T: Real>(
    a: Matrix<'_, T>,
    b: &Packed<T>,
    out: &mut Output<'_, T>,
    into: Into,
    work: &mut Workspace<T>,
) {
    assert_eq!((a.columns, out.rows, out.columns), (b.rows, a.rows, b.columns), "sizes of a product");
    let kernel = T::kernel();
    let width = kernel.columns();
    let panels = panels::<T>(b.columns);
    if b.rows == 0 {
        return multiply(a, Matrix::new(&[], 0, b.columns), out, into, work);
    }
    for from in (0..b.rows).step_by(DEPTH) {
        let depth = DEPTH.min(b.rows - from);
        let strip = &b.data[from * panels * width..][..panels * width * depth];
        let into = if from == 0 { into } else { Into::Add };
        let group = (RIGHT_NUMBERS / (depth * width)).max(1) * width;
        for first in (0..b.columns).step_by(group) {
            let last = (first + group).min(b.columns);
            let right = &strip[first / width * width * depth..];
            strip_product(
                kernel,
                a.columns(from, from + depth),
                right,
                first..last,
                out,
                into,
                &mut work.left,
            );
        }
    }
}

/// `out` becomes `a * b`, or `out + a * b`.
///
/// # Panics
/// If the shapes do not fit.
pub fn multiply<T: Real>(
    a: Matrix<'_, T>,
    b: Matrix<'_, T>,
    out: &mut Output<'_, T>,
    into: Into,
    work: &mut Workspace<T>,
) {
    assert_eq!((a.columns, out.rows, out.columns), (b.rows, a.rows, b.columns), "sizes of a product");
    let kernel = T::kernel();
    let width = kernel.columns();
    if b.rows == 0 && into == Into::Replace {
        for row in out.data.chunks_mut(out.stride.max(1)).take(out.rows) {
            row[..b.columns].fill(T::ZERO);
        }
    }
    for from in (0..b.rows).step_by(DEPTH) {
        let depth = DEPTH.min(b.rows - from);
        let into = if from == 0 { into } else { Into::Add };
        let group = (RIGHT_NUMBERS / (depth * width)).max(1) * width;
        for first in (0..b.columns).step_by(group) {
            let last = (first + group).min(b.columns);
            let part = b.rows(from, from + depth).columns(first, last);
            let right = &mut work.right[..panels::<T>(last - first) * width * depth];
            pack_panels(part, width, right);
            strip_product(
                kernel,
                a.columns(from, from + depth),
                right,
                first..last,
                out,
                into,
                &mut work.left,
            );
        }
    }
}

/// The product of a strip of `a` with packed panels, into some columns of the output.
#[inline]
fn strip_product<T: Real>(
    kernel: &Kernel<T>,
    a: Matrix<'_, T>,
    right: &[T],
    columns: std::ops::Range<usize>,
    out: &mut Output<'_, T>,
    into: Into,
    left: &mut [T],
) {
    let (width, height, depth) = (kernel.columns(), kernel.rows(), a.columns);
    assert!(right.len() >= columns.len().div_ceil(width) * width * depth, "panels of a product");
    // Rows in order are read as they lie; anything else is packed first.
    let direct = a.column_stride == 1;
    for block in (0..a.rows).step_by(LEFT_ROWS) {
        let rows = LEFT_ROWS.min(a.rows - block);
        if !direct {
            let part = a.rows(block, block + rows).transposed();
            pack_panels(part, height, &mut left[..rows.next_multiple_of(height) * depth]);
        }
        for row in (0..rows).step_by(height) {
            let count = height.min(rows - row);
            let (first, left_row, left_depth) = if direct {
                (a.data[(block + row) * a.row_stride..].as_ptr(), a.row_stride as isize, 1)
            } else {
                (left[row * depth..].as_ptr(), 1, height as isize)
            };
            for (panel, column) in columns.clone().step_by(width).enumerate() {
                let to = out.data[(block + row) * out.stride + column..].as_mut_ptr();
                let tile = Tile {
                    depth,
                    left: first,
                    left_row,
                    left_depth,
                    right: right[panel * width * depth..].as_ptr(),
                    out: to,
                    out_row: out.stride as isize,
                };
                // SAFETY: the panels were measured above; the left factor holds `count` rows of `depth` numbers at these
                // distances, as a view or as packed; the output holds `count` rows of the columns that are left, and is `&mut`.
                unsafe { kernel.run(count, width.min(columns.end - column), tile, into == Into::Add) };
            }
        }
    }
}

/// Packs a matrix into panels of `width` columns, row after row, the last one filled up with zeros.
fn pack_panels<T: Real>(matrix: Matrix<'_, T>, width: usize, out: &mut [T]) {
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

/// Adds to `sums` the sum of each column of a row-major matrix whose rows are `sums.len()` long.
pub fn add_column_sums<T: Real>(rows: &[T], sums: &mut [T]) {
    vectorised!({
        for row in rows.chunks_exact(sums.len()) {
            for (sum, &x) in sums.iter_mut().zip(row) {
                *sum += x;
            }
        }
    });
}

#[cfg(test)]
mod tests {
    use super::{Into, Matrix, Output, Packed, Workspace, add_column_sums, multiply, multiply_packed};
    use proptest::prelude::*;

    fn numbers(count: usize, seed: u64) -> Vec<f64> {
        (0..count as u64).map(|i| ((i * 7919 + seed * 104_729) % 211) as f64 / 100.0 - 1.0).collect()
    }

    /// Sizes on both sides of every tile, strip and group.
    fn check(m: usize, n: usize, k: usize, (ta, tb, add): (bool, bool, bool), seed: u64, margin: usize) {
        let (a, b) = (numbers(m * k, seed), numbers(k * n, seed + 1));
        let stride = n + margin;
        let before = numbers(m * stride, seed + 2);
        let expected = |row: usize, column: usize| {
            let product: f64 = (0..k)
                .map(|i| {
                    let left = if ta { a[i * m + row] } else { a[row * k + i] };
                    let right = if tb { b[column * k + i] } else { b[i * n + column] };
                    left * right
                })
                .sum();
            product + if add { before[row * stride + column] } else { 0.0 }
        };
        let left = if ta { Matrix::new(&a, k, m).transposed() } else { Matrix::new(&a, m, k) };
        let right = if tb { Matrix::new(&b, n, k).transposed() } else { Matrix::new(&b, k, n) };
        let into = if add { Into::Add } else { Into::Replace };
        let mut work = Workspace::new();
        let (mut once, mut packed) = (before.clone(), before.clone());
        multiply(left, right, &mut Output::new(&mut once, m, stride).columns(0, n), into, &mut work);
        let of = Packed::of(right);
        multiply_packed(left, &of, &mut Output::new(&mut packed, m, stride).columns(0, n), into, &mut work);
        assert!(once == packed, "packed before or meanwhile: {m} {n} {k}");
        for row in 0..m {
            for column in 0..n {
                let (x, y) = (once[row * stride + column], expected(row, column));
                assert!((x - y).abs() < 1e-11 * (k + 1) as f64, "{m} {n} {k}: {x} {y}");
            }
            assert_eq!(
                once[row * stride + n..(row + 1) * stride],
                before[row * stride + n..(row + 1) * stride]
            );
        }
    }

    proptest! {
        #[test]
        fn agrees_with_the_definition(
            m in 0usize..40, n in 0usize..60, k in 0usize..40, ta: bool, tb: bool, add: bool, seed in 0u64..1000,
            margin in 0usize..4,
        ) {
            check(m, n, k, (ta, tb, add), seed, margin);
        }
    }

    #[test]
    fn agrees_with_the_definition_where_it_is_cut_into_strips_and_groups() {
        for (m, n, k) in [(70, 50, 900), (5, 800, 385), (130, 9, 384), (1, 1000, 767), (3, 1, 1200)] {
            for mode in 0..8 {
                check(m, n, k, (mode & 1 == 1, mode & 2 == 2, mode & 4 == 4), mode, 3);
            }
        }
    }

    #[test]
    fn column_sums_are_added_to_what_is_there() {
        let mut sums = [1.0, 1.0, 1.0];
        add_column_sums(&[1.0, 2.0, 3.0, 4.0, 5.0, 6.0], &mut sums);
        assert_eq!(sums, [6.0, 8.0, 10.0]);
    }
}
