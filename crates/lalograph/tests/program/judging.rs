//! What was written, and what the model is worth: copying, ways of choosing beside each other, baselines, surprise as a page.

use crate::common::workshop_with_demo;
use serde_json::Value;

fn json(text: &str) -> Value {
    serde_json::from_str(text).unwrap_or_else(|error| panic!("{error}: {text}"))
}

#[test]
fn several_decodings_are_shown_side_by_side_and_one_is_streamed() {
    let workshop = workshop_with_demo();
    let words = "sample thornmere/runs/demo --temperatures 0.3,0.9 --top-k 3,9 --tokens 30 --count 2";
    let out = workshop.run(words).ok();
    let heads: Vec<&str> = out.lines().filter(|line| line.contains("temperature")).collect();
    // Four ways in rows of two, for each of two samples.
    assert_eq!(heads.len(), 4, "{out}");
    assert!(heads[0].contains("0.3, top-k 3") && heads[0].contains("0.3, top-k 9"), "{out}");
    assert!(out.lines().all(|line| line.chars().count() <= 100), "{out}");
    let alone = workshop.run("sample thornmere/runs/demo --temperatures 0.3 --top-k 9 --tokens 30").ok();
    let first: Vec<&str> = alone.split_whitespace().take(3).collect();
    assert!(out.contains(&first.join(" ")), "{out}\n{alone}");
    assert!(!alone.contains("temperature"), "{alone}");
}

#[test]
fn copied_runs_occur_in_the_training_text_at_the_reported_place() {
    let workshop = workshop_with_demo();
    let out = workshop.run("sample thornmere/runs/demo --copying --count 3 --copied-run 6 --json").ok();
    let lines: Vec<Value> = out.lines().map(json).collect();
    assert_eq!(lines.len(), 4);
    let mut text = String::new();
    for path in std::fs::read_dir(workshop.path("thornmere/diaries")).unwrap() {
        text.push_str(&std::fs::read_to_string(path.unwrap().path()).unwrap());
    }
    for line in &lines[..3] {
        let copying = &line["copying"];
        let run = copying["longest_text"].as_str().unwrap();
        assert!(text.contains(run), "{run}");
        let tokens = copying["longest"]["tokens"].as_u64().unwrap();
        assert!((2..=line["tokens"].as_u64().unwrap()).contains(&tokens), "{copying}");
        let share = copying["copied_share"].as_f64().unwrap();
        assert!((0.0..=1.0).contains(&share) && (tokens < 6) == (share == 0.0), "{copying}");
        assert!(copying["training_document"].is_u64() && copying["repeated_share"].is_f64());
        // The run is in that line of that file.
        let path = copying["training_path"].as_str().unwrap();
        let number = copying["training_line"].as_u64().unwrap() as usize;
        let found = workshop.read(path).lines().nth(number - 1).unwrap().to_owned();
        assert!(found.contains(run), "{path}, line {number}: {run}");
    }
    let held_out = &lines[3]["held_out"];
    let written: u64 = lines[..3].iter().map(|line| line["tokens"].as_u64().unwrap()).sum();
    assert_eq!((&held_out["texts"], held_out["tokens"].as_u64()), (&Value::from(3), Some(written)));
    let shown = workshop.run("sample thornmere/runs/demo --copying --tokens 20").ok();
    assert!(shown.contains("Copying and repetition") && shown.contains("held-out text"), "{shown}");
    assert!(shown.contains("thornmere/") && shown.contains('\u{201c}'), "{shown}");
    // A training text that is copied out: the whole of it is one run.
    workshop.write(
        "one.txt",
        format!("{}\n", "the queen walks over the comb and back again to the brood . ".repeat(40)),
    );
    let train = "train one.txt --embedding 16 --hidden 32 --steps 150 --batch 2 --window 12 --learning-rate 0.02 --validation-share 0 --quiet --name echo";
    workshop.run(train).ok();
    let echo = json(
        workshop.run("sample runs/echo --greedy --tokens 24 --copying --json").ok().lines().next().unwrap(),
    );
    assert_eq!(echo["copying"]["longest"]["tokens"], 24, "{echo}");
    assert_eq!(echo["copying"]["copied_share"], 1.0, "{echo}");
    // Thirteen different runs of four, and twenty-one in all.
    assert!((echo["copying"]["repeated_share"].as_f64().unwrap() - 8.0 / 21.0).abs() < 1e-9, "{echo}");
    // A model by itself knows no training text; a corpus that has changed is not the one.
    std::fs::copy(workshop.path("runs/echo/echo.safetensors"), workshop.path("alone.safetensors")).unwrap();
    workshop.run("sample alone.safetensors --copying").fails(1, &["the training text is only known there"]);
    workshop.write("one.txt", "another text altogether . ".repeat(60));
    workshop.run("sample runs/echo --copying --tokens 5").fails(1, &["not the one"]);
    workshop.run("sample runs/echo --copied-run 5").fails(2, &["--copied-run has no effect"]);
}

