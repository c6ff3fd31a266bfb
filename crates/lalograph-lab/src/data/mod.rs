//! Data on its way to the network: windows, token stores between runs, overlap of parts.

pub(crate) mod copies;
pub mod documents;
pub(crate) mod filler;
pub mod numbers;
pub(crate) mod order;
pub(crate) mod overlap;
pub(crate) mod reading_rows;
pub(crate) mod scratch_stores;
pub mod source;
pub mod token_cache;
pub(crate) mod windows;
