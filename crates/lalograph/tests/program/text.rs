//! `survey`, `vocab`, and what holds for every command.

use std::io::Read;
use std::process::Stdio;

use crate::common::{Workshop, workshop_with_demo};
use lalograph_text::survey::Survey;
use serde_json::Value;

#[test]
fn a_survey_counts_the_corpus_and_its_json_has_the_documented_shape() {
    let workshop = Workshop::new();
    workshop.write("a/one.txt", "the bee\nthe hive\n");
    workshop.write("a/two.txt", "a bee, late\n");
    workshop.write("a/zero.txt", b"\0\0");
    let done = workshop.run("survey a --document line --json");
    assert!(done.err.contains("1 place left out") && done.err.contains("zero.txt"), "{done:?}");
    let survey: Survey = serde_json::from_str(&done.ok()).unwrap();
    assert_eq!((survey.files, survey.documents, survey.skipped), (3, 3, 1));
    assert_eq!((survey.words, survey.distinct_words, survey.bytes), (8, 6, 29));
    assert_eq!(survey.most_frequent[0], ("bee".to_owned(), 2));
    let shown = workshop.run("survey a --document line").ok();
    assert!(shown.contains("3 in 3 files") && shown.contains("95 % up to 4"), "{shown}");
}

#[test]
fn tables_fit_their_width_and_have_no_colour_in_a_pipe() {
    let workshop = workshop_with_demo();
    let out = workshop.run("survey thornmere/diaries --document line").ok();
    assert!(out.lines().all(|line| line.chars().count() <= 100), "{out}");
    assert!(!out.contains('\u{1b}'));
    let coloured = workshop.run("survey thornmere/diaries --document line --color always").ok();
    assert!(coloured.contains('\u{1b}'));
}

#[test]
fn vocabularies_are_built_shown_and_used_both_ways() {
    let workshop = workshop_with_demo();
    let built = workshop
        .run("vocab build thornmere/diaries --document line --cleaning lower_case --vocabulary-size 300 --output v.json")
        .ok();
    assert!(built.contains("304 = 300 words + 4 reserved"), "{built}");
    workshop
        .run("vocab build thornmere/diaries --output v.json")
        .fails(1, &["v.json exists already", "--force"]);
    let shown = workshop.run("vocab show v.json --top 5 --json").ok();
    let shown: Value = serde_json::from_str(&shown).unwrap();
    assert_eq!(shown["indices"], 304);
    assert_eq!(shown["tokens"][0]["index"], 4);
    assert_eq!(shown["tokens"][0]["token"], ".");
    let found = workshop.run("vocab show v.json --find quee").ok();
    assert!(found.contains("queen"), "{found}");

    let text = "The BLUE queen, vlorped.";
    let encoded = workshop.run_words(&["vocab", "encode", "v.json", text]).ok();
    assert!(
        encoded.contains("vlorped") && encoded.contains("unknown") && encoded.contains("1 unknown"),
        "{encoded}"
    );
    let cut = workshop.run_words(&["vocab", "encode", "v.json", "--length", "4", "--json", text]).ok();
    let cut: Value = serde_json::from_str(&cut).unwrap();
    assert_eq!(
        (cut["tokens_cut"].as_u64(), cut["cleaned"].as_str()),
        (Some(2), Some("the blue queen, vlorped."))
    );
    let padded = workshop.run_words(&["vocab", "encode", "v.json", "--length", "9", "--indices", text]).ok();
    assert!(padded.trim_end().ends_with(" 0 0 0"), "{padded}");
    let indices = workshop
        .run_words(&["vocab", "encode", "v.json", "--indices", "The blue queen, and the frames."])
        .ok();
    let back = workshop.run_with_input(&["vocab", "decode", "v.json", "-"], &indices).ok();
    assert_eq!(back, "the blue queen, and the frames.\n");
    workshop.run("vocab decode v.json 99999").fails(1, &["outside the vocabulary", "303"]);
    workshop.run("vocab decode v.json 1 x").fails(2, &["`x` is not an index"]);

    // A vocabulary that was built is one that training can use.
    workshop
        .run("train thornmere/diaries --document line --vocabulary-file v.json --steps 2 --hidden 8 --name v --quiet")
        .ok();
    let kept = workshop.run("vocab show runs/v --json").ok();
    let kept: Value = serde_json::from_str(&kept).unwrap();
    assert_eq!((kept["indices"].as_u64(), kept["cleaning"][1].as_str()), (Some(304), Some("lower_case")));
    workshop.run("train thornmere/diaries --vocabulary-file v.json --unit word").fails(2, &["--unit"]);
}