#[test]
fn the_unknown_token_is_treated_as_chosen() {
    let workshop = workshop_with_demo();
    let train = "train thornmere/diaries --document line --vocabulary-size 60 --embedding 12 --hidden 16 --batch 8 --window 16 --steps 60 \
                 --learning-rate 0.01 --samples-every 0 --quiet --name few";
    workshop.run(train).ok();
    let written = |how: &str| -> Vec<Value> {
        let out = workshop.run(&format!("sample runs/few --count 6 --tokens 60 --json{how}")).ok();
        out.lines().map(json).collect()
    };
    let text = |lines: &[Value]| {
        lines.iter().map(|line| line["text"].as_str().unwrap().to_owned()).collect::<String>()
    };
    let [default, left_out, drawn, spelt] =
        ["", " --unknown leave-out", " --unknown draw", " --unknown spell"].map(written);
    assert_eq!((text(&default), default[0].get("unknown")), (text(&left_out), None));
    assert!(!text(&default).contains("\u{2039}unknown\u{203a}"));
    assert!(text(&drawn).matches("\u{2039}unknown\u{203a}").count() > 20, "{}", text(&drawn));
    assert_eq!((drawn[0]["unknown"].as_str(), spelt[0]["unknown"].as_str()), (Some("draw"), Some("spell")));
    // Spelt ones are words that the vocabulary does not hold, and nothing is marked.
    let vocabulary = json(&workshop.run("vocab show runs/few --top 1000 --json").ok());
    let listed: Vec<&str> = vocabulary["tokens"]
        .as_array()
        .unwrap()
        .iter()
        .map(|token| token["token"].as_str().unwrap())
        .collect();
    let spelt = text(&spelt);
    assert!(!spelt.contains('\u{2039}'), "{spelt}");
    let words = spelt.split_whitespace().map(|word| word.trim_matches(|c: char| !c.is_alphanumeric()));
    assert!(words.filter(|word| !word.is_empty() && !listed.contains(word)).count() > 20, "{spelt}");
    // Padding and start are never expected, and the unknown token has a note on how it is treated.
    let next = json(&workshop.run("next runs/few the --count 100 --json").ok());
    let candidates = next["candidates"].as_array().unwrap();
    assert_eq!(candidates.len(), 62);
    let sum: f64 = candidates.iter().map(|candidate| candidate["probability"].as_f64().unwrap()).sum();
    assert!((sum - 1.0).abs() < 1e-9, "{sum}");
    assert!(workshop.run("next runs/few the").ok().contains("`sample` leaves it out"));
    workshop.run("sample runs/few --unknown draw --beam 3").fails(2, &["--unknown has no effect"]);
    workshop.run(&train.replace("few", "bytes").replace("--vocabulary-size 60", "--unit byte")).ok();
    workshop.run("sample runs/bytes --unknown spell").fails(2, &["--unknown has no effect"]);
    assert!(workshop.run("sample runs/few --unknown draw --greedy --measure --count 2").status == 2);
}

