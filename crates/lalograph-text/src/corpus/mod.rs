//! Reading what people have, one document at a time.
//!
//! The order of documents is fixed: paths as they were given, files of a folder by name, then position in the file.
//! Whatever cannot be used is left out by name, never silently. Nothing but the current documents is held in memory.
//!
//! [`find`] turns paths into files, [`source`] a file into UTF-8 lines, [`rows`], [`table`] and [`json`] lines into rows, and [`batch`]
//! keeps the rows that are documents. [`Corpus::read`] reads them one by one; [`Corpus::process`] works on
//! them with several threads and keeps their order.

mod batch;
mod encoding;
mod find;
mod groups;
mod json;
mod mailbox;
mod meter;
mod pipeline;
mod reader;
pub(crate) mod reading;
mod rows;
mod source;
pub(crate) mod spec;
mod table;

pub use batch::{Batch, Document, Kept, Pair};
pub(crate) use pipeline::joined;
pub use reader::Corpus;
pub use reading::{Guess, ReadObserver, Reading, Reason, Skipped};
pub use spec::{CorpusSpec, Division, Form, Limits, TableStyle};
