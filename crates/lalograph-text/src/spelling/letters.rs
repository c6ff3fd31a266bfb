//! The spelling model: how likely a string of bytes is as a word.

use foldhash::fast::FixedState;
use hashbrown::HashMap;

/// Bytes of context at most.
const ORDER: usize = 5;
/// The mark on both sides of a word; a byte `b` is symbol `b + 1`.
const EDGE: u64 = 0;
/// Symbols that can follow a context: 256 bytes and the end.
const SYMBOLS: f64 = 257.0;
const SYMBOL_BITS: u32 = 9;

/// An interpolated model of bytes with contexts of up to five symbols, Kneser and Ney's counts in the shorter contexts, and one absolute
/// discount for each length of context (Kneser and Ney, 1995; Ney, Essen and Kneser, 1994). The probabilities of all strings of bytes, the
/// empty one included, sum to one.
///
/// ```
/// use lalograph_text::spelling::SpellingModel;
///
/// let model = SpellingModel::new(["hive", "hives", "honey"].map(|word| (word.as_bytes(), 1)));
/// assert!(model.bits(b"hove") < model.bits(b"qxzv"));
/// // Of nothing learnt, every byte and the end are equally likely.
/// let even = SpellingModel::new([]);
/// assert!((even.bits(b"ab") - 3.0 * 257f64.log2()).abs() < 1e-9);
/// ```
#[derive(Debug, Clone, Default)]
pub struct SpellingModel {
    /// By the length of the context.
    levels: [Level; ORDER + 1],
}

/// Counts of the characters after contexts of one length.
#[derive(Debug, Clone, Default)]
struct Level {
    /// Counts of a context with the symbol after it.
    grams: HashMap<u64, u64, FixedState>,
    contexts: HashMap<u64, Context, FixedState>,
    discount: f64,
}

#[derive(Debug, Clone, Copy, Default)]
struct Context {
    total: u64,
    distinct: u64,
}

/// Symbols in the order in which they are read, the last one lowest.
fn packed(symbols: &[u64]) -> u64 {
    symbols.iter().fold(0, |packed, symbol| packed << SYMBOL_BITS | symbol)
}

/// A word with the marks on both sides.
fn marked(word: &[u8], symbols: &mut Vec<u64>) {
    symbols.clear();
    symbols.push(EDGE);
    symbols.extend(word.iter().map(|&byte| u64::from(byte) + 1));
    symbols.push(EDGE);
}

impl SpellingModel {
    /// Learns from distinct words, each counted so often.
    pub fn new<'w>(words: impl IntoIterator<Item = (&'w [u8], u64)>) -> Self {
        let mut model = Self::default();
        let mut symbols = Vec::new();
        for (word, times) in words {
            marked(word, &mut symbols);
            for at in 1..symbols.len() {
                let (longest, mut times) = (at.min(ORDER), times);
                // The longest context counts every time; one more in a shorter context only where the longer one was new, which makes its count that
                // of the symbols that come before it.
                for length in (0..=longest).rev() {
                    let gram = packed(&symbols[at - length..=at]);
                    let count = model.levels[length].grams.entry(gram).or_default();
                    let known = *count > 0;
                    *count = count.saturating_add(times);
                    if known {
                        break;
                    }
                    times = 1;
                }
            }
        }
        model.levels.iter_mut().for_each(Level::settle);
        model
    }

    /// The length of a word's code: minus the logarithm to base 2 of its probability.
    pub fn bits(&self, word: &[u8]) -> f64 {
        let mut symbols = Vec::with_capacity(word.len() + 2);
        marked(word, &mut symbols);
        (1..symbols.len()).map(|at| -self.probability(&symbols[..at], symbols[at]).log2()).sum()
    }

    /// Draws a word of at most `longest` bytes; `None` if it grew longer. `uniform` gives numbers from 0 to below 1.
    pub fn draw(&self, longest: usize, uniform: &mut dyn FnMut() -> f64) -> Option<Vec<u8>> {
        let mut symbols = vec![EDGE];
        while symbols.len() <= longest + 1 {
            let mut left = uniform();
            // What rounding leaves over goes to the last symbol.
            let drawn = (EDGE..SYMBOLS as u64 - 1).find(|&symbol| {
                left -= self.probability(&symbols, symbol);
                left < 0.0
            });
            match drawn.unwrap_or(SYMBOLS as u64 - 1) {
                EDGE => return Some(symbols[1..].iter().map(|&symbol| (symbol - 1) as u8).collect()),
                symbol => symbols.push(symbol),
            }
        }
        None
    }

    /// The probability of a symbol after all those before it.
    fn probability(&self, before: &[u64], symbol: u64) -> f64 {
        let mut probability = 1.0 / SYMBOLS;
        for (length, level) in self.levels.iter().enumerate().take(before.len() + 1) {
            let context = packed(&before[before.len() - length..]);
            let Some(found) = level.contexts.get(&context) else {
                break;
            };
            let count = level.grams.get(&(context << SYMBOL_BITS | symbol)).copied().unwrap_or(0);
            let kept = (count as f64 - level.discount).max(0.0);
            let given_away = level.discount * found.distinct as f64;
            probability = (kept + given_away * probability) / found.total as f64;
        }
        probability
    }
}