#[test]
fn ways_of_choosing_are_measured_beside_held_out_text() {
    let workshop = workshop_with_demo();
    let words = "sample thornmere/runs/demo --measure --temperatures 0.5,1.5 --top-k 4 --count 6 --tokens 40";
    let document = json(&workshop.run(&format!("{words} --json --pictures charts")).ok());
    let decodings = document["decodings"].as_array().unwrap();
    let names: Vec<&str> = decodings.iter().map(|way| way["decoding"].as_str().unwrap()).collect();
    let expected = [
        "greedy",
        "beam of 4",
        "temperature 0.5",
        "temperature 0.5, top-k 4",
        "temperature 1.5",
        "temperature 1.5, top-k 4",
    ];
    assert_eq!(names, expected);
    let figure = |way: usize, name: &str| decodings[way][name].as_f64().unwrap();
    assert!(figure(0, "perplexity") < figure(4, "perplexity"), "{document}");
    assert!(figure(5, "perplexity") < figure(4, "perplexity"), "{document}");
    assert!(decodings.iter().all(|way| way["texts"] == 6 && way["copied_share"].is_f64()));
    // Six times the same text has a sixth of its tokens' variety at most.
    assert!(decodings[0]["distinct_shares"][2].as_f64().unwrap() <= 1.0 / 6.0 + 1e-9);
    assert!(document["held_out"]["perplexity"].as_f64().unwrap() > 1.0);
    for name in ["decoding-perplexity", "decoding-copying"] {
        assert!(workshop.path(&format!("charts/{name}.png")).exists());
        assert!(workshop.read(&format!("charts/{name}.svg")).starts_with("<svg"));
    }
    workshop.run(&format!("{words} --pictures charts")).fails(1, &["exists already"]);
    let table = workshop.run(&format!("{words} --quiet")).ok();
    assert!(table.contains("held-out text") && table.contains("0.5, top-k 4"), "{table}");
    // A model without its run is measured as far as it can be.
    std::fs::copy(workshop.path("thornmere/runs/demo/demo.safetensors"), workshop.path("alone.safetensors"))
        .unwrap();
    let done =
        workshop.run("sample alone.safetensors --measure --temperatures 1 --count 2 --tokens 9 --json");
    assert!(done.err.contains("copying is not measured"), "{done:?}");
    let alone = json(&done.ok());
    assert!(alone["held_out"].is_null() && alone["decodings"][0]["copied_share"].is_null());
    workshop.run("sample thornmere/runs/demo --measure --greedy").fails(2, &["always measured"]);
    workshop.run("sample thornmere/runs/demo --measure --temperatures NaN").fails(2, &["above 0"]);
    workshop.run("sample thornmere/runs/demo --pictures charts").fails(2, &["--measure"]);
}

#[test]
fn baselines_give_a_perplexity_its_meaning() {
    let workshop = workshop_with_demo();
    let words = "score thornmere/runs/demo thornmere/diaries --first 40";
    let document = json(&workshop.run(&format!("{words} --baselines 3 --json")).ok());
    let models = document["models"].as_array().unwrap();
    let perplexity = |index: usize| models[index]["perplexity"].as_f64().unwrap();
    assert_eq!(models.len(), 4);
    assert!(models[1]["model"].as_str().unwrap().contains("3-gram"));
    assert!(perplexity(1) < perplexity(2) && perplexity(2) < perplexity(3), "{document}");
    // Uniform: as many as can be predicted, which leaves out padding and the start of a document.
    let shown = workshop.run("vocab show thornmere/runs/demo/vocabulary.json --json").ok();
    let size = json(&shown)["indices"].as_f64().unwrap();
    assert!((perplexity(3) - (size - 2.0)).abs() < 1e-6, "{document} {size}");
    let longer = json(&workshop.run(&format!("{words} --baselines 5 --json")).ok());
    assert!(longer["models"][1]["perplexity"].as_f64().unwrap() < perplexity(1));
    let table = workshop.run(&format!("{words} --baselines 1")).ok();
    assert!(table.contains("unigram") && table.contains("bits per byte"), "{table}");
    workshop.run(&format!("{words} --baselines 0")).fails(2, &["--baselines"]);
    workshop.run(&format!("{words} --baselines 40")).fails(2, &["--baselines"]);
    std::fs::copy(workshop.path("thornmere/runs/demo/demo.safetensors"), workshop.path("alone.safetensors"))
        .unwrap();
    workshop
        .run("score alone.safetensors thornmere/diaries --first 2 --baselines 2")
        .fails(1, &["the training text is only known there"]);
}

