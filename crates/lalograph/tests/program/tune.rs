//! Tuning, its comparison and conversations, as the program does them.

use std::fs::File;
use std::io::{Read, Write};
use std::os::unix::ffi::OsStrExt;
use std::process::Stdio;
use std::sync::OnceLock;
use std::time::{Duration, Instant};

use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use serde_json::Value;

use crate::common::{Workshop, demo, files_below};

fn json(line: &str) -> Value {
    serde_json::from_str(line).unwrap_or_else(|error| panic!("{error}: {line}"))
}

/// A base, and a model that was tuned on pairs; for all tests, to be read only.
fn workshop() -> Workshop {
    static MADE: OnceLock<Workshop> = OnceLock::new();
    MADE.get_or_init(|| {
        let workshop = Workshop::new();
        workshop.run("demo --dir made --corpus-only --pairs --size 100kB --quiet").ok();
        workshop
            .run("train made/diaries --document line --cell gru --embedding 24 --hidden 48 --steps 150 --samples-every 0 --runs runs --name base --quiet")
            .ok();
        workshop
            .run(&format!("{PAIRS} --new-tokens 200 --epochs 4 --learning-rate 0.01 --name pairs --quiet"))
            .ok();
        workshop
    })
    .copy()
}

const PAIRS: &str = "tune base made/pairs.csv --prompt prompt --answer answer";

#[test]
fn a_model_is_tuned_on_another_corpus_and_says_what_it_forgot() {
    let workshop = workshop();
    let lines: String =
        (0..300).map(|i| format!("The tram number {} was late in Velmark again.\n", i % 50)).collect();
    workshop.write("trams.txt", lines);
    let tune = "tune runs/base trams.txt --document line --new-tokens 30 --steps 60 --seed 3";
    let out = workshop.run(&format!("{tune} --name trams --quiet")).ok();
    for words in ["base", "new tokens", "before tuning", "old perplexity", "old text"] {
        assert!(out.contains(words), "no `{words}` in {out}");
    }
    let err = workshop.run(&format!("{tune} --name loud")).err;
    let first = err.lines().find(|line| line.starts_with("step 0 ")).unwrap_or_else(|| panic!("{err}"));
    assert!(first.contains("old perplexity"), "{first}");
    let lines = workshop.run(&format!("{tune} --keep-old 0.25 --name kept --json --quiet")).ok();
    let outcome = json(lines.lines().last().unwrap());
    let old = |evaluation: &Value| evaluation["figures"]["old_perplexity"].as_f64().unwrap();
    let first = lines.lines().map(json).find(|line| line["kind"] == "validation").unwrap();
    assert_eq!(first["step"], 0);
    assert_eq!(old(&outcome["base"]), first["figures"]["old_perplexity"].as_f64().unwrap());
    let show = json(&workshop.run("runs show trams --json").ok());
    let hints: Vec<&str> =
        show["hints"].as_array().unwrap().iter().map(|hint| hint["hint"].as_str().unwrap()).collect();
    assert!(hints.contains(&"forgetting"), "{show}");
    // The model is complete in itself, and the run is read by every command.
    assert!(workshop.run("sample runs/trams --from The --tokens 12 --quiet").ok().starts_with("The"));
    for command in ["runs show trams", "runs list", "score runs/trams trams.txt --document line"] {
        workshop.run(command).ok();
    }
    workshop.run("runs report trams --quiet").ok();
    // Results do not depend on threads, and three steps change nothing.
    workshop.run(&format!("{tune} --name one --threads 1 --quiet")).ok();
    let model =
        |name: &str| std::fs::read(workshop.path(&format!("runs/{name}/{name}.safetensors"))).unwrap();
    assert!(model("one") == model("trams"));
    let err = workshop.run("tune base made/diaries --document line --steps 2 --name few").err;
    assert!(err.contains("hardly changed"), "{err}");
}

