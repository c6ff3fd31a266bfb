//! A run as it lies in its folder: description, records, history; who may write there; the folder of all runs.

pub mod archive;
pub mod archive_error;
pub mod claim;
pub mod description;
pub mod folder;
pub mod history;
pub mod records;
pub mod shelf;