impl Level {
    fn settle(&mut self) {
        let (mut once, mut twice) = (0.0, 0.0);
        for (gram, &count) in &self.grams {
            let context = self.contexts.entry(gram >> SYMBOL_BITS).or_default();
            context.total = context.total.saturating_add(count);
            context.distinct += 1;
            once += f64::from(u8::from(count == 1));
            twice += f64::from(u8::from(count == 2));
        }
        // Without any that was counted twice there is nothing to estimate it by.
        self.discount = if twice > 0.0 && once > 0.0 { once / (once + 2.0 * twice) } else { 0.75 };
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::{EDGE, SpellingModel, marked};

    fn model(words: &[&str]) -> SpellingModel {
        SpellingModel::new(words.iter().map(|word| (word.as_bytes(), 1)))
    }

    #[test]
    fn one_word_by_hand() {
        // "aa": after the edge an a, after a an a once and the end once.
        let model = model(&["aa"]);
        let even = 1.0 / 257.0;
        // Without context: a follows two different symbols (the edge, a), the end follows one; 3 in all, 2 kinds. One count of 1 and one of 2 make
        // the discount 1 / (1 + 2 x 1).
        let discount = 1.0 / 3.0;
        let [a0, end0] = [2.0, 1.0].map(|count| (count - discount + 2.0 * discount * even) / 3.0);
        // With a context no count is 2, so that the discount is 0.75. After the edge only a.
        let first = 0.25 + 0.75 * a0;
        // After a: a and the end, each once; after (edge, a) only a; after (a, a), with and without the edge, only the end.
        let after = |shorter: f64| (0.25 + 1.5 * shorter) / 2.0;
        let second = 0.25 + 0.75 * after(a0);
        let third = 0.25 + 0.75 * (0.25 + 0.75 * after(end0));
        let expected = -(first * second * third).log2();
        assert!((model.bits(b"aa") - expected).abs() < 1e-12, "{} {expected}", model.bits(b"aa"));
    }

    #[test]
    fn words_are_drawn_in_proportion_to_their_probability() {
        let model = SpellingModel::new(["ab", "ac", "b"].map(|word| (word.as_bytes(), 40)));
        let mut state = 7u64;
        let mut uniform = || {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (state >> 11) as f64 / (1u64 << 53) as f64
        };
        let draws = 20_000;
        let mut counts = std::collections::HashMap::new();
        for _ in 0..draws {
            *counts.entry(model.draw(3, &mut uniform)).or_insert(0u32) += 1;
        }
        for word in ["ab", "ac", "b", "a"] {
            let expected = f64::from(draws) * (-model.bits(word.as_bytes())).exp2();
            let found = f64::from(counts.get(&Some(word.as_bytes().to_vec())).copied().unwrap_or(0));
            // Five standard deviations.
            assert!((found - expected).abs() < 5.0 * expected.sqrt().max(1.0), "{word}: {found} {expected}");
        }
        assert!(counts.keys().flatten().all(|word| word.len() <= 3));
    }

    #[test]
    fn counts_of_shorter_contexts_count_distinct_predecessors() {
        // "n" comes after "o" three times, "e" after three different letters once each.
        let model = model(&["on", "con", "son", "be", "he", "we"]);
        assert!(model.bits(b"xe") < model.bits(b"xn"));
    }

    proptest! {
        #[test]
        fn what_may_follow_sums_to_one(words in prop::collection::hash_set("[ab\u{e9}]{0,7}", 0..40), context in "[abc\u{e9}]{0,8}") {
            let model = SpellingModel::new(words.iter().zip(1..).map(|(word, times)| (word.as_bytes(), times)));
            let mut symbols = Vec::new();
            marked(context.as_bytes(), &mut symbols);
            symbols.pop();
            let sum: f64 = (EDGE..=256).map(|symbol| model.probability(&symbols, symbol)).sum();
            prop_assert!((sum - 1.0).abs() < 1e-9, "{}", sum);
        }

        #[test]
        fn all_strings_up_to_a_length_and_the_rest_sum_to_one(words in prop::collection::hash_set("[a-c]{0,3}", 0..12)) {
            let model = SpellingModel::new(words.iter().map(|word| (word.as_bytes(), 2)));
            // Whole strings of up to one byte, and the beginnings of two bytes that may continue to anything.
            let whole: f64 = std::iter::once(Vec::new())
                .chain((0..=255u8).map(|byte| vec![byte]))
                .map(|word| (-model.bits(&word)).exp2())
                .sum();
            let mut rest = 0.0;
            for first in 1..=256u64 {
                let begins = model.probability(&[EDGE], first);
                rest += begins * (1..=256u64).map(|second| model.probability(&[EDGE, first], second)).sum::<f64>();
            }
            prop_assert!((whole + rest - 1.0).abs() < 1e-9, "{} {}", whole, rest);
        }
    }
}
