//! Word vectors: learning them from text, finding what is near, judging them, laying them out in a plane.
//!
//! [`train`](train::train) learns a table by predicting words from their neighbours or the other way round, [`pmi`] makes one by factorising counts. Both end
//! in a [`VectorTable`], which everything else reads. No files are opened here and nothing is printed.

mod error;
pub mod import;
pub mod judge;
mod linear;
pub mod map;
pub mod objective;
pub mod pieces;
pub mod pmi;
pub mod rows;
pub mod sampling;
pub mod sentence;
pub mod table;
pub mod train;

pub use error::VectorError;
pub use table::VectorTable;
