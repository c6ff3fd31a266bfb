//! `sweep`: from a plan to the best of its settings, whoever works on it and however often they are killed.

use std::process::{Child, Stdio};
use std::time::{Duration, Instant};

use serde_json::Value;

use crate::common::{Chance, Workshop, number_from};

const PLAN: &str = "[corpus]\npaths = [\"letters.txt\"]\ndocument = \"line\"\ntest_share = 0.2\n[model]\nembedding = 4\nhidden = 6\n[training]\nsteps = 24\nbatch = 2\nwindow = 8\nvalidate_every = 3\n[samples]\nevery = 0\ntokens = 4\n[checkpoints]\nevery = 4\n";

fn workshop() -> Workshop {
    let workshop = Workshop::new();
    let lines: String = (0..120)
        .map(|n| format!("hive {} hums {} times in the {} wood\n", n % 7, n * n % 11, n % 3))
        .collect();
    workshop.write("letters.txt", lines);
    workshop.write("plan.toml", PLAN);
    workshop
}

/// What `sweep show --json` says, without what the clock says.
fn shown(workshop: &Workshop, name: &str) -> Value {
    let mut document: Value =
        serde_json::from_str(&workshop.run(&format!("sweep show {name} --json")).ok()).unwrap();
    let object = document.as_object_mut().unwrap();
    object.remove("sweep");
    object.remove("best_plan").filter(Value::is_string).expect("a best plan");
    for ranked in object["ranked"].as_array_mut().unwrap() {
        let ranked = ranked.as_object_mut().unwrap();
        ranked.remove("seconds").filter(Value::is_f64).unwrap();
        let kept = ranked["model"].is_string();
        ranked.insert("model".into(), kept.into());
    }
    document
}

#[test]
fn a_sweep_ends_with_a_table_a_plan_and_a_model_that_other_commands_take() {
    let workshop = workshop();
    let words = "sweep plan.toml --vary model.hidden=4,8 --vary training.learning_rate=0.003..0.1:3 --seeds 2 --jobs 2 --keep 2 --name night";
    let done = workshop.run(words);
    let (out, err) = (done.out.clone(), done.err.clone());
    done.ok();
    for part in
        ["Settings by rank", "like the best", "shares of their variance", "best plan", "6 settings x 2 seeds"]
    {
        assert!(out.contains(part), "no `{part}` in {out}");
    }
    assert_eq!(err.matches("validation perplexity").count(), 12, "a line for each trial: {err}");
    let document = shown(&workshop, "night");
    let ranked = document["ranked"].as_array().unwrap();
    assert_eq!(
        (ranked.len(), &document["waiting"], &document["figure"]),
        (6, &0.into(), &"perplexity".into())
    );
    let means: Vec<f64> = ranked.iter().map(|one| one["mean"].as_f64().unwrap()).collect();
    assert!(means.windows(2).all(|pair| pair[0] <= pair[1]), "{means:?}");
    assert_eq!(ranked.iter().filter(|one| one["model"] == true).count(), 2);
    assert!(document["test"]["figure"].as_f64().unwrap() > 1.0);
    let shares = document["importance"]["shares"].as_object().unwrap();
    assert!(shares.contains_key("model.hidden") && shares.contains_key("training.learning_rate"));
    // The best plan trains the setting again, and its model writes text.
    let best = &ranked[0]["values"];
    let plan = workshop.read("runs/night/best.toml");
    assert!(plan.contains(&format!("hidden = {}", best["model.hidden"].as_str().unwrap())), "{plan}");
    workshop.run("train --plan runs/night/best.toml --steps 3 --name again --quiet").ok();
    let trial = format!(
        "runs/night/trials/{:04}-{}",
        ranked[0]["setting"].as_u64().unwrap(),
        document["test"]["seed"]
    );
    workshop.run(&format!("sample {trial} --tokens 3")).ok();
    let runs = workshop.run("runs list --runs runs/night/trials --json").ok();
    assert_eq!(serde_json::from_str::<Value>(&runs).unwrap()["runs"].as_array().unwrap().len(), 12);
    // The page and its charts.
    workshop.run("sweep show night --output report").ok();
    let page = workshop.read("report/sweep.html");
    assert!(page.contains("Settings by rank") && page.matches("<svg").count() == 3, "{}", page.len());
    for name in ["parallel-axes.svg", "values.png", "progress.svg"] {
        assert!(workshop.path(&format!("report/{name}")).is_file(), "{name}");
    }
    workshop.run("sweep show night --output report").fails(1, &["exists already"]);
    // The same command finds everything done, and so does `resume`.
    let before = workshop.read("runs/night/ledger.jsonl");
    workshop.run(words).ok();
    workshop.run("resume night --quiet").ok();
    assert_eq!(workshop.read("runs/night/ledger.jsonl"), before);
}

