//! The few leading directions of large matrices, by products alone (Halko, Martinsson and Tropp, 2011).

use lalograph_net::numbers::chance::stream;
use rand::RngExt;

/// Directions more than are wanted, which make those that are wanted sharper.
const MORE: usize = 8;
/// Times that the matrix is gone through again.
const ROUNDS: usize = 5;

/// A matrix that can be multiplied with many vectors at once. Blocks of vectors are lists of columns.
pub(crate) trait Operator {
    /// Rows.
    fn rows(&self) -> usize;
    /// Columns.
    fn columns(&self) -> usize;
    /// The products with some vectors of as many numbers as there are columns.
    fn times(&self, block: &[Vec<f64>]) -> Vec<Vec<f64>>;
    /// The products of the transpose with some vectors of as many numbers as there are rows.
    fn transposed_times(&self, block: &[Vec<f64>]) -> Vec<Vec<f64>>;
}

/// The greatest singular values and their left directions, which have length 1; as many as were wanted, or as there are.
pub(crate) fn leading(matrix: &impl Operator, wanted: usize, seed: u64) -> (Vec<f64>, Vec<Vec<f64>>) {
    let width = (wanted + MORE).min(matrix.rows()).min(matrix.columns());
    let mut random = stream(seed, "directions", &[]);
    let block: Vec<Vec<f64>> =
        (0..width).map(|_| (0..matrix.columns()).map(|_| random.random_range(-1.0..1.0)).collect()).collect();
    let mut left = matrix.times(&block);
    orthonormalise(&mut left);
    for _ in 0..ROUNDS {
        let mut right = matrix.transposed_times(&left);
        orthonormalise(&mut right);
        left = matrix.times(&right);
        orthonormalise(&mut left);
    }
    // The small matrix B = Q' A, by way of B B'.
    let small = matrix.transposed_times(&left);
    let products: Vec<Vec<f64>> = small.iter().map(|a| small.iter().map(|b| dot(a, b)).collect()).collect();
    let (squares, turns) = symmetric(products);
    let kept = wanted.min(width);
    let directions = (0..kept)
        .map(|at| {
            let mut direction = vec![0.0; matrix.rows()];
            for (column, left) in left.iter().enumerate() {
                let share = turns[column][at];
                direction.iter_mut().zip(left).for_each(|(to, from)| *to += share * from);
            }
            // One sign for all machines: the greatest number is positive.
            let greatest =
                direction.iter().fold(0.0f64, |best, &x| if x.abs() > best.abs() { x } else { best });
            if greatest < 0.0 {
                direction.iter_mut().for_each(|x| *x = -*x);
            }
            direction
        })
        .collect();
    (squares[..kept].iter().map(|square| square.max(0.0).sqrt()).collect(), directions)
}

fn dot(a: &[f64], b: &[f64]) -> f64 {
    a.iter().zip(b).map(|(a, b)| a * b).sum()
}

/// Makes vectors orthogonal to each other and of length 1, one after the other and twice over; those that depend on others become zero.
fn orthonormalise(block: &mut [Vec<f64>]) {
    for at in 0..block.len() {
        let (before, rest) = block.split_at_mut(at);
        let vector = &mut rest[0];
        let length = dot(vector, vector).sqrt();
        for _ in 0..2 {
            for other in before.iter() {
                let share = dot(vector, other);
                vector.iter_mut().zip(other).for_each(|(x, y)| *x -= share * y);
            }
        }
        let left = dot(vector, vector).sqrt();
        let factor = if left > 1e-10 * length { 1.0 / left } else { 0.0 };
        vector.iter_mut().for_each(|x| *x *= factor);
    }
}

