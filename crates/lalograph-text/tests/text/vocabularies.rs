//! Vocabularies of every unit: what goes in comes out, and damaged files are refused by line.

use std::sync::OnceLock;

use crate::common::Folder;
use lalograph_text::coverage::coverage;
use lalograph_text::split::{Cutoffs, Split};
use lalograph_text::vocabulary::VocabularySpec;
use lalograph_text::{
    Cleaning, CleaningStep, Corpus, Division, Reserved, TextError, Unit, Vocabulary, VocabularyBuilder,
};
use proptest::prelude::*;

fn build(spec: &VocabularySpec, texts: &[&str]) -> Result<Vocabulary, TextError> {
    let mut builder = VocabularyBuilder::new(spec);
    texts.iter().for_each(|text| builder.add(text));
    builder.finish(2)
}

fn of(unit: Unit) -> VocabularySpec {
    VocabularySpec { unit, ..VocabularySpec::default() }
}

fn lower(unit: Unit) -> VocabularySpec {
    VocabularySpec { cleaning: Cleaning { steps: vec![CleaningStep::LowerCase] }, ..of(unit) }
}

const AWKWARD: [&str; 9] = [
    "",
    "The queen\u{2019}s \u{1f41d}\u{1f468}\u{200d}\u{1f33e} flew; \u{1f3f4}\u{e0067}\u{e0062}\u{e007f}!",
    "e\u{301}t\u{e9} na\u{ef}ve Z\u{351}\u{36b}\u{343}",
    "\u{5d3}\u{5d1}\u{5d5}\u{5e8}\u{5d4} \u{646}\u{62d}\u{644}\u{629} 12",
    "\u{e1c}\u{e36}\u{e49}\u{e07}\u{e1a}\u{e34}\u{e19}\u{e44}\u{e1b}\u{e17}\u{e35}\u{e48}\u{e23}\u{e31}\u{e07}",
    "\u{871c}\u{8702}\u{98de}\u{56de}\u{8702}\u{7bb1}\u{3002}",
    "a\0b\0\0 \r\n\t \u{a0}\u{3000}  trailing  ",
    "\u{feff}\u{200b}\u{fffd}\u{10ffff}",
    "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa",
];

/// One vocabulary of each exact unit, learnt from a little of everything.
fn exact() -> &'static [Vocabulary] {
    static BUILT: OnceLock<Vec<Vocabulary>> = OnceLock::new();
    BUILT.get_or_init(|| {
        let text = AWKWARD.join("\n").repeat(3) + &"the queen of the hive, and the brood. ".repeat(20);
        let mut built: Vec<Vocabulary> = [Unit::Byte, Unit::BytePair, Unit::Unigram]
            .map(|unit| {
                build(
                    &VocabularySpec { size: Some(if unit == Unit::Byte { 256 } else { 420 }), ..of(unit) },
                    &[&text],
                )
                .unwrap()
            })
            .into();
        built.extend([Unit::Character, Unit::Grapheme].map(|unit| build(&of(unit), &[&text]).unwrap()));
        built
    })
}

fn round_trip(vocabulary: &Vocabulary, text: &str) -> Vec<u8> {
    let mut indices = Vec::new();
    vocabulary.encoder().encode_into(text, &mut indices);
    // Streaming gives the same, as far as it is text.
    let (mut decoder, mut streamed) = (vocabulary.decoder(), String::new());
    for &index in &indices {
        decoder.push(index, &mut streamed).unwrap();
    }
    decoder.finish(&mut streamed);
    let bytes = vocabulary.decode(&indices).unwrap();
    assert_eq!(streamed.as_bytes(), bytes);
    bytes
}

#[test]
fn awkward_texts_come_back_byte_for_byte() {
    for vocabulary in exact() {
        for text in AWKWARD {
            assert_eq!(round_trip(vocabulary, text), text.as_bytes(), "{:?} {text:?}", vocabulary.unit());
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(10_000))]
    #[test]
    fn any_text_comes_back_from_bytes_and_subwords(text in prop_oneof![any::<String>(), "[the quenoh,.\u{e9}\u{871c}\u{1f41d}\0\n]{0,40}"]) {
        for vocabulary in &exact()[..3] {
            prop_assert_eq!(round_trip(vocabulary, &text), text.as_bytes());
        }
    }

    #[test]
    fn any_text_comes_back_from_a_vocabulary_of_its_characters(text in any::<String>()) {
        prop_assume!(!text.is_empty());
        for unit in [Unit::Character, Unit::Grapheme] {
            let vocabulary = build(&of(unit), &[&text]).unwrap();
            prop_assert_eq!(round_trip(&vocabulary, &text), text.as_bytes());
        }
    }
}

