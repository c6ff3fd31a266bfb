//! Corpora on disk, good and bad.

use std::path::PathBuf;

use crate::common::{Folder, read, texts};
use lalograph_storage::{Disk, Existing, WholeFile};
use lalograph_text::corpus::Reason;
use lalograph_text::store::StorePlace;
use lalograph_text::survey::{SurveySpec, survey};
use lalograph_text::tokens::{EncodedCorpus, HeldOut, Learnt, SplitKind, TokenSequence, encode_corpus};
use lalograph_text::vocabulary::VocabularySpec;
use lalograph_text::{Corpus, CorpusSpec, Division, Reserved, TextError, Vocabulary, VocabularyBuilder};

#[test]
fn a_folder_is_read_in_the_order_of_names_at_any_depth_and_only_its_text_files() {
    let folder = Folder::with(&[
        ("b.txt", b"second\n"),
        ("a/deep.txt", b"first"),
        ("c.TXT", b"third\r\n"),
        ("d.dat", b"not a text file"),
    ]);
    assert_eq!(texts(&folder.spec(Division::File)), ["first", "second", "third"]);
}

#[test]
fn files_divide_by_line_and_by_paragraph() {
    let text = b"\xef\xbb\xbfone\ntwo\r\n\n  \nthree\nfour";
    let folder = Folder::with(&[("a.txt", text)]);
    let (lines, reading) = read(&folder.spec(Division::Line)).unwrap();
    let expected = [(1, "one"), (2, "two"), (5, "three"), (6, "four")];
    assert_eq!(lines, expected.map(|(line, text)| (line, text.to_owned())));
    assert_eq!(reading.skipped_count, 0);
    let (paragraphs, reading) = read(&folder.spec(Division::Paragraph)).unwrap();
    assert_eq!(paragraphs, [(1, "one\ntwo".to_owned()), (5, "three\nfour".to_owned())]);
    // The line that parts two paragraphs belongs to the first; a second blank line to neither, nor does the byte-order mark.
    assert_eq!(reading.bytes, text.len() as u64 - 3 - 3);
}

#[test]
fn the_first_documents_only_and_more_than_there_are() {
    let folder = Folder::with(&[("a.txt", b"1\n2\n3\n"), ("b.txt", b"4\n5\n")]);
    let first = |count| texts(&CorpusSpec { first: Some(count), ..folder.spec(Division::Line) });
    assert_eq!(first(4), ["1", "2", "3", "4"]);
    assert_eq!(first(99).len(), 5);
}

#[test]
fn unusable_parts_are_reported() {
    let folder = Folder::with(&[
        ("a.txt", b"good"),
        ("binary.txt", b"\x7fELF\0\0"),
        ("blank.txt", b" \n\n"),
        ("latin.txt", b"caf\xe9\nfine, na\xc3\xafve, \xc3\xa9t\xc3\xa9\n"),
    ]);
    let (documents, reading) = read(&folder.spec(Division::File)).unwrap();
    assert_eq!(documents.len(), 1);
    let skipped: Vec<(PathBuf, Option<u64>, Reason)> =
        reading.skipped.into_iter().map(|s| (s.path, s.line, s.reason)).collect();
    let at = |name: &str| folder.path().join(name);
    assert_eq!(
        skipped,
        [
            (at("binary.txt"), None, Reason::Binary),
            (at("blank.txt"), None, Reason::Blank),
            (at("latin.txt"), None, Reason::Undecodable("UTF-8")),
        ]
    );
    let (documents, reading) = read(&folder.spec(Division::Line)).unwrap();
    assert_eq!(documents.last().unwrap(), &(2, "fine, na\u{ef}ve, \u{e9}t\u{e9}".to_owned()));
    assert_eq!(reading.skipped[1].line, Some(1));
    assert_eq!(reading.skipped[1].reason, Reason::Undecodable("UTF-8"));
}

#[test]
fn an_empty_corpus_is_an_error() {
    let folder = Folder::with(&[("a.txt", b""), ("other/x.dat", b"x")]);
    let message = |spec: &CorpusSpec| read(spec).unwrap_err().to_string();
    assert!(
        message(&folder.spec(Division::File))
            .contains("no text in the corpus: 1 file read, 1 place left out")
    );
    let at = |name: &str| CorpusSpec { paths: vec![folder.path().join(name)], ..CorpusSpec::default() };
    assert!(message(&at("nowhere")).contains("no such file or folder"));
    assert!(message(&at("other")).contains("no files ending in .txt"));
    assert!(matches!(read(&CorpusSpec::default()), Err(TextError::NoPaths)));
}

