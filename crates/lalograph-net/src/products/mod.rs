//! Products of matrices: views, packing, the loops around the innermost tiles.

pub mod kernel;
pub mod limit;
pub mod multiply;
pub mod pack;
#[cfg(target_arch = "x86_64")]
mod register;
mod tile;
#[cfg(target_arch = "x86_64")]
mod tiles;
pub mod view;
