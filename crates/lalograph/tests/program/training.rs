//! `train`, `sample` and `score` on files, with the model file as the only thing between them.

use crate::code_length::remainder_bits;
use crate::common::{Workshop, demo, workshop_with_demo};
use safetensors::SafeTensors;
use serde_json::Value;

const SMALL: &str = "train thornmere/diaries --document line --embedding 12 --hidden 16 --steps 30 --batch 8 --window 16 \
                     --samples-every 15 --samples-tokens 12 --validate-every 10 --quiet";

#[test]
fn the_same_seed_writes_the_same_model_file_on_any_number_of_threads() {
    let workshop = workshop_with_demo();
    for (name, threads) in [("one", 1), ("two", 2), ("again", 2)] {
        workshop.run(&format!("{SMALL} --layers 2 --name {name} --threads {threads}")).ok();
    }
    let bytes =
        |name: &str| std::fs::read(workshop.path(&format!("runs/{name}/{name}.safetensors"))).unwrap();
    assert!(bytes("one") == bytes("two"), "threads changed the model");
    assert!(bytes("two") == bytes("again"), "a second run changed the model");
    assert_eq!(workshop.read("runs/one/samples.jsonl"), workshop.read("runs/two/samples.jsonl"));
    workshop.run(&format!("{SMALL} --layers 2 --name other --seed 2")).ok();
    assert!(bytes("one") != bytes("other"));

    // The resolved plan is all that is needed to do it again.
    workshop.run("train --plan runs/one/plan.toml --name replayed --quiet").ok();
    assert!(bytes("one") == bytes("replayed"));
}

/// The loss of a text under the file's weights, computed one number at a time from the published equations, with the
/// file's own text form of plan and vocabulary.
/// `begins_anew` is whether the state does with every document.
fn plain_loss(model: &[u8], documents: &[Vec<u32>], begins_anew: bool) -> f64 {
    let tensors = SafeTensors::deserialize(model).unwrap();
    let tensor = |name: &str| -> (Vec<f64>, Vec<usize>) {
        let view = tensors.tensor(name).unwrap();
        let numbers =
            view.data().chunks(4).map(|b| f64::from(f32::from_le_bytes(b.try_into().unwrap()))).collect();
        (numbers, view.shape().to_vec())
    };
    let layers = tensors.names().iter().filter(|name| name.ends_with(".recurrent")).count();
    let (embedding, embedding_shape) = tensor("embedding");
    let stack: Vec<_> = (0..layers)
        .map(|l| ["input", "recurrent", "bias"].map(|part| tensor(&format!("layer.{}.{part}", l + 1)).0))
        .collect();
    let hidden = tensor("layer.1.recurrent").1[0];
    // Shared vectors are read through a projection.
    let shared = !tensors.names().contains(&"output.weights");
    let (output, output_shape) = tensor(if shared { "embedding" } else { "output.weights" });
    let projection = tensors.names().contains(&"output.projection").then(|| tensor("output.projection").0);
    let read = output_shape[1];
    let (output_bias, _) = tensor("output.bias");
    let logistic = |x: f64| 1.0 / (1.0 + (-x).exp());
    let mut h = vec![vec![0.0; hidden]; layers];
    let mut c = vec![vec![0.0; hidden]; layers];
    let (mut total, mut count) = (0.0, 0.0);
    for document in documents {
        let mut input = 2; // the start token
        if begins_anew {
            h.iter_mut().chain(&mut c).for_each(|state| state.fill(0.0));
        }
        for &target in document.iter().chain(&[3]) {
            let width = embedding_shape[1];
            let mut x = embedding[input as usize * width..][..width].to_vec();
            for (layer, [wx, wh, b]) in stack.iter().enumerate() {
                let gate = |j: usize| -> f64 {
                    let mut z = b[j];
                    for (i, v) in x.iter().enumerate() {
                        z += v * wx[i * 4 * hidden + j];
                    }
                    for (i, v) in h[layer].iter().enumerate() {
                        z += v * wh[i * 4 * hidden + j];
                    }
                    z
                };
                let z: Vec<f64> = (0..4 * hidden).map(gate).collect();
                for n in 0..hidden {
                    let cell =
                        logistic(z[2 * hidden + n]) * c[layer][n] + logistic(z[n]) * z[3 * hidden + n].tanh();
                    c[layer][n] = cell;
                }
                h[layer] = (0..hidden).map(|n| logistic(z[hidden + n]) * c[layer][n].tanh()).collect();
                x.clone_from(&h[layer]);
            }
            if let Some(projection) = &projection {
                let column =
                    |to: usize| x.iter().zip(projection[to..].iter().step_by(read)).map(|(h, p)| h * p).sum();
                x = (0..read).map(column).collect();
            }
            let scores: Vec<f64> = output_bias
                .iter()
                .enumerate()
                .map(|(v, b)| b + x.iter().zip(&output[v * read..]).map(|(h, w)| h * w).sum::<f64>())
                .collect();
            // Padding and start have no probability.
            let possible = scores.iter().enumerate().filter(|(v, _)| ![0, 2].contains(v));
            total += possible.map(|(_, s)| s.exp()).sum::<f64>().ln() - scores[target as usize];
            count += 1.0;
            input = target;
        }
    }
    total / count
}

