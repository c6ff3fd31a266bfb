//! Runs as their people live with them: stopped, continued, listed, compared, reported.

use std::io::{BufRead, BufReader, Read};
use std::process::{Child, Stdio};

use crate::common::{Workshop, workshop_with_demo};
use serde_json::Value;

const SMALL: &str = "train thornmere/diaries --document line --embedding 12 --hidden 16 --steps 30 --batch 8 --window 16 \
                     --validate-every 10 --samples-every 10 --samples-tokens 8 --quiet";

fn json(text: &str) -> Value {
    serde_json::from_str(text).unwrap_or_else(|error| panic!("{error}: {text}"))
}

/// Begins a long run and waits until it has been validated once.
fn started(workshop: &Workshop, name: &str) -> (Child, BufReader<std::process::ChildStdout>) {
    let words = format!(
        "train thornmere/diaries --document line --hidden 64 --dropout 0.1 --epochs 100000 --validate-every 5 --samples-every 0 \
         --set training.schedule=constant --set training.warmup_steps=10 --name {name} --json"
    );
    let mut child = workshop
        .command()
        .args(words.split_whitespace())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut out = BufReader::new(child.stdout.take().unwrap());
    let mut line = String::new();
    while !line.contains("\"validation\"") {
        line.clear();
        assert!(out.read_line(&mut line).unwrap() > 0, "ended too early");
    }
    (child, out)
}

fn signal(child: &Child, name: &str) {
    let sent = std::process::Command::new("kill").args([name, &child.id().to_string()]).status();
    assert!(sent.unwrap().success());
}

/// Its status and its output.
fn ended(mut child: Child, mut out: BufReader<std::process::ChildStdout>) -> (Option<i32>, String, String) {
    let (mut rest, mut err) = (String::new(), String::new());
    out.read_to_string(&mut rest).unwrap();
    child.stderr.take().unwrap().read_to_string(&mut err).unwrap();
    (child.wait().unwrap().code(), rest, err)
}

#[test]
fn an_interrupted_run_shows_how_to_resume_and_ends_as_if_uninterrupted() {
    let workshop = workshop_with_demo();
    for (name, how) in [("interrupted", "-INT"), ("terminated", "-TERM")] {
        let (child, out) = started(&workshop, name);
        signal(&child, how);
        let (status, rest, err) = ended(child, out);
        assert_eq!(status, Some(130), "{err}");
        assert!(err.contains(&format!("`lalograph resume runs/{name}` continues")), "{err}");
        let outcome = json(rest.lines().last().unwrap());
        assert_eq!(outcome["status"], "interrupted");
        workshop.run(&format!("sample runs/{name} --tokens 3")).ok();
        let made = outcome["steps"].as_u64().unwrap();
        // A constant rate: then it is the same run, whenever the number of steps is set.
        let steps = made + 7;
        let done = workshop.run(&format!("resume {name} --steps {steps} --quiet")).ok();
        assert!(done.contains("validation perplexity"), "{done}");
        let words = format!(
            "train thornmere/diaries --document line --hidden 64 --dropout 0.1 --steps {steps} --validate-every 5 --samples-every 0 \
             --set training.schedule=constant --set training.warmup_steps=10 --set training.epochs=100000 --name whole-{name} --quiet"
        );
        workshop.run_words(&words.split_whitespace().collect::<Vec<_>>()).ok();
        let model =
            |run: &str| std::fs::read(workshop.path(&format!("runs/{run}/{run}.safetensors"))).unwrap();
        assert!(model(name) == model(&format!("whole-{name}")), "{name}");
    }
}

