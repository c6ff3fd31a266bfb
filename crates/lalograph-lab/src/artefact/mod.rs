//! Files that hold tensors: one sealed container, and what is kept in it.

pub mod checkpoint;
pub mod container;
pub mod model_file;
pub mod vectors;