#[test]
fn wrong_uses_of_tuning_are_refused_and_leave_nothing() {
    let workshop = workshop();
    workshop.write("blank.csv", "prompt,answer\nwhere?,\n,here\n");
    workshop.write("one.csv", "prompt,answer\nwhere?,here\n");
    workshop.write("broken.safetensors", "no model");
    workshop
        .run("classify train made/diaries.csv --label outcome --network pooled --epochs 1 --name outcome --quiet")
        .ok();
    let before = files_below(&workshop.path("runs"));
    let cases: [(&str, i32, &[&str]); 18] = [
        ("tune", 2, &["MODEL"]),
        ("tune base", 2, &["PATH"]),
        ("tune nowhere made/diaries", 1, &["nowhere"]),
        ("tune broken.safetensors made/diaries", 1, &["broken.safetensors"]),
        ("tune outcome made/diaries", 1, &["classifier"]),
        ("tune base made/diaries --document line --unit character", 2, &["unit", "words"]),
        ("tune base made/diaries --document line --set model.hidden=9", 2, &["[model]"]),
        ("tune base made/diaries --document line --freeze layer-2", 2, &["layer-2", "layer-1"]),
        ("tune base made/diaries --document line --longest-answer 3", 2, &["--prompt"]),
        ("tune base made/diaries --document line --keep-old 1.5", 2, &["tune.keep_old"]),
        ("tune base made/pairs.csv --prompt prompt", 2, &["--answer"]),
        ("tune base made/pairs.csv --prompt question --answer answer", 2, &["question", "prompt"]),
        ("tune base made/pairs.csv --prompt prompt --answer answer --text answer", 2, &["--text"]),
        ("tune base blank.csv --prompt prompt --answer answer", 1, &["no text"]),
        ("tune base one.csv --prompt prompt --answer answer --validation-share 0", 1, &["training tokens"]),
        ("tune base made/diaries --document line --new-tokens many", 2, &["many"]),
        ("train --plan runs/pairs/plan.toml", 2, &["tuned model"]),
        (
            "train made/pairs.csv --set corpus.prompt=prompt --set corpus.answer=answer",
            2,
            &["lalograph tune"],
        ),
    ];
    for (words, status, said) in cases {
        workshop.run(words).fails(status, said);
    }
    assert!(files_below(&workshop.path("runs")) == before, "a refused command left something");
}

#[test]
fn pairs_are_surveyed_split_by_prompt_and_answered() {
    let workshop = workshop();
    let out = workshop.run("survey made/pairs.csv --prompt prompt --answer answer --quiet").ok();
    assert!(out.contains("2,000 in 1 file") && out.contains("Prompts and answers"), "{out}");
    workshop.write("gaps.csv", "prompt,answer\nwhere?,\n,here\nwhere?,here\nwhere?,there it is\n");
    let words = [
        "survey", "gaps.csv", "--prompt", "prompt", "--answer", "answer", "--match", "there", "--json",
        "--quiet",
    ];
    let found = &json(&workshop.run_words(&words).ok())["pairs"];
    assert_eq!((&found["empty_prompts"], &found["empty_answers"]), (&1.into(), &1.into()), "{found}");
    assert_eq!((&found["repeated_prompts"], &found["matching_answers"]), (&1.into(), &1.into()), "{found}");
    assert_eq!(found["answers"]["maximum_words"], 3);
    workshop
        .run("split made/pairs.csv --prompt prompt --answer answer --keep prompt --files parts --output pairs.split.json --quiet")
        .ok();
    let prompts = |part: &str| -> std::collections::BTreeSet<String> {
        workshop
            .read(&format!("parts/{part}.jsonl"))
            .lines()
            .map(|line| json(line)["prompt"].to_string())
            .collect()
    };
    assert!(prompts("training").is_disjoint(&prompts("test")), "a prompt is in two parts");
    // The tuned model learnt pairs: its answers end, and its base's do not fit.
    let compare = "tune compare base pairs --pairs made/pairs.csv --first 60 --match only.know";
    let lines = workshop.run(&format!("{compare} --json --quiet")).ok();
    let all: Vec<Value> = lines.lines().map(json).collect();
    assert_eq!(all.len(), 61);
    assert_eq!(all[0]["answers"].as_array().unwrap().len(), 2);
    let figures = &all[60]["models"];
    let of = |model: usize, key: &str| figures[model][key].as_f64().unwrap();
    assert!(of(1, "perplexity") < of(0, "perplexity") / 10.0, "{figures}");
    assert!(figures[1]["differences"]["bits_per_byte"]["interval"][1].as_f64().unwrap() < 0.0);
    assert!(figures[1]["matches"]["off_topic_share"].as_f64().unwrap() > 0.9, "{figures}");
    let exact = all[..60].iter().filter(|pair| pair["answers"][1]["exact"] == true).count() as f64 / 60.0;
    assert!((exact - of(1, "exact_share")).abs() < 1e-12);
    // Threads change nothing; a page has every pair, and is not overwritten.
    assert_eq!(workshop.run(&format!("{compare} --json --quiet --threads 1")).ok(), lines);
    let words = workshop.run(&format!("{compare} --page page.html --examples 2 --quiet")).ok();
    assert!(words.contains("off topic") && words.contains("wanted"), "{words}");
    assert_eq!(workshop.read("page.html").matches("<tr><td>").count(), 60 + 9);
    workshop.run(&format!("{compare} --page page.html")).fails(1, &["page.html", "exists"]);
    let few = "tune compare pairs --pairs made/pairs.csv --first 8 --json --quiet";
    let answers = |how: &str| workshop.run(&format!("{few} {how}")).ok();
    workshop.run(&format!("{few} --temperature 0.7 --top-k 5")).ok();
    assert_ne!(answers("--temperature 5 --unknown draw"), answers("--temperature 5"));
    // A beam of chance follows its seed; the best beam has none.
    let random = "--beam 3 --random-beam --tokens 12 --seed";
    assert_eq!(answers(&format!("{random} 1")), answers(&format!("{random} 1")));
    assert_ne!(answers(&format!("{random} 1")), answers(&format!("{random} 2")));
    assert_eq!(answers("--beam 3 --seed 1"), answers("--beam 3 --seed 2"));
    for idle in ["--unknown spell", "--temperature 1", "--repeat-power 2"] {
        workshop.run(&format!("{few} --beam 3 {idle}")).fails(2, &["has no effect"]);
    }
    workshop.run("tune compare pairs --pairs made/pairs.csv --prompt question").fails(2, &["question"]);
    workshop.run("tune compare pairs --pairs made/pairs.csv --beam 0").fails(2, &["beam"]);
    // Answers below their prompts in samples, and from `sample`.
    let samples = workshop.read("runs/pairs/samples.jsonl");
    let last = json(samples.lines().last().unwrap());
    assert!(last["text"].as_str().unwrap().starts_with('\n') && last["seed_text"] != "", "{last}");
    let out = workshop
        .run_words(&["sample", "pairs", "--from", "Who won the football in Osterby?", "--greedy", "--quiet"])
        .ok();
    assert!(out.starts_with("Who won the football in Osterby?\nI only know bees"), "{out}");
    // What is cut is counted.
    let err = workshop.run(&format!("{PAIRS} --longest-prompt 4 --steps 1 --name cut")).err;
    assert!(err.contains("prompts have more than 4 tokens"), "{err}");
}