#[test]
fn a_file_can_describe_a_sweep_and_options_override_it() {
    let workshop = workshop();
    workshop.write(
        "night.toml",
        "method = \"random\"\ntrials = 9\n[vary]\nmodel.hidden = \"3..9\"\nvocabulary.size = [10, 20]\n",
    );
    let done = workshop.run(
        "sweep plan.toml --sweep-file night.toml --trials 3 --vary model.hidden=3..5 --name drawn --json",
    );
    let out = done.ok();
    let lines: Vec<Value> = out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(lines.len(), 4);
    for line in &lines[..3] {
        let hidden: u32 = line["values"]["model.hidden"].as_str().unwrap().parse().unwrap();
        assert!(line["kind"] == "reached" && (3..=5).contains(&hidden), "{line}");
    }
    // Vocabularies differ: perplexities do not compare.
    assert_eq!(lines[3]["figure"], "bits_per_byte");
    workshop.write("bad.toml", "methd = \"random\"\n");
    workshop.run("sweep plan.toml --sweep-file bad.toml").fails(2, &["bad.toml", "methd"]);
}

#[test]
fn mistakes_are_named_before_anything_is_trained() {
    let workshop = workshop();
    for (words, named) in [
        ("", &["nothing is varied", "--vary"][..]),
        ("--vary model.hiden=1,2", &["model.hiden", "did you mean `model.hidden`"]),
        ("--vary hidden=1,2", &["did you mean `model.hidden`"]),
        ("--vary model.hidden=0.5,1", &["model.hidden", "whole number"]),
        ("--vary model.hidden=0,4", &["model.hidden"]),
        ("--vary model.hidden=8..8", &["8..8", "is empty"]),
        ("--vary model.hidden", &["section.key=values"]),
        ("--vary training.epochs=1,2", &["training.epochs", "training.steps"]),
        ("--vary training.seed=1,2 --seeds 2", &["training.seed", "--seeds"]),
        ("--vary samples.every=1,2", &["samples.every", "no effect"]),
        ("--vary model.hidden=1,2 --vary model.hidden=3,4", &["varied twice"]),
        (
            "--vary model.hidden=1,2 --set model.hidden=3",
            &["`model.hidden` is varied", "--set has no effect"],
        ),
        ("--vary model.hidden=1,2 --trials 3", &["grid", "no effect"]),
        ("--vary model.hidden=1,2 --rungs 3", &["rungs", "racing"]),
        ("--vary model.hidden=1..9 --method racing --budget-steps 3", &["budget"]),
        ("--vary model.hidden=1,2 --seeds 0", &["seeds", "1 to 100"]),
        ("--vary model.hidden=1..999:999 --vary training.batch=1..999:999", &["more than 100000"]),
        (
            "--vary model.hidden=1,2 --set corpus.validation_share=0 --set corpus.test_share=0",
            &["validation"],
        ),
        ("--vary model.hidden=1,2 --name ../night", &["cannot be the name"]),
        ("--vary model.hidden=1,2 --jobs 0", &["--jobs"]),
    ] {
        let words = format!("sweep plan.toml {words}");
        workshop.run(words.trim()).fails(2, named);
    }
    workshop.run("sweep missing.toml --vary model.hidden=1,2").fails(1, &["missing.toml"]);
    workshop.run("sweep show night").fails(1, &["no sweep"]);
    // Rungs that no validation tells apart: every trial fails for that reason, and it is the one that is printed.
    workshop
        .run("sweep plan.toml --vary model.hidden=3,4 --method racing --set training.validate_every=20 --name raced")
        .fails(1, &["validation of its own"]);
    assert!(!workshop.path("runs/plan-sweep").exists());
}

