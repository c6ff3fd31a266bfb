//! Decoding, as the commands that write answers take it, and beam search.

use clap::Args;
use lalograph_lab::writing::beam::Beam;
use lalograph_lab::writing::decoding::{Decoding, UnknownTokens};

use super::choice::choice;

/// Decoding of answers.
#[derive(Debug, Clone, Args)]
pub(crate) struct DecodingArgs {
    /// Sampling temperature, above 0 (default: greedy decoding).
    #[arg(long, value_name = "T", allow_negative_numbers = true, help_heading = "Decoding")]
    pub(crate) temperature: Option<f64>,
    /// Sample from the K most probable tokens only (default: all).
    #[arg(long, value_name = "K", requires = "temperature", help_heading = "Decoding")]
    pub(crate) top_k: Option<usize>,
    /// Sample from the smallest set of tokens that covers this share of the distribution (default: all).
    #[arg(
        long,
        value_name = "P",
        requires = "temperature",
        allow_negative_numbers = true,
        help_heading = "Decoding"
    )]
    pub(crate) top_p: Option<f64>,
    /// Raise the probability of every token that is already in the text to this power, 1 or above (1 = off).
    #[arg(
        long,
        value_name = "POWER",
        default_value_t = 1.0,
        allow_negative_numbers = true,
        help_heading = "Decoding"
    )]
    pub(crate) repeat_power: f64,
    /// Treatment of the unknown token (default: leave-out).
    #[arg(long, value_parser = choice::<UnknownTokens>(), value_name = "HOW", help_heading = "Decoding")]
    pub(crate) unknown: Option<UnknownTokens>,
}

impl DecodingArgs {
    pub(crate) fn decoding(&self) -> Decoding {
        let Self { temperature, top_k, top_p, repeat_power, unknown } = *self;
        Decoding { temperature, top_k, top_p, repeat_power, unknown: unknown.unwrap_or_default() }
    }
}

/// Beam search.
#[derive(Debug, Clone, Args)]
pub(crate) struct BeamArgs {
    /// Beam search of this width instead of other decodings (default: off).
    #[arg(long, value_name = "WIDTH", help_heading = "Decoding")]
    pub(crate) beam: Option<usize>,
    /// Rank the texts of a beam by log-probability divided by length to this power: 0 favours short texts, 1 is the mean per token (default: 1, or 0
    /// with --random-beam).
    #[arg(
        long,
        value_name = "POWER",
        requires = "beam",
        allow_negative_numbers = true,
        help_heading = "Decoding"
    )]
    pub(crate) length_power: Option<f64>,
    /// Stochastic beam search: sample texts without replacement.
    #[arg(long, requires = "beam", conflicts_with = "length_power", help_heading = "Decoding")]
    pub(crate) random_beam: bool,
}

impl BeamArgs {
    /// A beam of this width that gives its `best` texts.
    pub(crate) fn of_width(&self, width: usize, best: usize) -> Beam {
        let length_power = self.length_power.unwrap_or(if self.random_beam { 0.0 } else { 1.0 });
        Beam { width, length_power, best, random: self.random_beam }
    }
}