#[test]
fn score_agrees_with_a_plain_forward_pass_over_the_model_file() {
    let workshop = workshop_with_demo();
    workshop.run(&format!("{SMALL} --layers 2 --shared-vectors false --name deep")).ok();
    workshop.run(&format!("{SMALL} --name carried --set training.reset_at_documents=false")).ok();
    workshop
        .run("train thornmere/diaries --document line --embedding 24 --hidden 40 --steps 60 --quiet --name wide")
        .ok();
    let mut text: Vec<String> =
        workshop.read("thornmere/diaries/volume-00001.txt").lines().take(6).map(str::to_owned).collect();
    text.push("Hesper , the wexlery keeper,  vlorped 77 combs\tof na\u{ef}ve bees".into());
    text.push("vlorped .".into());
    workshop.write("eight.txt", text.join("\n") + "\n");
    for run in ["runs/deep", "runs/carried", "runs/wide"] {
        let score = workshop.run(&format!("score {run} eight.txt --json")).ok();
        let score: Value = serde_json::from_str(&score).unwrap();
        let documents: Vec<Vec<u32>> = text
            .iter()
            .map(|line| {
                let indices = workshop.run_words(&["vocab", "encode", run, "--indices", line]).ok();
                indices.split_whitespace().map(|index| index.parse().unwrap()).collect()
            })
            .collect();
        let name = run.rsplit('/').next().unwrap();
        let model = std::fs::read(workshop.path(run).join(format!("{name}.safetensors"))).unwrap();
        let expected = plain_loss(&model, &documents, run != "runs/carried");
        let loss = score["loss"].as_f64().unwrap();
        assert!((loss - expected).abs() < 1e-4, "{run}: {loss} {expected}");
        assert!((score["perplexity"].as_f64().unwrap() - loss.exp()).abs() < 1e-9);
        let bytes = text.iter().map(|line| line.len() + 1).sum::<usize>() as f64;
        let tokens = documents.iter().map(|document| document.len() + 1).sum::<usize>() as f64;
        assert_eq!(score["bytes"].as_f64().unwrap(), bytes);
        assert_eq!(score["tokens"].as_f64().unwrap(), tokens);
        let vocabulary: Value =
            serde_json::from_str(&workshop.read(&format!("{run}/vocabulary.json"))).unwrap();
        let (mut spelling, mut spacing) = (0.0, 0.0);
        for line in &text {
            let (spelt, spaced) = remainder_bits(&vocabulary, line);
            (spelling, spacing) = (spelling + spelt, spacing + spaced);
        }
        let figure = |name: &str| score[name].as_f64().unwrap();
        assert!(spelling > 50.0 && spacing > 10.0, "{spelling} {spacing}");
        assert!((figure("spelling_bits") - spelling).abs() < 1e-6, "{run}: {score} {spelling}");
        assert!((figure("spacing_bits") - spacing).abs() < 1e-6, "{run}: {score} {spacing}");
        let bits = (loss * tokens / std::f64::consts::LN_2 + spelling + spacing) / bytes;
        assert!((figure("bits_per_byte") - bits).abs() < 1e-9);
    }
}

