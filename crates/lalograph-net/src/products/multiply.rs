//! Products of row-major matrices, on the calling thread alone, without allocation.
//!
//! The right factor is read in *panels*: strips of as many columns as a tile has, packed so that a tile reads memory in order
//! (Goto and van de Geijn, 2008). Weights are packed once for a whole window, see [`Packed`]; a factor that is used once is
//! packed piece by piece into a [`Workspace`].

use super::kernel::Kernel;
use super::pack::{LEFT_ROWS, Packed, RIGHT_NUMBERS, Workspace, depth_of, pack_panels, panels};
use super::tile::Tile;
use super::view::{Accumulation, Matrix, MatrixMut};
use crate::numbers::real::Real;
use crate::vectorised;

/// `out` becomes `a * b`, or `out + a * b`; `b` was packed before.
///
/// # Panics
/// If the shapes do not fit.
pub fn multiply_packed<T: Real>(
    a: Matrix<'_, T>,
    b: &Packed<T>,
    out: &mut MatrixMut<'_, T>,
    accumulation: Accumulation,
    work: &mut Workspace<T>,
) {
    assert_eq!((a.columns, out.rows, out.columns), (b.rows, a.rows, b.columns), "sizes of a product");
    let kernel = T::kernel();
    let width = kernel.columns();
    let panels = panels::<T>(b.columns);
    if b.rows == 0 {
        return multiply(a, Matrix::new(&[], 0, b.columns), out, accumulation, work);
    }
    let most = depth_of(b.rows);
    for from in (0..b.rows).step_by(most) {
        let depth = most.min(b.rows - from);
        let strip = &b.data[from * panels * width..][..panels * width * depth];
        let accumulation = if from == 0 { accumulation } else { Accumulation::Add };
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
                accumulation,
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
    out: &mut MatrixMut<'_, T>,
    accumulation: Accumulation,
    work: &mut Workspace<T>,
) {
    assert_eq!((a.columns, out.rows, out.columns), (b.rows, a.rows, b.columns), "sizes of a product");
    let kernel = T::kernel();
    let width = kernel.columns();
    if b.rows == 0 && accumulation == Accumulation::Replace {
        for row in out.data.chunks_mut(out.stride.max(1)).take(out.rows) {
            row[..b.columns].fill(T::ZERO);
        }
    }
    let most = depth_of(b.rows);
    for from in (0..b.rows).step_by(most) {
        let depth = most.min(b.rows - from);
        let accumulation = if from == 0 { accumulation } else { Accumulation::Add };
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
                accumulation,
                &mut work.left,
            );
        }
    }
}

/// The product of a strip of `a` with packed panels, put into some columns of the output or added to them.
#[inline]
fn strip_product<T: Real>(
    kernel: &Kernel<T>,
    a: Matrix<'_, T>,
    right: &[T],
    columns: std::ops::Range<usize>,
    out: &mut MatrixMut<'_, T>,
    accumulation: Accumulation,
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
                unsafe {
                    kernel.run(
                        count,
                        width.min(columns.end - column),
                        tile,
                        accumulation == Accumulation::Add,
                    )
                };
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
    use super::{
        Accumulation, Matrix, MatrixMut, Packed, Workspace, add_column_sums, multiply, multiply_packed,
    };
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
        let accumulation = if add { Accumulation::Add } else { Accumulation::Replace };
        let mut work = Workspace::new();
        let (mut once, mut packed) = (before.clone(), before.clone());
        multiply(
            left,
            right,
            &mut MatrixMut::new(&mut once, m, stride).columns(0, n),
            accumulation,
            &mut work,
        );
        let of = Packed::of(right);
        multiply_packed(
            left,
            &of,
            &mut MatrixMut::new(&mut packed, m, stride).columns(0, n),
            accumulation,
            &mut work,
        );
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
    fn column_sums_are_added_to_the_existing_values() {
        let mut sums = [1.0, 1.0, 1.0];
        add_column_sums(&[1.0, 2.0, 3.0, 4.0, 5.0, 6.0], &mut sums);
        assert_eq!(sums, [6.0, 8.0, 10.0]);
    }
}
