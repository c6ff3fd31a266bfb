//! First values of weights.

use rand::RngExt;

use super::layout::{Initial, Layout, Tensor};
use crate::numbers::chance::{Stream, stream};
use crate::numbers::real::Real;
use crate::products::multiply::multiply;
use crate::products::pack::Workspace;
use crate::products::view::{Accumulation, Matrix, MatrixMut};

/// Fills a new weight array. Each tensor draws from a stream of its own, so that the values of one do not
/// depend on the size of another.
pub fn first_values<T: Real>(layout: &Layout, seed: u64) -> Vec<T> {
    let mut weights = vec![T::ZERO; layout.len()];
    for (index, tensor) in layout.tensors().iter().enumerate() {
        let mut random = stream(seed, "initial values", &[index as u64]);
        fill(tensor, &mut weights[tensor.range.clone()], &mut random);
    }
    weights
}

fn fill<T: Real>(tensor: &Tensor, part: &mut [T], random: &mut Stream) {
    match tensor.initial {
        Initial::Uniform(bound) => {
            part.iter_mut().for_each(|x| *x = T::of(random.random_range(-bound..=bound)));
        }
        Initial::Normal(deviation) => part.iter_mut().for_each(|x| *x = T::of(deviation * normal(random))),
        Initial::Constant(value) => part.fill(T::of(value)),
        Initial::ZeroBut { from, to, value } => part[from..to].fill(T::of(value)),
        Initial::Orthogonal(gain) => {
            let (rows, columns) = (tensor.shape[0], tensor.shape[1]);
            for first in (0..columns).step_by(rows) {
                let block = orthogonal(rows, random);
                let width = rows.min(columns - first);
                for (row, from) in part.chunks_exact_mut(columns).zip(block.chunks_exact(rows)) {
                    for (x, &y) in row[first..first + width].iter_mut().zip(from) {
                        *x = T::of(gain * y);
                    }
                }
            }
        }
    }
}

/// A normal number with mean 0 and variance 1 (Box and Muller, 1958).
fn normal(random: &mut Stream) -> f64 {
    let radius = (-2.0 * (1.0 - random.random::<f64>()).ln()).sqrt();
    radius * (2.0 * std::f64::consts::PI * random.random::<f64>()).cos()
}

/// Rows that are taken together in [`orthogonal`].
const BLOCK: usize = 32;

/// A random orthogonal matrix: normal numbers, row after row freed of what lies along the rows before it (Gram and Schmidt),
/// twice, since once loses digits (Giraud et al., 2005). Rows are taken in blocks, so that nearly all work is products.
fn orthogonal(size: usize, random: &mut Stream) -> Vec<f64> {
    let mut matrix: Vec<f64> = (0..size * size).map(|_| normal(random)).collect();
    let mut work = Workspace::new();
    let mut along = vec![0.0; BLOCK * size];
    for first in (0..size).step_by(BLOCK) {
        let rows = BLOCK.min(size - first);
        for _ in 0..2 {
            let (before, rest) = matrix.split_at_mut(first * size);
            let block = &mut rest[..rows * size];
            let before = Matrix::new(before, first, size);
            let along = &mut along[..rows * first];
            multiply(
                Matrix::new(block, rows, size),
                before.transposed(),
                &mut MatrixMut::new(along, rows, first),
                Accumulation::Replace,
                &mut work,
            );
            along.iter_mut().for_each(|x| *x = -*x);
            let along = Matrix::new(along, rows, first);
            multiply(along, before, &mut MatrixMut::new(block, rows, size), Accumulation::Add, &mut work);
            for row in 0..rows {
                let (before, rest) = block.split_at_mut(row * size);
                let row = &mut rest[..size];
                for other in before.chunks_exact(size) {
                    let along: f64 = row.iter().zip(other).map(|(x, y)| x * y).sum();
                    row.iter_mut().zip(other).for_each(|(x, y)| *x -= along * y);
                }
                let norm = row.iter().map(|x| x * x).sum::<f64>().sqrt();
                row.iter_mut().for_each(|x| *x /= norm);
            }
        }
    }
    matrix
}

#[cfg(test)]
mod tests {
    use super::{normal, orthogonal};
    use crate::numbers::chance::stream;

    #[test]
    fn orthogonal_matrices_are() {
        for size in [1, 2, 31, 32, 33, 100] {
            let matrix = orthogonal(size, &mut stream(1, "test", &[size as u64]));
            for i in 0..size {
                for j in 0..size {
                    let product: f64 = (0..size).map(|k| matrix[i * size + k] * matrix[j * size + k]).sum();
                    assert!((product - f64::from(u8::from(i == j))).abs() < 1e-12, "{size}: {i} {j}");
                }
            }
        }
    }

    #[test]
    fn normal_numbers_have_the_first_four_moments() {
        let mut random = stream(2, "test", &[]);
        let xs: Vec<f64> = (0..200_000).map(|_| normal(&mut random)).collect();
        let moment = |power: i32| xs.iter().map(|x| x.powi(power)).sum::<f64>() / xs.len() as f64;
        for (power, expected, error) in [(1, 0.0, 0.012), (2, 1.0, 0.016), (3, 0.0, 0.045), (4, 3.0, 0.11)] {
            assert!((moment(power) - expected).abs() < error, "{power}: {}", moment(power));
        }
    }
}
