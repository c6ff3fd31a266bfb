//! One step of training: lanes, the team that runs them, and the exchange that adds up their gradients.

pub mod awake;
pub mod bytes;
pub mod exchange;
pub mod lanes;
pub mod processes;
pub mod team;
