//! The best accuracy that any classifier can reach on the diaries.
//!
//! From the whole text it is 1 for every feature that the text names: an entry has one derivation, and the derivation has the features. From
//! some of its words it is the expected probability of the most probable value given those words (the accuracy of Bayes' rule), which is
//! estimated by drawing entries: for each of them the probability of every value is worked out over all derivations.

use std::collections::{BTreeMap, HashMap};
use std::rc::Rc;

use serde::{Deserialize, Serialize};

use crate::entropy::{features_read, over};
use crate::grammar::{Features, Grammar, MAX_FEATURES, Symbol, UNBOUND};
use crate::{Generator, words_of};

/// An accuracy that no classifier exceeds but by chance, estimated from drawn examples.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Ceiling {
    /// Mean probability of the most probable class.
    pub accuracy: f64,
    /// Standard error of the mean.
    pub standard_error: f64,
    /// Examples that were drawn.
    pub examples: u64,
}

impl Ceiling {
    /// The mean of the probabilities of the most probable class.
    pub(crate) fn of(best: &[f64]) -> Self {
        let count = best.len().max(1) as f64;
        let accuracy = best.iter().sum::<f64>() / count;
        let variance = best.iter().map(|p| (p - accuracy).powi(2)).sum::<f64>() / (count - 1.0).max(1.0);
        Self { accuracy, standard_error: (variance / count).sqrt(), examples: best.len() as u64 }
    }
}

impl Grammar {
    /// The ceiling for a feature, such as `keeper`, given those words of an entry that `shown` keeps, in their order. `entries` of them are
    /// drawn. None if the grammar has no such feature.
    pub fn ceiling(
        &self,
        feature: &str,
        shown: &dyn Fn(&str) -> bool,
        entries: u64,
        seed: u64,
    ) -> Option<Ceiling> {
        let mut generator = Generator::new(self, seed);
        let best: Option<Vec<f64>> = (0..entries)
            .map(|_| {
                let entry = generator.next_entry();
                let words: Vec<&str> = words_of(&entry.text).into_iter().filter(|word| shown(word)).collect();
                let all = self.probabilities(feature, &words, shown)?;
                let total: f64 = all.values().sum();
                Some(all.values().copied().fold(0.0, f64::max) / total)
            })
            .collect();
        best.map(|best| Ceiling::of(&best))
    }

    /// For each value of a feature the probability that an entry has it and that `words` are the words of it that `shown` keeps.
    pub(crate) fn probabilities(
        &self,
        feature: &str,
        words: &[&str],
        shown: &dyn Fn(&str) -> bool,
    ) -> Option<BTreeMap<String, f64>> {
        let feature = self.features.iter().position(|known| known == feature)?;
        let kept: Vec<bool> = self.words.iter().map(|word| shown(word)).collect();
        let mut walk =
            Walk { grammar: self, reads: features_read(self), shown, kept, words, known: HashMap::new() };
        let mut all = BTreeMap::new();
        for ((features, read), probability) in walk.rule(self.start, &[UNBOUND; MAX_FEATURES], 0).iter() {
            if *read == words.len() {
                *all.entry(self.value_text(features, feature).to_owned()).or_default() += probability;
            }
        }
        Some(all)
    }
}

/// Features that are bound, and words that are read, with the probability of that.
type Places = BTreeMap<(Features, usize), f64>;

/// All ways to derive an entry with the given words.
struct Walk<'g> {
    grammar: &'g Grammar,
    reads: Vec<u32>,
    shown: &'g dyn Fn(&str) -> bool,
    /// For each word of the grammar whether it is shown.
    kept: Vec<bool>,
    words: &'g [&'g str],
    known: HashMap<(usize, Features, usize), Rc<Places>>,
}