#[test]
fn a_second_interrupt_ends_a_run_at_once_and_a_kill_loses_nothing() {
    let workshop = workshop_with_demo();
    let (child, out) = started(&workshop, "twice");
    signal(&child, "-INT");
    signal(&child, "-INT");
    assert_eq!(ended(child, out).0, Some(130));

    let (child, out) = started(&workshop, "killed");
    let listed = json(&workshop.run("runs list --json").ok());
    let status = |listed: &Value, name: &str| {
        let runs = listed["runs"].as_array().unwrap();
        runs.iter().find(|run| run["name"] == name).unwrap()["status"].clone()
    };
    assert_eq!(status(&listed, "killed"), "running");
    // While it runs nobody else writes to it.
    workshop.run("resume killed --steps 10").fails(1, &["is being trained by another process"]);
    workshop.run("runs remove killed").fails(1, &["is being trained by another process"]);
    workshop
        .run(&format!("{SMALL} --name killed --force"))
        .fails(1, &["is being trained by another process"]);
    signal(&child, "-KILL");
    ended(child, out);
    let listed = json(&workshop.run("runs list --json").ok());
    assert_eq!(status(&listed, "killed"), "died");
    assert!(workshop.run("runs show killed").ok().contains("process ended unexpectedly"));
    for name in ["twice", "killed"] {
        let made = json(&workshop.run(&format!("runs show {name} --json")).ok())["steps"].as_u64().unwrap();
        workshop.run(&format!("resume {name} --steps {} --quiet", made + 2)).ok();
        workshop.run(&format!("score runs/{name} thornmere/diaries --first 5")).ok();
    }
}

#[test]
fn a_run_resumes_from_another_folder_with_more_epochs() {
    let workshop = workshop_with_demo();
    workshop.run(&format!("{SMALL} --name one --test-share 0.1")).ok();
    // A run of the folder `runs` is meant by its name, by every command that takes a model.
    assert_eq!(workshop.run("sample one --seed 4").ok(), workshop.run("sample runs/one --seed 4").ok());
    workshop.run("score one thornmere/diaries --document line --first 5 --baselines 2").ok();
    workshop.run("resume one").fails(1, &["has completed all its steps", "--epochs or --steps"]);
    let elsewhere = workshop.path("elsewhere");
    std::fs::create_dir(&elsewhere).unwrap();
    let run = workshop.path("runs/one");
    let output = workshop
        .command()
        .current_dir(&elsewhere)
        .args(["resume", run.to_str().unwrap(), "--steps", "40", "--json"])
        .output()
        .unwrap();
    let (out, err) = (String::from_utf8(output.stdout).unwrap(), String::from_utf8(output.stderr).unwrap());
    assert!(output.status.success(), "{err}");
    assert!(err.contains("continuing after step 30 of 40"), "{err}");
    let lines: Vec<Value> = out.lines().map(json).collect();
    let outcome = lines.last().unwrap();
    assert_eq!((outcome["kind"].as_str(), outcome["steps"].as_u64()), (Some("outcome"), Some(40)));
    assert!(outcome["test"]["figures"]["perplexity"].as_f64().unwrap() > 1.0);
    for kind in ["training", "validation", "test", "sample", "checkpoint"] {
        assert!(lines.iter().any(|line| line["kind"] == kind), "no {kind} in {out}");
    }
    // A model has no path of the folder where it was trained.
    let bytes = std::fs::read(run.join("one.safetensors")).unwrap();
    let needle = workshop.path("").to_str().unwrap().as_bytes().to_vec();
    assert!(!bytes.windows(needle.len()).any(|window| window == needle));
    let shown = workshop.run("runs show one").ok();
    assert!(shown.contains("after step 30, training.steps = 40"), "{shown}");
    assert!(shown.contains("test perplexity"), "{shown}");

    for (words, status, message) in [
        ("resume nothing", 1, "no run `nothing`"),
        ("resume onee", 1, "did you mean `one`?"),
        ("resume runs/ONEE", 1, "did you mean `one`?"),
        ("sample runs/onee", 1, "did you mean `runs/one`?"),
        ("sample onee", 1, "no such file or folder"),
        ("score runs/one/modle.safetensors thornmere/diaries", 1, "did you mean `runs/one/one.safetensors`?"),
        (
            "next nowhere/at/all word",
            1,
            "give the folder of a run, the name of a run in `runs`, or a model file",
        ),
        ("resume thornmere/diaries", 1, "no run"),
        ("resume one --steps 0", 2, "--steps"),
        ("resume one --steps 50 --learning-rate 0", 2, "training.learning_rate"),
        ("resume one --epochs 9 --steps 9", 2, "cannot be used with"),
    ] {
        workshop.run(words).fails(status, &[message]);
    }
    // Text that is another now.
    let letters = |place: &str| -> String {
        (0..300).map(|i| format!("the bees of hive {i} came home to the {place}\n")).collect()
    };
    workshop.write("letters.txt", letters("hedge"));
    let train = "train letters.txt --document line --hidden 8 --embedding 8 --steps 9 --batch 4 --window 8 --quiet --name two";
    workshop.run(train).ok();
    workshop.write("letters.txt", letters("mill"));
    workshop
        .run("resume two --steps 12")
        .fails(1, &["the corpus is not the one that runs/two was started with"]);
}