#[test]
fn characters_decode_to_the_very_text() {
    let workshop = Workshop::new();
    let text = "caf\u{e9} \u{1f41d}\n\ttwice  spaced";
    workshop.write("t.txt", text);
    workshop.run("vocab build t.txt --unit character --output c.json").ok();
    let indices = workshop.run_words(&["vocab", "encode", "c.json", "--indices", text]).ok();
    let back = workshop.run_words(&["vocab", "decode", "c.json", indices.trim()]).ok();
    assert_eq!(back, format!("{text}\n"));
}

#[test]
fn a_long_text_is_encoded_in_parts_as_the_whole_would_be() {
    let workshop = Workshop::new();
    let line = "The blue queen's cells, 14 kilos.\n";
    let lines = 3_000_000 / line.len();
    workshop.write("long.txt", line.repeat(lines));
    for build in ["--unit word --minimum-count 1", "--unit byte-pair --vocabulary-size 270"] {
        workshop.run(&format!("vocab build long.txt --document line {build} --output v.json --force")).ok();
        let encoded = |options: &[&str]| {
            let words = [&["vocab", "encode", "v.json", "-", "--indices"], options].concat();
            workshop.run_with_file(&words, "long.txt").ok()
        };
        let once = workshop.run_words(&["vocab", "encode", "v.json", "--indices", line]).ok();
        let all = vec![once.trim_end(); lines].join(" ");
        assert!(encoded(&[]) == format!("{all}\n"), "{build}");
        // The cut is in the last part.
        let most = all.split(' ').count() - 3;
        let cut = all.split(' ').take(most).collect::<Vec<_>>().join(" ");
        assert!(encoded(&["--length", &most.to_string()]) == format!("{cut}\n"), "{build}");
        let padded = (most + 5).to_string();
        assert!(encoded(&["--length", &padded]) == format!("{all} 0 0\n"), "{build}");
        assert_eq!(encoded(&["--length", "0"]), "\n");
    }
    workshop.write("wrong.txt", b"two words \xff\xfe and more");
    workshop
        .run_with_file(&["vocab", "encode", "v.json", "-", "--indices"], "wrong.txt")
        .fails(1, &["standard input: the text is not UTF-8"]);
}

#[test]
fn damaged_vocabularies_are_refused() {
    let workshop = Workshop::new();
    workshop.write("t.txt", "a b c a");
    workshop.run("vocab build t.txt --output v.json").ok();
    let whole = workshop.read("v.json");
    for (name, bytes) in [
        ("cut.json", whole.as_bytes()[..whole.len() / 2].to_vec()),
        ("binary.json", vec![0xff, 0xfe, 0, 1]),
        ("other.json", b"{\"format\": \"letters\"}".to_vec()),
        ("empty.json", Vec::new()),
    ] {
        workshop.write(name, bytes);
        workshop.run(&format!("vocab show {name}")).fails(1, &[name, "not a usable vocabulary"]);
    }
    workshop.run("vocab show nowhere.json").fails(1, &["nowhere.json"]);
}

