//! Models for programs that have no code of Lalograph.
//!
//! [`onnx`] writes a model as a graph of the open exchange standard for networks, [`tables`] its tokens and weights as plain tables, and
//! [`recipe`] the page by which its texts become indices.
//!
//! The rooms: [`exchange`], the standard; [`graphs`], the networks of this project in its operators.

mod error;
pub mod exchange;
pub mod graphs;
pub mod model;
pub mod recipe;
pub mod tables;

pub use error::ExportError;
pub use exchange::precision::{Precision, reduce};
pub use exchange::write::OPSETS;
pub use graphs::choice::GraphChoice;
pub use graphs::{OnnxSettings, onnx};
pub use model::{Form, OpenModel};