#[test]
fn a_conversation_is_held_kept_and_replayed() {
    let workshop = workshop();
    let input = "Who won the football in Osterby?\n:temperature 0.9\n:unknown draw\n:again\n:nonsense\n\n:forget\n:again\nWhere does Foxgate stand?\n:save copy.jsonl\n";
    let words = ["converse", "pairs", "--save", "talk.jsonl"];
    let done = workshop.run_with_input(&words, input);
    assert!(done.err.contains("no command :nonsense"), "{done:?}");
    let out = done.ok();
    assert_eq!(out.lines().count(), 3, "{out}");
    let lines: Vec<Value> = workshop.read("talk.jsonl").lines().map(json).collect();
    let speakers: Vec<&str> = lines.iter().map(|line| line["speaker"].as_str().unwrap()).collect();
    assert_eq!(speakers, ["you", "pairs", "you", "pairs", "you", "you", "pairs"]);
    assert_eq!(
        (&lines[3]["settings"]["temperature"], &lines[3]["settings"]["unknown"], &lines[3]["text"]),
        (&0.9.into(), &"draw".into(), &out.lines().nth(1).unwrap().into())
    );
    assert_eq!(workshop.read("copy.jsonl"), workshop.read("talk.jsonl"));
    workshop.run_with_input(&words, "hello\n").fails(1, &["talk.jsonl", "exists"]);
    // The same lines get the same answers, those that were taken again too.
    workshop.run("converse pairs --replay talk.jsonl --save replayed.jsonl").ok();
    assert_eq!(workshop.read("replayed.jsonl"), workshop.read("talk.jsonl"));
    let plain = "Where does Foxgate stand?\nWho won the football in Osterby?\n";
    let first = workshop
        .run_with_input(&["converse", "pairs", "--temperature", "0.8", "--save", "a.jsonl"], plain)
        .ok();
    let again = workshop.run("converse pairs --replay a.jsonl --save b.jsonl").ok();
    assert_eq!(workshop.read("a.jsonl"), workshop.read("b.jsonl"));
    assert_eq!(again.lines().skip(1).step_by(2).collect::<Vec<_>>(), first.lines().collect::<Vec<_>>());
    let lines = workshop.run_with_input(&["converse", "pairs", "--json", "--quiet"], plain).ok();
    let said: Vec<Value> = lines.lines().map(json).collect();
    assert!(said.len() == 2 && said.iter().all(|line| line["speaker"] == "pairs"), "{lines}");
    workshop.write("no.jsonl", "{\"speaker\":3}\n");
    workshop.run("converse pairs --replay no.jsonl").fails(1, &["no.jsonl, line 1"]);
    workshop.run_with_input(&["converse", "pairs"], "\u{fffd}\n").ok();
    workshop.run("converse pairs --temperature 0").fails(2, &["temperature"]);
    workshop.run("converse pairs --beam 3").fails(2, &["--beam"]);
    workshop.run("converse nowhere").fails(1, &["nowhere"]);
}