#[test]
fn damaged_checkpoints_are_named_and_the_one_before_is_used() {
    let workshop = workshop_with_demo();
    workshop.run(&format!("{SMALL} --name one --checkpoints-every 10")).ok();
    let newest = "runs/one/checkpoints/step-0000000030.safetensors";
    assert!(workshop.path(newest).is_file());
    let mut bytes = std::fs::read(workshop.path(newest)).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 0x10;
    workshop.write(newest, &bytes);
    let done = workshop.run("resume one --steps 32");
    assert!(done.err.contains("step-0000000030.safetensors: not a usable checkpoint"), "{done:?}");
    assert!(done.err.contains("continuing after step 20 of 32"), "{done:?}");
    done.ok();
    for step in [32, 30] {
        workshop.write(&format!("runs/one/checkpoints/step-{step:010}.safetensors"), "");
    }
    workshop.run("resume one --steps 40").fails(1, &["all checkpoints of the run are damaged", "--restart"]);
    workshop.run("resume one --steps 40 --restart --quiet").ok();
}

#[test]
fn early_stopping_and_test_scores_follow_their_options() {
    let workshop = workshop_with_demo();
    let words =
        format!("{SMALL} --name early --patience 2 --set training.minimum_gain=50 --test-share 0.2 --json");
    let out = workshop.run(&words.replace("--steps 30", "--steps 300")).ok();
    let outcome = json(out.lines().last().unwrap());
    // The first validation is a gain over nothing; two more are none.
    assert_eq!((outcome["steps"].as_u64(), outcome["ended_early"].as_str()), (Some(30), Some("patience")));
    assert_eq!(outcome["status"], "finished");
    // The test text is scored once, by the weights that were kept, and by nothing else.
    assert_eq!(out.lines().filter(|line| json(line)["kind"] == "test").count(), 1);
    assert!(workshop.run("runs show early").ok().contains("ended early: nothing was gained"));
    // Every so many passes, on a fixed share.
    let words =
        format!("{SMALL} --name share --validate-every-epochs 0.02 --set training.validate_share=0.3 --json");
    let out = workshop.run(&words.replace("--validate-every 10 ", "")).ok();
    let validated: Vec<u64> = out
        .lines()
        .map(json)
        .filter(|line| line["kind"] == "validation")
        .map(|line| line["step"].as_u64().unwrap())
        .collect();
    assert!(validated.len() > 3 && validated.last() == Some(&30), "{validated:?}");
}

#[test]
fn a_time_limit_stops_a_run_that_goes_on_to_the_same_end() {
    let workshop = workshop_with_demo();
    workshop.run(&format!("{SMALL} --flow-every 7 --name whole")).ok();
    let first = workshop
        .run(&format!("{SMALL} --flow-every 7 --name limited --minutes 0.000001").replace(" --quiet", ""))
        .ok();
    assert!(first.contains("1 of 30"), "{first}");
    assert!(workshop.run("runs show limited").ok().contains("interrupted"));
    // Each goes a step further, whatever is due after it.
    for step in 2..=12 {
        let output = workshop.run("resume limited --minutes 0.000001");
        assert!(output.err.contains("(--minutes)") && output.err.contains("lalograph resume"), "{output:?}");
        assert!(output.ok().contains(&format!("{step} of 30")));
    }
    workshop.run("resume limited --minutes 60 --quiet").ok();
    for file in ["samples.jsonl", "flow.jsonl", "RUN.safetensors"] {
        let [whole, limited] = ["whole", "limited"].map(|run| {
            std::fs::read(workshop.path(&format!("runs/{run}/{}", file.replace("RUN", run)))).unwrap()
        });
        assert!(!whole.is_empty() && whole == limited, "{file}");
    }
    for bad in ["0", "-1", "soon", "NaN", "1e300"] {
        workshop
            .run(&format!("{SMALL} --name bad --minutes={bad}"))
            .fails(2, &["--minutes", "number of minutes above 0"]);
    }
}