/// The values, greatest first, and the vectors, by column, of a symmetric matrix, by turns of two axes (Jacobi, 1846).
fn symmetric(mut matrix: Vec<Vec<f64>>) -> (Vec<f64>, Vec<Vec<f64>>) {
    let n = matrix.len();
    let mut vectors: Vec<Vec<f64>> =
        (0..n).map(|i| (0..n).map(|j| f64::from(u8::from(i == j))).collect()).collect();
    for _ in 0..60 {
        let off: f64 =
            (0..n).flat_map(|i| (0..i).map(move |j| (i, j))).map(|(i, j)| matrix[i][j].powi(2)).sum();
        let on: f64 = (0..n).map(|i| matrix[i][i].powi(2)).sum();
        if off <= 1e-26 * on {
            break;
        }
        for p in 0..n {
            for q in p + 1..n {
                if matrix[p][q] == 0.0 {
                    continue;
                }
                let theta = (matrix[q][q] - matrix[p][p]) / (2.0 * matrix[p][q]);
                let t = theta.signum() / (theta.abs() + (theta * theta + 1.0).sqrt());
                let t = if theta == 0.0 { 1.0 } else { t };
                let c = 1.0 / (t * t + 1.0).sqrt();
                let s = t * c;
                for row in matrix.iter_mut().chain(&mut vectors) {
                    let (x, y) = (row[p], row[q]);
                    (row[p], row[q]) = (c * x - s * y, s * x + c * y);
                }
                let (upper, lower) = matrix.split_at_mut(q);
                for (x, y) in upper[p].iter_mut().zip(&mut lower[0]) {
                    (*x, *y) = (c * *x - s * *y, s * *x + c * *y);
                }
            }
        }
    }
    let mut order: Vec<usize> = (0..n).collect();
    order.sort_by(|&a, &b| matrix[b][b].total_cmp(&matrix[a][a]));
    let values = order.iter().map(|&at| matrix[at][at]).collect();
    let vectors = vectors.iter().map(|row| order.iter().map(|&at| row[at]).collect()).collect();
    (values, vectors)
}

#[cfg(test)]
mod tests {
    use super::{Operator, dot, leading, symmetric};
    use lalograph_net::numbers::chance::stream;
    use rand::RngExt;

    struct Dense(Vec<Vec<f64>>);

    impl Operator for Dense {
        fn rows(&self) -> usize {
            self.0.len()
        }
        fn columns(&self) -> usize {
            self.0[0].len()
        }
        fn times(&self, block: &[Vec<f64>]) -> Vec<Vec<f64>> {
            block.iter().map(|vector| self.0.iter().map(|row| dot(row, vector)).collect()).collect()
        }
        fn transposed_times(&self, block: &[Vec<f64>]) -> Vec<Vec<f64>> {
            let column =
                |at: usize, vector: &[f64]| self.0.iter().zip(vector).map(|(row, x)| row[at] * x).sum();
            block.iter().map(|vector| (0..self.columns()).map(|at| column(at, vector)).collect()).collect()
        }
    }

    #[test]
    fn eigenvalues_and_eigenvectors_reconstruct_a_symmetric_matrix() {
        let mut random = stream(1, "test", &[]);
        let n = 9;
        let mut matrix = vec![vec![0.0; n]; n];
        for (i, j) in (0..n).flat_map(|i| (0..=i).map(move |j| (i, j))) {
            let x = random.random_range(-1.0..1.0);
            (matrix[i][j], matrix[j][i]) = (x, x);
        }
        let (values, vectors) = symmetric(matrix.clone());
        assert!(values.windows(2).all(|pair| pair[0] >= pair[1]));
        for i in 0..n {
            for j in 0..n {
                let sum: f64 = (0..n).map(|k| vectors[i][k] * values[k] * vectors[j][k]).sum();
                assert!((sum - matrix[i][j]).abs() < 1e-10);
            }
        }
    }

    #[test]
    fn the_leading_directions_of_a_matrix_of_known_ones() {
        // 30 x 20 with singular values 9, 5, 2 and small ones.
        let mut random = stream(2, "test", &[]);
        let mut axes = |length: usize| {
            let mut block: Vec<Vec<f64>> =
                (0..6).map(|_| (0..length).map(|_| random.random_range(-1.0..1.0)).collect()).collect();
            super::orthonormalise(&mut block);
            block
        };
        let (left, right) = (axes(30), axes(20));
        let values = [9.0, 5.0, 2.0, 0.01, 0.01, 0.005];
        let entry = |i: usize, j: usize| (0..6).map(|k| left[k][i] * values[k] * right[k][j]).sum();
        let matrix = Dense((0..30).map(|i| (0..20).map(|j| entry(i, j)).collect()).collect());
        let (found, directions) = leading(&matrix, 3, 1);
        for k in 0..3 {
            assert!((found[k] - values[k]).abs() < 1e-9, "{found:?}");
            assert!((dot(&directions[k], &left[k]).abs() - 1.0).abs() < 1e-9);
        }
        let (all, _) = leading(&matrix, 50, 1);
        assert_eq!(all.len(), 20);
    }
}
