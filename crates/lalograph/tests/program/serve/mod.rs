//! The service, driven over its socket.

mod access;
mod answers;
mod bounds;
mod campaign;
mod client;
mod endings;
mod faults;
mod guide;
mod page;
mod schema;
mod speed;
