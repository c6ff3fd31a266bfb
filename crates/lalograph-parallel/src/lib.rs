//! Processes of one run, on one machine or several, that a launcher of the message passing standard (MPI) started together.
//!
//! Only with the feature `mpi` can they speak with each other. Without it the crate knows whether the program was started by a launcher, so that
//! several copies of it do not train the same run side by side unnoticed.

mod launched;
#[cfg(feature = "mpi")]
mod messages;

pub use launched::{launched_as, launched_here, launched_processes};
#[cfg(feature = "mpi")]
pub use messages::{Meeting, Messages, MessagesError};
