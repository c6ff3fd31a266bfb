//! Numbers and what is done to single ones: precision, squashing functions, chance, memory, named choices.

pub mod activation;
pub mod chance;
pub mod choice;
pub mod exp;
pub mod prefetch;
pub mod real;
pub mod rooms;
pub mod sampler;