#[test]
fn validations_and_samples_come_by_epochs_too() {
    let workshop = workshop_with_demo();
    let small = SMALL.replace("--validate-every 10 --samples-every 10 ", "");
    let moments = |words: &str| -> (Vec<u64>, Vec<u64>) {
        let out = workshop.run(&format!("{small} --force --name spans --json {words}")).ok();
        let lines: Vec<Value> = out.lines().map(json).collect();
        let of = |kind: &str| {
            let found = lines.iter().filter(|line| line["kind"] == kind);
            let mut steps: Vec<u64> = found.map(|line| line["step"].as_u64().unwrap()).collect();
            steps.dedup();
            steps
        };
        (of("validation"), of("sample"))
    };
    workshop.run(&format!("{SMALL} --name whole")).ok();
    let shown = json(&workshop.run("runs show whole --json").ok());
    let epoch = shown["text"]["steps_per_epoch"].as_u64().unwrap();
    let share = 7.0 / epoch as f64;
    // The flag of epochs alone turns steps off; both together count.
    let (validated, sampled) =
        moments(&format!("--validate-every-epochs {share} --samples-every-epochs {share}"));
    assert_eq!((validated, sampled), (vec![7, 14, 21, 28, 30], vec![7, 14, 21, 28, 30]));
    let (validated, sampled) =
        moments(&format!("--validate-every-epochs {share} --validate-every 10 --samples-every 15"));
    assert_eq!((validated, sampled), (vec![7, 10, 14, 20, 21, 28, 30], vec![15, 30]));
}

#[test]
fn samples_go_on_from_seed_texts_given_and_drawn_at_set_moments() {
    let workshop = workshop_with_demo();
    let words: Vec<&str> = SMALL
        .split_whitespace()
        .chain(["--name", "one", "--from", "Hesper", "--from", "Maudry walked"])
        .chain(["--temperatures", "0.5,1.5", "--set", "samples.at=[2,5]", "--set", "samples.drawn_seeds=1"])
        .chain(["--set", "samples.drawn_seed_tokens=4"])
        .collect();
    workshop.run_words(&words).ok();
    let samples: Vec<Value> = workshop.read("runs/one/samples.jsonl").lines().map(json).collect();
    let steps: Vec<u64> = samples.iter().map(|sample| sample["step"].as_u64().unwrap()).collect();
    let moments: Vec<u64> = steps.chunk_by(|a, b| a == b).map(|chunk| chunk[0]).collect();
    assert_eq!(moments, [2, 5, 10, 20, 30]);
    assert_eq!(samples.len(), 5 * 3 * 2);
    let seeds: Vec<&str> = samples[..6].iter().map(|sample| sample["seed_text"].as_str().unwrap()).collect();
    assert_eq!((seeds[0], seeds[2]), ("Hesper", "Maudry walked"));
    assert!(seeds[4].split(' ').count() >= 3, "{seeds:?}");
    let plain = workshop.run(&SMALL.replace(" --quiet", " --name output"));
    assert!(plain.err.contains("validation perplexity") && plain.err.contains("(-"), "{plain:?}");
    // Perplexity on training text is never reported without that word.
    for line in plain.err.lines().chain(plain.out.lines()) {
        for (at, _) in line.match_indices("perplexity") {
            let before = line[..at].trim_end();
            assert!(
                ["training", "validation", "unigram", "test"].iter().any(|word| before.ends_with(word)),
                "{line}"
            );
        }
    }
}

