//! Files that are read on their own: one sealed container and what is kept in it, vocabularies and splits.

pub mod checkpoint;
pub mod container;
pub mod foreign;
pub mod model_file;
pub mod tensor_file;
pub mod texts;
pub mod vectors;
