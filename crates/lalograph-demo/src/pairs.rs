//! Prompts and answers about the hives, with some prompts about other things that are politely refused. The probability of every answer after its
//! prompt is known, so the lowest perplexity that any model can reach on the answers is.

use std::fmt::Write;

use serde::{Deserialize, Serialize};

use crate::generator::Draw;
use crate::grammar::{Grammar, GrammarError};

/// Between a prompt and its answer.
const BETWEEN: &str = "=>";
/// How the answer to a prompt about other things begins.
pub const REFUSAL: &str = "I only know bees";

/// A prompt and its answer.
#[derive(Debug, Clone, PartialEq)]
pub struct Pair {
    /// The prompt.
    pub prompt: String,
    /// The answer.
    pub answer: String,
    /// Tokens of the answer: words and punctuation marks.
    pub answer_words: u64,
    /// Minus the base-2 logarithm of the probability of the answer after the prompt.
    pub answer_bits: f64,
}

impl Pair {
    /// Whether the prompt is about other things than bees.
    pub fn is_off_topic(&self) -> bool {
        self.answer.starts_with(REFUSAL)
    }
}

/// True figures of written pairs.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
pub struct PairsTruth {
    /// Pairs.
    pub pairs: u64,
    /// Pairs whose prompt is about other things.
    pub off_topic: u64,
    /// Word and punctuation tokens of the answers, the end of each counted as one.
    pub answer_tokens: u64,
    /// Bits of the answers after their prompts, by their probabilities.
    pub answer_bits: f64,
    /// Lowest perplexity per token of these answers.
    pub answer_perplexity_floor: f64,
}

impl PairsTruth {
    /// Over some pairs.
    pub fn of<'p>(pairs: impl IntoIterator<Item = &'p Pair>) -> Self {
        let mut truth = Self::default();
        for pair in pairs {
            truth.pairs += 1;
            truth.off_topic += u64::from(pair.is_off_topic());
            truth.answer_tokens += pair.answer_words + 1;
            truth.answer_bits += pair.answer_bits;
        }
        truth.answer_perplexity_floor = (truth.answer_bits / truth.answer_tokens.max(1) as f64).exp2();
        truth
    }
}

/// The grammar of prompts and answers.
///
/// # Errors
/// Never for the grammar that is shipped.
pub fn pairs_grammar() -> Result<Grammar, GrammarError> {
    Grammar::parse(include_str!("../data/pairs.grammar"))
}

/// An endless stream of pairs, the same for the same seed.
pub struct Pairs<'g> {
    grammar: &'g Grammar,
    random: rand_chacha::ChaCha8Rng,
}

impl<'g> Pairs<'g> {
    /// Starts the stream of `seed`.
    pub fn new(grammar: &'g Grammar, seed: u64) -> Self {
        let random = rand::SeedableRng::seed_from_u64(seed ^ 0xA25_4E25);
        Self { grammar, random }
    }

    /// Draws the next pair.
    pub fn next_pair(&mut self) -> Pair {
        let mut draw = Draw::new(self.grammar, &mut self.random, Some(BETWEEN));
        draw.expand(self.grammar.start);
        let (at, words, bits) = draw.mark.unwrap_or_default();
        Pair {
            prompt: draw.text[..at].to_owned(),
            answer: draw.text[at + BETWEEN.len() + 2..].to_owned(),
            answer_words: draw.words - words - 1,
            answer_bits: draw.bits - bits,
        }
    }
}

/// A table of the first pairs of a stream, `prompt,answer,topic,answer_bits`, and its true figures. Different pairs may have the same prompt.
pub fn pairs_file(grammar: &Grammar, seed: u64, count: u64) -> (String, PairsTruth) {
    let mut stream = Pairs::new(grammar, seed);
    let pairs: Vec<Pair> = (0..count).map(|_| stream.next_pair()).collect();
    let mut table = "prompt,answer,topic,answer_bits\n".to_owned();
    for pair in &pairs {
        let topic = if pair.is_off_topic() { "other" } else { "bees" };
        // Prompts and answers hold no quotation marks. Writing to a text cannot fail.
        let _ = writeln!(table, "\"{}\",\"{}\",{topic},{:.6}", pair.prompt, pair.answer, pair.answer_bits);
    }
    (table, PairsTruth::of(&pairs))
}

#[cfg(test)]
mod tests {
    use std::collections::HashMap;

    use super::{BETWEEN, Pairs, PairsTruth, pairs_file, pairs_grammar};
    use crate::words_of;

    #[test]
    fn every_pair_has_one_derivation_and_its_answer_the_probability_that_is_left() {
        let grammar = pairs_grammar().unwrap();
        assert_eq!(grammar.ambiguities(), []);
        let mut stream = Pairs::new(&grammar, 3);
        // Probability of each answer that was met, by prompt.
        let mut answers: HashMap<String, HashMap<String, f64>> = HashMap::new();
        for number in 0..20_000 {
            let pair = stream.next_pair();
            assert_eq!(pair.answer_words, words_of(&pair.answer).len() as u64, "{pair:?}");
            let probability = (-pair.answer_bits).exp2();
            if number < 300 {
                let all = grammar.derivations(&format!("{} {BETWEEN} {}", pair.prompt, pair.answer));
                assert!(all.len() == 1 && all[0] < probability + 1e-12, "{pair:?} {all:?}");
            }
            let known = answers.entry(pair.prompt).or_default();
            let before = known.insert(pair.answer, probability);
            assert!(before.is_none_or(|before| (before - probability).abs() < 1e-12));
        }
        // Answers to one prompt share a probability of one, and often all of them are met.
        let sums: Vec<f64> = answers.values().map(|answers| answers.values().sum()).collect();
        assert!(sums.iter().all(|&sum| sum < 1.0 + 1e-9));
        let whole = sums.iter().filter(|&&sum| sum > 1.0 - 1e-9).count();
        assert!(whole * 3 > sums.len(), "{whole} of {}", sums.len());
    }

    #[test]
    fn a_table_has_its_floor_and_a_share_of_other_topics() {
        let grammar = pairs_grammar().unwrap();
        let (table, truth) = pairs_file(&grammar, 1, 2000);
        assert_eq!(table.lines().count(), 2001);
        let other = table.lines().filter(|line| line.contains(",other,")).count() as u64;
        assert_eq!((truth.pairs, truth.off_topic), (2000, other));
        assert!((200..1000).contains(&other), "{other}");
        let bits: f64 =
            table.lines().skip(1).map(|line| line.rsplit_once(',').unwrap().1.parse::<f64>().unwrap()).sum();
        assert!((bits - truth.answer_bits).abs() < 0.01);
        let floor = (bits / truth.answer_tokens as f64).exp2();
        assert!(
            (floor - truth.answer_perplexity_floor).abs() < 1e-4 && floor > 1.01 && floor < 1.5,
            "{floor}"
        );
        assert_eq!(PairsTruth::of([]).pairs, 0);
    }
}
