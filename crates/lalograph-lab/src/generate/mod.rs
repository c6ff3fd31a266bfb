//! Writing text with a model: one token after another, or by a search for the likeliest text.

mod beam;
mod decoding;
mod trial;
mod writer;

pub use beam::Beam;
pub use decoding::{Decoding, choose, log_total};
pub use trial::{Trial, TrialText};
pub use writer::{Ended, Generator, NextToken, Request, Sample, Stop};
