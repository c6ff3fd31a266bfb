//! Linear classifiers: logistic regression on sparse rows, solved to a tolerance instead of a number of steps.

pub mod objective;
pub mod rows;
pub mod solver;

pub use objective::{Examples, LinearShape};
pub use rows::SparseRows;
pub use solver::{Penalty, Reached, Solver, SolverSettings};
