//! `sample` and `next` as they are typed.

use std::io::Read;
use std::process::{Command, Stdio};

use crate::common::workshop_with_demo;
use serde_json::Value;

fn json(text: &str) -> Value {
    serde_json::from_str(text).unwrap_or_else(|error| panic!("{error}: {text}"))
}

#[test]
fn each_decoding_writes_text_with_its_figures() {
    let workshop = workshop_with_demo();
    for (flags, method, more) in [
        ("--greedy", "greedy", ""),
        ("--temperatures 0.7", "temperature", "temperature"),
        ("--temperatures 1.3 --top-k 5", "temperature", "top_k"),
        ("--top-p 0.8", "temperature", "top_p"),
        ("--repeat-power 1.3", "temperature", "repeat_power"),
        ("--beam 3", "beam", "score"),
        ("--beam 3 --random-beam --best 2", "random_beam", "score"),
    ] {
        let out = workshop.run(&format!("sample thornmere/runs/demo {flags} --tokens 12 --json")).ok();
        for line in out.lines().map(json) {
            assert_eq!(line["method"], method, "{flags}");
            assert!(more.is_empty() || line[more].as_f64().is_some(), "{flags}: {line}");
            let each: f64 = line["token_log_probabilities"]
                .as_array()
                .unwrap()
                .iter()
                .map(|log| log.as_f64().unwrap())
                .sum();
            let (all, tokens) = (line["log_probability"].as_f64().unwrap(), line["tokens"].as_u64().unwrap());
            assert!((each - all).abs() < 1e-9 && all < 0.0 && tokens <= 12, "{line}");
        }
        assert_eq!(out, workshop.run(&format!("sample thornmere/runs/demo {flags} --tokens 12 --json")).ok());
    }
}

#[test]
fn a_sample_as_json_comes_as_it_is_written() {
    let workshop = workshop_with_demo();
    // The same text in every way, with what JSON escapes and with ends that are waited for.
    for how in ["--tokens 60 --past-end", "--tokens 60 --until comb", "--tokens 9 --from Hesper"] {
        let words = format!("sample thornmere/runs/demo --without-seed-text --seed 3 {how}");
        let line = workshop.run(&format!("{words} --json")).ok();
        assert_eq!(line.lines().count(), 1, "{line}");
        let line = json(&line);
        assert_eq!(format!("{}\n", line["text"].as_str().unwrap()), workshop.run(&words).ok(), "{how}");
        assert_eq!(line["token_log_probabilities"].as_array().unwrap().len() as u64, line["tokens"], "{how}");
    }
    // Minutes of text, the first words of which are here at once; what is stopped is a whole line too.
    let mut child = workshop
        .command()
        .args("sample thornmere/runs/demo --past-end --tokens 3000000 --json".split_whitespace())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut out = child.stdout.take().unwrap();
    let mut line = String::new();
    let mut bytes = [0; 64];
    while line.split_once("\"text\":\"").is_none_or(|(_, text)| text.len() < 100) {
        let read = out.read(&mut bytes).unwrap();
        assert!(read > 0, "{line}");
        line.push_str(std::str::from_utf8(&bytes[..read]).unwrap());
    }
    let interrupt = Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
    assert!(interrupt.success());
    out.read_to_string(&mut line).unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(130));
    assert_eq!(json(&line)["ended_by"], "stopped", "{line}");
    // A seed text that the model cannot read is an error and nothing else.
    workshop
        .run("sample thornmere/runs/demo --from Zyzzyva --json")
        .fails(1, &["no token of the seed text is in the model's vocabulary"]);
}

#[cfg(unix)]
#[test]
fn a_model_is_read_from_a_pipe_too() {
    let workshop = workshop_with_demo();
    let model = workshop.path("thornmere/runs/demo/demo.safetensors");
    let program = crate::common::program();
    let words = format!("cat {} | {} sample /dev/stdin --tokens 9", model.display(), program.display());
    let out = Command::new("sh").args(["-c", &words]).output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    let file = workshop.run("sample thornmere/runs/demo --tokens 9").ok();
    assert_eq!(String::from_utf8_lossy(&out.stdout), file);
}

