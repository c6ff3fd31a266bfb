//! `plan new --time`: a plan for a text and a time, and what the run says of it.

use serde_json::Value;

use crate::common::Workshop;

fn workshop() -> Workshop {
    let workshop = Workshop::new();
    let lines: String = (0..900)
        .map(|n| format!("hive {} hums {} times in the {} wood\n", n % 7, n * n % 11, n % 3))
        .collect();
    workshop.write("letters.txt", lines);
    workshop
}

#[test]
fn a_plan_for_a_time_says_what_to_expect_and_the_run_says_what_came_of_it() {
    let workshop = workshop();
    let done = workshop.run("plan new letters.txt --document line --time 10s --output ten.toml");
    let err = done.err.clone();
    done.ok();
    for part in ["expected perplexity", "taken", "tokens/s", "lalograph train --plan ten.toml"] {
        assert!(err.contains(part), "no `{part}` in {err}");
    }
    let plan = workshop.read("ten.toml");
    for part in ["10 s of training", "[expected]", "lowest_perplexity = ", "steps = ", "document = \"line\""]
    {
        assert!(plan.contains(part), "no `{part}` in {plan}");
    }
    assert!(workshop.run("plan check ten.toml").ok().contains("no problems"));

    // The steps of ten seconds, cut short: what was expected of all of them no longer holds.
    let out = workshop.run("train --plan ten.toml --steps 30 --name short").ok();
    assert!(!out.contains("expect"), "{out}");
    let shown: Value = serde_json::from_str(&workshop.run("runs show short --json").ok()).unwrap();
    assert!(shown["plan"]["expected"].is_null(), "{shown}");

    // A plan of few steps with an expectation of its own.
    let expecting = "[corpus]\npaths = [\"letters.txt\"]\ndocument = \"line\"\n[model]\nhidden = 4\n[training]\nsteps = 30\n[expected]\nminutes = 60.0\nlowest_perplexity = 1e5\nhighest_perplexity = 2e5\n";
    workshop.write("expecting.toml", expecting);
    // Tables break long lines.
    let words = |out: String| out.split_whitespace().collect::<Vec<_>>().join(" ");
    let out = words(workshop.run("train --plan expecting.toml --name expecting").ok());
    assert!(out.contains("1 h 00 min of training, validation perplexity 100,000 to 200,000"), "{out}");
    let came = ["% less than expected", "perplexity better than the expected 100,000 to 200,000"];
    for part in came {
        assert!(out.contains(part), "no `{part}` in {out}");
        assert!(words(workshop.run("runs show expecting").ok()).contains(part), "{part}");
    }
    workshop.run("runs report expecting").ok();
    assert!(workshop.read("runs/expecting/report/report.html").contains(came[1]));
    workshop.run("resume expecting --steps 40 --quiet").ok();
    assert!(
        !words(workshop.run("runs show expecting").ok()).contains("expected 100"),
        "the run is another now"
    );
}

#[test]
fn a_plan_for_a_time_keeps_what_is_set() {
    let workshop = workshop();
    let words = "plan new letters.txt --document line --time 8s --aim speed --unit character --threads 1 --validation-share 0.2 --set model.hidden=20 --set model.cell=plain_tanh";
    let plan = workshop.run(words).ok();
    for part in [
        "unit = \"character\"",
        "hidden = 20",
        "cell = \"plain_tanh\"",
        "validation_share = 0.2",
        "quick in use",
    ] {
        assert!(plan.contains(part), "no `{part}` in {plan}");
    }
    // Without a time, the same options lie over the plan of a purpose.
    let plan = workshop.run("plan new letters.txt --document line --unit byte --set training.batch=3").ok();
    for part in ["unit = \"byte\"", "batch = 3", "document = \"line\""] {
        assert!(plan.contains(part), "no `{part}` in {plan}");
    }
}

#[test]
fn a_wish_that_cannot_be_met_is_refused_in_words() {
    let workshop = workshop();
    for (words, status, parts) in [
        ("letters.txt --time soon", 2, &["a time such as 90s, 30min or 2h"][..]),
        ("letters.txt --time 0s", 2, &["a time such as"]),
        ("letters.txt --time 5min --for character", 2, &["--for", "--time"]),
        ("letters.txt --aim speed", 2, &["--time"]),
        ("letters.txt --threads 2", 2, &["--time"]),
        ("--time 5min", 2, &["the paths of the corpus"]),
        ("nowhere.txt --time 5min", 1, &["nowhere.txt"]),
        ("letters.txt --document line --time 5min --set training.steps=9", 2, &["training.steps", "--time"]),
        ("letters.txt --document line --time 5min --set model.hiden=9", 2, &["did you mean `model.hidden`"]),
        ("letters.txt --document line --time 5min --validation-share 0", 2, &["corpus.validation_share"]),
        ("letters.txt --document line --time 1ms", 1, &["too few for a plan", "--time"]),
        ("letters.txt --delimiter ; --time 5min", 2, &["--delimiter has no effect"]),
    ] {
        workshop.run(&format!("plan new {words}")).fails(status, parts);
    }
    let words = "plan new letters.txt --document line --time 5s --output kept.toml";
    workshop.write("kept.toml", "mine");
    workshop.run(words).fails(1, &["exists already"]);
    assert_eq!(workshop.read("kept.toml"), "mine");
}
