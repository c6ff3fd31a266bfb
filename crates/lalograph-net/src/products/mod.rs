//! Products of matrices: views, packing, the loops around the innermost tiles.

pub mod kernel;
pub mod limit;
pub mod multiply;
pub mod pack;
mod register;
mod tile;
mod tiles;
pub mod view;