#[test]
fn many_samples_in_a_file_are_those_written_one_by_one() {
    let workshop = workshop_with_demo();
    workshop.run("sample thornmere/runs/demo -n 40 --tokens 15 --json --output many.jsonl").ok();
    let many = workshop.read("many.jsonl");
    assert_eq!(many.lines().count(), 40);
    let few = workshop.run("sample thornmere/runs/demo -n 3 --tokens 15 --json").ok();
    for (a, b) in few.lines().zip(many.lines()) {
        let (a, b) = (json(a), json(b));
        assert_eq!((&a["text"], &a["number"]), (&b["text"], &b["number"]));
    }
    let one = workshop.run("sample thornmere/runs/demo --tokens 15").ok();
    assert_eq!(one.trim_end(), json(many.lines().next().unwrap())["text"].as_str().unwrap().trim_end());
    workshop.run("sample thornmere/runs/demo --output many.jsonl").fails(1, &["exists already"]);
}

#[test]
fn seed_texts_come_from_argument_file_and_input_and_samples_stop_at_their_ends() {
    let workshop = workshop_with_demo();
    workshop.write("seed.txt", "Hesper pottered to\n");
    let by_file = workshop.run("sample thornmere/runs/demo --from-file seed.txt --tokens 9").ok();
    let by_argument = workshop
        .run_words(&["sample", "thornmere/runs/demo", "--from", "Hesper pottered to", "--tokens", "9"])
        .ok();
    let by_input = workshop.run_with_input(
        &["sample", "thornmere/runs/demo", "--from", "-", "--tokens", "9"],
        "Hesper pottered to\n",
    );
    assert_eq!((&by_file, &by_file), (&by_argument, &by_input.ok()));
    assert!(by_file.starts_with("Hesper pottered to "), "{by_file}");
    let sentence = workshop.run("sample thornmere/runs/demo --until-sentence --json").ok();
    assert!(json(&sentence)["text"].as_str().unwrap().ends_with('.'), "{sentence}");
    assert_eq!(json(&sentence)["ended_by"], "sentence");
    let words = workshop.run("sample thornmere/runs/demo --greedy --until , --json").ok();
    assert!(!json(&words)["text"].as_str().unwrap().contains(','), "{words}");
    // A megabyte of seed text is read to its end.
    let seed = "Hesper pottered to Foxgate in the old orchard. ".repeat(21_000) + "Hesper pottered to";
    workshop.write("long.txt", seed);
    let long =
        workshop.run("sample thornmere/runs/demo --from-file long.txt --without-seed-text --tokens 5").ok();
    assert!(!long.trim().is_empty());
    let unknown =
        workshop.run_words(&["sample", "thornmere/runs/demo", "--from", "Hesper vlorped", "--tokens", "3"]);
    assert!(unknown.err.contains("`vlorped`"), "{unknown:?}");
    unknown.ok();
}

#[test]
fn next_gives_a_distribution_with_the_rank_of_any_token() {
    let workshop = workshop_with_demo();
    let words =
        ["next", "thornmere/runs/demo", "Maudry walked", "--count", "100000", "--token", "to", "--json"];
    let document = json(&workshop.run_words(&words).ok());
    let all = document["candidates"].as_array().unwrap();
    let probabilities: Vec<f64> = all.iter().map(|c| c["probability"].as_f64().unwrap()).collect();
    assert!((probabilities.iter().sum::<f64>() - 1.0).abs() < 1e-6);
    assert!(probabilities.windows(2).all(|pair| pair[0] >= pair[1]));
    let entropy: f64 = probabilities.iter().filter(|p| **p > 0.0).map(|p| -p * p.log2()).sum();
    assert!((entropy - document["entropy_bits"].as_f64().unwrap()).abs() < 1e-6);
    let asked = &document["asked"][0];
    assert_eq!(asked["token"], "to");
    assert_eq!(all[asked["rank"].as_u64().unwrap() as usize - 1]["index"], asked["index"]);
    let shown = workshop.run_words(&["next", "thornmere/runs/demo", "Maudry walked"]).ok();
    assert!(shown.contains("entropy") && shown.contains('%'), "{shown}");
    workshop.run("next thornmere/runs/demo x --token vlorped").fails(1, &["no token of the seed text"]);
    workshop
        .run_words(&["next", "thornmere/runs/demo", "", "--token", "vlorped"])
        .fails(1, &["not in the model's vocabulary"]);
    workshop
        .run_words(&["next", "thornmere/runs/demo", "", "--token", "to Foxgate"])
        .fails(2, &["is 2 tokens"]);
}

