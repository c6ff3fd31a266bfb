//! Computation only: matrices, recurrent cells, the language model, its loss and its optimiser.
//!
//! Nothing here reads files or clocks or prints. Everything is generic over [`Real`], so that training runs
//! in `f32` and the same code is checked against central differences in `f64`.
//!
//! The parts, in the order data flows: token indices -> [`embedding`] -> stacked [`recurrent`] layers ([`lstm`]) ->
//! [`softmax`] over the vocabulary. [`model`] strings them together for one *lane* of a batch, [`step`] runs the lanes
//! side by side and adds their gradients, [`optimiser`] moves the weights.

pub mod activation;
pub mod dropout;
pub mod embedding;
pub mod initial;
pub mod lstm;
pub mod matrix;
pub mod model;
pub mod optimiser;
pub mod parameters;
pub mod random;
pub mod real;
pub mod recurrent;
pub mod softmax;
pub mod step;

pub use model::{Cell, LanguageModel, LanguageModelShape};
pub use parameters::{Layout, Tensor};
pub use real::Real;