#[test]
fn a_run_reports_its_events_as_json_lines() {
    let workshop = workshop_with_demo();
    let out = workshop.run(&format!("{SMALL} --name told --json")).ok();
    let lines: Vec<Value> = out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let kinds: Vec<&str> = lines.iter().map(|line| line["kind"].as_str().unwrap()).collect();
    for (kind, count) in [("training", 2), ("validation", 3), ("sample", 6), ("outcome", 1)] {
        assert_eq!(kinds.iter().filter(|&&k| k == kind).count(), count, "{kind}");
    }
    let outcome = lines.last().unwrap();
    assert_eq!((outcome["status"].as_str(), outcome["steps"].as_u64()), (Some("finished"), Some(30)));
    let description: Value = serde_json::from_str(&workshop.read("runs/told/run.json")).unwrap();
    assert_eq!(description["status"], "finished");
    let losses: Vec<f64> = lines.iter().filter_map(|line| line["validation_loss"].as_f64()).collect();
    assert!(losses.windows(2).all(|pair| pair[1] < pair[0]), "{losses:?}");
}

#[test]
fn the_model_file_alone_is_enough_to_write_and_to_judge() {
    let workshop = Workshop::new();
    std::fs::copy(demo().join("runs/demo/demo.safetensors"), workshop.path("m.safetensors")).unwrap();
    let sample = |words: &str| workshop.run(&format!("sample m.safetensors {words}")).ok();
    assert_eq!(sample("--seed 5"), sample("--seed 5"));
    assert_ne!(sample("--seed 5"), sample("--seed 6"));
    assert_eq!(sample("--greedy --seed 1"), sample("--greedy --seed 2"));
    assert!(sample("--from Hesper --greedy").starts_with("Hesper "));
    assert!(!sample("--from Hesper --greedy --without-seed-text").contains("Hesper"));
    let lines = sample("--temperatures 0.5,1.5 -n 3 --tokens 7 --json");
    let lines: Vec<Value> = lines.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(lines.len(), 6);
    assert!(lines.iter().all(|line| line["tokens"].as_u64().unwrap() <= 7));
    let past = sample("--past-end --tokens 400 --json");
    let past: Value = serde_json::from_str(&past).unwrap();
    assert_eq!(past["tokens"], 400);
    assert!(past["text"].as_str().unwrap().contains('\n'));
    let judged =
        workshop.run_with_input(&["score", "m.safetensors", "-"], "Maudry walked to Foxgate.\n").ok();
    assert!(judged.contains("perplexity"), "{judged}");
}

#[test]
fn a_sample_goes_to_a_file_but_never_over_one() {
    let workshop = workshop_with_demo();
    let words = "sample thornmere/runs/demo --output s.txt --tokens 5";
    workshop.run(words).ok();
    let kept = workshop.read("s.txt");
    assert!(!kept.trim().is_empty());
    workshop.run(&format!("{words} --seed 9")).fails(1, &["s.txt exists already", "--force"]);
    assert_eq!(workshop.read("s.txt"), kept);
    workshop.run(&format!("{words} --seed 9 --force")).ok();
    assert_ne!(workshop.read("s.txt"), kept);
}

#[test]
fn impossible_sample_settings_are_refused() {
    let workshop = workshop_with_demo();
    let sample =
        |words: &[&str]| workshop.run_words(&[["sample", "thornmere/runs/demo"].as_slice(), words].concat());
    sample(&["--temperatures", "0"]).fails(2, &["must be above 0", "--greedy"]);
    sample(&["--temperatures", "-0.5"]).fails(2, &["-0.5"]);
    sample(&["--temperatures", "warm"]).fails(2, &["warm"]);
    sample(&["--from", "qwzx vlorp"]).fails(1, &["`qwzx`, `vlorp`", "no token of the seed text"]);
    let partly = sample(&["--from", "Hesper qwzx"]);
    assert_eq!(partly.status, 0);
    assert!(partly.err.contains("`qwzx`"), "{partly:?}");
    sample(&["--tokens", "0"]).fails(2, &["at least 1"]);
}

#[test]
fn a_missing_folder_for_temporary_files_is_reported() {
    let workshop = Workshop::new();
    workshop
        .write("words.txt", (0..400).map(|i| format!("line {i} of very few words\n")).collect::<String>());
    let words = "train words.txt --document line --steps 1 --hidden 4 --batch 2 --window 4";
    let output = workshop.command().args(words.split(' ')).env("TMPDIR", "nowhere").output().unwrap();
    let message = String::from_utf8(output.stderr).unwrap();
    assert_eq!(output.status.code(), Some(1), "{message}");
    assert!(message.contains("TMPDIR") && !message.contains(".tokens"), "{message}");
}

