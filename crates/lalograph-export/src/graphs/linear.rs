//! Linear classifiers: features of the terms of a document, or of a row of numbers, with a weight each.

use lalograph_lab::plan::TermValues;
use lalograph_lab::{ClassifierForm, DocumentInput, LinearForm, TermForm};
use lalograph_net::linear::LinearShape;

use super::classifier::{give_classes, input, standardised};
use super::pooling::Documents;
use crate::exchange::graph::{Graph, Setting};
use crate::exchange::precision::Precision;
use crate::exchange::tensor::Element;

/// The probabilities of the classes of documents.
pub(super) fn classes(
    linear: &LinearForm,
    shape: LinearShape,
    form: &ClassifierForm,
    precision: Precision,
) -> Graph {
    let mut graph = Graph::new("classes", "The probabilities of the classes of documents.", precision);
    let (given, lengths) = input(&mut graph, &form.input);
    let values = match (&form.input, &linear.terms) {
        (DocumentInput::Text(vocabulary), Some(terms)) => {
            let documents = Documents::new(&mut graph, &lengths, &given);
            features(&mut graph, &documents, &given, terms, vocabulary.len())
        }
        (DocumentInput::Numbers(numbers), _) => {
            let x = standardised(&mut graph, &given, numbers);
            graph.reshape(&x, &[-1, linear.features as i64])
        }
        (DocumentInput::Text(_), None) => given,
    };
    let scale = graph.floats(&[], vec![linear.scale]);
    let values = graph.op("Mul", &[&values, &scale]);
    let outputs = if shape.classes == 2 { 1 } else { shape.classes };
    let weights = graph.weights("features.weights", &[linear.features, outputs]);
    let bias = graph.weights("output.bias", &[outputs]);
    let scores = graph.op("Gemm", &[&values, &weights, &bias]);
    give_classes(&mut graph, &scores, form);
    graph
}

/// The values of all features: documents x features.
fn features(
    graph: &mut Graph,
    documents: &Documents,
    tokens: &str,
    form: &TermForm,
    vocabulary: usize,
) -> String {
    let terms = form.terms.len();
    // The place of each token's term from 1 on; what is no term is counted at place 0, which is then left out.
    let mut places = vec![0; vocabulary];
    for (place, &term) in (1..).zip(&form.terms) {
        places[term as usize] = place;
    }
    let places = graph.integers(&[vocabulary], places);
    let found = graph.gather(&places, tokens, 0);
    let within = documents.within(graph);
    let ones = graph.cast(&within, Element::Float);
    let (rows, all) = (graph.size(tokens, 0), graph.list(&[terms as i64 + 1]));
    let sizes = graph.concat(&[&rows, &all], 0);
    let zero = graph.floats(&[], vec![0.0]);
    let none = graph.op("Expand", &[&zero, &sizes]);
    let settings = vec![Setting::integer("axis", 1), Setting::text("reduction", "add")];
    let counts = graph.op_with("ScatterElements", &[&none, &found, &ones], settings);
    let counts = graph.slice(&counts, 1, 1, terms as i64 + 1);
    let lengths = graph.unsqueeze(&documents.lengths, &[1]);
    let lengths = graph.cast(&lengths, Element::Float);
    let values = match form.values {
        TermValues::Counts => counts,
        TermValues::Frequencies => graph.op("Div", &[&counts, &lengths]),
        TermValues::Roots => {
            let shares = graph.op("Div", &[&counts, &lengths]);
            graph.op("Sqrt", &[&shares])
        }
        TermValues::TfIdf => {
            let inverse = (0..terms).map(|term| form.inverse_frequency(term) as f32).collect();
            let inverse = graph.floats(&[terms], inverse);
            let values = graph.op("Mul", &[&counts, &inverse]);
            let squares = graph.op("Mul", &[&values, &values]);
            let axes = graph.list(&[1]);
            let squares = graph.op("ReduceSum", &[&squares, &axes]);
            let norm = graph.op("Sqrt", &[&squares]);
            let least = graph.floats(&[], vec![f32::MIN_POSITIVE]);
            let norm = graph.op("Max", &[&norm, &least]);
            graph.op("Div", &[&values, &norm])
        }
    };
    let paired = form.pairs.min(terms) as i64;
    let pairs = (0..paired).flat_map(|first| (first + 1..paired).map(move |second| (first, second)));
    let (firsts, seconds): (Vec<i64>, Vec<i64>) = pairs.unzip();
    if firsts.is_empty() {
        return values;
    }
    let (firsts, seconds) = (graph.list(&firsts), graph.list(&seconds));
    let (one, two) = (graph.gather(&values, &firsts, 1), graph.gather(&values, &seconds, 1));
    let products = graph.op("Mul", &[&one, &two]);
    graph.concat(&[&values, &products], 1)
}