#[test]
fn a_survey_counts_documents_characters_and_words() {
    let folder = Folder::with(&[("a.txt", b"the bee, the hive\nthe\nna\xc3\xafve bee\n")]);
    let corpus = Corpus::find(&folder.spec(Division::Line)).unwrap();
    let spec = SurveySpec { most_frequent: 2, first_rows: 2, row_characters: 7, ..SurveySpec::default() };
    let (survey, _) = survey(&corpus, &spec, 2, &mut |_| true).unwrap();
    assert_eq!((survey.documents, survey.words, survey.distinct_words, survey.words_seen_once), (3, 8, 5, 3));
    assert_eq!((survey.bytes, survey.characters), (33, 29));
    assert_eq!(survey.most_frequent, [("the".to_owned(), 3), ("bee".to_owned(), 2)]);
    let lengths = survey.lengths;
    assert_eq!((lengths.minimum_words, lengths.median_words, lengths.maximum_words), (1, 2, 5));
    assert_eq!(survey.first_rows.len(), 2);
    assert_eq!(survey.first_rows[0].text, "the bee");
}

fn starts_with(long: &TokenSequence, short: &TokenSequence) -> bool {
    long.iter().take(short.len()).eq(short.iter())
}

fn vocabulary(texts: &[&str]) -> Vocabulary {
    let mut builder = VocabularyBuilder::new(&VocabularySpec::default());
    texts.iter().for_each(|text| builder.add(text));
    builder.finish(1).unwrap()
}

/// The corpus in its parts, these shares of it held out.
fn encoded(corpus: &Corpus, words: &Vocabulary, validation: f64, test: f64) -> EncodedCorpus {
    let held_out = HeldOut::Share { seed: 1, share: validation, test };
    encode_corpus(corpus, words, &held_out, Learnt::Text, None, 2, &mut |_| true).unwrap()
}

#[test]
fn an_encoded_corpus_is_parted_by_document_and_each_document_is_closed() {
    let lines: String = (0..400).map(|i| format!("entry {i} of the hive\n")).collect();
    let folder = Folder::with(&[("a.txt", lines.as_bytes())]);
    let corpus = Corpus::find(&folder.spec(Division::Line)).unwrap();
    let words = vocabulary(&["entry of the hive"]);
    let first = encoded(&corpus, &words, 0.25, 0.0);
    assert_eq!(first.split, SplitKind::Documents);
    let (training, validation) = (&first.training, &first.validation);
    assert_eq!(training.totals.documents + validation.totals.documents, 400);
    assert!((60..140).contains(&validation.totals.documents));
    assert_eq!(training.totals.bytes + validation.totals.bytes, lines.len() as u64);
    assert_eq!(training.totals.unknown, training.totals.documents);
    assert_eq!(training.len() as u64, 6 * training.totals.documents);
    assert_eq!((training.input(0), training.input(6)), (Reserved::START, Reserved::START));
    assert_eq!(training.input(1), words.index_of("entry"));
    assert_eq!(training.index(5), Reserved::END);

    // What is added at the end moves nobody.
    let longer = Folder::with(&[("a.txt", format!("{lines}one more entry\n").as_bytes())]);
    let corpus = Corpus::find(&longer.spec(Division::Line)).unwrap();
    let again = encoded(&corpus, &words, 0.25, 0.0);
    assert!(starts_with(&again.training, training) || starts_with(&again.validation, validation));
    assert_eq!(again.training.totals.documents + again.validation.totals.documents, 401);
    assert_ne!(again.text_hash, first.text_hash);
}

#[test]
fn a_test_part_is_held_out_beside_the_validation_part_in_memory_and_in_stores() {
    let lines: String = (0..400).map(|i| format!("entry {i} of the hive\n")).collect();
    let folder = Folder::with(&[("a.txt", lines.as_bytes())]);
    let corpus = Corpus::find(&folder.spec(Division::Line)).unwrap();
    let words = vocabulary(&["entry of the hive"]);
    let held_out = HeldOut::Share { seed: 1, share: 0.2, test: 0.3 };
    let places = ["training", "validation", "test"].map(|name| folder.path().join(name));
    let stores = places.each_ref().map(|place| StorePlace {
        path: place.clone(),
        file: Box::new(WholeFile::create(&Disk, place, Existing::Keep).unwrap()),
    });
    let stored =
        encode_corpus(&corpus, &words, &held_out, Learnt::Text, Some(stores), 2, &mut |_| true).unwrap();
    let kept = encoded(&corpus, &words, 0.2, 0.3);
    let alone = encoded(&corpus, &words, 0.2, 0.0);
    for encoded in [&stored, &kept] {
        let parts = [&encoded.training, &encoded.validation, &encoded.test];
        assert_eq!(parts.iter().map(|part| part.totals.documents).sum::<u64>(), 400);
        assert!((80..160).contains(&encoded.test.totals.documents), "{}", encoded.test.totals.documents);
        // A test part takes nothing from the validation part.
        assert!(encoded.validation.iter().eq(alone.validation.iter()));
        for part in parts {
            let bounds: Vec<_> = part.bounds().collect();
            assert_eq!(bounds.len() as u64, part.totals.documents);
            assert!(
                bounds.iter().all(|range| range.len() == 6 && part.index(range.end - 1) == Reserved::END)
            );
            // Every position is found in its document again.
            for (number, range) in bounds.iter().enumerate() {
                for at in [range.start, range.start + 3, range.end - 1] {
                    assert_eq!(part.document_at(at), number as u64);
                }
            }
            // The beginning of a text is whole documents.
            let half = part.beginning(0.5);
            assert!(half.totals.documents == part.totals.documents.div_ceil(2) && starts_with(part, &half));
            assert!(
                (half.totals.bytes as f64 / part.totals.bytes as f64 - 0.5).abs() < 0.02,
                "{} of {}",
                half.totals.bytes,
                part.totals.bytes
            );
            assert_eq!(part.beginning(1.0).len(), part.len());
            assert_eq!(part.beginning(1e-9).totals.documents, 1);
        }
    }
}

