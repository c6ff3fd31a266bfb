//! A run as it lies in its folder: description, records, history.

pub mod description;
pub mod folder;
pub mod history;
pub mod records;
