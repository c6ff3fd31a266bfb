//! A cache of recent tokens beside a model: what a document has used just now, it uses again.
//!
//! A token w has the probability `(1 - s) p(w) + s c(w)` (Kuhn and De Mori, "A cache-based natural language model for speech recognition", 1990),
//! where c(w) is w's share of the tokens before it in its document, each counted 0.99 times as much for every token since. The share s of the cache
//! grows to 0.15 over the first 50 tokens of a document. The numbers were chosen on manuals, as words.

use std::collections::HashMap;

use lalograph_text::Reserved;

use super::score::{Judgement, TextScore, judged};

/// Share of the cache in a probability.
const SHARE: f64 = 0.15;
/// Tokens of a document after which the cache has its whole share.
const GROWING: f64 = 50.0;
/// What a token counts for each token since.
const DECAY: f64 = 0.99;

/// Scores a text under a model with a cache of recent tokens. The losses of all tokens must have been kept
/// ([`Scoring::tokens`](super::score::Scoring::tokens)); `None` if they were not.
///
/// The result is no figure of the model alone and must not be compared with one unless it is labelled so.
pub fn with_recent_tokens(found: &TextScore) -> Option<Judgement> {
    let losses = &found.judgement.token_losses;
    let text = &found.text;
    if losses.len() != text.len() {
        return None;
    }
    let mut cache = Cache::default();
    let mixed = text.iter().zip(losses).map(|(token, &loss)| {
        let probability = cache.mixed((-loss).exp(), token);
        cache.read(token);
        // Where a probability is too small to be a number, the cache can only have added to it.
        if probability > 0.0 { -probability.ln() } else { loss }
    });
    Some(judged(text, mixed))
}

/// The recent tokens of a document.
#[derive(Debug, Default)]
struct Cache {
    tokens: i32,
    /// The counts of tokens, each with the number of tokens that it was counted at.
    counts: HashMap<u32, (f64, i32)>,
    total: f64,
}

impl Cache {
    /// The probability of the next token, given that of the model.
    fn mixed(&self, model: f64, token: u32) -> f64 {
        if self.total <= 0.0 {
            return model;
        }
        let share = SHARE * (f64::from(self.tokens) / GROWING).min(1.0);
        let own = self.counts.get(&token).map_or(0.0, |&(count, at)| count * DECAY.powi(self.tokens - at));
        (1.0 - share) * model + share * own / self.total
    }

    /// Goes on by a token; after the end of a document all is forgotten.
    fn read(&mut self, token: u32) {
        if token == Reserved::END {
            *self = Self::default();
            return;
        }
        let now = self.tokens.saturating_add(1);
        let (count, at) = self.counts.get(&token).copied().unwrap_or((0.0, now));
        self.counts.insert(token, (count * DECAY.powi(now - at) + 1.0, now));
        self.total = self.total * DECAY + 1.0;
        self.tokens = now;
    }
}

#[cfg(test)]
mod tests {
    use lalograph_text::Reserved;
    use proptest::prelude::*;

    use super::{Cache, DECAY, SHARE};

    #[test]
    fn agrees_with_a_sum_by_hand() {
        let mut cache = Cache::default();
        assert_eq!(cache.mixed(0.25, 7), 0.25, "nothing was read yet");
        for token in [7, 8, 7] {
            cache.read(token);
        }
        let counts = [DECAY * DECAY + 1.0, DECAY];
        let share = SHARE * 3.0 / 50.0;
        let expected = (1.0 - share) * 0.25 + share * counts[0] / (counts[0] + counts[1]);
        assert!((cache.mixed(0.25, 7) - expected).abs() < 1e-12);
        assert!((cache.mixed(0.25, 9) - (1.0 - share) * 0.25).abs() < 1e-12);
        cache.read(Reserved::END);
        assert_eq!(cache.mixed(0.25, 7), 0.25, "a document ended");
    }

    proptest! {
        #[test]
        fn probabilities_add_up_to_one(tokens in prop::collection::vec(4u32..9, 0..200)) {
            let mut cache = Cache::default();
            for token in tokens {
                cache.read(token);
                let sum: f64 = (4..9).map(|token| cache.mixed(0.2, token)).sum();
                prop_assert!((sum - 1.0).abs() < 1e-9, "{}", sum);
            }
        }
    }
}
