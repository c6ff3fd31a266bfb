//! The shapes that text comes in: tables, JSON, compression, encodings, folders with something wrong in them.

use std::fs;
use std::os::unix::ffi::OsStringExt;
use std::os::unix::fs::{PermissionsExt, symlink};

use crate::common::{Folder, gzip, left_out, read, texts, zstandard};
use lalograph_text::corpus::{Limits, Reason, TableStyle};
use lalograph_text::{Corpus, CorpusSpec, Division, Form, TextError};

fn labelled(spec: &CorpusSpec) -> Vec<(Option<String>, String)> {
    let mut seen = Vec::new();
    Corpus::find(spec)
        .unwrap()
        .read_through(&mut |_| true, |document| {
            seen.push((document.label.map(str::to_owned), document.text.to_owned()));
        })
        .unwrap();
    seen
}

#[test]
fn tables_have_quoted_line_ends_awkward_names_and_ragged_rows() {
    let table = b"entry,what was seen,outcome\r\n1,\"The bees,\r\nthe \"\"queen\"\"\",steady\r\n2,short\r\n3,a,b,c\r\n\
                  4,  ,failing\r\n5,last one,\r\n6,\"done\",thriving";
    let folder = Folder::with(&[("visits.csv", table)]);
    let spec = CorpusSpec {
        text: vec!["what was seen".into()],
        label: Some("outcome".into()),
        ..folder.files(&["visits.csv"])
    };
    let (documents, reading) = read(&spec).unwrap();
    assert_eq!(documents, [(2, "The bees,\r\nthe \"queen\"".to_owned()), (8, "done".to_owned())]);
    assert_eq!(
        left_out(&folder, &reading),
        [
            "visits.csv, line 4: a row of 2 fields, and the header row has 3",
            "visits.csv, line 5: a row of 4 fields, and the header row has 3",
            "visits.csv, line 6: no text",
            "visits.csv, line 7: no label",
        ]
    );
    assert_eq!(reading.skipped_count, 4);
    let by_number = CorpusSpec { text: vec!["2".into()], ..folder.files(&["visits.csv"]) };
    assert_eq!(read(&by_number).unwrap().1.documents, 3);
    let kept = CorpusSpec { keep: vec!["entry".into(), "outcome".into()], ..spec.clone() };
    Corpus::find(&kept)
        .unwrap()
        .read_through(&mut |_| true, |document| {
            let values: Vec<&str> = document.kept.values().collect();
            assert_eq!(values, if document.line == 2 { ["1", "steady"] } else { ["6", "thriving"] });
        })
        .unwrap();
    let several =
        CorpusSpec { text: vec!["outcome".into(), "entry".into()], ..folder.files(&["visits.csv"]) };
    assert_eq!(texts(&several)[0], "steady\n1");
}

#[test]
fn a_missing_column_is_reported_with_the_existing_ones() {
    let folder = Folder::with(&[("a.csv", b"entry;words\n1;bees\n"), ("b.csv", b"bees\nhive\n")]);
    // A table of one column needs no name for it, unless that seems to be several.
    assert_eq!(texts(&folder.files(&["b.csv"])), ["hive"]);
    assert!(matches!(read(&folder.files(&["a.csv"])), Err(TextError::NoColumn { .. })));
    let spec = CorpusSpec { text: vec!["wrods".into()], ..folder.files(&["a.csv"]) };
    match read(&spec).unwrap_err() {
        TextError::NoColumn { column, known, .. } => {
            assert_eq!((column.as_str(), known), ("wrods", vec!["entry;words".to_owned()]));
        }
        other => panic!("{other}"),
    }
    let table = TableStyle { delimiter: Some(b';'), ..TableStyle::default() };
    let spec = CorpusSpec { text: vec!["words".into()], table, ..folder.files(&["a.csv"]) };
    assert_eq!(texts(&spec), ["bees"]);
    let table = TableStyle { head: false, ..TableStyle::default() };
    let spec = CorpusSpec { text: vec!["1".into()], table, ..folder.files(&["b.csv"]) };
    assert_eq!(texts(&spec), ["bees", "hive"]);
}

