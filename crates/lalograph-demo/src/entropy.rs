//! The exact entropy of a grammar's entries.
//!
//! An entry represents exactly one derivation, so the entropy of the text is that of the derivation, and by the chain rule
//! that is the expected sum, over the choices made, of each choice's own entropy (Shannon, 1948). A rule's later
//! parts may depend on the features bound in its earlier parts, so a sequence is walked with the distribution
//! over features that its beginning leaves behind.

use std::collections::{BTreeMap, HashMap};
use std::rc::Rc;

use serde::{Deserialize, Serialize};

use crate::grammar::{Features, Grammar, MAX_FEATURES, Symbol, UNBOUND, stands_alone};

/// Exact figures of the text, from the rule probabilities.
///
/// Per-word and per-character figures are ratios of expectations: total bits over total tokens as a
/// corpus grows. Each entry counts one more token, and one more character, for its end.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Entropy {
    /// Expected bits of one entry.
    pub bits_per_entry: f64,
    /// Expected tokens of one entry (words and punctuation marks), without its end.
    pub words_per_entry: f64,
    /// Expected characters of one entry, without its end.
    pub characters_per_entry: f64,
}

impl Entropy {
    /// Bits per word token, the end of the entry counted as one.
    pub fn bits_per_word(&self) -> f64 {
        self.bits_per_entry / (self.words_per_entry + 1.0)
    }

    /// Bits per character, the end of the entry counted as one.
    pub fn bits_per_character(&self) -> f64 {
        self.bits_per_entry / (self.characters_per_entry + 1.0)
    }

    /// The lowest perplexity per word token that any model can reach.
    pub fn word_perplexity_floor(&self) -> f64 {
        self.bits_per_word().exp2()
    }

    /// The lowest perplexity per character that any model can reach.
    pub fn character_perplexity_floor(&self) -> f64 {
        self.bits_per_character().exp2()
    }
}

impl Grammar {
    /// Works out the entropy from the rule probabilities.
    pub fn entropy(&self) -> Entropy {
        let mut walk = Walk { grammar: self, reads: features_read(self), known: HashMap::new() };
        let whole = walk.rule(self.start, &[UNBOUND; MAX_FEATURES]);
        Entropy {
            bits_per_entry: whole.bits,
            words_per_entry: whole.words,
            // Every word carries the space before it, but the first word of an entry has none.
            characters_per_entry: whole.characters - 1.0,
        }
    }
}

/// For each rule, which features its expansion can look at, as a bit set.
pub(crate) fn features_read(grammar: &Grammar) -> Vec<u32> {
    let mut reads = vec![0u32; grammar.rules.len()];
    // The grammar has no cycles, so as many rounds as rules reach the fixed point; few are needed.
    loop {
        let mut changed = false;
        for index in 0..grammar.rules.len() {
            let mut set = reads[index];
            for symbol in grammar.rules[index].alternatives.iter().flat_map(|a| &a.symbols) {
                match symbol {
                    Symbol::Value(feature) | Symbol::Keyed { feature, .. } => set |= 1 << feature,
                    Symbol::Word(_) | Symbol::Rule(_) => {}
                }
                for target in grammar.targets(symbol) {
                    set |= reads[target];
                }
            }
            changed |= set != reads[index];
            reads[index] = set;
        }
        if !changed {
            return reads;
        }
    }
}

/// The expected result of expanding a rule: its entropy, and the distribution of the features that it binds.
struct Summary {
    bits: f64,
    words: f64,
    characters: f64,
    leaves: BTreeMap<Features, f64>,
}

struct Walk<'g> {
    grammar: &'g Grammar,
    reads: Vec<u32>,
    /// Summaries by rule and the features that the rule can look at.
    known: HashMap<(usize, Features), Rc<Summary>>,
}

impl Walk<'_> {
    fn rule(&mut self, rule: usize, features: &Features) -> Rc<Summary> {
        let seen: Features =
            std::array::from_fn(
                |index| {
                    if self.reads[rule] & (1 << index) == 0 { UNBOUND } else { features[index] }
                },
            );
        if let Some(summary) = self.known.get(&(rule, seen)) {
            return Rc::clone(summary);
        }
        let grammar = self.grammar;
        let mut whole = Summary { bits: 0.0, words: 0.0, characters: 0.0, leaves: BTreeMap::new() };
        for alternative in &grammar.rules[rule].alternatives {
            let p = alternative.probability;
            whole.bits -= p * p.log2();
            let mut bound = [UNBOUND; MAX_FEATURES];
            for &(feature, value) in &alternative.binds {
                bound[feature] = value;
            }
            let mut states = BTreeMap::from([(bound, p)]);
            for symbol in &alternative.symbols {
                states = self.symbol(symbol, &seen, states, &mut whole);
            }
            for (state, probability) in states {
                *whole.leaves.entry(state).or_default() += probability;
            }
        }
        let summary = Rc::new(whole);
        self.known.insert((rule, seen), Rc::clone(&summary));
        summary
    }

    /// Adds one symbol's expectations to `whole` and moves the distribution over features past it.
    fn symbol(
        &mut self,
        symbol: &Symbol,
        outer: &Features,
        states: BTreeMap<Features, f64>,
        whole: &mut Summary,
    ) -> BTreeMap<Features, f64> {
        let mut next = BTreeMap::new();
        for (state, probability) in states {
            let features = over(&state, outer);
            match symbol {
                Symbol::Word(word) => {
                    whole.words += probability;
                    whole.characters += probability * width(&self.grammar.words[*word as usize]);
                }
                Symbol::Value(feature) => {
                    whole.words += probability;
                    whole.characters += probability * width(self.grammar.value_text(&features, *feature));
                }
                Symbol::Rule(_) | Symbol::Keyed { .. } => {
                    if let Some(target) = self.grammar.target(symbol, &features) {
                        let inner = self.rule(target, &features);
                        whole.bits += probability * inner.bits;
                        whole.words += probability * inner.words;
                        whole.characters += probability * inner.characters;
                        for (leaf, share) in &inner.leaves {
                            *next.entry(over(leaf, &state)).or_default() += probability * share;
                        }
                        continue;
                    }
                }
            }
            *next.entry(state).or_default() += probability;
        }
        next
    }
}

/// The newer bindings laid over the older ones.
pub(crate) fn over(newer: &Features, older: &Features) -> Features {
    std::array::from_fn(|index| if newer[index] == UNBOUND { older[index] } else { newer[index] })
}

fn width(token: &str) -> f64 {
    let letters = token.chars().count();
    (if stands_alone(token) { letters + 1 } else { letters }) as f64
}
