//! Draws entries from a grammar: one after another, from one seed, with nothing kept.

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::grammar::{Features, Grammar, MAX_FEATURES, Symbol, UNBOUND, stands_alone};

/// One diary entry.
#[derive(Debug, Clone, PartialEq)]
pub struct Entry {
    /// Its number, from 1.
    pub number: u64,
    /// Keeper.
    pub keeper: String,
    /// When in the year.
    pub season: String,
    /// State of the colony: `thriving`, `steady`, `restless` or `failing`.
    pub outcome: String,
    /// The entry itself, on one line.
    pub text: String,
    /// Tokens in the text: words and punctuation marks.
    pub words: u64,
    /// Minus the base-2 logarithm of the entry's probability.
    pub bits: f64,
}

/// An endless stream of entries, the same for the same grammar and seed.
#[derive(Debug)]
pub struct Generator<'g> {
    grammar: &'g Grammar,
    random: ChaCha8Rng,
    number: u64,
    named: [Option<usize>; 3],
}

impl<'g> Generator<'g> {
    /// Starts the stream of `seed`.
    pub fn new(grammar: &'g Grammar, seed: u64) -> Self {
        let feature = |name: &str| grammar.features.iter().position(|known| known == name);
        Self {
            grammar,
            random: ChaCha8Rng::seed_from_u64(seed),
            number: 0,
            named: [feature("keeper"), feature("season"), feature("outcome")],
        }
    }

    /// Draws the next entry.
    pub fn next_entry(&mut self) -> Entry {
        self.number += 1;
        let mut draw = Draw::new(self.grammar, &mut self.random, None);
        draw.expand(self.grammar.start);
        let Draw { features, text, words, bits, .. } = draw;
        let [keeper, season, outcome] = self.named.map(|feature| {
            feature.map_or_else(String::new, |feature| self.grammar.value_text(&features, feature).to_owned())
        });
        Entry { number: self.number, keeper, season, outcome, text, words, bits }
    }
}

/// A text under way.
pub(crate) struct Draw<'g, 'r> {
    grammar: &'g Grammar,
    random: &'r mut ChaCha8Rng,
    features: Features,
    pub(crate) text: String,
    pub(crate) words: u64,
    pub(crate) bits: f64,
    /// A word at which bytes, words and bits so far are noted in `mark`.
    marking: Option<&'static str>,
    pub(crate) mark: Option<(usize, u64, f64)>,
}

impl<'g, 'r> Draw<'g, 'r> {
    pub(crate) fn new(
        grammar: &'g Grammar,
        random: &'r mut ChaCha8Rng,
        marking: Option<&'static str>,
    ) -> Self {
        Self {
            grammar,
            random,
            features: [UNBOUND; MAX_FEATURES],
            text: String::with_capacity(320),
            words: 0,
            bits: 0.0,
            marking,
            mark: None,
        }
    }

    pub(crate) fn expand(&mut self, rule: usize) {
        let grammar = self.grammar;
        let rule = &grammar.rules[rule];
        let mut left = self.random.random_range(0..rule.total_weight);
        let mut taken = &rule.alternatives[0];
        for alternative in &rule.alternatives {
            taken = alternative;
            if left < alternative.weight {
                break;
            }
            left -= alternative.weight;
        }
        self.bits -= taken.probability.log2();
        for &(feature, value) in &taken.binds {
            self.features[feature] = value;
        }
        for symbol in &taken.symbols {
            match symbol {
                Symbol::Word(word) => self.push(&grammar.words[*word as usize]),
                Symbol::Value(feature) => self.push(grammar.value_text(&self.features, *feature)),
                Symbol::Rule(_) | Symbol::Keyed { .. } => {
                    if let Some(target) = grammar.target(symbol, &self.features) {
                        self.expand(target);
                    }
                }
            }
        }
    }

    fn push(&mut self, token: &str) {
        if self.marking == Some(token) {
            self.mark = Some((self.text.len(), self.words, self.bits));
        }
        if stands_alone(token) && !self.text.is_empty() {
            self.text.push(' ');
        }
        self.text.push_str(token);
        self.words += 1;
    }
}