#[test]
fn quotation_marks_are_text_in_tsv_and_can_be_made_so_elsewhere() {
    let folder = Folder::with(&[
        ("a.tsv", b"text\toutcome\n\"Quiet, she said\tsteady\nall \"well\"\tsteady\n"),
        ("a.csv", b"text,outcome\n\"Quiet,steady\n\"\"Well\"\",steady\n"),
    ]);
    assert_eq!(texts(&folder.files(&["a.tsv"])), ["\"Quiet, she said", "all \"well\""]);
    let table = TableStyle { quoted: Some(false), ..TableStyle::default() };
    assert_eq!(texts(&CorpusSpec { table, ..folder.files(&["a.csv"]) }), ["\"Quiet", "\"\"Well\"\""]);
}

#[test]
fn json_fields_are_found_by_path_and_bad_lines_are_named() {
    let lines = concat!(
        r#"{"visit": {"notes": ["first", "second"], "by": null}, "outcome": "steady", "n": 3}"#,
        "\n\n",
        r#"{"visit": {"notes": ["only"]}, "outcome": "steady"}"#,
        "\n{\"visit\": \n",
        r#"{"visit": {"notes": ["", "\ud83d\udc1d bee"]}, "outcome": 7}"#,
        "\n",
        r#"{"visit": {"notes": ["x", "lone \ud800 surrogate"]}, "outcome": "steady"}"#,
        "\n[1, 2]\n",
        r#"{"visit": {"notes": ["x", "y"]}}"#,
    );
    let folder = Folder::with(&[("visits.jsonl", lines.as_bytes())]);
    let spec = CorpusSpec {
        text: vec!["visit.notes.1".into()],
        label: Some("outcome".into()),
        ..folder.files(&["visits.jsonl"])
    };
    let expected = [("steady", "second"), ("7", "\u{1f41d} bee")];
    assert_eq!(labelled(&spec), expected.map(|(label, text)| (Some(label.to_owned()), text.to_owned())));
    let (_, reading) = read(&spec).unwrap();
    let places = left_out(&folder, &reading);
    assert_eq!(places.len(), 5, "{places:?}");
    assert_eq!(places[0], "visits.jsonl, line 3: no field `visit.notes.1`");
    assert!(places[1].starts_with("visits.jsonl, line 4: not JSON: EOF"), "{places:?}");
    assert!(places[2].starts_with("visits.jsonl, line 6: not JSON:"), "{places:?}");
    assert_eq!(places[3], "visits.jsonl, line 7: no field `visit.notes.1`");
    assert_eq!(places[4], "visits.jsonl, line 8: no label");
}

#[test]
fn compressed_files_are_known_by_their_content() {
    let text = b"one\ntwo\n";
    let folder = Folder::with(&[
        ("a.txt.gz", &gzip(text)),
        ("b.txt", &zstandard(text)),
        ("c.txt.gz", text),
        ("d.txt.zst", &[zstandard(b"three\n"), zstandard(b"four\n")].concat()),
        ("e.txt.gz", &[gzip(b"five\n"), gzip(b"six\n")].concat()),
        ("f.csv.gz", &gzip(b"text\nnot in the folder's texts\n")),
    ]);
    let expected = ["one", "two", "one", "two", "one", "two", "three", "four", "five", "six"];
    assert_eq!(texts(&folder.spec(Division::Line)), expected);
    assert_eq!(texts(&folder.files(&["f.csv.gz"])), ["not in the folder's texts"]);
}

#[test]
fn damaged_and_monstrous_compressed_files_are_named_and_earlier_documents_kept() {
    let lines: String =
        (0..5000).map(|i| format!("entry {i} of the hive, quiet as ever {}\n", i * 7919)).collect();
    let mut cut = gzip(lines.as_bytes());
    cut.truncate(cut.len() / 2);
    let mut cut_zst = zstandard(lines.as_bytes());
    cut_zst.truncate(cut_zst.len() / 2);
    let bomb = gzip(&vec![b'a'; 100_000_000]);
    let folder = Folder::with(&[
        ("a.txt", b"good\n"),
        ("bomb.txt.gz", &bomb),
        ("cut.txt.gz", &cut),
        ("cut.txt.zst", &cut_zst),
        ("wrong.txt.gz", b"\x1f\x8bnonsense"),
    ]);
    let (documents, reading) = read(&folder.spec(Division::Line)).unwrap();
    assert!(
        documents.len() > 1000
            && documents.iter().all(|(_, text)| text == "good" || text.starts_with("entry"))
    );
    let places = left_out(&folder, &reading);
    assert_eq!(places.len(), 4, "{places:?}");
    assert_eq!(reading.skipped[0].reason, Reason::Expands(500));
    assert!(places[0].starts_with("bomb.txt.gz, line 1: decompresses to more than 500 times"), "{places:?}");
    assert!(places[1].starts_with("cut.txt.gz, line ") && places[1].contains("too soon"), "{places:?}");
    assert!(places[2].starts_with("cut.txt.zst"), "{places:?}");
    assert!(places[3].starts_with("wrong.txt.gz: "), "{places:?}");
    let limits = Limits { expansion: 2000, ..Limits::default() };
    let (documents, _) = read(&CorpusSpec { limits, ..folder.spec(Division::Line) }).unwrap();
    assert_eq!(documents.iter().map(|(_, text)| text.len()).max(), Some(100_000_000));
}

