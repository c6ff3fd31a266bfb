//! The hive diaries' grammar: unambiguous, varied, and its entropy exact.

use std::collections::{BTreeMap, BTreeSet};

use lalograph_demo::{Generator, Grammar, thornmere, words_of};

/// Small enough to list every entry, with every feature of the real one: bound values, keyed rules,
/// values printed again, several bindings at once, choices that depend on two features.
const SMALL: &str = "
rule entry
  1 : {@hive} {@season} {bloom/season} {place/where} {tail}
rule @hive
  3 Foxgate where=mill : Foxgate
  1 Mossdown where=wood : Mossdown
  2 Ashenlow where=wood : Ashenlow
rule @season
  2 spring : early
  5 autumn : late
rule bloom/spring
  1 : willow
  6 : gorse
rule bloom/autumn
  1 : ivy
rule place/mill
  1 : by the mill
rule place/wood
  2 : in the {=where}
  3 : under trees
rule tail
  4 : .
  1 : , at {=hive} .
";

/// Whether a rule binds its own name, and its alternatives: weight, labels and bindings, symbols.
type SmallRule<'t> = (bool, Vec<(f64, Vec<&'t str>, &'t str)>);

/// All derivations with their probabilities, by a method of its own: repeatedly replacing the first reference in a
/// string, with the grammar's text as the only source.
fn all_entries(source: &str) -> Vec<(String, f64)> {
    let mut rules: BTreeMap<&str, SmallRule<'_>> = BTreeMap::new();
    let mut name = "";
    for line in source.lines().filter(|line| !line.is_empty()) {
        if let Some(rule) = line.strip_prefix("rule ") {
            name = rule.trim_start_matches('@');
            rules.insert(name, (rule.starts_with('@'), Vec::new()));
        } else {
            let (head, symbols) = line.split_once(" : ").unwrap();
            let mut head = head.split_whitespace();
            let weight = head.next().unwrap().parse().unwrap();
            rules.get_mut(name).unwrap().1.push((weight, head.collect(), symbols));
        }
    }
    let mut finished = Vec::new();
    let mut open = vec![("{entry}".to_owned(), 1.0, BTreeMap::<String, String>::new())];
    while let Some((text, probability, features)) = open.pop() {
        let Some(start) = text.find('{') else {
            finished.push((text, probability));
            continue;
        };
        let end = text[start..].find('}').unwrap() + start;
        let inside = text[start + 1..end].trim_start_matches('@');
        let with = |middle: &str| format!("{}{middle}{}", &text[..start], &text[end + 1..]);
        if let Some(feature) = inside.strip_prefix('=') {
            open.push((with(&features[feature]), probability, features));
            continue;
        }
        let key = match inside.split_once('/') {
            Some((family, feature)) => format!("{family}/{}", features[feature]),
            None => inside.to_owned(),
        };
        let (binds, alternatives) = &rules[key.as_str()];
        let total: f64 = alternatives.iter().map(|alternative| alternative.0).sum();
        for (weight, head, symbols) in alternatives {
            let mut bound = features.clone();
            for word in head {
                match word.split_once('=') {
                    Some((feature, value)) => bound.insert(feature.to_owned(), value.to_owned()),
                    None => bound.insert(inside.to_owned(), (*word).to_owned()),
                };
                assert!(*binds);
            }
            open.push((with(symbols), probability * weight / total, bound));
        }
    }
    finished
}

