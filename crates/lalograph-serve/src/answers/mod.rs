//! What is answered, one file a request.

pub(crate) mod classes;
pub(crate) mod fields;
pub(crate) mod models;
pub(crate) mod next;
pub(crate) mod runs;
pub(crate) mod score;
pub(crate) mod stream;
pub(crate) mod talk;
pub(crate) mod vectors;
pub(crate) mod write;
