//! Computation only: matrices, recurrent cells, the language model, its loss and its optimisers.
//!
//! Nothing here reads files or clocks or prints. Everything is generic over [`Real`], so that training runs
//! in `f32` and the same code is checked against central differences in `f64`.
//!
//! The parts, in the order data flows: token indices -> [`embedding`] -> a [`stack`] of [`recurrent`] layers of one [`Cell`] ->
//! the [`output`] over the vocabulary. [`model`] strings them together for one *lane* of a batch, [`step`] runs the lanes
//! side by side and adds their gradients, [`optimiser`] moves the weights. [`matrix`] and [`kernel`] have the products, [`parameters`] the
//! weights and their packed copies.

pub mod activation;
mod cells;
pub mod clipping;
pub mod dropout;
pub mod embedding;
pub mod initial;
pub mod kernel;
pub mod matrix;
pub mod model;
pub mod norm;
pub mod optimiser;
pub mod output;
pub mod parameters;
pub mod random;
pub mod real;
pub mod recurrent;
pub mod stack;
pub mod step;

pub use cells::Cell;
pub use model::{LanguageModel, LanguageModelShape};
pub use parameters::{Layout, Tensor};
pub use real::Real;
