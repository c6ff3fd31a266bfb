//! `classify`: training, predicting and scoring on files.

use serde_json::Value;

use crate::common::{Done, Workshop, workshop_with_demo};

const SMALL: &str = "classify train thornmere/diaries.csv --label outcome --test-share 0.2 --network pooled --learning-rate 0.02 --quiet";

fn json(text: &str) -> Value {
    serde_json::from_str(text).unwrap()
}

/// A workshop with the demo and a classifier of outcomes in `runs/outcome`.
fn trained() -> Workshop {
    let workshop = workshop_with_demo();
    workshop.run(&format!("{SMALL} --name outcome --epochs 4")).ok();
    workshop
}

#[test]
fn a_classifier_is_trained_scored_and_used_with_its_model_file_alone() {
    let workshop = trained();
    let score = json(&workshop.run("classify score runs/outcome --json --quiet").ok());
    let accuracy = score["accuracy"].as_f64().unwrap();
    assert!(accuracy > 0.6 && accuracy > score["majority_share"].as_f64().unwrap(), "{score}");
    let confusion = score["confusion"].as_array().unwrap();
    let cells = confusion.iter().flat_map(|row| row.as_array().unwrap());
    assert_eq!(cells.map(|n| n.as_u64().unwrap()).sum::<u64>(), score["documents"].as_u64().unwrap());
    assert_eq!(score["classes"], json(r#"["failing", "restless", "steady", "thriving"]"#));

    // The same part by its split file, by another process, and from a copy of the model file without its run.
    std::fs::copy(workshop.path("runs/outcome/outcome.safetensors"), workshop.path("copied.safetensors"))
        .unwrap();
    let part = "classify score copied.safetensors thornmere/diaries.csv --split runs/outcome/split.json --part test --json --quiet";
    assert_eq!(json(&workshop.run(part).ok()), score);

    // Predictions of all documents: the accuracy of the test part is that of the score.
    let predict = "classify predict copied.safetensors thornmere/diaries.csv --label outcome --split runs/outcome/split.json --part test";
    let lines = workshop.run(&format!("{predict} --json --quiet --threads 1")).ok();
    let predictions: Vec<Value> = lines.lines().map(json).collect();
    let right = predictions.iter().filter(|line| line["actual"] == line["predicted"]).count();
    assert!((right as f64 / predictions.len() as f64 - accuracy).abs() < 1e-9);
    for line in &predictions {
        let all = line["probabilities"].as_object().unwrap();
        let sum: f64 = all.values().map(|p| p.as_f64().unwrap()).sum();
        assert!((sum - 1.0).abs() < 1e-9 && all[line["predicted"].as_str().unwrap()] == line["probability"]);
    }
    assert_eq!(workshop.run(&format!("{predict} --json --quiet --threads 3")).ok(), lines);

    // A table with columns of the first one, and JSON Lines.
    workshop.run(&format!("{predict} --keep entry --keep keeper --output p.csv --quiet")).ok();
    let written = workshop.read("p.csv");
    let mut rows = written.lines();
    assert!(
        rows.next()
            .unwrap()
            .starts_with("file,line,entry,keeper,actual,predicted,probability,probability failing")
    );
    assert_eq!(rows.count(), predictions.len());
    workshop.run(&format!("{predict} --output all.csv --quiet")).ok();
    let written = workshop.read("all.csv");
    assert!(written.starts_with("file,line,entry,keeper,season,outcome,text,actual,predicted,"), "{written}");
    assert!(written.lines().nth(1).unwrap().contains(" week of "));
    workshop.run(&format!("{predict} --keep keeper --output p.jsonl --quiet")).ok();
    let first = json(workshop.read("p.jsonl").lines().next().unwrap());
    assert!(first["kept"]["keeper"].is_string() && first["predicted"] == predictions[0]["predicted"]);
    workshop.run(&format!("{predict} --output p.csv --quiet")).fails(1, &["p.csv exists already", "--force"]);

    // Text from standard input, some of it unknown.
    let input = "Angry young workers boiling from the doorstep.\nZyx qqq vvv www.";
    let words = ["classify", "predict", "runs/outcome", "-", "--document", "line", "--json"];
    let lines = workshop.run_with_input(&words, input).ok();
    let unknown: Vec<u64> =
        lines.lines().map(|line| json(line)["unknown_tokens"].as_u64().unwrap()).collect();
    assert_eq!((unknown.len(), unknown[1]), (2, 4));
}

#[test]
fn output_for_people_has_every_figure() {
    let workshop = trained();
    let shown = workshop.run("classify score runs/outcome --mistakes 2");
    assert!(shown.err.contains("reading the test part"), "{shown:?}");
    let out = shown.ok();
    for part in [
        "95 % interval",
        "most frequent class",
        "balanced accuracy",
        "macro F1",
        "calibration error",
        "mean of classes (macro)",
        "all documents (micro)",
        "ROC area",
        "actual \\ predicted",
    ] {
        assert!(out.contains(part), "no `{part}` in {out}");
    }
    let out =
        workshop.run("classify predict runs/outcome thornmere/diaries.csv --first 3 --label outcome").ok();
    assert!(
        out.contains("bars: failing, restless, steady, thriving") && out.contains("documents   3"),
        "{out}"
    );
    workshop.run(&format!("{SMALL} --name other --seed 2 --epochs 1")).ok();
    let beside =
        "classify score runs/outcome thornmere/diaries.csv --label outcome --first 50 --beside runs/other";
    let out = workshop.run(beside).ok();
    assert!(out.contains("On the same documents") && out.contains("runs/other"), "{out}");
    let score = json(&workshop.run(&format!("{beside} --json")).ok());
    let paired = &score["beside"][0]["paired"];
    let difference = score["beside"][0]["accuracy"].as_f64().unwrap() - score["accuracy"].as_f64().unwrap();
    assert!((paired["difference"].as_f64().unwrap() - difference).abs() < 1e-9);

    // The commands for runs show a classifier by its own figures.
    let listed = workshop.run("runs list").ok();
    assert!(listed.contains("accuracy") && listed.contains("outcome"), "{listed}");
    let shown = workshop.run("runs show outcome").ok();
    assert!(shown.contains("accuracy") && shown.contains("classifier.network"), "{shown}");
    let compared = workshop.run("runs compare outcome other").ok();
    assert!(compared.contains("macro F1") && compared.contains("training.seed"), "{compared}");
    // The second run has another seed, so other parts: no paired test, and the note says why.
    let out = workshop.run("runs compare outcome other");
    assert!(out.err.contains("no paired test: the runs have other documents or other parts"), "{out:?}");
    workshop.run("split thornmere/diaries.csv --label outcome --text text --output parts.json").ok();
    for (name, width) in [("narrow", 4), ("wide", 24)] {
        let train = SMALL.replace("--test-share 0.2", "--split parts.json");
        workshop.run(&format!("{train} --name {name} --epochs 2 --embedding {width}")).ok();
    }
    let out = workshop.run("runs compare narrow wide --output beside").ok();
    assert!(
        out.contains(" documents of the test part") && out.contains("p, of equally good classifiers"),
        "{out}"
    );
    assert!(workshop.read("beside/comparison.html").contains("of the test part"));
    let compared = json(&workshop.run("runs compare narrow wide --json --quiet").ok());
    let score = json(&workshop.run("classify score runs/narrow --beside runs/wide --json --quiet").ok());
    let found = &compared["runs"][1]["same_documents"];
    assert_eq!(found["paired"], score["beside"][0]["paired"]);
    assert_eq!(compared["runs"][0]["same_documents"]["accuracy"], score["accuracy"]);
    // Without the documents there is no test, and the rest is shown.
    std::fs::rename(workshop.path("thornmere"), workshop.path("moved")).unwrap();
    let out = workshop.run("runs compare narrow wide");
    assert!(out.status == 0 && out.err.contains("no paired test: "), "{out:?}");
    std::fs::rename(workshop.path("moved"), workshop.path("thornmere")).unwrap();
    // A classifier writes no samples; what it decides has a page of its own.
    let report = workshop.run("runs report outcome").ok();
    assert!(report.contains("classify score runs/outcome --page") && !report.contains("samples"), "{report}");
    assert!(!workshop.path("runs/outcome/report/samples.html").exists());
    let page = workshop.read("runs/outcome/report/report.html");
    assert!(
        page.contains("validation macro F1, best") && page.contains(" %</b><span>test accuracy"),
        "{page}"
    );
}

#[test]
fn a_classifier_is_interrupted_and_resumed_to_the_same_bytes() {
    let workshop = workshop_with_demo();
    let steps = "classify train thornmere/diaries.csv --label keeper --cell gru --hidden 12 --embedding 8 --steps 30 --batch 8 --checkpoints-every 5 --quiet";
    workshop.run(&format!("{steps} --name whole")).ok();
    workshop.run(&format!("{steps} --name parts --minutes 0.000001")).ok();
    let description = json(&workshop.read("runs/parts/run.json"));
    assert_eq!(
        (description["task"].as_str(), description["status"].as_str()),
        (Some("classifier"), Some("interrupted"))
    );
    workshop.run("resume parts --quiet").ok();
    let bytes =
        |name: &str| std::fs::read(workshop.path(&format!("runs/{name}/{name}.safetensors"))).unwrap();
    assert!(bytes("whole") == bytes("parts"));
    workshop.run("resume parts --epochs 2 --from Hesper").fails(2, &["a classifier writes no samples"]);
    // The plan of a run trains the same classifier again.
    workshop.run("classify train --plan runs/whole/plan.toml --name again --quiet").ok();
    assert!(bytes("whole") == bytes("again"));
    workshop
        .run("train --plan runs/whole/plan.toml --name wrong")
        .fails(2, &["lalograph classify train --plan"]);
}

#[test]
fn a_plan_for_classifiers_is_written_checked_and_trained() {
    let workshop = workshop_with_demo();
    workshop.run("plan new thornmere/diaries.csv --for classifier --output plan.toml").ok();
    let text = workshop.read("plan.toml");
    assert!(
        text.contains("[classifier]")
            && text.contains("classify train --plan")
            && !text.contains("[samples]")
    );
    workshop.run("plan check plan.toml").ok();
    workshop.run("classify train --plan plan.toml --label season --network convolution --filters 6 --epochs 1 --name s --quiet").ok();
    let plan = workshop.read("runs/s/plan.toml");
    assert!(plan.contains("network = \"convolution\"") && plan.contains("filters = 6"), "{plan}");
    // The length that was found is part of the plan.
    assert!(plan.lines().any(|line| line.starts_with("length = ") && !line.contains('"')), "{plan}");
    workshop.write("lm.toml", "[model]\nhidden = 8\n");
    workshop
        .run("classify train thornmere/diaries.csv --plan lm.toml")
        .fails(2, &["no [classifier] section"]);
    workshop
        .run("classify train --plan plan.toml --label season --set training.windows=documents")
        .fails(2, &["training.windows", "a classifier does not use it"]);
}

#[test]
fn bad_labels_options_and_models_are_refused_and_nothing_is_written() {
    let workshop = trained();
    let fails = |words: &str, status: i32, parts: &[&str]| {
        let done: Done = workshop.run(words);
        done.fails(status, parts);
    };
    let train = "classify train thornmere/diaries.csv --name new --epochs 1";
    fails(train, 1, &["needs a class label", "--label"]);
    fails(&format!("{train} --label outcom"), 2, &["outcom", "did you mean `outcome`?"]);
    fails(
        &format!("{train} --label outcome --network pooled --hidden 5"),
        2,
        &["--hidden has no effect on a pooled network"],
    );
    fails(
        &format!("{train} --label outcome --network convolution --filter-widths 3,1"),
        2,
        &["rising order"],
    );
    fails(&format!("{train} --label outcome --length none"), 2, &["`most` or `whole`"]);
    workshop.write("one.csv", "text,class\nhive one hums,quiet\nhive two hums,quiet\n");
    fails("classify train one.csv --label class --name new", 1, &["all documents have the label `quiet`"]);
    workshop.write("empty.csv", "text,class\n");
    fails("classify train empty.csv --label class --name new", 1, &["no text"]);
    assert!(!workshop.path("runs/new").exists());

    // Rows without text or label are named and left out, and labels that look alike are two classes.
    let rows: String = (0..60).map(|i| format!("hive {i} hums,{}\n", ["quiet", "Quiet "][i % 2])).collect();
    workshop.write("alike.csv", format!("text,class\n{rows},loud\nno label here,\n"));
    let done =
        workshop.run("classify train alike.csv --label class --name alike --epochs 1 --network pooled");
    assert!(
        done.err.contains("differ in case or white space only") && done.err.contains("2 places left out"),
        "{done:?}"
    );
    done.ok();

    // A model of another kind, a class that it does not have, no labels to score with.
    fails("classify predict thornmere/runs/demo thornmere/diaries.csv", 1, &["another task: language model"]);
    fails("score runs/outcome thornmere/diaries", 1, &["another task: classifier"]);
    fails(
        "classify score runs/outcome thornmere/diaries.csv --label season",
        1,
        &["the classifier has no class", "its classes are failing"],
    );
    fails("classify predict runs/outcome nothing.csv", 1, &["nothing.csv"]);
    workshop.write("p.csv", "kept");
    fails(
        "classify predict runs/outcome thornmere/diaries --document line --keep entry --output q.csv",
        2,
        &["--keep has no effect"],
    );
    assert_eq!(workshop.read("p.csv"), "kept");
}

/// A table of hives on a scale: the weight rises or falls over six hours, the warmth does neither.
fn scales() -> String {
    let heads: Vec<String> = (1..7).map(|hour| format!("weight{hour},warmth{hour}")).collect();
    let mut text = format!("{},day\n", heads.join(","));
    for row in 0..240 {
        let gains = row % 2 == 0;
        let hour = |hour: i32| {
            let drift = if gains { hour } else { 6 - hour };
            format!("{},{}", 20_000 + 100 * drift + row * 37 % 41, 12 + row * 7 % 5)
        };
        let numbers: Vec<String> = (1..7).map(hour).collect();
        text.push_str(&format!("{},{}\n", numbers.join(","), if gains { "gain" } else { "loss" }));
    }
    text
}

#[test]
fn rows_of_numbers_are_trained_on_scored_and_predicted() {
    let workshop = Workshop::new();
    workshop.write("scales.csv", scales());
    let train = "classify train scales.csv --label day --hidden 16 --learning-rate 0.02 --test-share 0.2";
    let out = workshop.run(&format!("{train} --features 2 --name scales --epochs 12")).ok();
    assert!(out.contains("6 steps of 2 features in each row"), "{out}");
    assert!(!workshop.path("runs/scales/vocabulary.json").exists());
    let score = json(&workshop.run("classify score runs/scales --json --quiet").ok());
    assert!(score["accuracy"].as_f64().unwrap() > 0.95, "{score}");
    assert!(workshop.run("runs show runs/scales").ok().contains("2 features, LSTM 1 x 16"));

    // New rows need no label, and their columns can be in any order.
    let new = "note,warmth1,weight1,weight2,warmth2,weight3,warmth3,weight4,warmth4,weight5,warmth5,weight6,warmth6\na,12,20100,20200,13,20300,14,20400,12,20500,15,20600,13\n";
    workshop.write("new.csv", new);
    let line = json(&workshop.run("classify predict runs/scales new.csv --json").ok());
    assert_eq!((&line["predicted"], &line["tokens"]), (&json("\"gain\""), &json("6")));

    // Bad numbers are refused with file, line and column.
    workshop.write("bad.csv", new.replace("20300", "NaN"));
    workshop
        .run("classify predict runs/scales bad.csv --json")
        .fails(1, &["bad.csv, line 2: column `weight3` has `NaN`"]);
    workshop.write("empty.csv", new.replace("20300", ""));
    workshop.run("classify predict runs/scales empty.csv --json").fails(1, &["empty.csv, line 2"]);
    workshop.write("bad.csv", scales().replacen("20100", "heavy", 1));
    let bad = "classify train bad.csv --label day --name bad --epochs 1";
    workshop.run(&format!("{bad} --features 2")).fails(1, &["bad.csv, line ", "has `heavy`", "finite"]);
    for (options, part) in [
        ("--features 5", "12 columns of numbers are not whole steps of 5 features"),
        ("--features 2 --time-steps 4", "are not 4 steps of 2 features"),
    ] {
        workshop.run(&format!("{bad} {options}")).fails(1, &[part, "--text"]);
    }
    workshop.run(&format!("{bad} --features 2 --unit byte")).fails(2, &["no effect on rows of numbers"]);
    workshop.run(&format!("{bad} --time-steps 2")).fails(2, &["--time-steps has no effect on text"]);
    assert!(!workshop.path("runs/bad").exists());
}

#[test]
fn near_copies_of_test_documents_are_named_with_the_accuracy_without_them() {
    let workshop = Workshop::new();
    // Every document has words of its own, so only a copy tells its class: half of the documents are copies with one word changed.
    let document = |number: usize, last: &str| {
        let words: Vec<String> = (0..20).map(|at| format!("w{}", 20 * number + at)).collect();
        format!("{} {last},{}\n", words.join(" "), ["calm", "flow"][number * 7 % 13 % 2])
    };
    let mut table = "text,class\n".to_owned();
    for number in 0..100 {
        table.push_str(&document(number, "here"));
        table.push_str(&document(if number % 2 == 0 { number } else { 100 + number }, "there"));
    }
    workshop.write("copies.csv", &table);
    let train = "classify train copies.csv --label class --network linear --term-choice all --minimum-count 1 --quiet";
    let out = workshop.run(&format!("{train} --test-share 0.3 --name c --json")).ok();
    let records: Vec<_> = out.lines().map(json).collect();
    let hint = records.iter().find(|record| record["hint"] == "near_copies").expect("a hint");
    let test = records.iter().find(|record| record["kind"] == "test").unwrap();
    assert_eq!(hint["accuracy"], test["figures"]["accuracy"]);
    assert_eq!(hint["accuracy_without"], test["figures"]["accuracy_without_copies"]);
    assert!(hint["accuracy"].as_f64() > hint["accuracy_without"].as_f64(), "{hint}");
    // Kept in one part, none is left.
    let out = workshop.run(&format!("{train} --near=0.8 --test-share 0.3 --name near --json")).ok();
    assert!(!out.contains("near_copies"), "{out}");
}

#[test]
fn groups_of_rows_of_numbers_have_any_length() {
    let workshop = Workshop::new();
    // Each hive has between four and nine rows, an hour each, and the table is in no order.
    let mut rows = Vec::new();
    for hive in 0..240 {
        let gains = hive % 2 == 0;
        for hour in 0..4 + hive % 6 {
            let drift = if gains { hour } else { 9 - hour };
            let state = if gains { "gain" } else { "loss" };
            let (kilograms, degrees) = (20_000 + 100 * drift + hive * 37 % 41, 12 + hive * 7 % 5);
            let place = (hive * 7919 + hour * 104_729) % 10_007;
            rows.push((place, format!("h{hive},{hour},{kilograms},{degrees},{state}\n")));
        }
    }
    rows.sort();
    let rows: String = rows.into_iter().map(|(_, row)| row).collect();
    let table = format!("hive,hour,weight,warmth,day\n{rows}");
    workshop.write("long.csv", &table);
    let read = "--label day --group hive --group-order hour --features 2";
    let train = format!("classify train long.csv {read} --learning-rate 0.02 --test-share 0.2");
    for network in ["recurrent --hidden 16", "convolution", "pooled"] {
        let (name, _) = network.split_once(' ').unwrap_or((network, ""));
        let out = workshop.run(&format!("{train} --network {network} --epochs 10 --name {name}")).ok();
        assert!(out.contains("rows of 2 features, a document of any number of rows"), "{out}");
        let score = json(&workshop.run(&format!("classify score runs/{name} --json --quiet")).ok());
        let accuracy = score["accuracy"].as_f64().unwrap();
        assert!(if name == "recurrent" { accuracy > 0.95 } else { accuracy > 0.4 }, "{network}: {score}");
    }
    // New rows need none of the options, but the label is not asked for.
    workshop.write("new.csv", "hour,hive,warmth,weight\n2,x,13,20200\n0,x,13,20000\n1,x,13,20100\n");
    let line = json(&workshop.run("classify predict runs/recurrent new.csv --json").ok());
    assert_eq!((&line["predicted"], &line["tokens"]), (&json("\"gain\""), &json("3")));
    let cut = format!("{train} --hidden 8 --epochs 1 --length 5 --keep-part end --name cut");
    assert!(workshop.run(&cut).ok().contains("at most 5 rows"));
    let said = workshop.run("classify predict runs/cut long.csv --json --first 12 --threads 1");
    assert!(
        said.err.contains("the classifier reads at most 5 rows") && said.out.contains("\"read_tokens\":5"),
        "{said:?}"
    );

    // A linear network has a weight for each feature at each step.
    let linear = train.replace("--learning-rate 0.02", "--network linear");
    workshop.run(&linear).fails(2, &["`classifier.time_steps`"]);
    workshop.run(&format!("{train} --time-steps 6")).fails(1, &["a group of ", " rows, and 6 are expected"]);
    let even: String = table
        .lines()
        .filter(|row| "hour0123".contains(row.split(',').nth(1).unwrap()))
        .map(|row| format!("{row}\n"))
        .collect();
    workshop.write("even.csv", even);
    let even = format!("{} --time-steps 4 --name linear", linear.replace("long.csv", "even.csv"));
    let out = workshop.run(&even).ok();
    assert!(out.contains("4 steps of 2 features in each row"), "{out}");

    // The file, the line and the column of what is no number; the first row of a group that lacks one.
    let nan = table.replacen(",20100,", ",NaN,", 1);
    let line = 1 + nan.lines().position(|row| row.contains("NaN")).unwrap();
    workshop.write("nan.csv", nan);
    let bad = train.replace("long.csv", "nan.csv");
    workshop.run(&bad).fails(1, &[&format!("nan.csv, line {line}: column `weight` has `NaN`")]);
    for (options, part) in [
        ("--text weight", "columns of numbers is 1, and each row of a group has 2 features"),
        ("--text wa*", "columns of numbers is 1, and each row of a group has 2 features"),
        ("--text x*", "no column matches `x*`; the columns are hive, hour"),
    ] {
        workshop.run(&format!("{train} {options}")).fails(1, &[part]);
    }
    workshop.run(&format!("{train} --order by-feature")).fails(2, &["`classifier.order` is `by_feature`"]);
    workshop.run(&format!("{train} --text w* --hidden 4 --epochs 1 --name both")).ok();
    workshop.run("train long.csv --text weight --group hives").fails(2, &["no column `hives`"]);
    workshop.run("survey new.csv --text warmth --group-order hour").fails(2, &["--group"]);
}

#[test]
fn decisions_are_explained_by_leaving_tokens_out() {
    let workshop = Workshop::new();
    // One word decides each class, and the others mean nothing.
    let row = |i: usize| {
        let (word, class) = [("gold", "rich"), ("dust", "poor")][i % 2];
        let (a, b) = (["hive", "comb", "queen"][i % 3], ["near", "under", "behind"][i / 6 % 3]);
        format!("the {a} {b} {word} day{},{class}\n", i / 18)
    };
    workshop.write("words.csv", format!("text,class\n{}", (0..300).map(row).collect::<String>()));
    for network in ["pooled", "convolution", "recurrent"] {
        let train = "classify train words.csv --label class --learning-rate 0.01 --epochs 10 --quiet";
        workshop.run(&format!("{train} --network {network} --name {network}")).ok();
        let explain = format!("classify explain runs/{network} --json --quiet");
        let out = workshop.run(&format!("{explain} --threads 1")).ok();
        assert_eq!(workshop.run(&format!("{explain} --threads 3")).ok(), out);
        let found = json(&out);
        for document in found["documents"].as_array().unwrap() {
            let tokens = document["tokens"].as_array().unwrap();
            let effect = |at: usize| tokens[at]["effect"].as_f64().unwrap();
            assert_eq!((tokens.len(), &document["actual"]), (5, &document["predicted"]), "{network}");
            assert!((0..5).all(|at| at == 3 || effect(at) < effect(3)), "{network}: {document}");
        }
        assert_eq!(found["by_class"][0]["tokens"][0]["token"], "dust", "{network}: {}", found["by_class"]);
        assert_eq!(found["by_class"][1]["tokens"][0]["token"], "gold");

        // The effect is what two predictions give.
        let predict =
            ["classify", "predict", &format!("runs/{network}"), "-", "--document", "line", "--json"];
        let lines = workshop.run_with_input(&predict, "the hive near gold day1\nthe hive near day1").ok();
        let odds = |line: &str| {
            let p = json(line)["probabilities"]["rich"].as_f64().unwrap();
            (p / (1.0 - p)).ln()
        };
        let difference = odds(lines.lines().next().unwrap()) - odds(lines.lines().nth(1).unwrap());
        let words = ["classify", "explain", &format!("runs/{network}"), "-", "--class", "rich", "--json"];
        let one = json(&workshop.run_with_input(&words, "the hive near gold day1").ok());
        let effect = one["documents"][0]["tokens"][3]["effect"].as_f64().unwrap();
        assert!((effect - difference).abs() < 1e-3 * difference.abs().max(1.0), "{effect} {difference}");
    }
    let shown = workshop.run("classify explain runs/pooled --documents 1 --listed 2 --page e.html").ok();
    assert!(shown.contains("gold[+") || shown.contains("dust[+"), "{shown}");
    assert!(shown.contains("Tokens with the greatest mean effect"), "{shown}");
    assert!(workshop.read("e.html").contains("class=\"for2\""));
    workshop
        .run("classify explain runs/pooled --page e.html")
        .fails(1, &["e.html exists already", "--force"]);
    workshop.run("classify explain runs/pooled --class gold").fails(1, &["no class `gold`", "poor, rich"]);
    // Tokens beyond the length have no effect.
    let long = format!("the hive {}", "near ".repeat(40));
    let words = ["classify", "explain", "runs/pooled", "-", "--json"];
    let found = json(&workshop.run_with_input(&words, &long).ok());
    let tokens = found["documents"][0]["tokens"].as_array().unwrap();
    assert!(tokens.len() == 42 && tokens[41]["effect"].is_null() && !tokens[0]["effect"].is_null());
    workshop.write("scales.csv", scales());
    let train = "classify train scales.csv --label day --features 2 --hidden 4 --epochs 1 --name scales";
    workshop.run(&format!("{train} --quiet")).ok();
    workshop.run("classify explain runs/scales").fails(1, &["only tokens of text can be explained"]);
}

/// A table of 400 notes of two classes, of which one word in three tells the class.
fn two_classes(workshop: &Workshop) {
    let mut text = String::from("note,state\n");
    for row in 0..400usize {
        let state = if (row / 5) % 5 < 2 { "wild" } else { "calm" };
        let word = match (row * 7) % 3 {
            0 if state == "wild" => "roaring",
            0 => "humming",
            _ => "waiting",
        };
        let filler = ["early", "late", "bright", "cold", "damp"][(row * 11) % 5];
        text.push_str(&format!("hive {} {filler} {word} {},{state}\n", row % 7, row % 13));
    }
    workshop.write("notes.csv", &text);
}

#[test]
fn a_linear_classifier_is_trained_explained_and_resumed() {
    let workshop = Workshop::new();
    two_classes(&workshop);
    let train =
        "classify train notes.csv --text note --label state --network linear --test-share 0.25 --quiet";
    let out = workshop.run(&format!("{train} --penalty l1 --name lin")).ok();
    for part in ["L1 penalty", "roots of", "solved to the tolerance", "are not 0", "iterations"] {
        assert!(out.contains(part), "no `{part}` in {out}");
    }
    let shown = json(&workshop.run("classify explain runs/lin --json --quiet").ok());
    let of = |class: usize| {
        let tokens = shown["by_class"][class]["tokens"].as_array().unwrap();
        tokens.iter().map(|token| token["token"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    assert!(of(0)[0] == "humming" && of(1)[0] == "roaring", "{:?} {:?}", of(0), of(1));
    // The token's part of the log-odds does not depend on the class but for its sign.
    let wild = json(&workshop.run("classify explain runs/lin --class wild --json --quiet").ok());
    let calm = json(&workshop.run("classify explain runs/lin --class calm --json --quiet").ok());
    let effect = |shown: &Value| shown["documents"][0]["tokens"][2]["effect"].as_f64().unwrap();
    assert!((effect(&wild) + effect(&calm)).abs() < 1e-12);
    let out = workshop.run("classify explain runs/lin --documents 1 --pictures shown").ok();
    assert!(out.contains("Greatest weights for each class") && out.contains("weight times value"), "{out}");
    assert!(std::fs::read(workshop.path("shown/tokens.png")).unwrap().starts_with(b"\x89PNG"));

    // The same again, over the same run: nothing is left to do; with the list of another file.
    workshop.run("resume lin").fails(1, &["runs/lin is solved", "--restart"]);
    let solved = std::fs::read(workshop.path("runs/lin/lin.safetensors")).unwrap();
    workshop.run("resume lin --restart --quiet").ok();
    assert!(std::fs::read(workshop.path("runs/lin/lin.safetensors")).unwrap() == solved);
    workshop.run("resume lin --restart --epochs 3").fails(2, &["solved to its tolerance"]);
    workshop.write("terms.txt", "roaring\nhumming\n");
    let out = workshop.run(&format!("{train} --term-list-from terms.txt --term-pairs 2 --name listed")).ok();
    assert!(out.contains("2 listed terms, products of each two of the first 2"), "{out}");
    let plan = workshop.read("runs/listed/plan.toml");
    assert!(plan.contains("term_choice = \"listed\"") && plan.contains("roaring"), "{plan}");
    for (flags, word) in [
        ("--network linear --hidden 8", "--hidden has no effect"),
        ("--network linear --epochs 3", "--epochs has no effect"),
        ("--network pooled --terms 5", "--terms has no effect"),
        ("--network linear --strengths 0.1,0.2", "falling order"),
        ("--network linear --term-choice listed", "a list of terms"),
    ] {
        workshop
            .run(&format!("classify train notes.csv --text note --label state {flags}"))
            .fails(2, &[word]);
    }
    workshop.run(&format!("{train} --term-list nowhere,roaring --name far")).ok();
}

#[test]
fn a_score_has_thresholds_a_temperature_charts_and_a_page() {
    let workshop = Workshop::new();
    two_classes(&workshop);
    let train = "classify train notes.csv --text note --label state --network linear --test-share 0.25 --validation-share 0.25 --strengths 0.3 --quiet";
    workshop.run(&format!("{train} --name one")).ok();
    let score = |words: &str| {
        json(&workshop.run(format!("classify score runs/one --json --quiet {words}").trim()).ok())
    };
    let plain = score("");
    assert_eq!(plain["temperature"], 1.0);
    // A threshold of 0 predicts one class for all, and one of 1 the other.
    for (threshold, class) in [("0", 1), ("1", 0)] {
        let found = score(&format!("--threshold {threshold}"));
        let predicted: u64 =
            found["confusion"].as_array().unwrap().iter().map(|row| row[class].as_u64().unwrap()).sum();
        assert_eq!(predicted, found["documents"].as_u64().unwrap());
    }
    let aimed = score("--threshold-aim f1 --positive wild");
    let best = &aimed["threshold"];
    assert_eq!(best["class"], "wild");
    let at = score(&format!("--threshold {} --positive wild", best["probability"]));
    assert!((at["by_class"][1]["f1"].as_f64().unwrap() - best["f1"].as_f64().unwrap()).abs() < 1e-9, "{at}");
    let costs = score("--threshold-aim cost --mistake-costs 10,1");
    assert_eq!(costs["threshold"]["missed"], 0);
    // Calibration is kept in the model file: the next score has it.
    let file = workshop.path("runs/one/one.safetensors");
    let before = std::fs::read(&file).unwrap();
    let calibrated = score("--calibrate");
    assert!(std::fs::read(&file).unwrap() != before);
    let again = score("");
    assert!(again["temperature"] == calibrated["temperature"] && again["temperature"] != 1.0, "{again}");
    assert_eq!((&again["loss"], &again["accuracy"]), (&calibrated["loss"], &plain["accuracy"]));
    assert!(again["loss"].as_f64().unwrap() < plain["loss"].as_f64().unwrap());

    let out = workshop.run("classify score runs/one --pictures charts --page score.html --mistakes 2").ok();
    assert!(out.contains("Confidence, in groups of equal size"), "{out}");
    for chart in ["confusion", "roc", "precision-recall", "reliability", "confidence"] {
        assert!(
            std::fs::read(workshop.path("charts").join(format!("{chart}.png")))
                .unwrap()
                .starts_with(b"\x89PNG")
        );
    }
    let page = workshop.read("score.html");
    for part in
        ["By class", "Over thresholds", "Most confident mistakes", "First documents", "Training", "<svg"]
    {
        assert!(page.contains(part), "no `{part}` on the page");
    }
    // What exists stays, and then nothing else is written either.
    workshop
        .run("classify score runs/one --pictures other --page score.html")
        .fails(1, &["score.html exists already"]);
    assert!(!workshop.path("other").join("roc.png").exists());
    for (words, status, word) in [
        ("--threshold 2", 2, "from 0 to 1"),
        ("--threshold-aim cost", 2, "--mistake-costs"),
        ("--threshold-aim f1 --mistake-costs 1,2", 2, "no effect"),
        ("--mistake-costs 1,2", 2, "--threshold-aim"),
        ("--threshold 0.5 --positive loud", 1, "no class `loud`"),
    ] {
        workshop.run(&format!("classify score runs/one {words}")).fails(status, &[word]);
    }
    std::fs::copy(&file, workshop.path("alone.safetensors")).unwrap();
    workshop.run("classify score alone.safetensors notes.csv --calibrate").fails(2, &["the folder of a run"]);
    let lines =
        workshop.run("classify predict runs/one notes.csv --text note --threshold 0 --json --quiet").ok();
    assert!(lines.lines().all(|line| json(line)["predicted"] == "wild"));
}

#[test]
fn documents_that_are_set_aside_are_predicted_at_the_end_and_mail_is_read() {
    let workshop = workshop_with_demo();
    let out = workshop.run(&format!("{SMALL} --name aside --epochs 2 --set-aside restless")).ok();
    assert!(out.contains("set aside") && out.contains("--part set-aside"), "{out}");
    let lines = workshop.run(&format!("{SMALL} --name json --epochs 2 --set-aside restless --json")).ok();
    let aside = &json(lines.lines().last().unwrap())["set_aside"];
    let documents = aside["documents"].as_u64().unwrap();
    let predicted: u64 = aside["predicted"].as_object().unwrap().values().map(|n| n.as_u64().unwrap()).sum();
    assert!(documents > 0 && documents == predicted, "{aside}");
    assert!(out.contains(&format!("{documents} documents, predicted: ")), "{out}");
    for (name, number) in [("good", 0), ("spam", 1)] {
        for at in 0..30 {
            let body = if number == 0 {
                "The queen =\nis laying=2E=20=\n"
            } else {
                "<html><body><p>Cheap &amp; fast hives</p></body></html>"
            };
            workshop.write(
                &format!("mail/{name}/{at}.txt"),
                format!("From: a@b.example\nSubject: note {at}\n\n{body} {at}\n"),
            );
        }
    }
    let train = "classify train mail --folder-labels --recursive --network linear --cleaning mail_text --term-choice all --quiet --name mail";
    workshop.run(train).ok();
    let shown = json(&workshop.run("classify explain runs/mail --json --listed 8 --quiet").ok());
    let tokens = shown["by_class"].to_string();
    assert!(tokens.contains("laying") && !tokens.contains("example") && !tokens.contains("html"), "{tokens}");
}

#[test]
fn the_cost_of_a_classifier_is_that_of_its_own_network() {
    let workshop = trained();
    let cost = json(&workshop.run("plan cost --plan runs/outcome/plan.toml --json --quiet").ok());
    let run = json(&workshop.read("runs/outcome/run.json"));
    assert_eq!((&cost["parameters"], &cost["run"]["steps"]), (&run["parameters"], &run["planned_steps"]));
    assert!(cost["run_seconds"].as_f64().unwrap() > 0.0 && cost["total_bytes"].as_u64().unwrap() > 100_000);
    let shown = workshop.run("plan cost --plan runs/outcome/plan.toml --no-measure").ok();
    assert!(shown.contains("softmax of 4 classes") && shown.contains("training documents"), "{shown}");
    let linear = "plan cost --plan runs/outcome/plan.toml --set classifier.network=linear";
    assert!(workshop.run(linear).ok().contains("solved to its tolerance"));
    workshop.run(&format!("{linear} --indices 5")).fails(2, &["--indices has no effect"]);
    workshop.run("plan cost --set classifier.network=linear").fails(2, &["give the paths of the corpus"]);
    // The speed of the machine with it, on made-up documents.
    let gauge = json(&workshop.run("gauge --plan runs/outcome --rounds 2 --seconds 0.1 --json").ok());
    assert_eq!((&gauge["rounds"], &gauge["vocabulary"]), (&json("2"), &run["vocabulary_size"]));
    for figure in ["products_gigaflops", "training_tokens_per_second", "predicting_tokens_per_second"] {
        assert!(gauge[figure]["median"].as_f64().unwrap() > 0.0, "{figure}: {gauge}");
    }
    assert!(gauge["vectors"]["training_share"]["median"].as_f64().unwrap() > 0.0, "{gauge}");
    let numbers =
        "--set classifier.network=recurrent --set classifier.features=2 --set classifier.time_steps=8";
    let quick = "gauge --plan runs/outcome/plan.toml --rounds 1 --seconds 0.05";
    let out = workshop.run(&format!("{quick} --set classifier.length=\"most\" {numbers}")).ok();
    assert!(out.contains("made-up documents x 8 rows") && out.contains("training / limit"), "{out}");
    let out = workshop.run(&format!("{quick} --set classifier.network=pooled --indices 400")).ok();
    assert!(out.contains("vectors learnt") && out.contains("400 indices (given)"), "{out}");
    workshop
        .run(&format!("{quick} --set classifier.network=linear"))
        .fails(2, &["a linear network is solved"]);
    workshop.run(&format!("{quick} --set classifier.length=99999999")).fails(2, &["`classifier.length`"]);
    workshop.run(&format!("{quick} --scale")).fails(2, &["--scale has no effect on a classifier"]);
}

#[test]
fn the_demo_has_sequences_of_numbers_beside_their_ceiling() {
    let workshop = workshop_with_demo();
    let truth = json(&workshop.read("thornmere/diaries.truth.json"));
    let ceiling = truth["ceilings"]["scales"]["accuracy"].as_f64().unwrap();
    workshop
        .run("classify train thornmere/scales.csv --label state --features 2 --network linear --test-share 0.3 --quiet --name scales")
        .ok();
    let score = json(&workshop.run("classify score runs/scales --json --quiet").ok());
    // A row is a line among the mistakes.
    assert!(score["mistakes"][0]["text"].as_str().unwrap().matches(", ").count() > 20, "{score}");
    let (accuracy, documents) = (score["accuracy"].as_f64().unwrap(), score["documents"].as_f64().unwrap());
    // Above the ceiling by chance alone, and not far below.
    assert!(
        accuracy < ceiling + 4.0 * (ceiling * (1.0 - ceiling) / documents).sqrt(),
        "{accuracy} {ceiling}"
    );
    assert!(accuracy > ceiling - 0.12, "{accuracy} {ceiling}");
}
