//! Surveys against counts made by hand or in another way.

use std::collections::HashMap;

use crate::common::Folder;
use lalograph_text::survey::{CharacterKind, ClassCount, SurveySpec, count, survey};
use lalograph_text::{Cleaning, CleaningStep, Corpus, CorpusSpec, Division};
use proptest::prelude::*;
use regex::Regex;

#[test]
fn classes_matches_kinds_and_duplicates_are_found() {
    let table = "text,label\nThe queen raced home.,steady\nNo queen seen \u{2013} brood 7.,failing\nThe queen raced home.,steady\n\
                 quiet,steady\nThe queen raced home.,failing\nna\u{ef}ve,\n";
    let folder = Folder::with(&[("a.csv", table.as_bytes())]);
    let corpus =
        Corpus::find(&CorpusSpec { label: Some("label".into()), ..folder.files(&["a.csv"]) }).unwrap();
    let spec = SurveySpec {
        most_frequent: 3,
        first_rows: 1,
        row_characters: 32,
        pattern: Some(Regex::new("[Qq]ueen (raced|seen)").unwrap()),
        examples: 2,
        ..SurveySpec::default()
    };
    let (found, reading) = survey(&corpus, &spec, 2, &mut |_: u64| true).unwrap();
    assert_eq!((found.documents, found.skipped, reading.skipped_count), (5, 1, 1));
    let class = |label: &str, documents, words, bytes, matching| ClassCount {
        label: label.into(),
        documents,
        words,
        bytes,
        matching_documents: Some(matching),
    };
    assert_eq!(found.classes, [class("steady", 3, 11, 50, 2), class("failing", 2, 12, 49, 2)]);
    let matches = found.matches.unwrap();
    assert_eq!((matches.documents, matches.examples.len()), (4, 2));
    let second = &matches.examples[1];
    assert_eq!(
        (second.place.line, second.before.as_str(), second.found.as_str(), second.after.as_str()),
        (3, "No ", "queen seen", " \u{2013} b")
    );
    let duplicates = found.duplicates;
    assert_eq!((duplicates.documents, duplicates.repeated_texts), (2, 1));
    assert_eq!((duplicates.most_repeated[0].copies, duplicates.most_repeated[0].place.line), (3, 2));
    let kinds: HashMap<CharacterKind, (u64, u64)> =
        found.kinds.iter().map(|kind| (kind.kind, (kind.characters, kind.bytes))).collect();
    assert_eq!(kinds[&CharacterKind::Digit], (1, 1));
    assert_eq!(kinds[&CharacterKind::Mark], (5, 7));
    assert_eq!(kinds[&CharacterKind::Space], (14, 14));
    assert_eq!(found.characters, kinds.values().map(|(characters, _)| characters).sum::<u64>());
    assert_eq!(found.most_frequent[0], (".".to_owned(), 4));
    assert_eq!(found.most_frequent[1], ("queen".to_owned(), 4));
    assert_eq!(found.most_frequent_characters[0], ('e', 20));
    assert_eq!(found.first_rows[0].label.as_deref(), Some("steady"));
}

#[test]
fn ranks_cover_all_words_at_the_last() {
    let text: String =
        (1..=120).flat_map(|rank| std::iter::repeat_n(format!("w{rank} "), 240 / rank)).collect();
    let folder = Folder::with(&[("a.txt", text.as_bytes())]);
    let corpus = Corpus::find(&folder.spec(Division::File)).unwrap();
    let (found, _) = survey(&corpus, &SurveySpec::default(), 1, &mut |_: u64| true).unwrap();
    let points = &found.rank_frequency;
    for point in points {
        assert_eq!(point.count, 240 / point.rank, "{point:?}");
        assert_eq!(point.covered_words, (1..=point.rank).map(|rank| 240 / rank).sum::<u64>());
    }
    let ranks: Vec<u64> = points.iter().map(|point| point.rank).collect();
    assert!(ranks.is_sorted() && ranks.contains(&10) && ranks.contains(&100));
    assert_eq!((points.last().unwrap().rank, points.last().unwrap().covered_words), (120, found.words));
}

#[test]
fn near_duplicates_are_counted_once_each_and_named() {
    let words = |from: usize| (from..from + 80).map(|i| format!("w{i}")).collect::<Vec<_>>();
    let mut changed = words(0);
    changed[40] = "other".into();
    let rows = [words(0), words(500), changed, words(0), words(900)].map(|words| words.join(" ")).join("\n");
    let folder = Folder::with(&[("a.txt", rows.as_bytes())]);
    let corpus = Corpus::find(&folder.spec(Division::Line)).unwrap();
    let spec = SurveySpec { near: Some(0.75), examples: 5, ..SurveySpec::default() };
    let (found, _) = survey(&corpus, &spec, 2, &mut |_: u64| true).unwrap();
    assert_eq!((found.duplicates.documents, found.duplicates.repeated_texts), (1, 1));
    let near = found.near_duplicates.unwrap();
    assert_eq!(near.documents, 2);
    // 71 of 81 runs are the same: 0.877.
    let example = &near.examples[0];
    assert_eq!((example.earlier.line, example.later.line), (1, 3));
    assert!((example.resemblance - 0.877).abs() < 0.15, "{}", example.resemblance);
}

#[test]
fn the_survey_counts_cleaned_text() {
    let folder = Folder::with(&[("a.txt", b"<p>The Bee</p> &amp; the bee\n")]);
    let corpus = Corpus::find(&folder.spec(Division::Line)).unwrap();
    let cleaning = Cleaning { steps: vec![CleaningStep::StripHtml, CleaningStep::LowerCase] };
    let spec = SurveySpec { cleaning, most_frequent: 9, ..SurveySpec::default() };
    let (found, _) = survey(&corpus, &spec, 1, &mut |_: u64| true).unwrap();
    let most_frequent: Vec<&str> = found.most_frequent.iter().map(|(word, _)| word.as_str()).collect();
    assert_eq!((most_frequent, found.words, found.bytes), (vec!["bee", "the", "&"], 5, 29));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]
    #[test]
    fn the_number_of_threads_changes_nothing_and_plain_counts_agree(
        lines in prop::collection::vec("[a-d\u{e9} .,]{1,20}", 1..200),
    ) {
        let folder = Folder::with(&[("a.txt", lines.join("\n").as_bytes())]);
        let corpus = Corpus::find(&folder.spec(Division::Line)).unwrap();
        let spec = SurveySpec { most_frequent: 10, first_rows: 3, row_characters: 9, examples: 3, near: Some(0.5), ..SurveySpec::default() };
        let Ok((one, _)) = survey(&corpus, &spec, 1, &mut |_: u64| true) else {
            prop_assert!(lines.iter().all(|line| line.trim().is_empty()));
            return Ok(());
        };
        let (three, _) = survey(&corpus, &spec, 3, &mut |_: u64| true).unwrap();
        prop_assert_eq!(&one, &three);
        let (plain, _) = count(&corpus, 2, &mut |_: u64| true).unwrap();
        prop_assert_eq!((plain.documents, plain.words, plain.bytes), (one.documents, one.words, one.bytes));
        // Duplicates, counted in a plain way.
        let mut seen = HashMap::new();
        for line in lines.iter().filter(|line| !line.trim().is_empty()) {
            *seen.entry(line.as_str()).or_insert(0u64) += 1;
        }
        prop_assert_eq!(one.duplicates.documents, seen.values().map(|copies| copies - 1).sum::<u64>());
        prop_assert_eq!(one.duplicates.repeated_texts, seen.values().filter(|&&copies| copies > 1).count() as u64);
    }
}