#[test]
fn damaged_and_foreign_model_files_are_refused() {
    let workshop = workshop_with_demo();
    let whole = std::fs::read(workshop.path("thornmere/runs/demo/demo.safetensors")).unwrap();
    for length in [0, 5, 8, 500, whole.len() / 2, whole.len() - 1] {
        workshop.write("cut.safetensors", &whole[..length]);
        workshop.run("sample cut.safetensors").fails(1, &["cut.safetensors", "not a usable model file"]);
    }
    // Every kind of place in the file, flipped: lengths, header, metadata, weights.
    for position in (0..whole.len()).step_by(whole.len() / 40).chain(0..24) {
        let mut bytes = whole.clone();
        bytes[position] ^= 0x15;
        workshop.write("flipped.safetensors", &bytes);
        let done = workshop.run("score flipped.safetensors thornmere/diaries --first 1");
        assert_eq!(done.status, 1, "byte {position}: {done:?}");
        assert!(!done.err.contains("panicked"), "byte {position}: {done:?}");
    }
    let header = br#"{"a":{"dtype":"F32","shape":[1],"data_offsets":[0,4]}}"#;
    let mut foreign = (header.len() as u64).to_le_bytes().to_vec();
    foreign.extend_from_slice(header);
    foreign.extend_from_slice(&[0; 4]);
    workshop.write("foreign.safetensors", foreign);
    workshop.run("sample foreign.safetensors").fails(1, &["Lalograph did not write it"]);
    // Intact, and no models.
    for (file, what) in [
        ("thornmere/runs/demo/plan.toml", "this is a plan"),
        ("thornmere/vectors.safetensors", "its format is `lalograph word vectors`"),
    ] {
        workshop.run(&format!("sample {file}")).fails(1, &[file, what, "give the folder of a run"]);
    }
    workshop.run("sample missing.safetensors").fails(1, &["missing.safetensors"]);
    workshop.write("empty/nothing", "");
    workshop.run("sample empty").fails(1, &["no model file in this folder"]);
}

#[test]
fn corpora_that_cannot_be_trained_on_are_refused_and_nothing_is_left_behind() {
    let workshop = Workshop::new();
    workshop.write("empty.txt", "");
    workshop.write("binary.txt", b"\x7fELF\x00\x01");
    workshop.write("short.txt", "too few words for one batch, far too few words");
    workshop.write("once.txt", "every word comes once");
    workshop.write("folder/readme.md", "no text files here");
    let lines: String = (0..400).map(|i| format!("line {i} of very few words\n")).collect();
    workshop.write("words.txt", lines);
    for (words, status, expected) in [
        ("train empty.txt", 1, "no text in the corpus: 1 file read, 1 place left out"),
        ("train binary.txt", 1, "no text"),
        ("train short.txt", 1, "--batch or --window"),
        ("train once.txt", 1, "no word occurs at least 2 times"),
        ("train once.txt --minimum-count 1", 1, "--batch or --window"),
        ("train nowhere", 1, "no such file or folder"),
        ("train folder", 1, "no files ending in .txt"),
        ("train words.txt --minimum-count 5000", 1, "reserved tokens only"),
        ("train words.txt --vocabulary-file nowhere.json", 1, "nowhere.json"),
        ("train -", 2, "standard input"),
        ("train words.txt --hidden 0", 2, "`model.hidden` is 0"),
        ("train words.txt --hidden 99999", 2, "above the limit"),
        ("train words.txt --dropout 1.5", 2, "training.dropout"),
        ("train words.txt --temperatures 0.5,0", 2, "samples.temperatures"),
        ("train words.txt --set model.hiden=3", 2, "did you mean `model.hidden`"),
        ("train words.txt --name ../up", 2, "cannot be the name of a run"),
        ("train words.txt --document line --validation-share 0.9 --steps 1 --batch 900", 1, "--batch"),
    ] {
        workshop.run(words).fails(status, &[expected]);
        // The tokens of a corpus that was read well are no run, and may be of use to the next.
        let runs = std::fs::read_dir(workshop.path("runs")).into_iter().flatten();
        assert!(runs.flatten().all(|entry| entry.file_name() == ".tokens"), "{words} left a run behind");
    }
}

