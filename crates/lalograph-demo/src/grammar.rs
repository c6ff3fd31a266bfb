//! The grammar: a text of weighted rules, resolved into indices when it is read.

use std::collections::{BTreeMap, HashMap};

use thiserror::Error;

/// The most features one grammar may have.
pub(crate) const MAX_FEATURES: usize = 12;
/// The value of a feature that has not been bound yet.
pub(crate) const UNBOUND: u16 = u16::MAX;

/// The value of each feature at a point of a derivation, by feature index.
pub(crate) type Features = [u16; MAX_FEATURES];

/// Why a grammar text was refused; `line` counts from 1.
#[derive(Debug, Error, PartialEq, Eq)]
pub enum GrammarError {
    /// A line is neither a rule, an alternative, a comment nor blank.
    #[error("line {line}: {what}")]
    Syntax {
        /// Line number in the grammar text.
        line: usize,
        /// The problem.
        what: String,
    },
    /// A reference leads to no rule.
    #[error("line {line}: no rule `{name}`")]
    UnknownRule {
        /// Line number of the reference.
        line: usize,
        /// The rule looked for.
        name: String,
    },
    /// Two rules have one name.
    #[error("line {line}: rule `{name}` is defined twice")]
    Twice {
        /// Line number of the second definition.
        line: usize,
        /// The name.
        name: String,
    },
    /// A rule can reach itself, so that entries would have no bounded length.
    #[error("rule `{name}` leads back to itself")]
    Cycle {
        /// The rule.
        name: String,
    },
    /// The grammar has no rule `entry` to start from.
    #[error("there is no rule `entry` to start from")]
    NoStart,
}

/// One piece of an alternative.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Symbol {
    /// A word or a punctuation mark, as an index into the words.
    Word(u32),
    /// The current value of a feature, printed.
    Value(usize),
    /// Another rule.
    Rule(usize),
    /// A rule chosen by the value of a feature: `by_value[value]`, where values with no rule hold `usize::MAX`.
    Keyed { feature: usize, by_value: Vec<usize> },
}

/// One weighted way to expand a rule.
#[derive(Debug, Clone)]
pub(crate) struct Alternative {
    /// Its weight among its rule's alternatives.
    pub(crate) weight: u32,
    /// Its probability: the weight over the sum of its rule's weights.
    pub(crate) probability: f64,
    /// The features it fixes for the rest of the entry.
    pub(crate) binds: Vec<(usize, u16)>,
    pub(crate) symbols: Vec<Symbol>,
}

/// A family of alternatives.
#[derive(Debug, Clone)]
pub(crate) struct Rule {
    pub(crate) name: String,
    pub(crate) total_weight: u32,
    pub(crate) alternatives: Vec<Alternative>,
}

/// A weighted grammar with features: a context-free grammar whose rules may be chosen by what was
/// chosen earlier in the same entry.
#[derive(Debug, Clone)]
pub struct Grammar {
    pub(crate) rules: Vec<Rule>,
    pub(crate) start: usize,
    pub(crate) words: Vec<String>,
    /// Feature names, in order of first mention.
    pub(crate) features: Vec<String>,
    /// Feature values: one shared list, since a value's spelling is all that matters.
    pub(crate) values: Vec<String>,
}

impl Grammar {
    /// Reads a grammar; the form is described at the head of `data/thornmere.grammar`.
    ///
    /// # Errors
    /// A [`GrammarError`] that names the line.
    pub fn parse(text: &str) -> Result<Self, GrammarError> {
        let drafts = read_lines(text)?;
        let mut builder = Builder::default();
        for draft in &drafts {
            if builder.rule_index.insert(draft.key.clone(), builder.rule_index.len()).is_some() {
                return Err(GrammarError::Twice { line: draft.line, name: draft.key.clone() });
            }
            builder.collect_names(draft)?;
        }
        let mut rules = Vec::with_capacity(drafts.len());
        for draft in &drafts {
            rules.push(builder.resolve(draft)?);
        }
        let start = *builder.rule_index.get("entry").ok_or(GrammarError::NoStart)?;
        let grammar =
            Self { rules, start, words: builder.words, features: builder.features, values: builder.values };
        grammar.refuse_cycles()?;
        Ok(grammar)
    }

    /// Number of rule families.
    pub fn rule_count(&self) -> usize {
        self.rules.len()
    }

