//! The open exchange standard for networks (ONNX): graphs, and the files that hold them.

pub(crate) mod graph;
mod messages;
pub mod precision;
pub(crate) mod tensor;
pub mod write;