#[test]
fn runs_are_listed_shown_compared_reported_and_removed() {
    let workshop = workshop_with_demo();
    assert!(workshop.run("runs list").err.contains("no runs in runs"));
    workshop.run(&format!("{SMALL} --name first")).ok();
    workshop.run(&format!("{SMALL} --name second --cell gru --learning-rate 0.01")).ok();
    let table = workshop.run("runs list").ok();
    assert!(table.contains("first") && table.contains("second") && table.contains("30 of 30"), "{table}");
    assert!(!table.contains(".tokens"));
    let listed = json(&workshop.run("runs list --json").ok());
    let runs = listed["runs"].as_array().unwrap();
    assert_eq!(runs.len(), 2);
    assert!(
        runs[0]["bytes"].as_u64().unwrap() > 10_000
            && runs[0]["best_validation_perplexity"].as_f64().unwrap() > 1.0
    );
    let shown = json(&workshop.run("runs show first --json").ok());
    assert_eq!(
        (shown["standing"].as_str(), shown["plan"]["model"]["hidden"].as_u64()),
        (Some("finished"), Some(16))
    );

    let compared = workshop.run("runs compare first second --output side").ok();
    for part in [
        "model.cell",
        "\"gru\"",
        "training.learning_rate",
        "validation perplexity",
        "Samples at temperature 0.3",
    ] {
        assert!(compared.contains(part), "no {part} in {compared}");
    }
    assert!(!compared.contains("model.hidden"), "the same in both");
    let document = json(&workshop.run("runs compare first second --json").ok());
    assert_eq!(document["differing_settings"].as_array().unwrap().len(), 2);
    workshop.run("runs compare first second --output side").fails(1, &["exists already", "--force"]);
    workshop.run("runs compare first").fails(2, &["needs 2 values"]);
    workshop.run("runs compare first nothing").fails(1, &["no run `nothing`"]);
    let page = workshop.read("side/comparison.html");
    assert!(page.contains("<svg") && page.contains("model.cell"));

    workshop.run("runs report first").ok();
    for file in [
        "report.html",
        "samples.html",
        "learning.svg",
        "learning.png",
        "gradient-norm.svg",
        "learning-rate.png",
    ] {
        assert!(workshop.path("runs/first/report").join(file).is_file(), "{file}");
    }
    let page = workshop.read("runs/first/report/report.html");
    for part in
        ["Samples during training", "layer.1.recurrent", "training.learning_rate", "training too short"]
    {
        assert!(page.contains(part), "no {part}");
    }
    assert!(
        !page.contains("http://www.w3.org/1999") && !page.contains("<script"),
        "it needs nothing besides itself"
    );
    workshop.run("runs report first").fails(1, &["exists already"]);
    let again = json(&workshop.run("runs report first --force --json").ok());
    assert!(again["pictures"].as_array().unwrap().len() >= 6);

    workshop.run("runs remove first nothing").fails(1, &["no run `nothing`"]);
    assert!(workshop.path("runs/first").is_dir(), "all are found before any is removed");
    assert!(workshop.run("runs remove first second --encoded-corpora").ok().contains("removed runs/first"));
    let left: Vec<_> =
        std::fs::read_dir(workshop.path("runs")).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    assert_eq!(left, [".lalograph-lock"]);
    workshop.write("letters/one.txt", "dear bees");
    workshop.run("runs remove letters").fails(1, &["no run"]);
    assert!(workshop.path("letters/one.txt").is_file());
}

