//! Token indices to vectors: a table with one row a token.

use crate::numbers::real::Real;

/// Copies the row of each token: `out[i] = table[tokens[i]]`. `table` is vocabulary x width, `out` is tokens x width.
pub fn forward<T: Real>(table: &[T], width: usize, tokens: &[u32], out: &mut [T]) {
    for (row, &token) in out.chunks_exact_mut(width).zip(tokens) {
        let start = token as usize * width;
        row.copy_from_slice(&table[start..start + width]);
    }
}

/// Adds each token's gradient to its row of the table's gradient.
pub fn backward<T: Real>(gradient: &mut [T], width: usize, tokens: &[u32], d_out: &[T]) {
    for (row, &token) in d_out.chunks_exact(width).zip(tokens) {
        let start = token as usize * width;
        for (sum, &x) in gradient[start..start + width].iter_mut().zip(row) {
            *sum += x;
        }
    }
}