#[test]
fn a_single_long_document_is_parted_at_its_end() {
    let text = "the hive and the bee ".repeat(200);
    let folder = Folder::with(&[("a.txt", text.as_bytes())]);
    let corpus = Corpus::find(&folder.spec(Division::File)).unwrap();
    let words = vocabulary(&[&text]);
    let two = encoded(&corpus, &words, 0.1, 0.0);
    assert_eq!(two.split, SplitKind::Tail);
    assert_eq!((two.training.len(), two.validation.len()), (901, 100));
    assert_eq!(two.training.totals.bytes + two.validation.totals.bytes, text.len() as u64 + 1);
    let three = encoded(&corpus, &words, 0.1, 0.2);
    let lengths = [&three.training, &three.validation, &three.test].map(TokenSequence::len);
    assert_eq!((lengths, lengths.iter().sum::<usize>()), ([701, 100, 200], 1001));
}

#[test]
fn the_observer_can_stop_the_reading() {
    let folder = Folder::with(&[("a.txt", b"1\n2\n3\n")]);
    let corpus = Corpus::find(&folder.spec(Division::Line)).unwrap();
    let stopped = survey(&corpus, &SurveySpec::default(), 2, &mut |_| false);
    assert!(matches!(stopped, Err(TextError::Stopped)));
}

#[test]
fn spelling_and_white_space_are_counted_for_every_document() {
    let lines: String = (0..60).map(|i| format!("entry {i}  of the hive{}\n", "\t,".repeat(i % 3))).collect();
    let folder = Folder::with(&[("a.txt", lines.as_bytes())]);
    let corpus = Corpus::find(&folder.spec(Division::Line)).unwrap();
    let words = vocabulary(&["entry of the hive , and 17 more"]);
    let encode = |threads| {
        encode_corpus(&corpus, &words, &HeldOut::Nothing, Learnt::Text, None, threads, &mut |_| true)
            .unwrap()
            .training
    };
    let (text, again) = (encode(1), encode(3));
    assert_eq!(text.totals, again.totals);
    // By hand: every number but 17 is spelt, and the same white space costs the same everywhere.
    let spelt = |i: usize| if i == 17 { 0.0 } else { words.spelling_bits(&i.to_string()) };
    let sum: f64 = (0..60).map(spelt).sum();
    assert!(
        sum > 60.0 && (text.totals.spelling_bits - sum).abs() < 1e-9,
        "{} {sum}",
        text.totals.spelling_bits
    );
    assert!(text.totals.spacing_bits > 60.0 && text.totals.changed == 0);
    let spaced = |i: u64| text.document(i).unwrap().remainder_bits - spelt(i as usize);
    for i in 21..60 {
        assert!((spaced(i) - spaced(18 + i % 3)).abs() < 1e-9, "{i}");
    }
    let bits: f64 = (0..60).map(|i| text.document(i).unwrap().remainder_bits).sum();
    assert!((bits - text.totals.spelling_bits - text.totals.spacing_bits).abs() < 1e-9);
    // The first half knows its own part.
    let half = text.beginning(0.5);
    let own: f64 = (0..half.totals.documents).map(|i| text.document(i).unwrap().remainder_bits).sum();
    assert!((half.totals.spelling_bits + half.totals.spacing_bits - own).abs() < 1e-9);
    // Bytes cost nothing besides.
    let spec = VocabularySpec { unit: lalograph_text::Unit::Byte, ..VocabularySpec::default() };
    let mut bytes = VocabularyBuilder::new(&spec);
    bytes.add("bees");
    let bytes = bytes.finish(1).unwrap();
    let plain = encode_corpus(&corpus, &bytes, &HeldOut::Nothing, Learnt::Text, None, 2, &mut |_| true)
        .unwrap()
        .training;
    assert_eq!(
        (plain.totals.spelling_bits, plain.totals.spacing_bits, plain.totals.bytes),
        (0.0, 0.0, lines.len() as u64)
    );
}