#[test]
fn the_average_of_models_is_that_of_their_probabilities() {
    let workshop = workshop_with_demo();
    let train = "train thornmere/diaries --document line --hidden 16 --embedding 8 --steps 30 --quiet";
    for seed in [4, 5] {
        let split = "--set corpus.split_seed=1";
        workshop.run(&format!("{train} {split} --seed {seed} --name seed{seed}")).ok();
    }
    let asked = "thornmere/diaries --document line --first 40";
    let found =
        json(&workshop.run(&format!("score runs/seed4 {asked} --beside runs/seed5 --average --json")).ok());
    let surprise = |model: &str| -> Vec<f64> {
        let found = json(&workshop.run(&format!("score runs/{model} {asked} --surprise --json")).ok());
        let tokens = found["tokens_by_surprise"].as_array().unwrap().iter();
        tokens.map(|token| 2f64.powf(-token["surprise_bits"].as_f64().unwrap())).collect()
    };
    let (one, two) = (surprise("seed4"), surprise("seed5"));
    let bits: f64 = one.iter().zip(&two).map(|(one, two)| -((one + two) / 2.0).log2()).sum();
    let models = found["models"].as_array().unwrap();
    let (name, averaged) = (&models[2]["model"], &models[2]["bits_per_token"]);
    assert_eq!(name, "average of 2");
    let expected = bits / one.len() as f64;
    assert!((averaged.as_f64().unwrap() / expected - 1.0).abs() < 1e-6, "{averaged} {expected}");
    let alone = |at: usize| models[at]["bits_per_token"].as_f64().unwrap();
    assert!(averaged.as_f64().unwrap() < (alone(0) + alone(1)) / 2.0);
    workshop.run(&format!("{train} --vocabulary-size 60 --name few")).ok();
    workshop
        .run(&format!("score runs/seed4 {asked} --beside runs/few --average"))
        .fails(1, &["another vocabulary", "--beside"]);
    workshop.run(&format!("score runs/seed4 {asked} --average")).fails(2, &["--beside"]);
}

