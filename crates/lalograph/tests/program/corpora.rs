//! What people have, through the built program: tables, compressed files, cleaning, splits.

use std::collections::BTreeMap;
use std::io::Write;
use std::process::Stdio;

use crate::common::{Workshop, workshop_with_demo};
use lalograph_text::survey::{PlainCounts, Survey};
use lalograph_text::{Part, Split};
use serde_json::Value;

fn json(text: &str) -> Value {
    serde_json::from_str(text).unwrap()
}

#[test]
fn the_same_diaries_are_found_in_every_form() {
    let workshop = workshop_with_demo();
    let survey = |words: &str| -> Survey {
        serde_json::from_str(&workshop.run(&format!("survey {words} --json")).ok()).unwrap()
    };
    let folder = survey("thornmere/diaries --document line");
    let table = survey("thornmere/diaries.csv --label outcome");
    let lines = survey("thornmere/diaries.jsonl --label outcome");
    for other in [&table, &lines] {
        assert_eq!(
            (other.documents, other.words, other.bytes),
            (folder.documents, folder.words, folder.bytes)
        );
        assert_eq!(other.most_frequent, folder.most_frequent);
        assert_eq!(other.length_counts, folder.length_counts);
    }
    assert_eq!(table.classes, lines.classes);
    assert_eq!(table.classes.iter().map(|class| class.documents).sum::<u64>(), folder.documents);
    let counts: PlainCounts =
        serde_json::from_str(&workshop.run("survey thornmere/diaries --document line --counts --json").ok())
            .unwrap();
    assert_eq!((counts.documents, counts.words), (folder.documents, folder.words));
    // A file named on the command line and the same through a pipe.
    let mut child = workshop
        .command()
        .args(["survey", "-", "--document", "line", "--counts", "--json"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let text = std::fs::read(workshop.path("thornmere/diaries/volume-00001.txt")).unwrap();
    let mut packed = flate2::write::GzEncoder::new(child.stdin.take().unwrap(), flate2::Compression::fast());
    packed.write_all(&text).unwrap();
    drop(packed.finish().unwrap());
    let piped: PlainCounts = serde_json::from_slice(&child.wait_with_output().unwrap().stdout).unwrap();
    let named =
        workshop.run("survey thornmere/diaries/volume-00001.txt --document line --counts --json").ok();
    let named: PlainCounts = serde_json::from_str(&named).unwrap();
    assert_eq!((piped.documents, piped.words, piped.bytes), (named.documents, named.words, named.bytes));
}

#[test]
fn left_out_parts_are_named_listed_or_refused() {
    let workshop = Workshop::new();
    let rows: String = (0..12).map(|n| format!("{n},\n")).collect();
    workshop.write("a.csv", format!("entry,text\n{rows}12,the bees\n"));
    let done = workshop.run("survey a.csv --left-out lost.jsonl");
    for part in ["12 places left out, all of them in lost.jsonl", "a.csv, line 2: no text", "and 7 more"] {
        assert!(done.err.contains(part), "{part}: {done:?}");
    }
    assert!(done.ok().contains("1 in 1 file"));
    let lost = workshop.read("lost.jsonl");
    assert_eq!(lost.lines().count(), 12);
    let last = json(lost.lines().last().unwrap());
    assert_eq!((last["line"].as_u64(), last["reason"].as_str()), (Some(13), Some("no text")));
    workshop.run("survey a.csv --left-out lost.jsonl").fails(1, &["lost.jsonl exists already", "--force"]);
    workshop.run("survey a.csv --strict").fails(1, &["a.csv, line 2: no text", "--strict"]);
    assert!(workshop.run("survey a.csv").err.contains("--left-out FILE lists them all"));
    // A run reports it too, and only once for both passes.
    let trained = workshop.run(
        "train thornless.csv --text words --steps 2 --batch 1 --window 4 --hidden 8 --embedding 8 --validation-share 0 --name t",
    );
    trained.fails(1, &["thornless.csv: no such file"]);
    workshop.write(
        "b.csv",
        format!(
            "words\n\"\"\n{}",
            (0..60).map(|n| format!("the bees of hive {n} are quiet\n")).collect::<String>()
        ),
    );
    let trained = workshop.run(
        "train b.csv --text words --steps 2 --batch 1 --window 4 --hidden 8 --embedding 8 --name t --left-out run.jsonl",
    );
    assert!(trained.err.contains("1 place left out") && trained.err.contains("b.csv, line 2"), "{trained:?}");
    trained.ok();
    assert_eq!(workshop.read("run.jsonl").lines().count(), 1);
}

#[test]
fn columns_flags_and_encodings_that_do_not_fit_are_answered_with_advice() {
    let workshop = Workshop::new();
    workshop.write("a.csv", "entry,what was seen\n1,bees\n");
    workshop.write("semi.csv", "entry;text\n1;bees\n");
    workshop.write("a.txt", "bees\n");
    workshop.run("survey a.csv").fails(2, &["no column `text`", "entry, what was seen"]);
    workshop
        .run_words(&["survey", "a.csv", "--text", "what was sen"])
        .fails(2, &["no column `what was sen`", "did you mean `what was seen`?"]);
    workshop.run_words(&["survey", "a.csv", "--text", "what was seen"]).ok();
    workshop.run("survey a.csv --text 2").ok();
    workshop.run("survey semi.csv").fails(2, &["--delimiter ';'"]);
    workshop.run("survey semi.csv --delimiter ;").ok();
    workshop.run("survey a.csv --text 2 --document line").fails(2, &["--document has no effect"]);
    workshop.run("survey a.txt --label outcome").fails(2, &["--label has no effect"]);
    workshop.run("survey a.txt --encoding martian").fails(2, &["no encoding `martian`", "latin1"]);
    workshop.run("survey a.txt --match (").fails(2, &["--match"]);
    workshop.run("survey a.txt --near=7").fails(2, &["at most 1"]);
    workshop.run("survey a.txt --cleaning lower").fails(2, &["no cleaning step `lower`", "lower_case"]);
    workshop.run("survey a.txt --delimiter \u{e9}").fails(2, &["corpus.delimiter", "ASCII"]);
    workshop.write("empty/inner/a.txt", "x");
    workshop.run("survey empty").fails(1, &["no files ending in .txt", "--recursive"]);
    workshop.run("survey empty --recursive").ok();
    workshop.run("survey nothing*.txt").fails(1, &["no such file or folder"]);
}

#[test]
fn a_header_row_of_numbers_is_questioned() {
    let workshop = Workshop::new();
    workshop.write("n.csv", "1,5,2.5\n2,6,3.5\n3,7,1e3\n");
    let out = workshop.run("survey n.csv --text 2");
    assert!(out.err.contains("n.csv, line 1: a header row of numbers only"), "{out:?}");
    assert!(out.ok().contains("2 in 1 file"));
    let out = workshop.run("survey n.csv --text 2 --no-head");
    assert!(!out.err.contains("header row") && out.ok().contains("3 in 1 file"));
    workshop.run("survey n.csv").fails(2, &["no column `text`", "use --no-head"]);
    workshop.run("survey n.csv --text 2 --strict").fails(1, &["line 1"]);
    // Data that look like the numbers of columns are asked about too, unless the table is known to have no header row.
    workshop.write("m.csv", "1,2\n3,4\n");
    workshop.run("survey m.csv").fails(2, &["the first row, 1, 2, was read as the header row"]);
    let known = workshop.run("survey m.csv --no-head");
    assert!(!known.err.contains("header row"), "{known:?}");
    known.fails(2, &["columns: 1, 2"]);
}

#[test]
fn cleaning_is_shown_used_and_travels_with_the_model() {
    let workshop = Workshop::new();
    let page = "<p>The QUEEN&#39;s brood,\r\n14 frames.</p>";
    workshop.write("page.txt", page);
    let steps = "strip_html,lower_case,collapse_space";
    let shown = workshop.run(&format!("survey page.txt --cleaning {steps} --show-cleaning 1")).ok();
    assert!(shown.contains("before \u{27e6}<p>") && shown.contains("\u{27e6}queen's\u{27e7}"), "{shown}");
    assert!(workshop.run("survey page.txt --cleaning none --show-cleaning 1").ok().contains("unchanged"));
    workshop.run("survey page.txt --show-cleaning 1").fails(2, &["--cleaning"]);
    let survey = workshop.run(&format!("survey page.txt --cleaning {steps} --json")).ok();
    assert_eq!(json(&survey)["first_rows"][0]["text"], "the queen's brood, 14 frames.");

    // What a user types later goes through the model's own steps: capitals, tags and glued quotation marks make nothing
    // unknown.
    let entry = "the queen's brood, 14 frames. \"quiet\" she said.\n";
    workshop.write("plain.txt", entry.repeat(40));
    workshop
        .run_words(&[
            "train",
            "plain.txt",
            "--document",
            "line",
            "--cleaning",
            steps,
            "--cleaning",
            "replace:kilos?=>kg",
            "--steps",
            "2",
            "--batch",
            "2",
            "--window",
            "8",
            "--hidden",
            "8",
            "--embedding",
            "8",
            "--validation-share",
            "0",
            "--name",
            "m",
        ])
        .ok();
    let typed = "<p>The QUEEN&#39;s brood,\n14 frames.</p> &quot;Quiet&quot; she said.";
    let encoded = json(&workshop.run_words(&["vocab", "encode", "runs/m", "--json", typed]).ok());
    let plain = json(&workshop.run_words(&["vocab", "encode", "runs/m", "--json", entry.trim()]).ok());
    assert_eq!(encoded["tokens"], plain["tokens"]);
    assert_eq!(
        (encoded["unknown_tokens"].as_u64(), encoded["tokens"].as_array().unwrap().len()),
        (Some(0), 13)
    );
    let kept = json(&workshop.run("vocab show runs/m --json").ok());
    assert_eq!(kept["cleaning"][4]["replace"]["pattern"], "kilos?");
    assert!(workshop.read("runs/m/plan.toml").contains("strip_html"));
}

#[test]
fn pictures_of_a_survey_are_drawn_and_not_overwritten() {
    let workshop = workshop_with_demo();
    let command = "survey thornmere/diaries.csv --label outcome --pictures drawn";
    workshop.run(command).ok();
    for name in ["lengths", "classes", "ranks"] {
        assert!(workshop.read(&format!("drawn/{name}.svg")).contains("<svg"), "{name}");
        assert!(workshop.path(&format!("drawn/{name}.png")).is_file(), "{name}");
    }
    workshop.run(command).fails(1, &["exists already", "--force"]);
    workshop.run(&format!("{command} --force")).ok();
    // One document of one word is a corpus too.
    workshop.write("one.txt", "bee");
    workshop.run("survey one.txt --pictures small").ok();
}

#[test]
fn a_split_is_written_read_by_other_commands_and_never_torn() {
    let workshop = workshop_with_demo();
    let table = "thornmere/diaries.csv --label outcome";
    let output =
        json(&workshop.run(&format!("split {table} --validation-share 0.2 --test-documents 40 --json")).ok());
    assert_eq!(output["parts"]["test"]["documents"], 40);
    workshop.run(&format!("split {table}")).fails(1, &["split.json exists already", "--force"]);
    let split = Split::from_json(&workshop.read("split.json")).unwrap();
    let documents = |part: &str| {
        let counts =
            workshop.run(&format!("survey {table} --split split.json --part {part} --counts --json")).ok();
        json(&counts)["documents"].as_u64().unwrap()
    };
    assert_eq!(documents("test"), 40);
    assert_eq!(documents("validation"), split.count_of(Part::Validation).documents);
    workshop.run(&format!("survey {table} --split split.json")).fails(2, &["--part"]);
    workshop.run(&format!("survey {table} --split split.json --part set-aside")).fails(1, &["no text"]);

    let train =
        format!("train {table} --split split.json --steps 3 --hidden 8 --embedding 8 --name s --json");
    let lines = workshop.run(&train).ok();
    let outcome = json(lines.lines().last().unwrap());
    // The part that was held out is scored as the run scored it.
    let scored = json(
        &workshop.run(&format!("score runs/s {table} --split split.json --part validation --json")).ok(),
    );
    assert_eq!(scored["documents"], documents("validation"));
    let loss = |of: &Value| of["loss"].as_f64().unwrap();
    assert!((loss(&scored) - loss(&outcome["validation"])).abs() < 1e-6, "{scored} {outcome}");

    workshop.write("bad.json", "{\"format\": \"lalograph split\"");
    workshop
        .run(&format!("survey {table} --split bad.json --part test"))
        .fails(1, &["bad.json", "not a usable split", "lalograph split"]);
}

#[test]
fn parts_can_be_written_as_files_and_a_split_applied_to_a_longer_corpus() {
    let workshop = Workshop::new();
    let lines: Vec<String> = (0..300).map(|n| format!("entry {n} of the hive")).collect();
    workshop.write("a.txt", lines.join("\n"));
    let output = workshop.run("split a.txt --document line --files parts").ok();
    assert!(output.contains("parts/training.txt") && output.contains("--split split.json"), "{output}");
    let mut parts = BTreeMap::new();
    for part in ["training", "validation", "test", "set_aside"] {
        for line in workshop.read(&format!("parts/{part}.txt")).lines() {
            assert!(parts.insert(line.to_owned(), part).is_none(), "{line} twice");
        }
    }
    assert!(lines.iter().all(|line| parts.contains_key(line)) && parts.len() == 300);
    workshop
        .run("split a.txt --document line --output other.json --files parts")
        .fails(1, &["exists already"]);
    assert!(!workshop.path("other.json").exists());

    let more: Vec<String> = (300..400).map(|n| format!("entry {n} of the hive")).collect();
    workshop.write("longer.txt", [lines.join("\n"), more.join("\n")].join("\n"));
    let output =
        json(&workshop.run("split longer.txt --document line --apply split.json --files later --json").ok());
    assert_eq!(
        output["parts"]["training"]["documents"].as_u64().unwrap()
            + output["parts"]["validation"]["documents"].as_u64().unwrap()
            + output["parts"]["test"]["documents"].as_u64().unwrap(),
        400
    );
    for part in ["training", "validation", "test"] {
        let later = workshop.read(&format!("later/{part}.txt"));
        assert!(later.starts_with(&workshop.read(&format!("parts/{part}.txt"))), "{part}");
    }
    // Labels and kept columns make JSON Lines of it.
    workshop.write("a.csv", "entry,text,outcome\n1,\"two\nlines\",steady\n2,one,disputed\n");
    workshop.run("split a.csv --label outcome --set-aside disputed --validation-share 0 --test-share 0 --keep entry --files rows --output r.json").ok();
    let row = json(&workshop.read("rows/training.jsonl"));
    assert_eq!(row, serde_json::json!({"text": "two\nlines", "label": "steady", "entry": "1"}));
    assert_eq!(json(&workshop.read("rows/set_aside.jsonl"))["entry"], "2");
    workshop.run("split a.txt --keep entry --files q --output q.json").fails(2, &["--keep has no effect"]);
    workshop.run("split a.csv --set-aside disputed --output q.json").fails(2, &["needs labels"]);
    workshop
        .run("split a.csv --validation-share 1.5")
        .fails(2, &["a share is from 0 to 0.9", "--validation-documents"]);
    workshop
        .run("split a.csv --validation-documents 9 --output q.json")
        .fails(1, &["lower --validation-share"]);
    assert!(!workshop.path("q.json").exists());
}

#[test]
fn set_aside_documents_have_a_reason() {
    let workshop = Workshop::new();
    // Two documents with nothing in common, and between them one that is nearly equal to both.
    let words = |from: usize, to: usize| (from..to).map(|n| format!("w{n}")).collect::<Vec<_>>().join(" ");
    let mut found = None;
    for seed in 0..40 {
        let (left, right) = (words(0, 40), words(40, 80));
        workshop.write(
            "a.csv",
            format!("text,label\n{left},x\n{right},x\n{left} {right},x\nother words here,dispute\n"),
        );
        let asked = format!(
            "split a.csv --label label --set-aside dispute --near=0.4 --validation-share 0.4 --test-share 0 --seed {seed} --output s{seed}.json"
        );
        let output = workshop.run(&asked).ok();
        assert!(output.contains("1 document set aside for the label (dispute)"), "{output}");
        assert!(output.contains("a.csv, line 5: dispute"), "{output}");
        if output.contains("near duplicates of documents in two parts") {
            assert!(output.contains("a.csv, line 4: near duplicates of two parts"), "{output}");
            found = Some(json(&workshop.run(&format!("{asked} --force --json")).ok()));
        }
    }
    let set_aside = &found.unwrap()["set_aside"];
    assert_eq!((&set_aside["by_label"], &set_aside["between_two_parts"]), (&json("1"), &json("1")));
    assert_eq!(
        (&set_aside["first"][0]["line"], &set_aside["first"][0]["label"]),
        (&json("4"), &json("\"x\""))
    );
}

#[test]
fn matches_are_counted_by_class() {
    let workshop = Workshop::new();
    workshop.write("a.csv", "text,label\nqueen and queen,calm\nno bees,calm\na queen,wild\nthe queen,\n");
    let survey = "survey a.csv --label label --match queen --rows 0";
    let shown = workshop.run(survey).ok();
    assert!(shown.contains("1 (50.0 %)") && shown.contains("1 (100.0 %)"), "{shown}");
    let found = json(&workshop.run(&format!("{survey} --json")).ok());
    let matching: Vec<u64> = found["classes"]
        .as_array()
        .unwrap()
        .iter()
        .map(|class| class["matching_documents"].as_u64().unwrap())
        .collect();
    assert_eq!((matching, found["matches"]["documents"].as_u64()), (vec![1, 1], Some(2)));
    let plain = json(&workshop.run("survey a.csv --label label --json").ok());
    assert!(plain["classes"][0]["matching_documents"].is_null());
}

/// Peak memory of a run of the program, in kB, as the system keeps it.
fn peak_kilobytes(workshop: &Workshop, words: &str) -> u64 {
    let mut child = workshop
        .command()
        .args(words.split(' '))
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let status = format!("/proc/{}/status", child.id());
    let mut peak = 0;
    while child.try_wait().unwrap().is_none() {
        let text = std::fs::read_to_string(&status).unwrap_or_default();
        let found = text
            .lines()
            .find_map(|line| line.strip_prefix("VmHWM:")?.trim().strip_suffix(" kB")?.parse().ok());
        peak = peak.max(found.unwrap_or(0));
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    assert!(child.wait().unwrap().success(), "{words}");
    peak
}

/// Buffers of fixed size fill up first: `filling` kB are allowed for that.
fn memory_stays_flat(small: &str, large: &str, filling: u64) {
    let workshop = Workshop::new();
    for (size, name) in [(small, "small"), (large, "large")] {
        workshop.run(&format!("demo --corpus-only --size {size} --dir {name} --quiet")).ok();
    }
    for command in [
        "survey NAME/diaries --document line --near",
        "survey NAME/diaries.csv --label outcome",
        "split NAME/diaries.jsonl --near --label outcome --output NAME.json",
    ] {
        let [small, large] =
            ["small", "large"].map(|name| peak_kilobytes(&workshop, &command.replace("NAME", name)));
        eprintln!("{command}: {small} kB, {large} kB");
        assert!(
            large < 300_000 && large * 10 <= small * 11 + filling * 10,
            "{command}: {small} kB, {large} kB"
        );
    }
}

#[test]
fn memory_does_not_grow_with_the_corpus() {
    memory_stays_flat("8MB", "40MB", 12_000);
}

/// The long form: `cargo test --release --test program corpora -- --ignored --nocapture`.
#[test]
#[ignore = "writes several gigabytes and takes minutes"]
fn memory_does_not_grow_with_a_corpus_of_a_gigabyte() {
    memory_stays_flat("100MB", "1GB", 0);
}

#[test]
fn waiting_for_a_pipe_can_be_stopped_and_folders_skip_pipes() {
    use rustix::fs::{CWD, FileType, Mode, mknodat};
    let workshop = Workshop::new();
    workshop.write("letters/one.txt", "dear bees\n");
    for name in ["letters/pipe.txt", "alone.txt"] {
        mknodat(CWD, workshop.path(name), FileType::Fifo, Mode::from_raw_mode(0o600), 0).unwrap();
    }
    let listed = workshop.run("survey letters");
    assert!(
        listed.err.contains("letters/pipe.txt") && listed.err.contains("not a regular file"),
        "{listed:?}"
    );
    listed.ok();
    for words in ["survey alone.txt", "survey --counts alone.txt", "vocab build alone.txt --output w.json"] {
        let mut child = workshop
            .command()
            .args(words.split(' '))
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        std::thread::sleep(std::time::Duration::from_millis(400));
        let kill =
            std::process::Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
        assert!(kill.success());
        assert_eq!(child.wait().unwrap().code(), Some(130), "{words}");
        assert!(!workshop.path("w.json").exists());
    }
    // One that comes is read.
    let reader =
        workshop.command().args(["survey", "--counts", "alone.txt"]).stdout(Stdio::piped()).spawn().unwrap();
    std::thread::sleep(std::time::Duration::from_millis(200));
    let mut pipe = std::fs::File::options().write(true).open(workshop.path("alone.txt")).unwrap();
    std::io::Write::write_all(&mut pipe, b"three bees flew\n").unwrap();
    drop(pipe);
    let done = reader.wait_with_output().unwrap();
    assert!(done.status.success());
    assert!(String::from_utf8(done.stdout).unwrap().contains('3'));
}
