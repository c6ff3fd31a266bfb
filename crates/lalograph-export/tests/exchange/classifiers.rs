//! Classifiers over all options, trained for a few steps on documents of made-up words or numbers.

use std::ops::ControlFlow;
use std::path::{Path, PathBuf};

use lalograph_export::{GraphChoice, Precision};
use lalograph_lab::run::shelf;
use lalograph_lab::{
    DocumentInput, Plan, PreparationEvent, ReadyClassifier, Running, TrainingEvent, prepare_classifier,
    train_classifier,
};
use lalograph_storage::{Disk, Existing, WholeFile, write_whole};
use rand::RngExt;

use super::cases::{Case, Chance, chance, exported, named, one_of, settings};
use super::tensor::Tensor;

/// Steps of rows of numbers.
const STEPS: usize = 6;

/// The options of a classifier of this number, and whether it reads numbers.
fn options(number: u64, random: &mut Chance) -> (Vec<String>, bool) {
    let network = ["pooled", "convolution", "recurrent", "linear", "recurrent"][number as usize % 5];
    let numbers = network != "pooled" && number % 4 == 3;
    let mut all = vec![
        format!("classifier.network={network}"),
        "corpus.label=class".to_owned(),
        "corpus.validation_share=0.2".to_owned(),
        "training.learning_rate=0.3".to_owned(),
        "training.batch=8".to_owned(),
        format!("model.embedding={}", random.random_range(2..6)),
        format!("model.hidden={}", random.random_range(2..6)),
        format!("training.seed={number}"),
    ];
    match network {
        "linear" => {
            if !numbers {
                let values = one_of(random, &["counts", "frequencies", "roots", "tf_idf"]);
                all.push(format!("classifier.term_values={values}"));
                all.push(format!("classifier.term_pairs={}", one_of(random, &[0, 5])));
            }
        }
        _ => {
            all.push("training.steps=4".to_owned());
            let dense = one_of(random, &["[]", "[4]", "[5,3]"]);
            all.push(format!("classifier.dense={dense}"));
            all.push(format!("classifier.activation={}", one_of(random, &["relu", "tanh"])));
            let pooling = if network == "recurrent" {
                &["mean", "max", "both", "last"][..]
            } else {
                &["mean", "max", "both"]
            };
            all.push(format!("classifier.pooling={}", one_of(random, pooling)));
            all.push("classifier.filter_widths=[1,3]".to_owned());
            all.push(format!("classifier.filters={}", random.random_range(1..5)));
        }
    }
    if network == "recurrent" {
        all.push(format!("model.cell={}", one_of(random, &["plain_tanh", "plain_relu", "gru", "lstm"])));
        all.push(format!("model.layers={}", random.random_range(1..3)));
        all.push(format!("model.directions={}", one_of(random, &["forward", "both"])));
        // Documents longer than a window too.
        all.push(format!("training.window={}", one_of(random, &[3, 64])));
        for option in ["layer_norm", "residual", "learn_first_state"] {
            all.push(format!("model.{option}={}", one_of(random, &[true, false])));
        }
    }
    if numbers {
        all.push("classifier.features=2".to_owned());
    } else {
        let length = one_of(random, &["classifier.length=whole", "classifier.length=5"]);
        all.push(length.to_owned());
        all.push(format!("classifier.keep_part={}", one_of(random, &["beginning", "end", "both_ends"])));
    }
    (all, numbers)
}

fn document(random: &mut Chance, length: usize) -> String {
    let words: Vec<String> = (0..length).map(|_| format!("w{}", random.random_range(0..12))).collect();
    words.join(" ")
}

fn corpus(path: &Path, classes: usize, numbers: bool, random: &mut Chance) {
    let mut text = if numbers {
        let columns: Vec<String> = (0..2 * STEPS).map(|column| format!("a{column}")).collect();
        format!("{},class\n", columns.join(","))
    } else {
        "text,class\n".to_owned()
    };
    for number in 0..60 {
        let class = ["ash", "birch", "cherry", "elder"][number % classes];
        if numbers {
            for _ in 0..2 * STEPS {
                text.push_str(&format!("{},", random.random_range(-9.0f32..30.0)));
            }
        } else {
            let length = random.random_range(2..10);
            text.push_str(&format!("{} w{number},", document(random, length)));
        }
        text.push_str(&format!("{class}\n"));
    }
    write_whole(&Disk, path, text.as_bytes(), Existing::Keep).unwrap();
}