#[test]
fn classes_add_up_to_the_text() {
    let workshop = workshop_with_demo();
    let asked = "score thornmere/runs/demo thornmere/diaries.csv --label outcome --first 60";
    let found = json(&workshop.run(&format!("{asked} --json --beside thornmere/runs/demo")).ok());
    let classes = found["classes"].as_array().unwrap();
    assert!(classes.len() > 1);
    for key in ["documents", "bytes", "tokens", "unknown_tokens"] {
        let sum: u64 = classes.iter().map(|class| class[key].as_u64().unwrap()).sum();
        assert_eq!(Some(sum), found[key].as_u64(), "{key}");
    }
    let sum_of = |figure: &str, weight: &str| -> f64 {
        classes.iter().map(|class| class[figure].as_f64().unwrap() * class[weight].as_f64().unwrap()).sum()
    };
    let whole =
        |figure: &str, weight: &str| found[figure].as_f64().unwrap() * found[weight].as_f64().unwrap();
    assert!((sum_of("loss", "tokens") / whole("loss", "tokens") - 1.0).abs() < 1e-9);
    assert!((sum_of("bits_per_byte", "bytes") / whole("bits_per_byte", "bytes") - 1.0).abs() < 1e-9);
    assert_eq!(found["models"][1]["classes"], found["classes"]);
    // One class by itself is the same as that part of the text.
    let table = workshop.read("thornmere/diaries.csv");
    let failing: Vec<&str> = table.lines().take(61).filter(|line| line.contains("failing")).collect();
    workshop.write("failing.csv", format!("{}\n{}\n", table.lines().next().unwrap(), failing.join("\n")));
    let alone = json(&workshop.run("score thornmere/runs/demo failing.csv --label outcome --json").ok());
    let class = classes.iter().find(|class| class["label"] == "failing").unwrap();
    assert!(
        (alone["loss"].as_f64().unwrap() / class["loss"].as_f64().unwrap() - 1.0).abs() < 1e-6,
        "{alone} {class}"
    );
    let shown = workshop.run(asked).ok();
    assert!(shown.contains("By class") && shown.contains("failing"), "{shown}");
    assert!(!workshop.run(&asked.replace(" --label outcome", "")).ok().contains("By class"));
}

#[test]
fn sentences_add_up_to_the_text_and_the_worst_come_first() {
    let workshop = workshop_with_demo();
    let words = "score thornmere/runs/demo thornmere/diaries --first 5";
    let document = json(&workshop.run(&format!("{words} --worst 1000 --by sentence --surprise --json")).ok());
    let sentences = document["worst"].as_array().unwrap();
    let losses: Vec<f64> = sentences.iter().map(|sentence| sentence["loss"].as_f64().unwrap()).collect();
    assert!(sentences.len() > 25 && losses.windows(2).all(|pair| pair[0] >= pair[1]));
    let tokens: f64 = sentences.iter().map(|sentence| sentence["tokens"].as_f64().unwrap()).sum();
    let bits: f64 = sentences
        .iter()
        .map(|sentence| sentence["loss"].as_f64().unwrap() * sentence["tokens"].as_f64().unwrap())
        .sum();
    // Every sentence of the diaries has three tokens or more, so nothing is left out.
    assert_eq!(tokens, document["tokens"].as_f64().unwrap());
    assert!((bits / tokens - document["loss"].as_f64().unwrap()).abs() < 1e-9);
    assert!(sentences.iter().all(|sentence| sentence["text"].as_str().unwrap().ends_with(['.', '!', '?'])));
    let shown = workshop.run(&format!("{words} --worst 2 --by sentence")).ok();
    assert!(shown.contains("Most surprising sentences"), "{shown}");
    workshop.run(&format!("{words} --by sentence")).fails(2, &["--worst"]);
}

#[test]
fn surprise_is_a_page_that_needs_nothing_else_and_is_not_overwritten() {
    let workshop = workshop_with_demo();
    let words = ["score", "thornmere/runs/demo", "-", "--page", "page.html", "--quiet"];
    workshop.run_with_input(&words, "Hesper pottered to <b>vlorped</b> & Foxgate.\n").ok();
    let page = workshop.read("page.html");
    assert!(page.starts_with("<!DOCTYPE html>") && page.contains("class=\"s3 unknown\""), "{page}");
    assert!(
        !page.contains("http://")
            && !page.contains("https://")
            && !page.contains("<b>vlorped")
            && !page.contains("<script"),
        "{page}"
    );
    workshop.run_with_input(&words, "bees\n").fails(1, &["exists already"]);
    workshop.run_with_input(&[&words[..], &["--force"]].concat(), "bees\n").ok();
    assert!(!workshop.read("page.html").contains("Foxgate"));
    workshop.run("score thornmere/runs/demo thornmere/diaries --force").fails(2, &["--page"]);
}
