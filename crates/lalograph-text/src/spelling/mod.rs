//! Cost of a text besides its tokens: the letters of words that have no index, and the white space that the word unit leaves out.
//!
//! With both, the bits of a text under a model are a code length from which the (cleaned) text can be reconstructed, so bits
//! per byte compare models of any unit and vocabulary.

pub(crate) mod letters;
pub(crate) mod spacing;

use std::sync::{Arc, OnceLock};

pub use letters::SpellingModel;
pub use spacing::{SpacingCosts, SpacingModel};

/// Bits that a text takes beside its tokens.
///
/// ```
/// use lalograph_text::spelling::Remainder;
///
/// let mut sum = Remainder { spelling_bits: 30.0, spacing_bits: 1.5, changed: false };
/// sum += Remainder { spelling_bits: 0.0, spacing_bits: 0.5, changed: true };
/// assert_eq!((sum.bits(), sum.changed), (32.0, true));
/// ```
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Remainder {
    /// Bits of the spelling of tokens that have no index.
    pub spelling_bits: f64,
    /// Bits of the white space between words, where tokens do not hold it.
    pub spacing_bits: f64,
    /// Whether cleaning changed the text, so that the bits are those of another text.
    pub changed: bool,
}

impl Remainder {
    /// All bits together.
    pub fn bits(&self) -> f64 {
        self.spelling_bits + self.spacing_bits
    }
}

impl std::ops::AddAssign for Remainder {
    fn add_assign(&mut self, other: Self) {
        self.spelling_bits += other.spelling_bits;
        self.spacing_bits += other.spacing_bits;
        self.changed |= other.changed;
    }
}

/// Counts of spelling and white space in the texts of a vocabulary.
#[derive(Debug, Clone, Default, PartialEq)]
pub(crate) struct Rest {
    /// Distinct words without an index and their counts, in the order of code points: all of them, or the most frequent.
    pub(crate) words: Vec<(Box<str>, u64)>,
    /// White space between words.
    pub(crate) spacing: SpacingModel,
}

/// The bits of what is not in tokens.
#[derive(Debug)]
pub(crate) struct Costs {
    pub(crate) spelling: SpellingModel,
    pub(crate) spacing: SpacingCosts,
}

/// Costs that are computed when they are asked for first. Two are equal where what they are computed from is, so that nothing is left to compare.
#[derive(Debug, Clone, Default)]
pub(crate) struct LazyCosts(Arc<OnceLock<Costs>>);

impl LazyCosts {
    pub(crate) fn get(&self, compute: impl FnOnce() -> Costs) -> &Costs {
        self.0.get_or_init(compute)
    }
}

impl PartialEq for LazyCosts {
    fn eq(&self, _: &Self) -> bool {
        true
    }
}