#[test]
fn encodings_are_found_out_or_named() {
    let utf16 = |text: &str| -> Vec<u8> { text.encode_utf16().flat_map(u16::to_le_bytes).collect() };
    let french = b"une ann\xe9e tr\xe8s bonne pour les abeilles de la for\xeat\n";
    let folder = Folder::with(&[
        ("a.txt", &[b"\xff\xfe".to_vec(), utf16("h\u{f6}ney\r\nbee\r\n")].concat()),
        ("b.txt", &utf16("plain bees without a mark\n")),
        ("c.txt", french),
        ("d.txt", &[b"\xff\xfe".to_vec(), utf16("good\n"), vec![0x00, 0xd8], utf16("bad\nfine\n")].concat()),
    ]);
    let (documents, reading) = read(&folder.spec(Division::Line)).unwrap();
    let found: Vec<&str> = documents.iter().map(|(_, text)| text.as_str()).collect();
    let year = "une ann\u{e9}e tr\u{e8}s bonne pour les abeilles de la for\u{ea}t";
    assert_eq!(found, ["h\u{f6}ney", "bee", "plain bees without a mark", year, "good", "fine"]);
    assert_eq!(left_out(&folder, &reading), ["d.txt, line 2: bytes that are not UTF-16LE"]);
    let guessed: Vec<&str> = reading.guessed.iter().map(|guess| guess.encoding).collect();
    assert_eq!(guessed, ["UTF-16LE", "windows-1252"]);

    let named = CorpusSpec { encoding: Some("iso-8859-7".into()), ..folder.files(&["c.txt"]) };
    assert!(texts(&named)[0].contains("ann\u{3b9}e"));
    let (_, reading) = read(&named).unwrap();
    assert_eq!(reading.guessed_count, 0);
    let unknown = CorpusSpec { encoding: Some("martian".into()), ..folder.files(&["c.txt"]) };
    assert!(matches!(Corpus::find(&unknown), Err(TextError::NoEncoding(name)) if name == "martian"));
}

#[test]
fn awkward_files_of_a_folder_are_read_or_named() {
    let folder = Folder::with(&[
        ("a.txt", b"first\r\n"),
        ("empty.txt", b""),
        ("inner/deep.txt", b"deep"),
        (
            "nul.txt",
            &[b"a line\nwith a \0 in it\nand more\n".to_vec(), b"bees are quiet today\n".repeat(20)].concat(),
        ),
    ]);
    let odd = std::ffi::OsString::from_vec(b"od\xffd.txt".to_vec());
    fs::copy(folder.path().join("a.txt"), folder.path().join(&odd)).unwrap();
    symlink("..", folder.path().join("inner/loop")).unwrap();
    symlink("nowhere.txt", folder.path().join("dangling.txt")).unwrap();
    let locked = folder.path().join("locked.txt");
    fs::copy(folder.path().join("a.txt"), &locked).unwrap();
    fs::set_permissions(&locked, fs::Permissions::from_mode(0o000)).unwrap();
    // The superuser reads everything.
    let readable = fs::File::open(&locked).is_ok();

    let (documents, reading) = read(&folder.spec(Division::Line)).unwrap();
    let count = |wanted: &str| documents.iter().filter(|(_, text)| text == wanted).count();
    assert_eq!(count("first"), 2 + usize::from(readable));
    assert_eq!((count("deep"), count("and more"), count("bees are quiet today")), (1, 1, 20));
    let places = left_out(&folder, &reading);
    let named = |start: &str| places.iter().any(|place| place.starts_with(start));
    assert!(named("dangling.txt: no such file"), "{places:?}");
    assert!(named("inner/loop: a link back to"), "{places:?}");
    assert!(named("nul.txt, line 2: not text"), "{places:?}");
    assert_eq!(named("locked.txt: permission denied"), !readable, "{places:?}");
    let whole = left_out(&folder, &read(&folder.spec(Division::File)).unwrap().1);
    assert!(whole.contains(&"empty.txt: no text".to_owned()), "{whole:?}");

    let flat = CorpusSpec { recursive: false, ..folder.spec(Division::Line) };
    assert!(!texts(&flat).contains(&"deep".to_owned()), "folders inside are read on request only");
}