#[test]
fn a_folder_keeps_its_sweep() {
    let workshop = workshop();
    let first = "sweep plan.toml --vary model.hidden=3,4 --name night --quiet";
    workshop.run(first).ok();
    let ledger = workshop.read("runs/night/ledger.jsonl");
    let other = "sweep plan.toml --vary model.hidden=3,5 --name night --quiet";
    workshop.run(other).fails(1, &["another sweep", "model.hidden=3,4", "model.hidden=3,5"]);
    workshop
        .run(&format!("{first} --set training.batch=3"))
        .fails(1, &["`training.batch` is 2 there and 3 here"]);
    workshop.run(&format!("{first} --seeds 2")).fails(1, &["the number of seeds is 1 there and 2 here"]);
    workshop.run("sweep runs/night --vary model.hidden=3,5").fails(2, &["described already"]);
    workshop.run("resume night --steps 5").fails(2, &["--minutes"]);
    assert_eq!(workshop.read("runs/night/ledger.jsonl"), ledger);
    // Nothing else is taken for the folder of a sweep.
    workshop.write("runs/own/notes.txt", "mine");
    workshop.run("sweep plan.toml --vary model.hidden=3,4 --name own").fails(1, &["is not a sweep"]);
    assert_eq!(workshop.read("runs/own/notes.txt"), "mine");
    workshop
        .run("train letters.txt --document line --steps 2 --batch 2 --window 8 --name trained --quiet")
        .ok();
    workshop.run("sweep plan.toml --vary model.hidden=3,4 --name trained").fails(1, &["is not a sweep"]);
}

#[test]
fn a_setting_that_fails_is_listed_with_its_reason() {
    let workshop = workshop();
    let out = workshop.run("sweep plan.toml --vary training.window=8,5000 --name corner").ok();
    assert!(out.contains("Failed: 1 setting") && out.contains("one batch"), "{out}");
    workshop
        .run("sweep plan.toml --vary training.window=4000,5000 --name all")
        .fails(1, &["no trial of runs/all could be trained", "one batch"]);
}

#[test]
fn time_that_is_up_starts_no_trial_and_the_next_command_continues() {
    let workshop = workshop();
    let words = "sweep plan.toml --vary model.hidden=2..9:even:8 --name night --quiet";
    let done = workshop.run(&format!("{} --minutes 0.0001", words.trim_end_matches(" --quiet")));
    assert!(done.err.contains("--minutes") && done.err.contains("resume runs/night"), "{done:?}");
    done.ok();
    let first = workshop.read("runs/night/ledger.jsonl").lines().count();
    assert!((1..9).contains(&first), "{first}");
    workshop.run("resume night --quiet").ok();
    workshop.run(&words.replace("night", "whole")).ok();
    assert_eq!(shown(&workshop, "night"), shown(&workshop, "whole"));
}

/// Starts processes on one sweep and kills each at a random moment, again and again, until one ends by itself; how many were killed.
fn with_kills(workshop: &Workshop, words: &str, processes: usize, chance: &mut Chance, longest: f64) -> u64 {
    let deadline = Instant::now() + Duration::from_secs(240);
    let start = || -> Child {
        let mut command = workshop.command();
        command.args(words.split(' ')).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        command.spawn().unwrap()
    };
    let mut killed = 0;
    let mut running: Vec<(Child, Instant)> = Vec::new();
    loop {
        assert!(Instant::now() < deadline, "`{words}` with {processes} processes does not end");
        while running.len() < processes {
            running.push((start(), Instant::now() + Duration::from_secs_f64(longest * chance.share())));
        }
        let mut index = 0;
        while index < running.len() {
            if let Some(status) = running[index].0.try_wait().unwrap() {
                assert!(status.success(), "`{words}`: {status}");
                running.iter_mut().for_each(|(child, _)| {
                    // The others find that nothing is left.
                    let _ = child.wait();
                });
                return killed;
            }
            if Instant::now() >= running[index].1 {
                let (mut child, _) = running.swap_remove(index);
                child.kill().unwrap();
                child.wait().unwrap();
                killed += 1;
            } else {
                index += 1;
            }
        }
        std::thread::sleep(Duration::from_millis(1));
    }
}