#[test]
fn a_vocabulary_ranks_by_count_then_spelling_and_encodes_both_ways() {
    let texts = ["The bee saw the hive.", "A bee, a hive."];
    let words = build(&lower(Unit::Word), &texts).unwrap();
    let ranked: Vec<String> = words.tokens().iter().map(|token| token.shown().into_owned()).collect();
    assert_eq!(ranked, [".", "a", "bee", "hive", "the", ",", "saw"]);
    assert_eq!(words.len(), 11);
    for index in 0..words.len() as u32 {
        let token = words.token(index).unwrap().to_owned();
        assert_eq!(words.index_of(&token), if index < 4 { Reserved::UNKNOWN } else { index });
    }
    let pairs = words.encode("The wasp saw.");
    assert_eq!(pairs[1], ("wasp".to_owned(), Reserved::UNKNOWN));
    let indices: Vec<u32> = pairs.iter().map(|(_, index)| *index).collect();
    assert_eq!(words.decode(&indices).unwrap(), "the \u{2039}unknown\u{203a} saw.".as_bytes());
    assert!(matches!(words.decode(&[11]), Err(TextError::IndexOutside { index: 11, last: 10 })));

    let capped = build(&VocabularySpec { size: Some(2), ..lower(Unit::Word) }, &texts).unwrap();
    assert_eq!((capped.len(), capped.counted().tokens_covered), (6, 4));
    let frequent = build(&VocabularySpec { minimum_count: 2, ..lower(Unit::Word) }, &texts).unwrap();
    assert_eq!(frequent.len(), 9);
    for spec in [
        VocabularySpec { minimum_count: 100, ..of(Unit::Word) },
        VocabularySpec { size: Some(0), ..of(Unit::Word) },
    ] {
        assert!(matches!(build(&spec, &texts), Err(TextError::EmptyVocabulary { .. })));
    }
}

#[test]
fn tokens_can_be_forced_in_kept_out_and_reserved_ones_spelt_at_will() {
    let texts = ["the bee the hive the bee wasp"];
    let spec = VocabularySpec {
        size: Some(3),
        include: vec!["wasp".into(), "moth".into()],
        exclude: vec!["the".into()],
        reserved: Reserved { unknown: "?unknown?".into(), ..Reserved::default() },
        ..of(Unit::Word)
    };
    let words = build(&spec, &texts).unwrap();
    let tokens: Vec<(String, u64)> =
        words.tokens().iter().map(|t| (t.shown().into_owned(), t.count)).collect();
    assert_eq!(tokens, [("bee".into(), 2), ("wasp".into(), 1), ("moth".into(), 0)]);
    assert_eq!(words.shown(1).unwrap(), "?unknown?");
    assert_eq!(words.index_of("the"), Reserved::UNKNOWN);
    for (include, exclude, part) in [
        ("two words", "", "make two + words of it"),
        ("bee", "bee", "both included and excluded"),
        ("", "  ", "make nothing of it"),
    ] {
        let list = |token: &str| if token.is_empty() { vec![] } else { vec![token.to_owned()] };
        let spec = VocabularySpec { include: list(include), exclude: list(exclude), ..of(Unit::Word) };
        let error = build(&spec, &texts).unwrap_err().to_string();
        assert!(error.contains(part), "{error}");
    }
    let spec = VocabularySpec { include: vec!["bee".into()], size: Some(300), ..of(Unit::BytePair) };
    assert!(matches!(build(&spec, &texts), Err(TextError::BadToken(_))));
    let twice = Reserved { unknown: "x".into(), end: "x".into(), ..Reserved::default() };
    assert!(build(&VocabularySpec { reserved: twice, ..of(Unit::Word) }, &texts).is_err());
    let clash = Reserved { unknown: "bee".into(), ..Reserved::default() };
    let error = build(&VocabularySpec { reserved: clash, ..of(Unit::Word) }, &texts).unwrap_err();
    assert!(error.to_string().contains("`bee` is also a reserved token"), "{error}");
    for unit in [Unit::BytePair, Unit::Unigram, Unit::Byte] {
        let small = build(&VocabularySpec { size: Some(100), ..of(unit) }, &texts);
        assert!(matches!(small, Err(TextError::TooFewTokens { .. })), "{unit:?}");
    }
}

