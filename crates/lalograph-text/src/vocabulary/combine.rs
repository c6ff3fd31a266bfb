//! Vocabularies beside each other: merged, extended, compared.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};

use super::build::UNLISTED_WORDS;
use super::{Counted, Method, Reserved, Token, Vocabulary};
use crate::error::TextError;
use crate::spelling::Rest;
use crate::tally::Sample;

/// A token of one vocabulary that the other does not have.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OneSided {
    /// Tokens that only this vocabulary has.
    pub tokens: u64,
    /// Sum of their counts.
    pub count: u64,
    /// All counts of this vocabulary.
    pub total_count: u64,
    /// The most frequent of them with their counts.
    pub most_frequent: Vec<(String, u64)>,
}

/// Two vocabularies side by side.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Comparison {
    /// Whether unit and cleaning are the same, so that both find the same tokens in a text.
    pub same_tokens: bool,
    /// Tokens that both have.
    pub shared_tokens: u64,
    /// Number of these with the same index in both.
    pub same_index: u64,
    /// Of the first.
    pub only_first: OneSided,
    /// Of the second.
    pub only_second: OneSided,
}

impl Vocabulary {
    /// Compares two vocabularies: the shared tokens, and those of only one; at most `listed` tokens of each are named.
    pub fn compare(&self, other: &Self, listed: usize) -> Comparison {
        let shared = self
            .tokens
            .iter()
            .zip(4..)
            .filter_map(|(token, index)| other.lookup.get(&token.bytes).map(|theirs| theirs == index));
        let (mut shared_tokens, mut same_index) = (0, 0);
        shared.for_each(|same| {
            shared_tokens += 1;
            same_index += u64::from(same);
        });
        Comparison {
            same_tokens: self.unit == other.unit && self.cleaning == other.cleaning,
            shared_tokens,
            same_index,
            only_first: self.without(other, listed),
            only_second: other.without(self, listed),
        }
    }

    fn without(&self, other: &Self, listed: usize) -> OneSided {
        let mut own: Vec<&Token> =
            self.spelt().filter(|token| other.lookup.get(&token.bytes).is_none()).collect();
        own.sort_by(|a, b| b.count.cmp(&a.count).then_with(|| a.bytes.cmp(&b.bytes)));
        OneSided {
            tokens: own.len() as u64,
            count: own.iter().map(|token| token.count).sum(),
            total_count: self.tokens.iter().map(|token| token.count).sum(),
            most_frequent: own
                .iter()
                .take(listed)
                .map(|token| (token.shown().into_owned(), token.count))
                .collect(),
        }
    }

    /// Refuses two that do not find the same tokens in a text, or whose tokens hang together.
    fn check_alike(&self, other: &Self) -> Result<(), TextError> {
        let bad = |what: String| Err(TextError::NotAlike(what));
        if self.method != Method::Listed || self.unit.knows_everything() {
            return bad(format!(
                "a vocabulary of {} cannot be extended or merged, because its tokens depend on each other: build a new one",
                self.unit.plural()
            ));
        }
        if self.unit != other.unit {
            return bad(format!("their units differ: {} and {}", self.unit.plural(), other.unit.plural()));
        }
        if self.cleaning != other.cleaning {
            return bad("their cleaning differs".into());
        }
        if self.reserved != other.reserved {
            return bad("their reserved tokens are spelt differently".into());
        }
        Ok(())
    }

    /// All tokens of both with their counts added, the most frequent first.
    ///
    /// # Errors
    /// [`TextError::NotAlike`].
    pub fn merged(&self, other: &Self) -> Result<Self, TextError> {
        self.check_alike(other)?;
        let mut counts: HashMap<&[u8], u64> = HashMap::new();
        for token in self.spelt().chain(other.spelt()) {
            *counts.entry(&token.bytes).or_default() += token.count;
        }
        let mut tokens: Vec<Token> =
            counts.into_iter().map(|(bytes, count)| Token::new(bytes, count)).collect();
        tokens.sort_by(|a, b| b.count.cmp(&a.count).then_with(|| a.bytes.cmp(&b.bytes)));
        self.with_tokens(other, tokens)
    }

    /// This vocabulary with the other's tokens that it does not have behind its own, which keep their indices; counts are added. At most
    /// `add` come in, the first of the other's, and none that was counted less than `minimum_count` times.
    ///
    /// # Errors
    /// [`TextError::NotAlike`].
    pub fn extended(&self, other: &Self, add: usize, minimum_count: u64) -> Result<Self, TextError> {
        self.check_alike(other)?;
        let mut tokens: Vec<Token> = self.tokens.clone();
        for token in other.spelt() {
            match self.lookup.get(&token.bytes) {
                Some(index) => tokens[(index - Reserved::COUNT) as usize].count += token.count,
                None if tokens.len() - self.tokens.len() < add && token.count >= minimum_count => {
                    tokens.push(token.clone());
                }
                None => {}
            }
        }
        let larger = self.with_tokens(other, tokens)?;
        larger.marked(self.turns).map_err(TextError::BadVocabulary)
    }

    fn with_tokens(&self, other: &Self, tokens: Vec<Token>) -> Result<Self, TextError> {
        let (a, b) = (self.counted, other.counted);
        let counted = Counted {
            documents: a.documents + b.documents,
            tokens: a.tokens + b.tokens,
            // Of the tokens without an index only their numbers are known: at least as many as either had are different.
            distinct_tokens: a.distinct_tokens.max(b.distinct_tokens).max(tokens.len() as u64),
            tokens_covered: tokens.iter().map(|token| token.count).sum(),
        };
        let (unit, cleaning, reserved) = (self.unit, self.cleaning.clone(), self.reserved.clone());
        let mut words = Sample::new(UNLISTED_WORDS);
        let mut counts: HashMap<&str, u64> = HashMap::new();
        for (word, count) in self.rest.words.iter().chain(&other.rest.words) {
            *counts.entry(word).or_default() += count;
        }
        counts.into_iter().for_each(|(word, count)| words.offer(word, count));
        let mut rest = Rest { words: words.sorted(), spacing: self.rest.spacing.clone() };
        rest.spacing.add(&other.rest.spacing);
        Self::assemble(unit, cleaning, reserved, counted, tokens, Method::Listed, rest)
            .map_err(|(_, what)| TextError::BadVocabulary(what))
    }
}