/// Trains a classifier and gives it a temperature; its file.
fn trained(folder: &Path, options: &[String], classes: usize, numbers: bool, random: &mut Chance) -> PathBuf {
    let path = folder.join("documents.csv");
    corpus(&path, classes, numbers, random);
    let mut plan =
        Plan::from_toml("[classifier]\n", options).unwrap_or_else(|error| panic!("{options:?}: {error}"));
    plan.corpus.paths = vec![path];
    let task =
        prepare_classifier(plan, 1, &mut |_: &PreparationEvent<'_>| ControlFlow::Continue(())).unwrap();
    let description = task.describe("run", "now".into(), "0", None).unwrap();
    let files = task.data().run_files().unwrap();
    let (run, claim, description) =
        shelf::create(&Disk, folder, &task.data().plan, description, &files, Existing::Keep).unwrap();
    let running = Running::new(run.clone(), claim, description);
    train_classifier(&task, running, 1, &mut |_: &TrainingEvent<'_, ()>| ControlFlow::Continue(())).unwrap();
    let calibrated = folder.join("calibrated.safetensors");
    let ready = ReadyClassifier::load(&run.model()).unwrap();
    ready.save_calibrated(WholeFile::create(&Disk, &calibrated, Existing::Keep).unwrap(), 0.8).unwrap();
    calibrated
}

pub(crate) fn case(number: u64) -> Case {
    let mut random = chance("classifiers", number);
    let (options, numbers) = options(number, &mut random);
    let classes = random.random_range(2..5);
    let folder = tempfile::tempdir().unwrap();
    let path = trained(folder.path(), &options, classes, numbers, &mut random);
    let ready = ReadyClassifier::load(&path).unwrap();
    let rows = random.random_range(1..6);
    let texts: Vec<String> = (0..rows)
        .map(|row| match (numbers, row) {
            (true, _) => {
                let all: Vec<String> =
                    (0..2 * STEPS).map(|_| random.random_range(-9.0f32..30.0).to_string()).collect();
                all.join("\n")
            }
            (false, 3) => String::new(),
            (false, _) => {
                let length = random.random_range(1..12);
                document(&mut random, length)
            }
        })
        .collect();
    let (_, logs) = ready.reader().read(texts.iter().map(String::as_str)).unwrap();
    let wanted = Tensor::floats(&[rows, classes], logs.iter().map(|log| log.exp() as f32));
    let inputs = match &ready.input {
        DocumentInput::Text(vocabulary) => {
            let documents: Vec<Vec<u32>> = texts
                .iter()
                .map(|text| {
                    let tokens: Vec<u32> =
                        vocabulary.encode(text).into_iter().map(|(_, index)| index).collect();
                    let kept = cut(&tokens, ready.longest(), &options);
                    if kept.is_empty() { vec![3] } else { kept }
                })
                .collect();
            let longest = documents.iter().map(Vec::len).max().unwrap() + random.random_range(0..2);
            let padded = documents
                .iter()
                .flat_map(|tokens| (0..longest).map(|at| tokens.get(at).copied().map_or(0, i64::from)));
            named([
                ("tokens", Tensor::integers(&[rows, longest], padded)),
                ("lengths", Tensor::integers(&[rows], documents.iter().map(|tokens| tokens.len() as i64))),
            ])
        }
        DocumentInput::Numbers(_) => {
            let all = texts.iter().flat_map(|text| text.lines().map(|line| line.parse::<f32>().unwrap()));
            named([
                ("numbers", Tensor::floats(&[rows, STEPS, 2], all)),
                ("lengths", Tensor::integers(&[rows], vec![STEPS as i64; rows])),
            ])
        }
    };
    Case {
        name: format!("classifier {number}: {}", options.join(" ")),
        file: exported(&path, GraphChoice::Classes, &settings(Precision::Single)),
        inputs,
        wanted: named([("probabilities", wanted)]),
    }
}

/// The part of a document that is read.
fn cut(tokens: &[u32], longest: Option<usize>, options: &[String]) -> Vec<u32> {
    let longest = longest.unwrap_or(usize::MAX);
    if tokens.len() <= longest {
        return tokens.to_vec();
    }
    let ends = options.iter().any(|option| option.ends_with("both_ends"));
    let from_end = options.iter().any(|option| option.ends_with("=end"));
    let first = if ends {
        longest.div_ceil(2)
    } else if from_end {
        0
    } else {
        longest
    };
    [&tokens[..first], &tokens[tokens.len() - (longest - first)..]].concat()
}