#[test]
fn only_a_run_is_removed_and_only_by_its_own_path() {
    let workshop = workshop_with_demo();
    workshop.run(&format!("{SMALL} --name first")).ok();
    // Somebody's own folder with a file of that name, here and among the runs.
    for folder in ["mine", "runs/mine"] {
        workshop.write(&format!("{folder}/run.json"), "{\"name\": \"five miles\", \"steps\": 9000}");
        workshop.write(&format!("{folder}/diary.txt"), "dear bees");
    }
    workshop.run("runs remove mine").fails(1, &["runs/mine/run.json"]);
    workshop.run("runs remove ./mine").fails(1, &["mine/run.json"]);
    assert!(!workshop.path(".lalograph-lock").exists(), "nothing is made beside what is no run");
    workshop.run(&format!("{SMALL} --name mine --force")).fails(1, &["run.json"]);
    for folder in ["mine", "runs/mine"] {
        assert_eq!(workshop.read(&format!("{folder}/diary.txt")), "dear bees");
    }
    // A name is that of a run in the folder of runs, even where a folder here has the same.
    std::fs::rename(workshop.path("mine"), workshop.path("first")).unwrap();
    assert!(workshop.run("runs remove first").ok().contains("removed runs/first"));
    assert_eq!(workshop.read("first/diary.txt"), "dear bees");
}

#[test]
fn a_run_of_another_task_is_shown_with_its_own_figures() {
    let workshop = workshop_with_demo();
    workshop.run(&format!("{SMALL} --name words")).ok();
    workshop.run(&format!("{SMALL} --name counts")).ok();
    // A task without a vocabulary, that judges otherwise.
    let mut description = json(&workshop.read("runs/counts/run.json"));
    description["task"] = "odd counts".into();
    description["vocabulary_size"] = 0.into();
    workshop.write("runs/counts/run.json", description.to_string());
    std::fs::remove_file(workshop.path("runs/counts/vocabulary.json")).unwrap();
    let metrics = workshop.read("runs/counts/metrics.jsonl");
    let output = metrics.lines().map(|line| {
        let mut record = json(line);
        let judged = record["kind"] == "validation";
        record["figures"] =
            if judged { serde_json::json!({ "share_right": 0.9375 }) } else { serde_json::json!({}) };
        format!("{record}\n")
    });
    workshop.write("runs/counts/metrics.jsonl", output.collect::<String>());

    let shown = workshop.run("runs show counts").ok();
    assert!(shown.contains(", share right 0.9375") && !shown.contains("bits per byte"), "{shown}");
    let compared = workshop.run("runs compare words counts").ok();
    let row = |name: &str| {
        let line = compared.lines().find(|line| line.trim().starts_with(name)).unwrap_or_default();
        line.trim_start().trim_start_matches(name).split_whitespace().map(str::to_owned).collect::<Vec<_>>()
    };
    assert_eq!(row("share right"), ["-", "0.9375"], "{compared}");
    assert_eq!(row("bits per byte")[1], "-", "{compared}");
    workshop.run("runs report counts").ok();
    let page = workshop.read("runs/counts/report/report.html");
    assert!(page.contains("validation share right, best") && page.contains("0.9375"));
    assert!(!page.contains("layer.1.recurrent"), "no plan describes its model");
}

#[test]
fn a_damaged_run_is_named_and_the_others_are_listed() {
    let workshop = workshop_with_demo();
    workshop.run(&format!("{SMALL} --name whole")).ok();
    workshop.write("runs/hurt/run.json", "{\"name\": \"hurt\"");
    workshop.write("runs/torn/run.json", std::fs::read(workshop.path("runs/whole/run.json")).unwrap());
    workshop.write("runs/torn/plan.toml", "[model]\nhidden = 16\n");
    workshop.run("runs show torn").fails(1, &["is not the plan that the run was started with"]);
    workshop.write("runs/torn/plan.toml", std::fs::read(workshop.path("runs/whole/plan.toml")).unwrap());
    workshop.write("runs/torn/metrics.jsonl", "{\"kind\":\"training\",\"step\":20");
    let listed = workshop.run("runs list");
    assert!(listed.err.contains("runs/hurt/run.json") && listed.err.contains("left out"), "{listed:?}");
    assert!(listed.ok().contains("whole"));
    // While it is trained the list shows its progress, not that of its last description.
    let metrics = workshop.read("runs/whole/metrics.jsonl");
    let last = metrics.lines().rev().find(|line| line.contains("\"kind\":\"training\"")).unwrap();
    let step = json(last)["step"].as_u64().unwrap();
    let later = last.replace(&format!("\"step\":{step}"), "\"step\":777");
    workshop.write("runs/whole/metrics.jsonl", format!("{metrics}{later}\n{{\"kind\":\"trai"));
    let listed = json(&workshop.run("runs list --json").ok());
    let steps = listed["runs"].as_array().unwrap().iter().map(|run| run["steps"].as_u64().unwrap());
    assert!(steps.max() == Some(777), "{listed}");
    workshop.run("runs show hurt").fails(1, &["runs/hurt/run.json"]);
    // The last line of a run that died may be cut short.
    workshop.run("runs show torn").ok();
    workshop.write("runs/torn/metrics.jsonl", "nonsense\n");
    workshop.run("runs show torn").fails(1, &["metrics.jsonl: line 1"]);
}