    /// Every distinct token that an entry can hold, lower-cased, punctuation included; sorted.
    pub fn distinct_words(&self) -> Vec<String> {
        let mut all: Vec<String> = self.words.iter().map(|word| word.to_lowercase()).collect();
        for rule in &self.rules {
            for symbol in rule.alternatives.iter().flat_map(|alternative| &alternative.symbols) {
                if let Symbol::Value(feature) = symbol {
                    all.extend(
                        self.values_of(*feature)
                            .into_iter()
                            .map(|value| self.values[value as usize].to_lowercase()),
                    );
                }
            }
        }
        all.sort();
        all.dedup();
        all
    }

    /// The values that a feature can take anywhere in the grammar.
    pub(crate) fn values_of(&self, feature: usize) -> Vec<u16> {
        let mut values: Vec<u16> = self
            .rules
            .iter()
            .flat_map(|rule| &rule.alternatives)
            .flat_map(|alternative| &alternative.binds)
            .filter(|(bound, _)| *bound == feature)
            .map(|(_, value)| *value)
            .collect();
        values.sort_unstable();
        values.dedup();
        values
    }

    /// The spelling of what `feature` holds.
    pub(crate) fn value_text(&self, features: &Features, feature: usize) -> &str {
        self.values.get(usize::from(features[feature])).map_or("", String::as_str)
    }

    /// The rule that a symbol leads to under these features, if it leads to one.
    pub(crate) fn target(&self, symbol: &Symbol, features: &Features) -> Option<usize> {
        match symbol {
            Symbol::Rule(rule) => Some(*rule),
            Symbol::Keyed { feature, by_value } => {
                by_value.get(usize::from(features[*feature])).copied().filter(|&rule| rule != usize::MAX)
            }
            Symbol::Word(_) | Symbol::Value(_) => None,
        }
    }

    /// All rules that a symbol can lead to under any features.
    pub(crate) fn targets(&self, symbol: &Symbol) -> Vec<usize> {
        match symbol {
            Symbol::Rule(rule) => vec![*rule],
            Symbol::Keyed { by_value, .. } => {
                by_value.iter().copied().filter(|&rule| rule != usize::MAX).collect()
            }
            Symbol::Word(_) | Symbol::Value(_) => Vec::new(),
        }
    }

    fn refuse_cycles(&self) -> Result<(), GrammarError> {
        #[derive(Clone, Copy, PartialEq)]
        enum Mark {
            New,
            Open,
            Done,
        }
        fn visit(grammar: &Grammar, rule: usize, marks: &mut [Mark]) -> Result<(), GrammarError> {
            match marks[rule] {
                Mark::Done => return Ok(()),
                Mark::Open => return Err(GrammarError::Cycle { name: grammar.rules[rule].name.clone() }),
                Mark::New => marks[rule] = Mark::Open,
            }
            for symbol in grammar.rules[rule].alternatives.iter().flat_map(|a| &a.symbols) {
                for target in grammar.targets(symbol) {
                    visit(grammar, target, marks)?;
                }
            }
            marks[rule] = Mark::Done;
            Ok(())
        }
        visit(self, self.start, &mut vec![Mark::New; self.rules.len()])
    }
}

/// A punctuation mark follows the word before it without a space; every other token has a space before it.
pub(crate) fn stands_alone(token: &str) -> bool {
    !matches!(token, "." | "," | ";" | ":" | "?")
}

/// A rule as written, before names are resolved.
struct Draft<'t> {
    line: usize,
    /// Name with its value, without `@`.
    key: String,
    /// The feature bound by the alternatives' labels.
    binds: Option<&'t str>,
    alternatives: Vec<(usize, &'t str)>,
}

fn read_lines(text: &str) -> Result<Vec<Draft<'_>>, GrammarError> {
    let mut drafts: Vec<Draft<'_>> = Vec::new();
    for (number, line) in text.lines().enumerate().map(|(index, line)| (index + 1, line)) {
        if line.trim().is_empty() || line.starts_with('#') {
            continue;
        }
        if let Some(name) = line.strip_prefix("rule ") {
            let name = name.trim();
            let bare = name.strip_prefix('@').unwrap_or(name);
            let binds = name.starts_with('@').then(|| bare.split('/').next().unwrap_or(bare));
            drafts.push(Draft { line: number, key: bare.to_owned(), binds, alternatives: Vec::new() });
        } else if let (true, Some(draft)) = (line.starts_with(' '), drafts.last_mut()) {
            draft.alternatives.push((number, line.trim()));
        } else {
            return Err(syntax(number, "expected `rule NAME` or an indented alternative"));
        }
    }
    match drafts.iter().find(|draft| draft.alternatives.is_empty()) {
        Some(empty) => Err(syntax(empty.line, "a rule needs at least one alternative")),
        None => Ok(drafts),
    }
}

