//! Word vectors: learning them from text, finding what is near, judging them, laying them out in a plane.
//!
//! [`train`](train::train) learns a table by predicting words from their neighbours or the other way round, [`pmi`] makes one by factorising counts. Both end
//! in a [`VectorTable`], which everything else reads. No files are opened here and nothing is printed.
//!
//! ```
//! use lalograph_vectors::VectorTable;
//!
//! let words = ["queen", "drone", "clover"].map(str::to_owned).to_vec();
//! let table = VectorTable::new(words, 2, vec![1.0, 0.1, 0.9, 0.2, -0.2, 1.0])?;
//! let near = table.nearest(&table.vector("queen")?, 2, &[]);
//! assert_eq!(near.iter().map(|found| table.word(found.row)).collect::<Vec<_>>(), ["queen", "drone"]);
//! # Ok::<(), lalograph_vectors::VectorError>(())
//! ```

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