fn campaign(rounds: u64, seed: u64) -> u64 {
    let race = "sweep plan.toml --vary model.hidden=2..9 --vary training.learning_rate=0.003..0.1 --method racing --trials 6 --rungs 3 --keep 1 --quiet --threads 1 --name";
    let grid = "sweep plan.toml --vary model.cell=gru,lstm --vary training.batch=2,3 --seeds 2 --keep 2 --quiet --threads 1 --name";
    let mut killed = 0;
    for words in [race, grid] {
        let base = workshop();
        let begun = Instant::now();
        base.run(&format!("{words} whole")).ok();
        let takes = begun.elapsed().as_secs_f64();
        let expected = shown(&base, "whole");
        for round in 0..rounds {
            for processes in [1, 2, 4] {
                let workshop = base.copy();
                let mut chance = Chance::of(seed, round * 8 + processes as u64);
                killed += with_kills(&workshop, &format!("{words} shared"), processes, &mut chance, takes);
                assert_eq!(shown(&workshop, "shared"), expected, "{processes} processes: {words}");
            }
        }
    }
    killed
}

#[test]
fn processes_that_are_killed_share_a_sweep_and_change_nothing() {
    campaign(1, 1);
}

#[test]
#[ignore = "part of the campaign: takes minutes"]
fn campaign_of_shared_sweeps() {
    let rounds = number_from("LALOGRAPH_SWEEPS", 20);
    let killed = campaign(rounds, number_from("LALOGRAPH_SEED", 2));
    println!("{} sweeps of 1, 2 and 4 processes, {killed} processes killed: the same results", rounds * 6);
    assert!(killed > rounds);
}

/// A ledger as a sweep of many trials would have it.
fn many(workshop: &Workshop, trials: usize) {
    let words = format!(
        "sweep plan.toml --vary model.hidden=2..2000 --vary training.learning_rate=0.0001..0.1 --vary training.dropout=0..0.5:even --vary model.cell=lstm,gru --method random --trials {trials} --name many --minutes 0.00001 --quiet"
    );
    workshop.run(&words).ok();
    let mut chance = Chance::of(7, 7);
    let lines: String = (0..trials)
        .map(|trial| {
            let loss = 4.0 + chance.share();
            format!("{{\"kind\":\"reached\",\"trial\":{trial},\"rung\":0,\"steps\":24,\"finished\":true,\"evaluation\":{{\"loss\":{loss},\"figures\":{{\"bits_per_byte\":2.5,\"perplexity\":{}}}}},\"seconds\":12.5,\"tokens_per_second\":25000.5,\"parameters\":123456,\"time\":{}}}\n", loss.exp(), 1e9 + trial as f64)
        })
        .collect();
    workshop.write("runs/many/ledger.jsonl", lines);
}

#[test]
fn thousands_of_trials_are_shown() {
    let workshop = workshop();
    many(&workshop, 2000);
    let out = workshop.run("sweep show many").ok();
    assert!(out.contains("The best 10 of 2,000 settings"), "{out}");
    workshop.run("sweep show many --output page").ok();
    assert!(workshop.read("page/sweep.html").contains("1,800 more settings"));
}

#[test]
#[ignore = "a measurement"]
fn speed_of_ten_thousand_trials() {
    let workshop = workshop();
    many(&workshop, 10_000);
    for words in ["sweep show many", "sweep show many --json", "sweep show many --output page --force"] {
        let begun = Instant::now();
        workshop.run(words).ok();
        println!("{words}: {:.2} s", begun.elapsed().as_secs_f64());
    }
}