#[test]
fn on_a_small_grammar_the_listed_entries_sum_to_one_and_have_the_computed_entropy() {
    let grammar = Grammar::parse(SMALL).unwrap();
    let entries = all_entries(SMALL);
    let texts: BTreeSet<&str> = entries.iter().map(|(text, _)| text.as_str()).collect();
    assert_eq!(texts.len(), entries.len(), "two derivations give one text");
    assert_eq!(entries.len(), 30);
    let sum: f64 = entries.iter().map(|(_, p)| p).sum();
    assert!((sum - 1.0).abs() < 1e-12, "{sum}");

    let bits: f64 = entries.iter().map(|(_, p)| -p * p.log2()).sum();
    let words: f64 = entries.iter().map(|(text, p)| p * words_of(text).len() as f64).sum();
    let characters: f64 = entries
        .iter()
        .map(|(text, p)| p * text.replace(" .", ".").replace(" ,", ",").chars().count() as f64)
        .sum();
    let entropy = grammar.entropy();
    assert!((entropy.bits_per_entry - bits).abs() < 1e-12, "{entropy:?} {bits}");
    assert!((entropy.words_per_entry - words).abs() < 1e-12, "{entropy:?} {words}");
    assert!((entropy.characters_per_entry - characters).abs() < 1e-12, "{entropy:?} {characters}");

    for (text, probability) in &entries {
        let derivations = grammar.derivations(text);
        assert_eq!(derivations.len(), 1, "{text}");
        assert!((derivations[0] - probability).abs() < 1e-12, "{text}");
    }
}

#[test]
fn an_ambiguous_grammar_is_caught() {
    let grammar = Grammar::parse("rule entry\n  1 : {a}\n  1 : bee here\nrule a\n  1 : bee here\n").unwrap();
    assert_eq!(grammar.derivations("bee here").len(), 2);
    let found = grammar.ambiguities();
    assert_eq!(found.len(), 1);
    assert_eq!((found[0].rule.as_str(), found[0].word.as_str()), ("entry", "bee"));
}

#[test]
fn no_two_alternatives_of_the_diaries_begin_alike() {
    assert_eq!(thornmere().unwrap().ambiguities(), []);
}

#[test]
fn generated_entries_have_one_derivation_with_the_probability_they_were_drawn_with() {
    let grammar = thornmere().unwrap();
    let mut generator = Generator::new(&grammar, 11);
    for _ in 0..400 {
        let entry = generator.next_entry();
        let derivations = grammar.derivations(&entry.text);
        assert_eq!(derivations.len(), 1, "{}", entry.text);
        assert!((-derivations[0].log2() - entry.bits).abs() < 1e-9, "{}", entry.text);
        assert_eq!(words_of(&entry.text).len() as u64, entry.words);
    }
    let altered = format!("{} Amen.", generator.next_entry().text);
    assert!(grammar.derivations(&altered).is_empty());
}

#[test]
fn the_mean_over_many_entries_agrees_with_the_exact_expectations() {
    let grammar = thornmere().unwrap();
    let exact = grammar.entropy();
    let mut generator = Generator::new(&grammar, 3);
    let count = 40_000;
    let (mut bits, mut words, mut characters, mut squares) = (0.0, 0.0, 0.0, 0.0);
    for _ in 0..count {
        let entry = generator.next_entry();
        bits += entry.bits;
        squares += entry.bits * entry.bits;
        words += entry.words as f64;
        characters += entry.text.chars().count() as f64;
    }
    let n = f64::from(count);
    let error = ((squares / n - (bits / n).powi(2)) / n).sqrt();
    assert!((bits / n - exact.bits_per_entry).abs() < 5.0 * error, "{} {exact:?}", bits / n);
    assert!((words / n / exact.words_per_entry - 1.0).abs() < 0.003, "{} {exact:?}", words / n);
    assert!(
        (characters / n / exact.characters_per_entry - 1.0).abs() < 0.003,
        "{} {exact:?}",
        characters / n
    );
}

#[test]
fn the_diaries_are_varied() {
    let grammar = thornmere().unwrap();
    assert!(grammar.rule_count() >= 30);
    assert!(grammar.distinct_words().len() >= 600, "{}", grammar.distinct_words().len());
    let mut generator = Generator::new(&grammar, 5);
    let texts: BTreeSet<String> = (0..5_000).map(|_| generator.next_entry().text).collect();
    assert_eq!(texts.len(), 5_000, "entries repeat");
}

#[test]
fn early_names_return_late() {
    let grammar = thornmere().unwrap();
    let mut generator = Generator::new(&grammar, 9);
    for _ in 0..200 {
        let entry = generator.next_entry();
        let words = words_of(&entry.text);
        assert_eq!(words[0], entry.keeper);
        let hives = words.iter().filter(|word| word.ends_with("gate") && word.starts_with("Fox")).count();
        assert!(hives != 1, "{}", entry.text);
    }
}