#[test]
fn folders_can_be_the_classes_and_patterns_name_files() {
    let folder = Folder::with(&[
        ("diaries/failing/b.txt", b"weak"),
        ("diaries/failing/a.txt", b"lost"),
        ("diaries/steady/more/c.txt", b"too deep"),
        ("diaries/steady/d.txt", b"well"),
        ("diaries/loose.txt", b"no class"),
    ]);
    let spec = CorpusSpec { folder_labels: true, ..folder.files(&["diaries"]) };
    let own = |rows: &[(&str, &str)]| -> Vec<(Option<String>, String)> {
        rows.iter().map(|(label, text)| (Some((*label).to_owned()), (*text).to_owned())).collect()
    };
    assert_eq!(labelled(&spec), own(&[("failing", "lost"), ("failing", "weak"), ("steady", "well")]));
    let (_, reading) = read(&spec).unwrap();
    assert_eq!(left_out(&folder, &reading), ["diaries/loose.txt: no label"]);
    let deep = CorpusSpec { recursive: true, ..spec };
    assert_eq!(labelled(&deep).last().unwrap().1, "too deep");

    assert_eq!(texts(&folder.files(&["diaries/*/[bd].txt"])), ["weak", "well"]);
    assert!(matches!(Corpus::find(&folder.files(&["diaries/*.csv"])), Err(TextError::Missing(_))));
    assert!(matches!(Corpus::find(&folder.files(&["diaries/[.txt"])), Err(TextError::BadGlob { .. })));
}

#[test]
fn a_strict_corpus_stops_at_the_first_loss() {
    let folder = Folder::with(&[("a.csv", b"text\ngood\n\"\"\nmore\n")]);
    let spec = CorpusSpec { strict: true, ..folder.files(&["a.csv"]) };
    match read(&spec).unwrap_err() {
        TextError::LeftOut(skipped) => assert_eq!((skipped.line, skipped.reason), (Some(3), Reason::Blank)),
        other => panic!("{other}"),
    }
}

#[test]
fn documents_of_great_length_are_read_up_to_the_limit_and_named_beyond_it() {
    let long = "a bee ".repeat(50_000_000 / 6);
    let folder = Folder::with(&[("long.txt", long.as_bytes()), ("short.txt", b"short\nlines\n")]);
    for division in [Division::Line, Division::File, Division::Paragraph] {
        let (documents, _) = read(&folder.spec(division)).unwrap();
        assert_eq!(documents[0].1.len(), long.len(), "{division:?}");
    }
    let limits = Limits { document_bytes: 10, ..Limits::default() };
    for division in [Division::Line, Division::File] {
        let spec = CorpusSpec { limits, ..folder.spec(division) };
        let places = match read(&spec) {
            Ok((documents, reading)) => {
                assert_eq!(documents.len(), 2);
                left_out(&folder, &reading)
            }
            Err(TextError::NoText { skipped, .. }) => {
                assert_eq!(skipped, 2);
                continue;
            }
            Err(other) => panic!("{other}"),
        };
        assert_eq!(places, ["long.txt, line 1: a document of more than 10 bytes"]);
    }
    // A quotation mark that is never closed must not swallow all memory.
    let rows = format!("text\n\"never closed\n{}", "and so on\n".repeat(2000));
    let folder = Folder::with(&[
        ("a.csv", rows.as_bytes()),
        ("b.jsonl", format!("{{\"text\": \"{}\"}}\n{{\"text\": \"x\"}}", "y".repeat(9000)).as_bytes()),
    ]);
    let limits = Limits { document_bytes: 5000, ..Limits::default() };
    let (documents, reading) = read(&CorpusSpec { limits, ..folder.files(&["a.csv", "b.jsonl"]) }).unwrap();
    assert_eq!(documents, [(2, "x".to_owned())]);
    assert_eq!(
        left_out(&folder, &reading),
        [
            "a.csv, line 2: a document of more than 5000 bytes",
            "b.jsonl, line 1: a document of more than 5000 bytes"
        ]
    );
}