#[test]
fn subwords_are_whole_words_where_those_are_common() {
    let text = "the queen of the hive ".repeat(50) + "the queenless hives";
    for unit in [Unit::BytePair, Unit::Unigram] {
        let vocabulary = build(&VocabularySpec { size: Some(300), ..of(unit) }, &[&text]).unwrap();
        assert!(vocabulary.len() <= 304);
        let tokens: Vec<String> =
            vocabulary.encode("the queen of the hive").into_iter().map(|(token, _)| token).collect();
        assert!(tokens.len() <= 6 && tokens.concat() == "the queen of the hive", "{unit:?} {tokens:?}");
        // A text of letters never seen is cut into bytes, which are shown in hexadecimal.
        let strange = vocabulary.encode("\u{871c}");
        assert_eq!(
            strange.iter().map(|(token, _)| token.as_str()).collect::<Vec<_>>(),
            ["\u{2039}e8\u{203a}", "\u{2039}9c\u{203a}", "\u{2039}9c\u{203a}"]
        );
        assert!(vocabulary.is_fragment(strange[0].1));
        assert_eq!(
            vocabulary.counted().tokens,
            vocabulary.tokens().iter().map(|token| token.count).sum::<u64>()
        );
    }
}

#[test]
fn files_read_back_and_damage_is_named_by_line() {
    for vocabulary in exact() {
        let json = vocabulary.to_json().unwrap();
        let back = Vocabulary::from_json(&json).unwrap();
        assert!(
            &back == vocabulary && back.hash().unwrap() == vocabulary.hash().unwrap(),
            "{:?}",
            vocabulary.unit()
        );
        serde_json::from_str::<serde_json::Value>(&json).unwrap();
        assert!(Vocabulary::from_json(&json[..json.len() * 2 / 3]).is_err());
    }
    let words = build(&of(Unit::Word), &["bee bee bee hive hive comb"]).unwrap().to_json().unwrap();
    let merged = build(&VocabularySpec { size: Some(258), ..of(Unit::BytePair) }, &["bee bee bee"])
        .unwrap()
        .to_json()
        .unwrap();
    let unigram = build(&VocabularySpec { size: Some(260), ..of(Unit::Unigram) }, &["bee bee bee"])
        .unwrap()
        .to_json()
        .unwrap();
    let cases = [
        (words.replace("[5,", "[4,"), "line 10: a token has index 4, which a token above it has already"),
        (words.replace("    [5,\"hive\",2],\n", ""), "line 10: a token has index 6, and index 5 is missing"),
        (words.replace("[4,", "[2,"), "line 9: a token has index 2, which is a reserved token's"),
        (words.replace("\"comb\"", "\"bee\""), "line 11: `bee` has index 4 already"),
        (words.replace("\"comb\"", "\"\""), "line 11: an empty token"),
        (
            words.replace("\"comb\"", "\"\u{2039}end\u{203a}\""),
            "line 11: `\u{2039}end\u{203a}` is also a reserved token",
        ),
        (words.replace("\"comb\",1", "\"comb\",\"1\""), "line 11: not an index, a token and a count"),
        (words.replace("\"comb\"", "{\"bytes\":\"0\"}"), "line 11: the bytes are not in hexadecimal"),
        (words.replace("\"version\": 2", "\"version\": 1"), "version"),
        (words.replace("lalograph vocabulary", "something"), "format"),
        (words.replace("\"unit\": \"word\"", "\"unit\": \"sentence\""), "sentence"),
        (words.replace("\"counted\"", "\"extra\": 1, \"counted\""), "extra"),
        (words.replace("  \"tokens\": [\n", "  \"merges\": [],\n  \"tokens\": [\n"), "has no merges"),
        (words.replace("\"\u{2039}start\u{203a}\"", "\"\u{2039}end\u{203a}\""), "four different ones"),
        (
            words.replace("  \"spacing\"", "  \"unlisted\": [[\"b\",1],[\"a\",1]],\n  \"spacing\""),
            "words without an index are more than",
        ),
        (words.replace("[\"a\",\"a\",\" \"", "[\"ab\",\"a\",\" \""), "`ab` is not one side of a gap"),
        (words.replace("\"bee\",3", "\"bee\",18446744073709551615"), "its counts are larger than any text"),
        (
            words.replace("\"documents\":1", "\"documents\":18446744073709551615"),
            "its counts are larger than any text",
        ),
        (String::new(), "EOF"),
        (merged.replace("[101,\"a\"", "[101,\"b\""), "index 101"),
        (merged.replace("\"merges\": [\n    [", "\"merges\": [\n    [9"), "line 269: no token has index"),
        (
            merged.replace("\"merges\": [\n    [102,105]", "\"merges\": [\n    [104,105]"),
            "line 269: the tokens 104 and 105 together are no token",
        ),
        (merged.replacen("merges", "mergers", 1), "mergers"),
        (unigram.replacen(",null]", ",1.5]", 1), "line 9: the score is the logarithm of no probability"),
        (unigram.replacen(",null]", "]", 1), "line 9: not an index, a token, a count and a score"),
    ];
    for (number, (text, part)) in cases.into_iter().enumerate() {
        assert!(text != words && text != merged && text != unigram, "case {number} changes nothing");
        let message = Vocabulary::from_json(&text).unwrap_err().to_string();
        assert!(message.contains(part), "case {number}: {part}: {message}");
    }
}

