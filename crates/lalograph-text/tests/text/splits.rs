//! Splits: disjoint, complete, stable, balanced.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use crate::common::Folder;
use lalograph_text::partition::{Amount, SplitSpec, make};
use lalograph_text::{Corpus, CorpusSpec, Part, Split, TextError};
use proptest::prelude::*;

fn spec(validation: Amount, test: Amount) -> SplitSpec {
    SplitSpec { seed: 1, validation, test, set_aside_labels: BTreeSet::new(), near: None }
}

/// A table of texts and labels as a corpus, split; the parts in order.
fn split(rows: &[(String, &str)], spec: &SplitSpec) -> Result<(Vec<Part>, Split), TextError> {
    let mut table = "text,label\n".to_owned();
    for (text, label) in rows {
        table.push_str(&format!("\"{text}\",{label}\n"));
    }
    let folder = Folder::with(&[("a.csv", table.as_bytes())]);
    let corpus_spec = CorpusSpec { label: Some("label".into()), ..folder.files(&["a.csv"]) };
    let corpus = Corpus::find(&corpus_spec)?;
    let mut parts = Vec::new();
    let (split, _) = make(&corpus, spec, 2, &mut |_: u64| true, |document, part| {
        assert_eq!(document.number, parts.len() as u64);
        parts.push(part);
        Ok(())
    })?;
    Ok((parts, split))
}

fn entries(count: usize) -> Vec<(String, &'static str)> {
    let labels = ["steady", "steady", "steady", "thriving", "failing", "steady", "thriving", "disputed"];
    (0..count).map(|i| (format!("entry {i} of hive {}", i * 31 % 17), labels[i % labels.len()])).collect()
}

fn shares(rows: &[(String, &str)], parts: &[Part]) -> BTreeMap<(String, Part), usize> {
    let mut counts = BTreeMap::new();
    for ((_, label), part) in rows.iter().zip(parts) {
        *counts.entry(((*label).to_owned(), *part)).or_default() += 1;
    }
    counts
}

#[test]
fn shares_hold_within_every_class_to_a_document_or_half_a_percent() {
    for size in [10, 40, 400, 4000, 40_000] {
        let rows = entries(size);
        let (parts, split) = split(&rows, &spec(Amount::Share(0.1), Amount::Share(0.2))).unwrap();
        let counts = shares(&rows, &parts);
        for label in ["steady", "thriving", "failing", "disputed"] {
            let of = |part| counts.get(&(label.to_owned(), part)).copied().unwrap_or(0) as f64;
            let all = Part::ALL.into_iter().map(of).sum::<f64>();
            let slack = (all * 0.005).max(1.0) + 1e-9;
            for (part, share) in [(Part::Validation, 0.1), (Part::Test, 0.2), (Part::Training, 0.7)] {
                assert!(
                    (of(part) - share * all).abs() <= slack + 0.4,
                    "{size} {label} {part:?}: {} of {all}",
                    of(part)
                );
            }
        }
        // Balance costs exceptions, the fewer the larger the classes, or the file would not stay small.
        assert!(split.exceptions.len() <= size / 4 + 4, "{size}: {}", split.exceptions.len());
        if size == 40_000 {
            assert!(split.exceptions.len() <= size / 50, "{}", split.exceptions.len());
        }
    }
}

#[test]
fn counts_are_met_exactly_and_divided_among_the_classes() {
    let rows = entries(800);
    let (parts, _) = split(&rows, &spec(Amount::Documents(80), Amount::Documents(40))).unwrap();
    let counts = shares(&rows, &parts);
    for (label, all) in [("steady", 400), ("thriving", 200), ("failing", 100), ("disputed", 100)] {
        assert_eq!(counts[&(label.to_owned(), Part::Validation)], all / 10, "{label}");
        assert_eq!(counts[&(label.to_owned(), Part::Test)], all / 20, "{label}");
    }
    let (parts, _) = split(&rows, &spec(Amount::Share(0.25), Amount::Documents(7))).unwrap();
    let count = |part| parts.iter().filter(|&&p| p == part).count();
    assert_eq!((count(Part::Validation), count(Part::Test)), (200, 7));
    let error = split(&rows, &spec(Amount::Documents(700), Amount::Documents(200))).unwrap_err();
    assert!(error.to_string().contains("700 and 200"), "{error}");
    let error = split(&rows, &spec(Amount::Share(0.7), Amount::Share(0.4))).unwrap_err();
    assert!(matches!(error, TextError::Amounts(_)), "{error}");
}