#[test]
fn impossible_decoding_settings_are_refused_with_a_reason() {
    let workshop = workshop_with_demo();
    for (flags, status, message) in [
        ("--temperatures NaN", 2, "a temperature must be above 0"),
        ("--temperatures -1", 2, "a temperature must be above 0"),
        ("--top-k 0", 2, "the top-k is 0 and must be at least 1"),
        ("--top-k 99999", 2, "at most the size of the vocabulary"),
        ("--top-p 1.5", 2, "the top-p is 1.5 and must be above 0 and at most 1"),
        ("--top-p 0", 2, "top-p"),
        ("--repeat-power 0.5", 2, "1 or above"),
        ("--beam 0", 2, "beam width"),
        ("--beam 2 --best 3", 2, "the width of the beam"),
        ("--beam 2 --length-power 9", 2, "length power"),
        ("--beam 2 --temperatures 1", 2, "beam search draws no tokens"),
        ("--greedy --beam 2", 2, "cannot be used with"),
        ("--force", 2, "--force has no effect"),
        ("--best 2", 2, "--beam"),
        ("--from-file nowhere.txt", 1, "nowhere.txt"),
        ("--count 0", 2, "`0` is no value of `--count <N>`: it must be at least 1"),
        ("--tokens 0", 2, "`0` is no value of `--tokens <N>`: it must be at least 1"),
    ] {
        workshop.run(&format!("sample thornmere/runs/demo {flags}")).fails(status, &[message]);
    }
    std::fs::copy(workshop.path("thornmere/vocabulary.json"), workshop.path("words.json")).unwrap();
    workshop.run("next words.json x").fails(1, &["words.json: this is a vocabulary, not a model"]);
    workshop.run("sample thornmere/runs/demo/plan.toml").fails(1, &["this is a plan"]);
    workshop.run("next thornmere/diaries.truth.json x").fails(1, &["not a usable model file"]);
    workshop.run("train thornmere/diaries --learning-rate -0.1").fails(2, &["-0.1"]);
    workshop.run("train thornmere/diaries --steps -3").fails(2, &["`-3` is no value of `--steps"]);
}

#[test]
fn a_score_does_not_depend_on_the_window_and_adds_up_over_documents_and_tokens() {
    let workshop = workshop_with_demo();
    let score = |more: &str| {
        let words = format!("score thornmere/runs/demo thornmere/diaries --first 12 --json {more}");
        json(&workshop.run(words.trim_end()).ok())
    };
    let default = score("");
    for window in [1, 7, 1000] {
        let other = score(&format!("--window {window}"));
        let apart = (other["loss"].as_f64().unwrap() - default["loss"].as_f64().unwrap()).abs();
        assert!(apart < 1e-6, "{window}: {apart}");
    }
    assert!(
        score("--state carried")["loss"] != default["loss"]
            && score("--state reset")["loss"] == default["loss"]
    );
    let whole = score("--surprise --worst 12");
    let bits: f64 = whole["tokens_by_surprise"]
        .as_array()
        .unwrap()
        .iter()
        .map(|token| token["surprise_bits"].as_f64().unwrap())
        .sum();
    let (tokens, per_token) = (whole["tokens"].as_f64().unwrap(), whole["bits_per_token"].as_f64().unwrap());
    assert!((bits / tokens - per_token).abs() < 1e-9);
    let worst = whole["worst"].as_array().unwrap();
    let (mut loss, mut counted) = (0.0, 0.0);
    for document in worst {
        let n = document["tokens"].as_f64().unwrap();
        loss += document["loss"].as_f64().unwrap() * n;
        counted += n;
    }
    assert_eq!((worst.len(), counted), (12, tokens));
    assert!((loss / tokens - default["loss"].as_f64().unwrap()).abs() < 1e-9);
    let losses: Vec<f64> = worst.iter().map(|document| document["loss"].as_f64().unwrap()).collect();
    assert!(losses.windows(2).all(|pair| pair[0] >= pair[1]));
    assert_eq!(whole["best"][0], worst[11]);
    // By hand: the spread of documents about the mean, each weighing as much as it has tokens.
    let squares: f64 = worst
        .iter()
        .map(|document| {
            let mean = default["loss"].as_f64().unwrap();
            ((document["loss"].as_f64().unwrap() - mean) * document["tokens"].as_f64().unwrap()).powi(2)
        })
        .sum();
    let expected = (squares * 12.0 / 11.0).sqrt() / tokens;
    assert!((default["loss_standard_error"].as_f64().unwrap() - expected).abs() < 1e-9);
}