impl Walk<'_> {
    /// What expanding a rule leaves behind, from a place among the words.
    fn rule(&mut self, rule: usize, features: &Features, from: usize) -> Rc<Places> {
        let seen: Features =
            std::array::from_fn(
                |index| {
                    if self.reads[rule] & (1 << index) == 0 { UNBOUND } else { features[index] }
                },
            );
        if let Some(places) = self.known.get(&(rule, seen, from)) {
            return Rc::clone(places);
        }
        let grammar = self.grammar;
        let mut all = Places::new();
        for alternative in &grammar.rules[rule].alternatives {
            let mut bound = [UNBOUND; MAX_FEATURES];
            for &(feature, value) in &alternative.binds {
                bound[feature] = value;
            }
            let mut places = Places::from([((bound, from), alternative.probability)]);
            for symbol in &alternative.symbols {
                places = self.symbol(symbol, &seen, places);
            }
            for (place, probability) in places {
                *all.entry(place).or_default() += probability;
            }
        }
        let all = Rc::new(all);
        self.known.insert((rule, seen, from), Rc::clone(&all));
        all
    }

    fn symbol(&mut self, symbol: &Symbol, outer: &Features, places: Places) -> Places {
        let mut next = Places::new();
        for ((state, at), probability) in places {
            let features = over(&state, outer);
            let (word, kept) = match symbol {
                Symbol::Word(word) => {
                    (self.grammar.words[*word as usize].as_str(), self.kept[*word as usize])
                }
                Symbol::Value(feature) => {
                    let word = self.grammar.value_text(&features, *feature);
                    (word, (self.shown)(word))
                }
                Symbol::Rule(_) | Symbol::Keyed { .. } => {
                    if let Some(target) = self.grammar.target(symbol, &features) {
                        for ((leaf, end), share) in self.rule(target, &features, at).iter() {
                            *next.entry((over(leaf, &state), *end)).or_default() += probability * share;
                        }
                        continue;
                    }
                    ("", false)
                }
            };
            // A word that is shown must be the next of the words, and one that is not leaves no trace.
            if !kept {
                *next.entry((state, at)).or_default() += probability;
            } else if self.words.get(at) == Some(&word) {
                *next.entry((state, at + 1)).or_default() += probability;
            }
        }
        next
    }
}

#[cfg(test)]
mod tests {
    use crate::{Generator, Grammar, thornmere};

    #[test]
    fn a_ceiling_is_that_worked_out_by_hand() {
        // Nell hums three times in four, Odo once in four; nothing else tells them apart but their names.
        let grammar = Grammar::parse(
            "rule entry\n  1 : {@keeper} {what/keeper} .\nrule @keeper\n  1 Nell : Nell\n  1 Odo : Odo\nrule what/Nell\n  3 : hums\n  1 : sings\nrule what/Odo\n  1 : hums\n  3 : sings\n",
        )
        .unwrap();
        let names = |word: &str| word == "Nell" || word == "Odo";
        let from_names = grammar.ceiling("keeper", &names, 50, 1).unwrap();
        assert_eq!((from_names.accuracy, from_names.standard_error), (1.0, 0.0));
        let verbs = |word: &str| word == "hums" || word == "sings";
        let from_verbs = grammar.ceiling("keeper", &verbs, 50, 1).unwrap();
        assert!((from_verbs.accuracy - 0.75).abs() < 1e-12);
        let from_nothing = grammar.ceiling("keeper", &|_| false, 50, 1).unwrap();
        assert!((from_nothing.accuracy - 0.5).abs() < 1e-12);
        assert!(grammar.ceiling("weather", &verbs, 1, 1).is_none());
        let all = grammar.probabilities("keeper", &["hums"], &verbs).unwrap();
        assert_eq!(
            all.into_iter().collect::<Vec<_>>(),
            [("Nell".to_owned(), 0.375), ("Odo".to_owned(), 0.125)]
        );
    }

    #[test]
    fn the_whole_text_names_keeper_and_outcome() {
        let grammar = thornmere().unwrap();
        for feature in ["keeper", "outcome", "season"] {
            let ceiling = grammar.ceiling(feature, &|_| true, 20, 3).unwrap();
            assert!((ceiling.accuracy - 1.0).abs() < 1e-12, "{feature}: {ceiling:?}");
        }
        // The probability of a whole text is that of its derivation.
        let entry = Generator::new(&grammar, 5).next_entry();
        let words = crate::words_of(&entry.text);
        let all = grammar.probabilities("keeper", &words, &|_| true).unwrap();
        assert!((all[&entry.keeper].log2() + entry.bits).abs() < 1e-9);
    }
}
