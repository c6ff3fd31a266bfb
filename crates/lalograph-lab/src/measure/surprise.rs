//! A text token by token, with the surprise of each.

use std::f64::consts::LN_2;

use lalograph_text::{Reserved, Vocabulary};
use serde::Serialize;

/// One token of a text.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct TokenSurprise {
    /// White space before it that no token holds.
    pub before: String,
    /// The token as spelt in the text, after cleaning.
    pub token: String,
    /// Its index.
    pub index: u32,
    /// Bits of its surprise: the negative base-2 logarithm of its probability.
    pub surprise_bits: f64,
}

/// Every token of documents in order, the end of each document included, with the losses of [`super::score::Judgement::token_losses`].
pub fn token_surprises<'t>(
    vocabulary: &Vocabulary,
    documents: impl IntoIterator<Item = &'t str>,
    losses: &[f64],
) -> Vec<TokenSurprise> {
    let mut all = Vec::with_capacity(losses.len());
    let mut bits = losses.iter().map(|loss| loss / LN_2);
    for document in documents {
        let located = vocabulary.locate(document);
        let bytes = located.text.as_bytes();
        let text = |range: std::ops::Range<usize>| String::from_utf8_lossy(&bytes[range]).into_owned();
        let mut end = 0;
        for (range, index) in &located.tokens {
            all.push(TokenSurprise {
                before: text(end..range.start),
                token: text(range.clone()),
                index: *index,
                surprise_bits: bits.next().unwrap_or(f64::NAN),
            });
            end = range.end;
        }
        all.push(TokenSurprise {
            before: String::new(),
            token: vocabulary.reserved().end.clone(),
            index: Reserved::END,
            surprise_bits: bits.next().unwrap_or(f64::NAN),
        });
    }
    all
}
