//! The weights of a model: their layout, first values, packed copies and gradients.

pub mod first_values;
pub mod gradient;
pub mod layout;
pub mod packed;
