//! Measuring: what a plan costs, how fast a machine is, what a model or a baseline makes of a text.

pub mod answers;
pub mod baseline;
pub mod calibration;
pub mod classes;
pub mod cost;
pub mod curves;
pub mod decisions;
pub mod documents;
pub mod forecast;
pub mod foresight;
pub mod gauge;
pub mod gauge_documents;
pub mod recency;
pub mod score;
pub mod several;
pub mod surprise;
pub mod token_losses;