fn syntax(line: usize, what: impl Into<String>) -> GrammarError {
    GrammarError::Syntax { line, what: what.into() }
}

/// The parts of an alternative's line: weight, label and bindings, then its symbols.
struct AlternativeLine<'t> {
    weight: u32,
    label: Option<&'t str>,
    sets: Vec<(&'t str, &'t str)>,
    symbols: &'t str,
}

fn split_alternative(line: usize, text: &str) -> Result<AlternativeLine<'_>, GrammarError> {
    let (head, symbols) =
        text.split_once(" : ").ok_or_else(|| syntax(line, "expected `WEIGHT [LABEL] : symbols`"))?;
    let mut words = head.split_whitespace();
    let weight = words
        .next()
        .and_then(|word| word.parse().ok())
        .filter(|&weight| (1..=1_000_000).contains(&weight))
        .ok_or_else(|| syntax(line, "the weight must be a whole number from 1 to 1000000"))?;
    let mut label = None;
    let mut sets = Vec::new();
    for word in words {
        match word.split_once('=') {
            Some(set) => sets.push(set),
            None if label.is_none() => label = Some(word),
            None => return Err(syntax(line, format!("a second label, `{word}`"))),
        }
    }
    if symbols.trim().is_empty() {
        return Err(syntax(line, "an alternative may not be empty: nothing could tell that it was taken"));
    }
    Ok(AlternativeLine { weight, label, sets, symbols })
}

#[derive(Default)]
struct Builder {
    rule_index: BTreeMap<String, usize>,
    words: Vec<String>,
    word_index: HashMap<String, u32>,
    features: Vec<String>,
    values: Vec<String>,
}

impl Builder {
    /// Features and values must all be known before references are resolved.
    fn collect_names(&mut self, draft: &Draft<'_>) -> Result<(), GrammarError> {
        for &(line, text) in &draft.alternatives {
            let parts = split_alternative(line, text)?;
            match (draft.binds, parts.label) {
                (Some(feature), Some(label)) => {
                    self.feature(line, feature)?;
                    self.value(label);
                }
                (None, None) => {}
                (Some(_), None) => return Err(syntax(line, "a rule with @ needs a label here")),
                (None, Some(_)) => return Err(syntax(line, "only a rule with @ may have labels")),
            }
            for (feature, value) in parts.sets {
                self.feature(line, feature)?;
                self.value(value);
            }
        }
        Ok(())
    }

    fn feature(&mut self, line: usize, name: &str) -> Result<usize, GrammarError> {
        if let Some(index) = self.features.iter().position(|known| known == name) {
            return Ok(index);
        }
        if self.features.len() == MAX_FEATURES {
            return Err(syntax(line, format!("more than {MAX_FEATURES} features")));
        }
        self.features.push(name.to_owned());
        Ok(self.features.len() - 1)
    }

    fn value(&mut self, name: &str) -> u16 {
        let known = self.values.iter().position(|value| value == name);
        let index = known.unwrap_or_else(|| {
            self.values.push(name.to_owned());
            self.values.len() - 1
        });
        u16::try_from(index).unwrap_or(UNBOUND - 1)
    }

    fn known_feature(&self, line: usize, name: &str) -> Result<usize, GrammarError> {
        self.features
            .iter()
            .position(|known| known == name)
            .ok_or_else(|| syntax(line, format!("no rule binds the feature `{name}`")))
    }

    fn word(&mut self, text: &str) -> u32 {
        if let Some(&index) = self.word_index.get(text) {
            return index;
        }
        let index = u32::try_from(self.words.len()).unwrap_or(u32::MAX);
        self.words.push(text.to_owned());
        self.word_index.insert(text.to_owned(), index);
        index
    }

