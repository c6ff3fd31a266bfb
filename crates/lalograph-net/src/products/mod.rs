//! Products of matrices: views, packing, the loops around the innermost tiles.

pub mod kernel;
pub mod multiply;
pub mod pack;
pub mod view;