#[test]
fn each_hint_is_provoked_by_a_run_and_shows_its_figure() {
    let workshop = workshop_with_demo();
    let few = "train thornmere/diaries --document line --embedding 16 --batch 8 --window 16 --samples-every 0 --quiet --json";
    let lines: String =
        (0..14).map(|_| "the keeper walked to the hive and saw the queen lay in the comb today\n").collect();
    workshop.write("same.txt", lines);
    let cases = [
        ("overfitting", format!("{few} --first 60 --hidden 96 --epochs 60 --learning-rate 0.02 --dropout 0 --validate-every 20")),
        ("vanishing_gradients", format!("{few} --cell plain-tanh --hidden 16 --steps 20 --flow-every 10 --set model.recurrent_gain=0.05")),
        ("exploding_gradients", format!("{few} --cell plain-relu --hidden 16 --steps 1 --flow-every 1 --validation-share 0 --set model.recurrent_gain=2.2")),
        ("worse_than_unigram", format!("{few} --hidden 16 --steps 120 --learning-rate 1e-6")),
        ("many_unknown_tokens", format!("{few} --hidden 16 --steps 3 --vocabulary-size 40")),
        (
            "validation_seen_in_training",
            "train same.txt --document line --hidden 8 --steps 3 --batch 2 --window 4 --validation-share 0.3 --samples-every 0 --quiet --json".to_owned(),
        ),
        ("too_short", format!("{few} --hidden 16 --steps 4")),
    ];
    let sound = workshop.run(&format!(
        "{few} --hidden 48 --epochs 12 --learning-rate 0.01 --flow-every 20 --name sound --seed 2"
    ));
    let hints_in = |out: &str| -> Vec<String> {
        let outcome = json(out.lines().last().unwrap());
        let hints = outcome["hints"].as_array().unwrap().clone();
        for hint in &hints {
            assert!(hint["message"].as_str().unwrap().chars().any(|c| c.is_ascii_digit()), "{hint}");
        }
        hints.iter().map(|hint| hint["hint"].as_str().unwrap().to_owned()).collect()
    };
    let fine = hints_in(&sound.ok());
    for (hint, words) in &cases {
        let out = workshop.run(&format!("{words} --name {hint}")).ok();
        let found = hints_in(&out);
        assert!(found.contains(&(*hint).to_owned()), "{hint}: {found:?}\n{}", out.lines().last().unwrap());
        assert!(
            !fine.contains(&(*hint).to_owned()),
            "{hint} is given for a run without this problem: {fine:?}"
        );
        // It is reported when it happens, in what is shown of the run, and in its report.
        assert!(out.lines().any(|line| json(line)["kind"] == "hint" && json(line)["hint"] == *hint), "{out}");
        let shown = json(&workshop.run(&format!("runs show {hint} --json")).ok());
        assert!(shown["hints"].as_array().unwrap().iter().any(|h| h["hint"] == *hint), "{shown}");
    }
    let wild = workshop.run(&format!("{few} --hidden 16 --steps 40 --learning-rate 1e6 --name wild"));
    assert_eq!(wild.status, 1, "{wild:?}");
    assert!(wild.out.contains("learning_rate_too_high"), "{wild:?}");
    workshop.run("runs report overfitting").ok();
    assert!(
        workshop
            .read("runs/overfitting/report/report.html")
            .contains("overfitting: validation perplexity rose from")
    );
}