#[test]
fn disputed_labels_are_set_aside_and_do_not_count() {
    let rows = entries(800);
    let set_aside = SplitSpec {
        set_aside_labels: BTreeSet::from(["disputed".to_owned()]),
        ..spec(Amount::Documents(70), Amount::Documents(70))
    };
    let (parts, split) = split(&rows, &set_aside).unwrap();
    for ((text, label), part) in rows.iter().zip(&parts) {
        assert_eq!(*label == "disputed", *part == Part::SetAside, "{text}");
    }
    assert_eq!(split.count_of(Part::SetAside).documents, 100);
    assert_eq!(split.count_of(Part::Validation).documents, 70);
}

/// A text of made-up words, and the same with one of them changed.
fn twin(number: usize, changed: Option<usize>) -> String {
    let word = |place: usize| format!("w{}", (number * 7919 + place * 104_729) % 99_991);
    (0..60)
        .map(|place| if changed == Some(place) { "altered".to_owned() } else { word(place) })
        .collect::<Vec<_>>()
        .join(" ")
}

#[test]
fn near_duplicates_share_a_part_and_a_document_between_two_is_set_aside() {
    let mut rows: Vec<(String, &str)> = (0..400).map(|number| (twin(number, None), "steady")).collect();
    rows.extend((0..400).map(|number| (twin(number, Some(3)), "steady")));
    let near = SplitSpec { near: Some(0.7), ..spec(Amount::Share(0.2), Amount::Share(0.2)) };
    let (parts, rule) = split(&rows, &near).unwrap();
    assert_eq!(parts[..400], parts[400..]);
    assert!(Part::ALL[..3].iter().all(|part| parts.contains(part)));
    // Without looking for them they are torn apart.
    let (torn, _) = split(&rows, &spec(Amount::Share(0.2), Amount::Share(0.2))).unwrap();
    assert_ne!(torn[..400], torn[400..]);
    // The rule alone gives every text the same part again.
    for ((text, label), part) in rows.iter().zip(&parts) {
        assert_eq!(rule.part_of(text, Some(label)), *part);
    }

    // One that resembles a training document and a validation document may be beside neither.
    let pair = |part: Part| (0..400).find(|&n| parts[n] == part).unwrap();
    let (a, b) = (twin(pair(Part::Training), None), twin(pair(Part::Validation), None));
    let bridge = format!("{a} {b}");
    let mut bridged = rows.clone();
    bridged.push((bridge, "steady"));
    let wide = SplitSpec { near: Some(0.4), ..near };
    let (parts, _) = split(&bridged, &wide).unwrap();
    assert_eq!(parts[800], Part::SetAside);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]
    #[test]
    fn splits_are_complete_stable_and_follow_their_file(
        words in prop::collection::vec((0usize..120, 0usize..4), 1..300),
        added in prop::collection::vec((0usize..200, 0usize..4), 0..60),
        validation in 0.0f64..0.5,
        test in 0.0f64..0.5,
        near in any::<bool>(),
        seed in any::<u64>(),
    ) {
        let labels = ["steady", "thriving", "failing", "disputed"];
        // The label hangs on the text: equal texts with different labels could not keep to one part.
        let row = |(word, _): &(usize, usize)| (twin(word / 2, (word % 2 == 1).then_some(5)), labels[word / 2 % 4]);
        let rows: Vec<(String, &str)> = words.iter().map(row).collect();
        let spec = SplitSpec {
            seed,
            set_aside_labels: BTreeSet::from(["disputed".to_owned()]),
            near: near.then_some(0.75),
            ..spec(Amount::Share(validation), Amount::Share(test))
        };
        let (parts, rule) = split(&rows, &spec).unwrap();
        // Complete and disjoint: each document has exactly one part, and the file counts the same.
        prop_assert_eq!(parts.len(), rows.len());
        for part in Part::ALL {
            let count = parts.iter().filter(|&&p| p == part).count() as u64;
            prop_assert_eq!(rule.count_of(part).documents, count);
        }
        // Equal texts are together.
        let mut known: HashMap<&str, Part> = HashMap::new();
        for ((text, _), part) in rows.iter().zip(&parts) {
            prop_assert_eq!(*known.entry(text).or_insert(*part), *part);
        }
        // The file gives every document the same part, after reading it back too.
        let back = Split::from_json(&rule.to_json().unwrap()).unwrap();
        prop_assert_eq!(&back, &rule);
        for ((text, label), part) in rows.iter().zip(&parts) {
            prop_assert_eq!(back.part_of(text, Some(label)), *part);
        }
        // What is added at the end moves nobody.
        let mut longer = rows.clone();
        longer.extend(added.iter().map(row));
        let (later, _) = split(&longer, &spec).unwrap();
        prop_assert_eq!(&later[..rows.len()], &parts[..]);
    }
}
