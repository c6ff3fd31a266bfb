//! Initial values.

use rand::RngExt;

use crate::parameters::{Initial, Layout};
use crate::random::stream;
use crate::real::Real;

/// Fills a new weight array. Each tensor draws from a stream of its own, so that the values of one do not
/// depend on the size of another.
pub fn initial_weights<T: Real>(layout: &Layout, seed: u64) -> Vec<T> {
    let mut weights = vec![T::ZERO; layout.len()];
    for (index, tensor) in layout.tensors().iter().enumerate() {
        let part = &mut weights[tensor.range.clone()];
        match tensor.initial {
            Initial::Uniform(bound) => {
                let mut random = stream(seed, "initial values", &[index as u64]);
                for x in part {
                    *x = T::of(random.random_range(-bound..=bound));
                }
            }
            Initial::ZeroBut { from, to, value } => part[from..to].fill(T::of(value)),
        }
    }
    weights
}
