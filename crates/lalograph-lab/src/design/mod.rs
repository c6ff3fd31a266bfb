//! Plans for a text and a time: of the networks that this machine can train long enough in that time, the one that measurements on real text let expect
//! the lowest perplexity, and how low.
//!
//! [`recipe`] has what suits a text, a width and a number of epochs; [`expectation`] what such training reaches; [`by_time`] tries widths on this machine.

pub mod by_time;
pub mod expectation;
pub(crate) mod recipe;
