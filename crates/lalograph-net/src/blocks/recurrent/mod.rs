//! A recurrent layer: cells, and the walk of any of them through a window.

pub mod cell;
mod gru;
mod lstm;
mod plain;
pub mod start;
pub mod walk;
pub mod window;