#[test]
fn nonsense_is_answered_with_status_two() {
    let workshop = Workshop::new();
    for words in ["sing", "train", "survey --wat", "vocab bake x", "demo extra words", "sample", "score m"] {
        let done = workshop.run(words);
        assert_eq!(done.status, 2, "{words}: {done:?}");
        assert!(done.out.is_empty() && !done.err.contains("panicked"), "{words}: {done:?}");
    }
    workshop.run("survay x").fails(2, &["survey"]);
    assert_eq!(std::fs::read_dir(workshop.path(".")).unwrap().count(), 0, "nothing was written");
}

#[test]
fn a_reader_that_closes_is_no_failure() {
    let workshop = workshop_with_demo();
    for words in [
        "vocab show thornmere/vocabulary.json --top 100000",
        "sample thornmere/runs/demo --past-end --tokens 20000",
    ] {
        let mut child = workshop
            .command()
            .args(words.split(' '))
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let mut first = [0; 10];
        child.stdout.take().unwrap().read_exact(&mut first).unwrap();
        // The pipe is closed by now.
        let done = child.wait_with_output().unwrap();
        assert_eq!(done.status.code(), Some(0), "{words}: {}", String::from_utf8_lossy(&done.stderr));
        assert!(done.stderr.is_empty(), "{words}: {}", String::from_utf8_lossy(&done.stderr));
    }
}

#[test]
fn the_examples_of_every_help_page_work_as_typed() {
    let workshop = workshop_with_demo();
    let mut commands = vec![Vec::new()];
    let mut tried = 0;
    while let Some(command) = commands.pop() {
        let mut words = command.clone();
        words.push("--help".to_owned());
        let help = workshop.run_words(&words.iter().map(String::as_str).collect::<Vec<_>>()).ok();
        if let Some((_, list)) = help.split_once("Commands:\n") {
            for name in list.lines().take_while(|line| line.starts_with("  ")) {
                let name = name.split_whitespace().next().unwrap_or_default();
                let known = [
                    "demo",
                    "survey",
                    "split",
                    "vocab",
                    "train",
                    "sample",
                    "score",
                    "completions",
                    "manual",
                    "build",
                    "show",
                    "encode",
                    "decode",
                ];
                if known.contains(&name) {
                    commands.push([command.as_slice(), &[name.to_owned()]].concat());
                }
            }
        }
        let (_, examples) = help.split_once("Examples:\n").unwrap_or_default();
        for example in examples.lines().map(str::trim).filter(|line| line.contains("lalograph ")) {
            // Whole training runs are for the tests that are about them.
            if example.starts_with("lalograph demo") || example.starts_with("man ") {
                continue;
            }
            let example = if example.starts_with("lalograph train") {
                format!("{example} --steps 1 --samples-tokens 2").replace("--epochs 3 ", "")
            } else {
                example.to_owned()
            };
            workshop.write("entry.txt", "Hesper pottered to Foxgate.\n");
            let path = std::path::Path::new(env!("CARGO_BIN_EXE_lalograph")).parent().unwrap();
            let status = std::process::Command::new("sh")
                .args(["-e", "-c", &example])
                .current_dir(workshop.path("."))
                .env("PATH", format!("{}:{}", path.display(), std::env::var("PATH").unwrap()))
                .stdin(Stdio::null())
                .output()
                .unwrap();
            assert!(status.status.success(), "{example}: {}", String::from_utf8_lossy(&status.stderr));
            tried += 1;
        }
    }
    assert!(tried >= 20, "{tried} examples tried");
}

#[test]
fn completions_and_manual_pages_come_from_the_program() {
    let workshop = Workshop::new();
    for shell in ["bash", "zsh", "fish"] {
        assert!(workshop.run(&format!("completions {shell}")).ok().contains("lalograph"));
    }
    workshop.run("manual pages").ok();
    assert!(workshop.read("pages/lalograph-vocab-encode.1").contains("tokens and indices of a text"));
    workshop.run("manual pages").fails(1, &["exists already"]);
}