#[test]
fn two_voices_take_turns() {
    let workshop = workshop();
    let words = "converse base --turns 10 --from Hesper --temperature 0.7 --names Ann,Ben --tokens 15";
    let out = workshop.run(words).ok();
    assert_eq!(out.lines().filter(|line| line.starts_with("Ann: ")).count(), 5, "{out}");
    assert_eq!(out.lines().filter(|line| line.starts_with("Ben: ")).count(), 5, "{out}");
    assert_eq!(workshop.run(words).ok(), out);
    let lines =
        workshop.run("converse pairs --with base --turns 3 --with-temperature 0.5 --json --quiet").ok();
    let speakers: Vec<String> = lines.lines().map(|line| json(line)["speaker"].to_string()).collect();
    assert_eq!(speakers, ["\"first\"", "\"second\"", "\"first\""]);
    workshop.run("converse base --turns 2 --names Ann").fails(2, &["two different names"]);
    workshop.run("converse base --with base").fails(2, &["--turns"]);
}

#[test]
fn in_a_terminal_lines_are_edited_and_control_d_or_control_c_keep_the_dialogue() {
    for (name, ending) in [("d", "\u{4}"), ("c", "\u{3}")] {
        let workshop = workshop();
        let master = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY).unwrap();
        grantpt(&master).unwrap();
        unlockpt(&master).unwrap();
        let path = ptsname(&master, Vec::new()).unwrap();
        let path = std::ffi::OsStr::from_bytes(path.as_bytes());
        let open = || Stdio::from(File::options().read(true).write(true).open(path).unwrap());
        let mut child = workshop
            .command()
            .args(["converse", "pairs", "--save", "talk.jsonl"])
            .env("TERM", "xterm-256color")
            .stdin(open())
            .stdout(open())
            .stderr(open())
            .spawn()
            .unwrap();
        let master = File::from(master);
        let mut typed = master.try_clone().unwrap();
        let mut seen = master.try_clone().unwrap();
        let shown = std::sync::Arc::new(std::sync::Mutex::new(Vec::new()));
        let gathered = std::sync::Arc::clone(&shown);
        let reader = std::thread::spawn(move || {
            let mut some = [0; 4096];
            while let Ok(count @ 1..) = seen.read(&mut some) {
                gathered.lock().unwrap().extend_from_slice(&some[..count]);
            }
        });
        let wait_for = |words: &str| {
            let until = Instant::now() + Duration::from_secs(60);
            let there = || String::from_utf8_lossy(&shown.lock().unwrap()).contains(words);
            while !there() && Instant::now() < until {
                std::thread::sleep(Duration::from_millis(20));
            }
            assert!(there(), "no `{words}` in {:?}", String::from_utf8_lossy(&shown.lock().unwrap()));
        };
        wait_for("> ");
        // A word too many, taken back with Ctrl-W.
        typed.write_all(b"Who won the football in Osterby? wrong\x17\r").unwrap();
        wait_for("ask me about a hive");
        wait_for("> ");
        typed.write_all(ending.as_bytes()).unwrap();
        let status = child.wait().unwrap();
        drop(typed);
        drop(master);
        reader.join().unwrap();
        assert_eq!(status.code(), Some(0), "{name}");
        let lines: Vec<Value> = workshop.read("talk.jsonl").lines().map(json).collect();
        assert_eq!(lines[0]["text"].as_str().unwrap().trim_end(), "Who won the football in Osterby?");
        assert_eq!(lines.len(), 2);
    }
}

#[test]
fn the_demo_writes_pairs_if_it_is_asked() {
    assert!(!demo().join("pairs.csv").exists());
    let workshop = workshop();
    let truth = json(&workshop.read("made/pairs.truth.json"));
    assert_eq!(truth["pairs"], 2000);
    let bits: f64 = workshop
        .read("made/pairs.csv")
        .lines()
        .skip(1)
        .map(|line| line.rsplit_once(',').unwrap().1.parse::<f64>().unwrap())
        .sum();
    let floor = (bits / truth["answer_tokens"].as_f64().unwrap()).exp2();
    assert!((floor - truth["answer_perplexity_floor"].as_f64().unwrap()).abs() < 1e-4);
}
