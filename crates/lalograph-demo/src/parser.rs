//! Reading entries back: the proof that a text has one derivation, and its probability.

use std::collections::{BTreeMap, BTreeSet};

use crate::grammar::{Features, Grammar, MAX_FEATURES, Symbol, UNBOUND};

/// Two alternatives of one rule that may begin with the same word, so that a reader could not distinguish them at once.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ambiguity {
    /// The rule.
    pub rule: String,
    /// The word that both may begin with.
    pub word: String,
}

/// Splits a rendered entry into its tokens: words, and the marks `. , ; : ?` by themselves.
pub fn words_of(text: &str) -> Vec<&str> {
    let mut tokens = Vec::new();
    for chunk in text.split_whitespace() {
        let bare = chunk.trim_end_matches(['.', ',', ';', ':', '?']);
        if !bare.is_empty() {
            tokens.push(bare);
        }
        tokens.extend(chunk[bare.len()..].split_inclusive(['.', ',', ';', ':', '?']));
    }
    tokens
}

impl Grammar {
    /// Every place where two alternatives of a rule may begin alike. None means that each text has at most
    /// one derivation: reading from the left, the next word always names the alternative that was taken.
    ///
    /// Rules chosen by a feature are counted with all of their values, which can only find more than there is.
    pub fn ambiguities(&self) -> Vec<Ambiguity> {
        let mut firsts: BTreeMap<usize, BTreeSet<String>> = BTreeMap::new();
        let mut found = Vec::new();
        for (index, rule) in self.rules.iter().enumerate() {
            let mut seen = BTreeSet::new();
            for alternative in &rule.alternatives {
                for word in self.first_words(&alternative.symbols[0], &mut firsts) {
                    if !seen.insert(word.clone()) {
                        found.push(Ambiguity { rule: self.rules[index].name.clone(), word });
                    }
                }
            }
        }
        found
    }

    fn first_words(
        &self,
        symbol: &Symbol,
        known: &mut BTreeMap<usize, BTreeSet<String>>,
    ) -> BTreeSet<String> {
        match symbol {
            Symbol::Word(word) => BTreeSet::from([self.words[*word as usize].clone()]),
            Symbol::Value(feature) => self
                .values_of(*feature)
                .into_iter()
                .map(|value| self.values[usize::from(value)].clone())
                .collect(),
            Symbol::Rule(_) | Symbol::Keyed { .. } => {
                let mut all = BTreeSet::new();
                for rule in self.targets(symbol) {
                    if !known.contains_key(&rule) {
                        let mut own = BTreeSet::new();
                        for alternative in &self.rules[rule].alternatives {
                            own.extend(self.first_words(&alternative.symbols[0], known));
                        }
                        known.insert(rule, own);
                    }
                    all.extend(known[&rule].iter().cloned());
                }
                all
            }
        }
    }

    /// The probabilities of all derivations of `text`, found by trying every alternative everywhere; empty when the
    /// grammar cannot have written it. With an unambiguous grammar there is at most one.
    pub fn derivations(&self, text: &str) -> Vec<f64> {
        let tokens = words_of(text);
        let mut found = Vec::new();
        let start = Symbol::Rule(self.start);
        self.read(&mut vec![&start], &tokens, [UNBOUND; MAX_FEATURES], 1.0, &mut found);
        found
    }

    /// `open` holds the symbols still to be read, the next one last.
    fn read<'g>(
        &'g self,
        open: &mut Vec<&'g Symbol>,
        tokens: &[&str],
        features: Features,
        probability: f64,
        found: &mut Vec<f64>,
    ) {
        let Some(symbol) = open.pop() else {
            if tokens.is_empty() {
                found.push(probability);
            }
            return;
        };
        let wanted = match symbol {
            Symbol::Word(word) => Some(self.words[*word as usize].as_str()),
            Symbol::Value(feature) => Some(self.value_text(&features, *feature)),
            Symbol::Rule(_) | Symbol::Keyed { .. } => None,
        };
        if let Some(wanted) = wanted {
            if tokens.first() == Some(&wanted) {
                self.read(open, &tokens[1..], features, probability, found);
            }
        } else if let Some(rule) = self.target(symbol, &features) {
            for alternative in &self.rules[rule].alternatives {
                let mut inner = features;
                for &(feature, value) in &alternative.binds {
                    inner[feature] = value;
                }
                let mut deeper = open.clone();
                deeper.extend(alternative.symbols.iter().rev());
                self.read(&mut deeper, tokens, inner, probability * alternative.probability, found);
            }
        }
        open.push(symbol);
    }
}
