//! Token indices to vectors: a table with one row a token.

use crate::numbers::real::Real;
use crate::numbers::rooms::Rooms;
use crate::vectorised;
use crate::weights::gradient::RowGradient;

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

/// Adds gradients of tokens by row, each row once: a text repeats its tokens, and a row is added up while it is in the cache.
#[derive(Debug, Clone, Default)]
pub struct RowSums {
    /// For each token its place among the rows, plus 1; 0 if it has none.
    place: Vec<u32>,
}

impl RowSums {
    /// Memory for a table of `vocabulary` rows.
    pub fn within(vocabulary: usize, rooms: &mut Rooms) -> Self {
        Self { place: rooms.zeros(vocabulary) }
    }

    /// Starts with no rows.
    pub fn begin<T: Real>(&mut self, rows: &mut RowGradient<T>) {
        for token in rows.rows.drain(..) {
            self.place[token as usize] = 0;
        }
        rows.values.clear();
    }

    /// The sum of the gradients of a token's vector so far.
    pub fn row<'r, T: Real>(&mut self, rows: &'r mut RowGradient<T>, token: u32) -> &'r mut [T] {
        let place = &mut self.place[token as usize];
        if *place == 0 {
            rows.rows.push(token);
            rows.values.resize(rows.values.len() + rows.width, T::ZERO);
            *place = rows.rows.len() as u32;
        }
        let at = (*place as usize - 1) * rows.width;
        &mut rows.values[at..at + rows.width]
    }

    /// Adds the gradient `d` of a token's vector.
    pub fn add<T: Real>(&mut self, rows: &mut RowGradient<T>, token: u32, d: &[T]) {
        let place = &mut self.place[token as usize];
        if *place == 0 {
            rows.rows.push(token);
            rows.values.extend_from_slice(d);
            *place = rows.rows.len() as u32;
            return;
        }
        let at = (*place as usize - 1) * rows.width;
        let row = &mut rows.values[at..at + rows.width];
        vectorised!(row.iter_mut().zip(d).for_each(|(sum, &d)| *sum += d));
    }
}