#[test]
fn a_run_of_that_name_is_replaced_only_on_request_and_nothing_else_ever_is() {
    let workshop = workshop_with_demo();
    workshop.run(&format!("{SMALL} --name taken")).ok();
    let before = workshop.read("runs/taken/run.json");
    workshop.run(&format!("{SMALL} --name taken --seed 3")).fails(1, &["exists already"]);
    assert_eq!(workshop.read("runs/taken/run.json"), before);
    workshop.run(&format!("{SMALL} --name taken --seed 3 --force")).ok();
    assert_ne!(workshop.read("runs/taken/plan.toml"), "");
    let mine = workshop.write("runs/notes/mine.txt", "kept");
    workshop.run(&format!("{SMALL} --name notes --force")).fails(1, &["not a run"]);
    assert_eq!(std::fs::read_to_string(mine).unwrap(), "kept");
}

#[test]
fn a_run_whose_numbers_are_no_longer_finite_ends_with_its_step_and_parameter_and_a_whole_model() {
    let workshop = workshop_with_demo();
    // Judged every step, so that a model from before it went wrong is there; and never, so that the last one is kept.
    for (name, flags, message) in [
        (
            "wild",
            "--validate-every 1 --clip-norm 0 --optimiser sgd --cell plain-relu",
            "validation perplexity",
        ),
        (
            "unjudged",
            "--validate-every 0 --clip-norm 0 --optimiser sgd --cell plain-relu",
            "the gradient of `",
        ),
        ("usual", "--validate-every 1", "the largest number is in"),
    ] {
        let words = format!(
            "train thornmere/diaries --document line --hidden 16 --batch 8 --window 16 --steps 40 --quiet --name {name} \
             --learning-rate 1e6 {flags}"
        );
        workshop.run(&words).fails(1, &["step ", message, "is not a finite number", "--learning-rate"]);
        let run = workshop.read(&format!("runs/{name}/run.json"));
        let description: Value = serde_json::from_str(&run).unwrap();
        assert_eq!(description["status"], "failed");
        workshop.run(&format!("score runs/{name} thornmere/diaries --first 5")).ok();
    }
    let wilder =
        format!("{SMALL} --name wilder --learning-rate 1e38 --clip-norm 0 --set training.warmup_steps=0");
    workshop.run(&wilder).fails(1, &["step ", "not a finite number"]);
}

#[test]
fn every_kind_of_cell_softmax_optimiser_and_window_trains_and_is_used_from_its_file() {
    let workshop = workshop_with_demo();
    for (name, flags) in [
        ("tanh", "--cell plain-tanh --optimiser nesterov --schedule step"),
        ("relu", "--cell plain-relu --optimiser rmsprop --schedule exponential --learning-rate 0.0003"),
        (
            "gru",
            "--cell gru --layers 2 --optimiser adamw --schedule one-cycle --set model.layer_norm=true --set model.residual=true",
        ),
        (
            "tied",
            "--shared-vectors true --optimiser sgd --set optimiser.average_from=0.5 --schedule plateau --learning-rate 0.5",
        ),
        ("clusters", "--softmax clustered --set model.clusters=[50,200] --schedule inverse-square-root"),
        (
            "sampled",
            "--softmax sampled --set model.softmax_samples=40 --optimiser momentum --schedule constant",
        ),
        ("windows", "--set training.windows=independent --set training.stride=5 --set training.loss_at=last"),
        ("documents", "--set training.windows=documents --set model.learn_first_state=true --flow-every 10"),
        (
            "regularised",
            "--set regularisation.dropout_recurrent=0.2 --set regularisation.dropout_words=0.1 \
             --set regularisation.activation_penalty=1.0 --set regularisation.temporal_penalty=1.0 \
             --set regularisation.label_smoothing=0.1 --set training.window_jitter=0.3 --set training.clip_value=0.1",
        ),
    ] {
        workshop.run(&format!("{SMALL} {flags} --name {name}")).ok();
        let metrics = workshop.read(&format!("runs/{name}/metrics.jsonl"));
        let losses: Vec<f64> = metrics
            .lines()
            .map(|line| serde_json::from_str::<Value>(line).unwrap())
            .filter(|record| record["kind"] == "validation")
            .filter_map(|record| record["loss"].as_f64())
            .collect();
        assert!(losses[losses.len() - 1] < losses[0], "{name}: {losses:?}");
        let score = workshop.run(&format!("score runs/{name} thornmere/diaries --first 20 --json")).ok();
        let score: Value = serde_json::from_str(&score).unwrap();
        assert!(score["perplexity"].as_f64().unwrap() < 1000.0, "{name}: {score}");
        assert!(!workshop.run(&format!("sample runs/{name} --tokens 5")).ok().trim().is_empty(), "{name}");
    }
    let metrics = workshop.read("runs/sampled/metrics.jsonl");
    assert!(metrics.contains("\"figures\":{}"), "a sampled loss is no perplexity: {metrics}");
    workshop.run("runs report documents").ok();
    for file in ["gradient-flow.png", "gradient-flow.svg"] {
        assert!(workshop.path("runs/documents/report").join(file).is_file(), "{file}");
    }
    let flow: Value =
        serde_json::from_str(workshop.read("runs/documents/flow.jsonl").lines().last().unwrap()).unwrap();
    assert_eq!((flow["step"].as_u64(), flow["by_distance"][0].as_array().unwrap().len()), (Some(30), 16));
    assert!(flow["by_parameter"]["layer.1.recurrent"].as_f64().unwrap() > 0.0);
    workshop
        .run(&format!("{SMALL} --set model.directions=both"))
        .fails(2, &["model.directions", "backwards"]);
    workshop
        .run(&format!("{SMALL} --softmax clustered --shared-vectors true"))
        .fails(2, &["cannot share its vectors"]);
}