#[test]
fn a_full_disk_ends_the_run_with_its_path_and_the_run_resumes_later() {
    let workshop = workshop_with_demo();
    // A limit on the size of files is met as a full disk is: in the middle of a write.
    let program = env!("CARGO_BIN_EXE_lalograph");
    let words = SMALL
        .replace("--steps 30", "--steps 60 --checkpoints-every 5")
        .replace("--hidden 16", "--hidden 96 --shared-vectors false");
    let limited = format!("trap '' XFSZ; ulimit -f 700; exec {program} {words} --name full");
    let output = std::process::Command::new("bash")
        .current_dir(workshop.path(""))
        .args(["-c", &limited])
        .stdin(Stdio::null())
        .output()
        .unwrap();
    let err = String::from_utf8(output.stderr).unwrap();
    assert_eq!(output.status.code(), Some(1), "{err}");
    assert!(
        err.contains("runs/full/checkpoints/step-0000000005.safetensors") && !err.contains("panicked"),
        "{err}"
    );
    workshop.run("resume full --quiet").ok();
    workshop.run_words(&format!("{words} --name whole").split_whitespace().collect::<Vec<_>>()).ok();
    let model = |run: &str| std::fs::read(workshop.path(&format!("runs/{run}/{run}.safetensors"))).unwrap();
    assert!(model("full") == model("whole"));
    workshop.run(&format!("{SMALL} --name x --runs /proc/runs")).fails(1, &["/proc/runs"]);
}

#[test]
fn plans_are_written_for_a_purpose_and_checked_with_every_mistake_named() {
    let workshop = workshop_with_demo();
    for purpose in ["word", "character", "large-vocabulary"] {
        let file = format!("{purpose}.toml");
        workshop.run(&format!("plan new thornmere/diaries --for {purpose} --output {file}")).ok();
        assert!(workshop.run(&format!("plan check {file}")).ok().contains("no problems"));
        workshop.run(&format!("plan new --for {purpose} --output {file}")).fails(1, &["exists already"]);
        workshop.run(&format!("plan cost --plan {file} --no-measure")).ok();
    }
    assert!(workshop.read("character.toml").contains("unit = \"character\""));
    let all = workshop.run("plan new --all").ok();
    assert!(all.contains("beta2 = 0.999") && all.contains("# steps =\n"), "{all}");
    assert!(workshop.run_with_input(&["plan", "check", "-"], &all).ok().contains("no problems"));

    workshop.write(
        "wrong.toml",
        "[model]\nhiden = 3\n\n[trainig]\nseed = 1\n\n[corpus]\npaths = [\"nowhere\"]\n",
    );
    let done = workshop.run("plan check wrong.toml");
    assert!(
        done.out.contains("wrong.toml:2:1: no setting `model.hiden`; did you mean `model.hidden`?"),
        "{done:?}"
    );
    assert!(done.out.contains("wrong.toml:4:2: no setting `trainig"), "{done:?}");
    done.fails(1, &["2 problems in the plan"]);
    workshop.write("wrong.toml", "[model]\nhidden = 0\nlayers = 0\n[corpus]\npaths = [\"nowhere\"]\n");
    let found = workshop.run("plan check wrong.toml --json");
    let problems = json(&found.out)["problems"].as_array().unwrap().clone();
    let places: Vec<(Option<u64>, Option<u64>)> =
        problems.iter().map(|problem| (problem["line"].as_u64(), problem["column"].as_u64())).collect();
    assert_eq!(places, [(Some(2), Some(1)), (Some(3), Some(1))], "{problems:?}");
    workshop.write("wrong.toml", "[corpus]\npaths = [\"nowhere\"]\n[vocabulary]\nfile = \"none.json\"\n");
    let done = workshop.run("plan check wrong.toml");
    assert!(done.out.contains("corpus.paths") && done.out.contains("vocabulary.file"), "{done:?}");
    assert_eq!(done.status, 1);
    workshop.run("train --plan wrong.toml --set model.hiden=3").fails(2, &["did you mean `model.hidden`"]);
    workshop.run("plan check nowhere.toml").fails(1, &["nowhere.toml"]);
}