#[test]
fn surprise_is_shown_without_colour_and_models_side_by_side() {
    let workshop = workshop_with_demo();
    let words = ["score", "thornmere/runs/demo", "-", "--surprise"];
    let shown = workshop.run_with_input(&words, "Hesper pottered to bees vlorped Hesper.\n").ok();
    assert!(shown.contains("Surprise in bits") && shown.contains("bees["), "{shown}");
    // What the vocabulary does not know is shown as it is, and marked.
    assert!(
        shown.contains("\u{2039}vlorped\u{203a}") && shown.contains("are not in the vocabulary"),
        "{shown}"
    );
    let train = "train thornmere/diaries --document line --unit character --embedding 8 --hidden 16 --steps 4 --quiet --name letters";
    workshop.run(train).ok();
    let words = "score thornmere/runs/demo thornmere/diaries --first 9 --beside runs/letters";
    let table = workshop.run(words).ok();
    let unwrapped = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(table.contains("  letters  "), "{table}");
    assert!(unwrapped(&table).contains("over the same 9 documents"), "{table}");
    let document = json(&workshop.run(&format!("{words} --json")).ok());
    let models = document["models"].as_array().unwrap();
    assert_eq!((models.len(), &models[0]["bytes"]), (2, &models[1]["bytes"]));
    let bits = |model: &Value| model["bits_per_byte"].as_f64().unwrap();
    assert!(bits(&models[0]) < bits(&models[1]));
    let above = &models[1]["difference"];
    assert!((above["bits_per_byte"].as_f64().unwrap() - (bits(&models[1]) - bits(&models[0]))).abs() < 1e-9);
    assert!(above["standard_error"].as_f64().unwrap() > 0.0, "{above}");
    assert_eq!(models[0]["difference"]["bits_per_byte"], 0.0);
    // A model that was trained on whole files as documents scores the lines too, since the first model does.
    workshop.run("train thornmere/diaries --document file --unit byte --embedding 8 --hidden 16 --steps 4 --quiet --name files --validation-share 0").ok();
    let document = json(
        &workshop
            .run("score thornmere/runs/demo thornmere/diaries --first 9 --beside runs/files --json")
            .ok(),
    );
    let both = document["models"].as_array().unwrap();
    for figure in ["documents", "bytes"] {
        assert_eq!((&both[0][figure], &both[1][figure]), (&models[0][figure], &models[0][figure]));
    }
    // Cleaning that changes the text is reported, and its figures are not put in order with others.
    workshop.run("train thornmere/diaries --document line --cleaning lower-case --embedding 8 --hidden 16 --steps 4 --quiet --name lower").ok();
    let table =
        workshop.run("score thornmere/runs/demo thornmere/diaries --first 9 --beside runs/lower").ok();
    assert!(table.contains("not comparable") && unwrapped(&table).contains("changes the text"), "{table}");
    let alone = workshop.run("score runs/lower thornmere/diaries --first 9").ok();
    assert!(unwrapped(&alone).contains("cleaning changed 100.0 % of the documents"), "{alone}");
    let worst = workshop.run("score thornmere/runs/demo thornmere/diaries --first 30 --worst 2").ok();
    assert!(worst.contains("Most surprising documents") && worst.contains("with 95 % confidence"), "{worst}");
    let twice = workshop
        .run_with_input(&["score", "thornmere/runs/demo", "-", "--beside", "thornmere/runs/demo"], "bees")
        .ok();
    assert!(twice.contains("+0.0000"), "{twice}");
    workshop.run("score thornmere/runs/demo thornmere/diaries --window 0").fails(2, &["--window"]);
    workshop.run("score thornmere/runs/demo thornmere/diaries --beside nowhere").fails(1, &["nowhere"]);
}