#[test]
fn a_models_gradient_is_followed_back_through_a_text() {
    let workshop = workshop_with_demo();
    let words = "flow thornmere/runs/demo thornmere/diaries --first 60 --window 30 --pictures drawn";
    let shown = workshop.run(words).ok();
    assert!(shown.contains("tokens back") && shown.contains("layer 1"), "{shown}");
    assert!(workshop.path("drawn/gradient-flow.svg").is_file());
    workshop.run(words).fails(1, &["exists already"]);
    let flow = workshop.run("flow thornmere/runs/demo thornmere/diaries --first 60 --window 30 --json").ok();
    let flow: Value = serde_json::from_str(&flow).unwrap();
    let norms: Vec<f64> =
        flow["by_distance"][0].as_array().unwrap().iter().map(|norm| norm.as_f64().unwrap()).collect();
    assert_eq!(norms.len(), 30);
    assert!(norms.iter().all(|&norm| norm > 0.0) && norms[29] < norms[0], "{norms:?}");
    // It goes back as far as was asked where the text is hardly longer.
    workshop.write("nine.txt", "Hesper pottered to bees and to the hives");
    let flow = workshop.run("flow thornmere/runs/demo nine.txt --window 8 --json").ok();
    let flow: Value = serde_json::from_str(&flow).unwrap();
    assert_eq!(flow["by_distance"][0].as_array().unwrap().len(), 8);
    workshop.write("short.txt", "two words");
    workshop.run("flow thornmere/runs/demo short.txt").fails(1, &["3 training tokens"]);
}