    fn resolve(&mut self, draft: &Draft<'_>) -> Result<Rule, GrammarError> {
        let mut alternatives = Vec::with_capacity(draft.alternatives.len());
        for &(line, text) in &draft.alternatives {
            let parts = split_alternative(line, text)?;
            let mut binds = Vec::new();
            if let (Some(feature), Some(label)) = (draft.binds, parts.label) {
                binds.push((self.known_feature(line, feature)?, self.value(label)));
            }
            for (feature, value) in parts.sets {
                binds.push((self.known_feature(line, feature)?, self.value(value)));
            }
            let symbols = self.symbols(line, parts.symbols)?;
            alternatives.push(Alternative { weight: parts.weight, probability: 0.0, binds, symbols });
        }
        let total_weight: u32 = alternatives.iter().map(|alternative| alternative.weight).sum();
        for alternative in &mut alternatives {
            alternative.probability = f64::from(alternative.weight) / f64::from(total_weight);
        }
        Ok(Rule { name: draft.key.clone(), total_weight, alternatives })
    }

    fn symbols(&mut self, line: usize, text: &str) -> Result<Vec<Symbol>, GrammarError> {
        let mut symbols = Vec::new();
        let mut rest = text.trim();
        while !rest.is_empty() {
            if let Some(after) = rest.strip_prefix('{') {
                let (inside, after) =
                    after.split_once('}').ok_or_else(|| syntax(line, "a `{` without its `}`"))?;
                symbols.push(self.reference(line, inside)?);
                rest = after.trim_start();
            } else {
                let end = rest.find([' ', '{']).unwrap_or(rest.len());
                symbols.push(Symbol::Word(self.word(&rest[..end])));
                rest = rest[end..].trim_start();
            }
        }
        Ok(symbols)
    }

    fn reference(&self, line: usize, inside: &str) -> Result<Symbol, GrammarError> {
        if let Some(feature) = inside.strip_prefix('=') {
            return Ok(Symbol::Value(self.known_feature(line, feature)?));
        }
        let name = inside.strip_prefix('@').unwrap_or(inside);
        if let Some(&rule) = self.rule_index.get(name) {
            return Ok(Symbol::Rule(rule));
        }
        let unknown = || GrammarError::UnknownRule { line, name: name.to_owned() };
        let (family, feature) = name.split_once('/').ok_or_else(unknown)?;
        let feature = self.known_feature(line, feature).map_err(|_| unknown())?;
        let by_value: Vec<usize> = self
            .values
            .iter()
            .map(|value| self.rule_index.get(&format!("{family}/{value}")).copied().unwrap_or(usize::MAX))
            .collect();
        if by_value.iter().all(|&rule| rule == usize::MAX) {
            return Err(unknown());
        }
        Ok(Symbol::Keyed { feature, by_value })
    }
}

#[cfg(test)]
mod tests {
    use super::{Grammar, GrammarError};

    #[test]
    fn a_wrong_line_is_named() {
        let cases = [
            ("rule entry\n  x : a\n", 2, "weight"),
            ("rule entry\n  1 : {missing}\n", 2, "missing"),
            ("rule entry\n  1 : {a\n", 2, "`}`"),
            ("rule entry\n  0 : a\n", 2, "weight"),
            ("rule entry\n  1 label : a\n", 2, "label"),
            ("rule @entry\n  1 : a\n", 2, "label"),
            ("rule entry\nrule other\n  1 : a\n", 1, "alternative"),
            ("nonsense\n", 1, "rule NAME"),
            ("rule entry\n  1 : a\nrule entry\n  1 : b\n", 3, "twice"),
        ];
        for (text, line, word) in cases {
            let message = Grammar::parse(text).unwrap_err().to_string();
            assert!(message.contains(&format!("line {line}")), "{text:?}: {message}");
            assert!(message.contains(word), "{text:?}: {message}");
        }
    }

    #[test]
    fn a_rule_that_reaches_itself_is_refused() {
        let text = "rule entry\n  1 : a {b}\nrule b\n  1 : c {entry}\n";
        assert_eq!(Grammar::parse(text).unwrap_err(), GrammarError::Cycle { name: "entry".into() });
    }

    #[test]
    fn a_grammar_without_a_start_is_refused() {
        assert_eq!(Grammar::parse("rule other\n  1 : a\n").unwrap_err(), GrammarError::NoStart);
    }
}
