//! The model's predictions at each token of a text, beside the token itself.

use std::sync::Arc;

use lalograph_text::tokens::TokenSequence;

use crate::task::language::model::ReadyModel;
use crate::writing::conversation::Conversation;
use crate::writing::decoding::{log_total, most_probable};
use crate::writing::generator::NextToken;

/// Tokens that are named as the most probable.
pub const NAMED: usize = 3;

/// The most probable tokens at one place.
#[derive(Debug, Clone, PartialEq)]
pub struct Expected {
    /// The token's place among all by probability, from 1.
    pub rank: usize,
    /// The most probable tokens, the most probable first.
    pub most_probable: Vec<NextToken>,
}

/// Predicts each of the first `count` tokens of a text. If `resets`, the state is reset after the end of each document, as in training.
/// `progress` is called with the share done; `false` stops the work, and the result is `None`.
pub fn expected(
    ready: Arc<ReadyModel>,
    text: &TokenSequence,
    count: usize,
    resets: Option<bool>,
    progress: &mut dyn FnMut(f64) -> bool,
) -> Option<Vec<Expected>> {
    let resets = resets.unwrap_or(ready.resets());
    let mut conversation = Conversation::new(ready);
    let mut all = Vec::with_capacity(count.min(text.len()));
    for (at, token) in text.iter().take(count).enumerate() {
        all.push(at_token(conversation.scores(), token));
        conversation.follow(token, resets);
        if at % 64 == 0 && !progress(at as f64 / count as f64) {
            return None;
        }
    }
    Some(all)
}

fn at_token(scores: &[f32], token: u32) -> Expected {
    let own = scores[token as usize];
    let rank = 1 + scores.iter().filter(|score| **score > own).count();
    let total = log_total(scores);
    let named = |(index, score)| NextToken { index, probability: (f64::from(score) - total).exp() };
    Expected { rank, most_probable: most_probable(scores, NAMED).into_iter().map(named).collect() }
}

#[cfg(test)]
mod tests {
    use super::at_token;

    #[test]
    fn rank_and_most_probable_tokens_are_by_probability() {
        let scores = [1.0, 3.0, 2.0, 3.0, 0.0];
        let found = at_token(&scores, 2);
        assert_eq!(found.rank, 3);
        assert_eq!(found.most_probable.iter().map(|next| next.index).collect::<Vec<_>>(), [1, 3, 2]);
        let total: f64 = scores.iter().map(|score| f64::from(*score).exp()).sum();
        assert!((found.most_probable[2].probability - 2f64.exp() / total).abs() < 1e-12);
        assert_eq!((at_token(&scores, 1).rank, at_token(&scores, 4).rank), (1, 5));
    }
}
