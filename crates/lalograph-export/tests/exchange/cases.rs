//! A graph with inputs, and what the model itself makes of them.

use std::collections::BTreeMap;
use std::path::Path;

use lalograph_export::{GraphChoice, OnnxSettings, OpenModel, Precision, onnx};
use rand::RngExt;

use super::evaluator::evaluate;
use super::reading::Model;
use super::tensor::Tensor;

/// A graph with inputs, and the outputs that are wanted.
pub(crate) struct Case {
    pub(crate) name: String,
    pub(crate) file: Vec<u8>,
    pub(crate) inputs: BTreeMap<String, Tensor>,
    pub(crate) wanted: BTreeMap<String, Tensor>,
}

/// Chance, by the number of a case.
pub(crate) type Chance = lalograph_net::numbers::chance::Stream;

pub(crate) fn chance(what: &str, number: u64) -> Chance {
    lalograph_net::numbers::chance::stream(1, what, &[number])
}

pub(crate) fn one_of<T: Copy>(random: &mut Chance, all: &[T]) -> T {
    all[random.random_range(0..all.len())]
}

pub(crate) fn named<const N: usize>(all: [(&str, Tensor); N]) -> BTreeMap<String, Tensor> {
    all.into_iter().map(|(name, tensor)| (name.to_owned(), tensor)).collect()
}

pub(crate) fn settings(precision: Precision) -> OnnxSettings {
    let licence = Some("the hive's own".to_owned());
    OnnxSettings { opset: 17, precision, licence, version: "0".to_owned() }
}

/// A graph of a model file.
pub(crate) fn exported(path: &Path, choice: GraphChoice, settings: &OnnxSettings) -> Vec<u8> {
    let model = OpenModel::open(path).unwrap();
    let mut bytes = Vec::new();
    onnx(&model, choice, settings, &mut bytes).unwrap();
    bytes
}

impl Case {
    /// The greatest difference between what the evaluator finds and what is wanted. Probabilities are compared by their logarithms.
    pub(crate) fn error(&self) -> f64 {
        let model = Model::read(&self.file);
        let found = evaluate(&model, &self.inputs);
        assert_eq!(found.keys().collect::<Vec<_>>(), self.wanted.keys().collect::<Vec<_>>(), "{}", self.name);
        let mut worst: f64 = 0.0;
        for (name, wanted) in &self.wanted {
            let found = &found[name];
            assert_eq!(found.shape, wanted.shape, "{} {name}", self.name);
            for (&found, &wanted) in found.numbers.iter().zip(&wanted.numbers) {
                let error = match name.as_str() {
                    "probabilities" => (found.ln() - wanted.ln()).abs(),
                    _ if found == wanted => 0.0,
                    _ => (found - wanted).abs(),
                };
                assert!(!error.is_nan(), "{} {name}: {found} {wanted}", self.name);
                worst = worst.max(error);
            }
        }
        worst
    }
}