#[test]
fn twenty_thousand_small_files_are_in_order_on_any_number_of_threads() {
    let folder = Folder::with(&[]);
    for index in 0..20_000 {
        fs::File::create(folder.path().join(format!("{index:05}.txt")))
            .and_then(|mut file| std::io::Write::write_all(&mut file, format!("entry {index}\n").as_bytes()))
            .unwrap();
    }
    let corpus = Corpus::find(&folder.spec(Division::File)).unwrap();
    assert_eq!(corpus.files().len(), 20_000);
    let mut next = 0u64;
    let (reading, _) = corpus
        .process(
            3,
            &mut |_: u64| true,
            || (),
            |(), batch| batch.documents().map(|document| document.text.len()).collect::<Vec<usize>>(),
            |batch, lengths| {
                for (document, length) in batch.documents().zip(lengths) {
                    assert_eq!((document.number, document.text), (next, format!("entry {next}").as_str()));
                    assert_eq!(length, document.text.len());
                    next += 1;
                }
                Ok(())
            },
        )
        .unwrap();
    assert_eq!((reading.documents, reading.files, next), (20_000, 20_000, 20_000));
}

#[test]
fn an_error_of_the_receiver_ends_the_work_at_once() {
    let lines = "a line of some length, again and again\n".repeat(200_000);
    let folder = Folder::with(&[("a.txt", lines.as_bytes())]);
    let corpus = Corpus::find(&folder.spec(Division::Line)).unwrap();
    let mut batches = 0;
    let result = corpus.process(
        2,
        &mut |_: u64| true,
        || (),
        |(), _| (),
        |_, ()| {
            batches += 1;
            if batches == 2 { Err(TextError::Stopped) } else { Ok(()) }
        },
    );
    assert!(matches!(result, Err(TextError::Stopped)));
    assert_eq!(batches, 2);
}

#[test]
#[should_panic(expected = "a worker gives up")]
fn a_worker_that_fails_does_not_leave_a_shorter_corpus_behind() {
    let folder = Folder::with(&[("a.txt", "a line of some length\n".repeat(200_000).as_bytes())]);
    let corpus = Corpus::find(&folder.spec(Division::Line)).unwrap();
    let work = |(): &mut (), batch: &lalograph_text::corpus::Batch| {
        assert!(batch.documents().all(|document| document.number < 50_000), "a worker gives up");
    };
    let _ = corpus.process(2, &mut |_: u64| true, || (), work, |_, ()| Ok(()));
}

#[test]
fn the_form_can_be_given_for_names_without_extension() {
    let folder = Folder::with(&[
        ("records", b"{\"text\": \"bee\"}\n"),
        ("in/a.csv", b"text\nx\n"),
        ("in/b.txt", b"y\n"),
    ]);
    let spec = CorpusSpec { form: Form::JsonLines, ..folder.files(&["records"]) };
    assert_eq!(texts(&spec), ["bee"]);
    assert_eq!(texts(&CorpusSpec { form: Form::Csv, ..folder.files(&["in"]) }), ["x"]);
    match Corpus::find(&CorpusSpec { form: Form::Tsv, ..folder.files(&["in"]) }) {
        Err(error) => assert!(error.to_string().contains("no files ending in .tsv or .tab"), "{error}"),
        Ok(_) => panic!("there is no TSV file"),
    }
}

#[test]
fn a_folder_that_links_lead_to_again_is_read_once_and_a_search_can_be_stopped() {
    let folder = Folder::with(&[("letters/one.txt", b"one"), ("two.txt", b"two")]);
    for link in ["again", "zz"] {
        symlink("letters", folder.path().join(link)).unwrap();
    }
    let spec = folder.spec(Division::Line);
    let (documents, reading) = read(&spec).unwrap();
    assert_eq!(documents.len(), 2, "{documents:?}");
    assert_eq!(
        left_out(&folder, &reading),
        [
            "letters: a folder that is also read by another path",
            "zz: a folder that is also read by another path"
        ]
    );
    // Where it is named twice that was meant.
    let paths = ["letters", "again"].map(|name| folder.path().join(name)).to_vec();
    assert_eq!(texts(&CorpusSpec { paths, ..spec.clone() }), ["one", "one"]);
    let mut looks = 0;
    let found = Corpus::find_while(&spec, &mut || {
        looks += 1;
        looks < 3
    });
    assert!(matches!(found, Err(TextError::Stopped)), "{looks}");
}
