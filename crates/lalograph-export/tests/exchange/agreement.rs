//! All graphs agree with their models.

use std::fs;
use std::path::Path;
use std::process::Command;

use lalograph_export::{GraphChoice, OPSETS, OnnxSettings, Precision};
use lalograph_lab::artefact::vectors::VectorFile;
use lalograph_storage::{Disk, Existing, WholeFile};
use lalograph_vectors::VectorTable;
use rand::RngExt;

use super::cases::{Case, chance, exported, named, settings};
use super::classifiers;
use super::language::{random_model, step_case, text_case};
use super::reading::Model;
use super::tensor::{FLOAT, Tensor};

const TOLERANCE: f64 = 1e-5;

fn agree(cases: impl Iterator<Item = Case>) -> usize {
    let mut count = 0;
    let mut worst: f64 = 0.0;
    for case in cases {
        let error = case.error();
        assert!(error < TOLERANCE, "{error} in {}", case.name);
        worst = worst.max(error);
        count += 1;
    }
    println!("{count} cases, greatest difference {worst:.2e}");
    count
}

#[test]
fn texts_have_the_same_log_probabilities() {
    agree((0..60).map(text_case));
}

#[test]
fn steps_have_the_same_log_probabilities_and_states() {
    agree((0..60).map(step_case));
}

#[test]
fn documents_have_the_same_probabilities() {
    agree((0..80).map(classifiers::case));
}

fn vectors(folder: &Path, random: &mut super::cases::Chance) -> (std::path::PathBuf, VectorTable) {
    let (words, dimensions) = (random.random_range(4..20), random.random_range(2..6));
    let numbers = (0..words * dimensions).map(|_| random.random_range(-2.0f32..2.0)).collect();
    let names = (0..words).map(|word| format!("w{word}")).collect();
    let table = VectorTable::new(names, dimensions, numbers).unwrap();
    let path = folder.join("vectors.safetensors");
    let file =
        VectorFile { table: table.clone(), counts: None, vocabulary: None, made: "\"by chance\"".into() };
    file.save(WholeFile::create(&Disk, &path, Existing::Replace).unwrap()).unwrap();
    (path, table)
}

/// Both graphs of word vectors; neighbours by the definition of the cosine.
fn vector_cases(number: u64) -> [Case; 2] {
    let mut random = chance("vectors", number);
    let folder = tempfile::tempdir().unwrap();
    let (path, table) = vectors(folder.path(), &mut random);
    let (dimensions, words) = (table.dimensions(), table.words().len());
    let row = |word: usize| &table.values()[word * dimensions..(word + 1) * dimensions];
    let asked = [random.random_range(0..words), random.random_range(0..words)];
    let lookup = Case {
        name: format!("lookup {number}"),
        file: exported(&path, GraphChoice::Lookup, &settings(Precision::Single)),
        inputs: named([("words", Tensor::integers(&[2], asked.map(|word| word as i64)))]),
        wanted: named([(
            "word_vectors",
            Tensor::floats(&[2, dimensions], asked.iter().flat_map(|&word| row(word).to_vec())),
        )]),
    };
    let count = random.random_range(1..=words);
    let (mut found, mut similarities) = (Vec::new(), Vec::new());
    for word in asked {
        let dot =
            |a: &[f32], b: &[f32]| a.iter().zip(b).map(|(&a, &b)| f64::from(a) * f64::from(b)).sum::<f64>();
        let cosine = |other: usize| {
            dot(row(word), row(other)) / (dot(row(word), row(word)) * dot(row(other), row(other))).sqrt()
        };
        let mut order: Vec<usize> = (0..words).collect();
        order.sort_by(|&a, &b| cosine(b).total_cmp(&cosine(a)));
        found.extend(order[..count].iter().map(|&other| other as i64));
        similarities.extend(order[..count].iter().map(|&other| cosine(other)));
    }
    let neighbours = Case {
        name: format!("neighbours {number}"),
        file: exported(&path, GraphChoice::Neighbours, &settings(Precision::Single)),
        inputs: named([
            (
                "word_vectors",
                Tensor::floats(&[2, dimensions], asked.iter().flat_map(|&word| row(word).to_vec())),
            ),
            ("count", Tensor::integers(&[1], [count as i64])),
        ]),
        wanted: named([
            ("words", Tensor::integers(&[2, count], found)),
            ("similarities", Tensor::new(FLOAT, &[2, count], similarities)),
        ]),
    };
    [lookup, neighbours]
}

#[test]
fn words_have_the_same_vectors_and_neighbours() {
    agree((0..20).flat_map(vector_cases));
}

