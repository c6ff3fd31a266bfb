//! Products of row-major matrices, on the calling thread alone.

use gemm_common::Parallelism;

use crate::real::Real;

/// A view of a row-major matrix, or of its transpose.
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
}

/// What happens to the numbers that stand in the output.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Into {
    /// They are replaced by the product.
    Replace,
    /// The product is added to them.
    Add,
}

/// `out` (row-major, `a.rows` x `b.columns`) becomes `a * b`, or `out + a * b`.
///
/// # Panics
/// If the shapes do not fit.
pub fn multiply<T: Real>(a: Matrix<'_, T>, b: Matrix<'_, T>, out: &mut [T], into: Into) {
    assert_eq!(a.columns, b.rows, "inner sizes of a product");
    assert_eq!(out.len(), a.rows * b.columns, "size of a product");
    if out.is_empty() {
        return;
    }
    // The kernels want a column-major output, so they are asked for the transpose: out' = b' * a'.
    // SAFETY: both views were checked against their data when they were made (strides are a permutation of the row-major
    // ones), `out` holds rows x columns numbers and, being `&mut`, overlaps neither.
    unsafe {
        T::product_kernel()(
            b.columns,
            a.rows,
            a.columns,
            out.as_mut_ptr(),
            b.columns as isize,
            1,
            into == Into::Add,
            b.data.as_ptr(),
            b.row_stride as isize,
            b.column_stride as isize,
            a.data.as_ptr(),
            a.row_stride as isize,
            a.column_stride as isize,
            T::ONE,
            T::ONE,
            false,
            false,
            false,
            Parallelism::None,
        );
    }
}

/// Adds to `sums` the sum of each column of a row-major matrix whose rows are `sums.len()` long.
pub fn add_column_sums<T: Real>(rows: &[T], sums: &mut [T]) {
    crate::activation::vectorised(|| {
        for row in rows.chunks_exact(sums.len()) {
            for (sum, &x) in sums.iter_mut().zip(row) {
                *sum += x;
            }
        }
    });
}

#[cfg(test)]
mod tests {
    use super::{Into, Matrix, add_column_sums, multiply};
    use proptest::prelude::*;

    fn numbers(count: usize, seed: u64) -> Vec<f64> {
        (0..count as u64).map(|i| ((i * 7919 + seed * 104_729) % 211) as f64 / 100.0 - 1.0).collect()
    }

    proptest! {
        #[test]
        fn agrees_with_the_definition(
            m in 1usize..20, n in 1usize..20, k in 0usize..20, ta: bool, tb: bool, add: bool, seed in 0u64..1000,
        ) {
            let (a, b) = (numbers(m * k, seed), numbers(k * n, seed + 1));
            let mut out = numbers(m * n, seed + 2);
            let expected: Vec<f64> = (0..m * n).map(|at| {
                let (row, column) = (at / n, at % n);
                let product: f64 = (0..k).map(|i| {
                    let left = if ta { a[i * m + row] } else { a[row * k + i] };
                    let right = if tb { b[column * k + i] } else { b[i * n + column] };
                    left * right
                }).sum();
                product + if add { out[at] } else { 0.0 }
            }).collect();
            let left = if ta { Matrix::new(&a, k, m).transposed() } else { Matrix::new(&a, m, k) };
            let right = if tb { Matrix::new(&b, n, k).transposed() } else { Matrix::new(&b, k, n) };
            multiply(left, right, &mut out, if add { Into::Add } else { Into::Replace });
            for (x, y) in out.iter().zip(&expected) {
                prop_assert!((x - y).abs() < 1e-12);
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
