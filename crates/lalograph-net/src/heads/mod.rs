//! Heads: from the vectors of the last layer to a distribution, and its loss.

pub mod classes;
pub mod clustered;
pub mod loss;
pub mod sampled;
pub mod scratch;
pub mod softmax;
pub mod table;