#[test]
fn a_file_says_what_it_is_and_is_the_same_each_time() {
    let model = random_model(3);
    let bytes = exported(&model.path, GraphChoice::Text, &settings(Precision::Single));
    assert_eq!(bytes, exported(&model.path, GraphChoice::Text, &settings(Precision::Single)));
    let read = Model::read(&bytes);
    assert!(read.opset == 17 && read.about.contains("log-probability"), "{}", read.about);
    for key in ["kind", "unit", "vocabulary", "cleaning", "licence", "content_hash"] {
        assert!(!read.metadata[key].is_empty(), "{key}");
    }
    assert_eq!(read.metadata["licence"], "the hive's own");
    let own = lalograph_lab::ModelFile::load(&model.path).unwrap();
    assert_eq!(read.metadata["vocabulary"], own.vocabulary.to_json().unwrap());
    for value in read.inputs.iter().chain(&read.outputs) {
        assert!(value.about.len() > 10, "{}", value.name);
        assert_eq!(value.sizes[0], Err("batch".to_owned()), "{}", value.name);
    }
    // Weights are in the file as they are in the model, under their names.
    let embedding = &read.constants["embedding"];
    let wanted: Vec<f64> = own.weights[..embedding.numbers.len()].iter().map(|&x| x.into()).collect();
    assert_eq!(embedding.numbers, wanted);
    let fewer = exported(&model.path, GraphChoice::Text, &settings(Precision::Eight));
    assert!(fewer.len() < bytes.len());
}

#[test]
fn what_cannot_be_written_is_refused() {
    let model = random_model(0);
    let open = lalograph_export::OpenModel::open(&model.path).unwrap();
    let refused = |choice, settings: &OnnxSettings| {
        lalograph_export::onnx(&open, choice, settings, &mut Vec::new()).unwrap_err().to_string()
    };
    let plain = settings(Precision::Single);
    assert!(refused(GraphChoice::Classes, &plain).contains("language model"));
    for opset in [16, 23] {
        assert!(refused(GraphChoice::Text, &OnnxSettings { opset, ..plain.clone() }).contains("17 to 22"));
    }
    let whole = fs::read(&model.path).unwrap();
    let damaged = model.path.with_file_name("damaged.safetensors");
    for at in [0, 9, whole.len() / 2, whole.len() - 1] {
        let mut bytes = whole.clone();
        bytes[at] ^= 1;
        fs::File::create(&damaged).and_then(|mut file| std::io::Write::write_all(&mut file, &bytes)).unwrap();
        assert!(lalograph_export::OpenModel::open(&damaged).is_err(), "{at}");
        fs::File::create(&damaged)
            .and_then(|mut file| std::io::Write::write_all(&mut file, &whole[..at]))
            .unwrap();
        assert!(lalograph_export::OpenModel::open(&damaged).is_err(), "cut at {at}");
    }
}

/// Many more models, for measuring.
#[test]
#[ignore = "takes a minute"]
fn hundreds_of_models_agree() {
    let count = agree((100..240).flat_map(|number| [text_case(number), step_case(number)]))
        + agree((100..240).map(classifiers::case));
    assert_eq!(count, 420);
}

/// A tensor in the words of `verify.py`.
fn json(tensor: &Tensor) -> serde_json::Value {
    // JSON has no infinity.
    let number =
        |&x: &f64| if x.is_finite() { serde_json::json!(x) } else { serde_json::json!(x.to_string()) };
    serde_json::json!({
        "kind": tensor.kind,
        "shape": tensor.shape,
        "numbers": tensor.numbers.iter().map(number).collect::<Vec<_>>(),
    })
}

#[test]
#[ignore = "needs Python with the standard's own package"]
fn the_standards_own_evaluator_agrees() {
    let folder = tempfile::tempdir().unwrap();
    let mut number = 0;
    let mut put = |case: &Case| {
        let put = |name: String, bytes: &[u8]| {
            fs::File::create(folder.path().join(name))
                .and_then(|mut file| std::io::Write::write_all(&mut file, bytes))
                .unwrap();
        };
        put(format!("{number}.onnx"), &case.file);
        let all = |tensors: &std::collections::BTreeMap<String, Tensor>| {
            tensors
                .iter()
                .map(|(name, tensor)| (name.clone(), json(tensor)))
                .collect::<serde_json::Map<_, _>>()
        };
        let case = serde_json::json!({ "name": case.name, "inputs": all(&case.inputs), "wanted": all(&case.wanted) });
        put(format!("{number}.json"), case.to_string().as_bytes());
        number += 1;
    };
    for number in 0..24 {
        put(&text_case(number));
        put(&step_case(number));
        put(&classifiers::case(number));
    }
    (0..4).flat_map(vector_cases).for_each(|case| put(&case));
    // Every version of the operators, and fewer bits, which are compared with what the evaluator here finds.
    for (opset, precision) in
        OPSETS.zip([Precision::Single, Precision::Half, Precision::Eight].into_iter().cycle())
    {
        let model = random_model(opset.into());
        let mut case = text_case(opset.into());
        case.file = exported(&model.path, GraphChoice::Text, &OnnxSettings { opset, ..settings(precision) });
        case.wanted = super::evaluator::evaluate(&Model::read(&case.file), &case.inputs);
        case.name = format!("operators {opset} {}", case.name);
        put(&case);
    }
    let python = std::env::var("LALOGRAPH_PYTHON").unwrap_or_else(|_| "python3".to_owned());
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/exchange/verify.py");
    let done = Command::new(python).arg(script).arg(folder.path()).output().unwrap();
    println!("{}{}", String::from_utf8_lossy(&done.stdout), String::from_utf8_lossy(&done.stderr));
    assert!(done.status.success());
}