#[test]
fn vocabularies_are_merged_extended_and_compared() {
    let first = build(&of(Unit::Word), &["bee bee bee hive comb"]).unwrap();
    let second = build(&of(Unit::Word), &["hive hive wasp bee"]).unwrap();
    let tokens = |vocabulary: &Vocabulary| -> Vec<(String, u64)> {
        vocabulary.tokens().iter().map(|token| (token.shown().into_owned(), token.count)).collect()
    };
    let own = |list: &[(&str, u64)]| list.iter().map(|(t, n)| ((*t).to_owned(), *n)).collect::<Vec<_>>();
    assert_eq!(
        tokens(&first.merged(&second).unwrap()),
        own(&[("bee", 4), ("hive", 3), ("comb", 1), ("wasp", 1)])
    );
    let extended = first.extended(&second, 10, 1).unwrap();
    assert_eq!(tokens(&extended), own(&[("bee", 4), ("comb", 1), ("hive", 3), ("wasp", 1)]));
    for (token, index) in first.tokens().iter().zip(4..) {
        assert_eq!(extended.index_of(&token.bytes), index);
    }
    assert_eq!(extended.counted().tokens, 9);
    assert_eq!(first.extended(&second, 0, 1).unwrap().len(), first.len());
    assert_eq!(first.extended(&second, 9, 2).unwrap().len(), first.len());
    let compared = first.compare(&second, 5);
    assert_eq!((compared.same_tokens, compared.shared_tokens, compared.same_index), (true, 2, 0));
    assert_eq!(compared.only_first.most_frequent, own(&[("comb", 1)]));
    assert_eq!(
        (compared.only_second.tokens, compared.only_second.count, compared.only_second.total_count),
        (1, 1, 4)
    );
    let small = build(&lower(Unit::Word), &["bee"]).unwrap();
    for other in [&small, &build(&of(Unit::Character), &["bee"]).unwrap(), &exact()[1]] {
        assert!(matches!(first.merged(other), Err(TextError::NotAlike(_))));
        assert!(matches!(other.extended(&first, 1, 1), Err(TextError::NotAlike(_))));
    }
    assert!(!first.compare(&small, 1).same_tokens);
}

#[test]
fn coverage_on_held_out_text_agrees_with_encoding_it() {
    let lines: Vec<String> =
        (0..400).map(|i| format!("entry {} of hive {} was quiet", i * 37 % 101, i % 7)).collect();
    let folder = Folder::with(&[("a.txt", lines.join("\n").as_bytes())]);
    let corpus = Corpus::find(&folder.spec(Division::Line)).unwrap();
    let split = Split::even(3, Cutoffs::shares(0.3, 0.0));
    let held_out: Vec<&String> =
        lines.iter().filter(|l| split.part_of(l, None) == lalograph_text::Part::Validation).collect();
    let training: Vec<&str> = lines
        .iter()
        .filter(|l| split.part_of(l, None) == lalograph_text::Part::Training)
        .map(String::as_str)
        .collect();
    for (unit, sizes, largest) in [
        (Unit::Word, vec![3, 10, 50], None),
        (Unit::BytePair, vec![260, 280], Some(300)),
        (Unit::Unigram, vec![280], Some(300)),
        (Unit::Byte, vec![], None),
        (Unit::Character, vec![5], None),
    ] {
        let spec = VocabularySpec { size: largest, ..of(unit) };
        let (found, _) = coverage(&corpus, &spec, &split, &sizes, 2, &mut |_: u64| true).unwrap();
        assert_eq!(found.held_out_documents, held_out.len() as u64);
        assert!(found.points.len() > sizes.len().min(1), "{unit:?}");
        assert_eq!(found.held_out_bytes, held_out.iter().map(|line| line.len() as u64).sum::<u64>());
        for point in &found.points {
            let size = if unit == Unit::Byte { None } else { Some(point.size as usize) };
            let vocabulary = build(&VocabularySpec { size, ..of(unit) }, &training).unwrap();
            let indices: Vec<u32> =
                held_out.iter().flat_map(|line| vocabulary.encode(line)).map(|(_, index)| index).collect();
            let unknown = indices.iter().filter(|&&index| index == Reserved::UNKNOWN).count();
            assert_eq!(
                (point.tokens, point.unknown_tokens),
                (indices.len() as u64, unknown as u64),
                "{unit:?} {}",
                point.size
            );
        }
    }
    let none = Split::even(3, Cutoffs::shares(0.0, 0.0));
    let error = coverage(&corpus, &of(Unit::Word), &none, &[], 1, &mut |_: u64| true).unwrap_err();
    assert!(matches!(error, TextError::NothingHeldOut));
}