#[test]
fn the_cost_of_a_run_counts_what_the_run_does() {
    let workshop = workshop_with_demo();
    let text = "thornmere/diaries --document line --hidden 8 --batch 8 --window 16";
    let plans = [
        ("carried", "--epochs 1 --set training.validate_every=9 --set samples.every=20"),
        (
            "strided",
            "--set training.windows=independent --set training.stride=40 --set training.loss_at=last --epochs 1 --set training.validate_every_epochs=0.3",
        ),
        (
            "letters",
            "--unit character --set training.steps=30 --set samples.at=[3,7] --set training.flow_every=10",
        ),
        (
            "documents",
            "--set training.windows=documents --vocabulary-size 50 --epochs 1 --validation-share 0.4 --test-share 0.1",
        ),
    ];
    for (name, settings) in plans {
        let cost = workshop.run(&format!("plan cost {text} {settings} --json")).ok();
        let cost: Value = serde_json::from_str(&cost).unwrap();
        workshop.run(&format!("train {text} {settings} --name {name} --quiet")).ok();
        let description: Value =
            serde_json::from_str(&workshop.read(&format!("runs/{name}/run.json"))).unwrap();
        assert_eq!(cost["vocabulary"], description["vocabulary_size"], "{name}");
        assert_eq!(cost["run"]["steps"], description["steps"], "{name}");
        let lines = |file: &str| -> Vec<Value> {
            let text = std::fs::read_to_string(workshop.path(&format!("runs/{name}/{file}.jsonl"))).unwrap();
            text.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
        };
        let metrics = lines("metrics");
        let of_kind = |kind: &str| metrics.iter().filter(|line| line["kind"] == kind).count() as u64;
        let moments = |file: &str| {
            lines(file)
                .iter()
                .map(|line| line["step"].as_u64().unwrap())
                .collect::<std::collections::BTreeSet<_>>()
                .len() as u64
        };
        let times = |name: &str| {
            let parts = cost["run"]["besides"].as_array().unwrap();
            parts.iter().find(|part| part["name"] == name).map_or(0, |part| part["times"].as_u64().unwrap())
        };
        assert_eq!(times("validation"), of_kind("validation"), "{name}: {cost}");
        assert_eq!(times("test"), of_kind("test"), "{name}: {cost}");
        assert_eq!(times("samples"), moments("samples"), "{name}: {cost}");
        assert_eq!(times("flow"), moments("flow"), "{name}: {cost}");
        assert!(cost["run_seconds"].as_f64().unwrap() > 0.0 && cost["measured"].is_null());
    }
    let words = workshop.run(&format!("plan cost {text} --epochs 1")).ok();
    assert!(words.contains("counted in the training text") && words.contains("in all"), "{words}");
    workshop.run("plan cost nowhere.txt").fails(1, &["nowhere.txt"]);
}

#[test]
fn plan_cost_and_gauge_give_figures() {
    let workshop = Workshop::new();
    let small = "--cell gru --embedding 10 --hidden 20 --indices 100 --batch 4 --window 8";
    let cost = workshop.run(&format!("plan cost {small} --no-measure --json")).ok();
    let cost: Value = serde_json::from_str(&cost).unwrap();
    // Embedding, which is the output's too, input, recurrent, two biases, a projection to the embedding's width and the output's bias.
    let parameters = 100 * 10 + 10 * 60 + 20 * 60 + 60 + 20 + 20 * 10 + 100;
    assert_eq!(cost["parameters"], parameters);
    assert_eq!(cost["layers"].as_array().unwrap().len(), 7);
    assert_eq!(cost["bytes"]["weights"], parameters * 4);
    assert_eq!(cost["bytes"]["optimiser"], parameters * 8);
    let forward = 2.0 * (10.0 * 60.0 + 20.0 * 60.0 + 20.0 * 10.0 + 10.0 * 100.0);
    assert_eq!(cost["forward_operations_per_token"], forward);
    assert_eq!(cost["training_operations_per_token"], 3.0 * forward - 2.0 * 20.0 * 60.0 / 8.0);
    let words = workshop.run(&format!("plan cost {small} --training-tokens 1000")).ok();
    assert!(words.contains("layer.1.candidate_bias") && words.contains("tokens/s"), "{words}");
    let gauge = workshop.run(&format!("gauge {small} --rounds 2 --seconds 0.1 --json")).ok();
    let gauge: Value = serde_json::from_str(&gauge).unwrap();
    assert_eq!(gauge["rounds"], 2);
    for figure in [
        "products_gigaflops",
        "training_gigaflops",
        "training_tokens_per_second",
        "sampling_tokens_per_second",
    ] {
        assert!(gauge[figure]["median"].as_f64().unwrap() > 0.0, "{figure}");
    }
    // Without a text characters are not mistaken for words.
    let letters = workshop.run("plan cost --set vocabulary.unit=character --no-measure --json").ok();
    assert_eq!(serde_json::from_str::<Value>(&letters).unwrap()["vocabulary"], 124);
    workshop.run("gauge --seconds 0").fails(2, &["--seconds"]);
    workshop.run("plan cost --set model.hiden=3").fails(2, &["did you mean `model.hidden`"]);
    workshop.run("plan cost --plan nowhere.toml").fails(1, &["nowhere.toml"]);
}
