//! Classifiers with a network over all steps of a document.

use lalograph_lab::data::numbers::NumberForm;
use lalograph_lab::{ClassifierForm, DocumentInput};
use lalograph_net::blocks::dense::Activation;
use lalograph_net::blocks::pooling::Pooling;
use lalograph_net::models::classifier::{Body, ClassifierShape};

use super::pooling::{Documents, maximum};
use super::recurrent::{Layers, Lengths};
use crate::exchange::graph::{Extent, Graph, Setting};
use crate::exchange::precision::Precision;
use crate::exchange::tensor::Element;

const BATCH: Extent = Extent::Named("batch");
const LENGTH: Extent = Extent::Named("length");

/// The input of the graph of any classifier, and the lengths of the documents.
pub(super) fn input(graph: &mut Graph, input: &DocumentInput) -> (String, String) {
    let given = match input {
        DocumentInput::Text(_) => {
            let what = "The tokens of each document, then padding (index 0). A document without tokens is the end token (index 3) alone.";
            graph.input("tokens", Element::Integer, &[BATCH, LENGTH], what)
        }
        DocumentInput::Numbers(form) => {
            let what = "The numbers of each step as they are in the data, not standardised, then zeros.";
            let sizes = [BATCH, LENGTH, Extent::Fixed(form.features)];
            graph.input("numbers", Element::Float, &sizes, what)
        }
    };
    let what = "The number of tokens or steps of each document, at least 1.";
    (given, graph.input("lengths", Element::Integer, &[BATCH], what))
}

/// Numbers by the mean and standard deviation of their features in the training rows.
pub(super) fn standardised(graph: &mut Graph, numbers: &str, form: &NumberForm) -> String {
    let numbers = graph.cast(numbers, Element::Double);
    let mean = graph.doubles(&[form.features], form.mean.clone());
    let deviation = graph.doubles(&[form.features], form.deviation.clone());
    let numbers = graph.op("Sub", &[&numbers, &mean]);
    let numbers = graph.op("Div", &[&numbers, &deviation]);
    graph.cast(&numbers, Element::Float)
}

/// From scores (documents x outputs) to probabilities, which the graph gives out.
pub(super) fn give_classes(graph: &mut Graph, scores: &str, form: &ClassifierForm) {
    let mut scores = scores.to_owned();
    if form.classes.len() == 2 {
        // One output: the score of the second class, while that of the first is 0.
        let zero = graph.op("Sub", &[&scores, &scores]);
        scores = graph.concat(&[&zero, &scores], 1);
    }
    let temperature = graph.floats(&[], vec![form.temperature as f32]);
    let scores = graph.op("Div", &[&scores, &temperature]);
    let found = graph.op_with("Softmax", &[&scores], vec![Setting::integer("axis", 1)]);
    let what = format!("The probability of each class: {}.", form.classes.join(", "));
    let sizes = [BATCH, Extent::Fixed(form.classes.len())];
    graph.output(&found, "probabilities", Element::Float, &sizes, &what);
}

fn activate(graph: &mut Graph, activation: Activation, x: &str) -> String {
    graph.op(if activation == Activation::Relu { "Relu" } else { "Tanh" }, &[x])
}

/// The probabilities of the classes of documents.
pub(super) fn classes(shape: &ClassifierShape, form: &ClassifierForm, precision: Precision) -> Graph {
    let mut graph = Graph::new("classes", "The probabilities of the classes of documents.", precision);
    let (given, lengths) = input(&mut graph, &form.input);
    let documents = Documents::new(&mut graph, &lengths, &given);
    let width = shape.input.width();
    let x = match &form.input {
        DocumentInput::Text(vocabulary) => {
            let table = graph.weights("embedding", &[vocabulary.len(), width]);
            graph.gather(&table, &given, 0)
        }
        DocumentInput::Numbers(numbers) => standardised(&mut graph, &given, numbers),
    };
    let mut outputs;
    let mut x = match &shape.body {
        Body::Pooled { pooling } => {
            // As in training: the vector of the last token alone says little.
            let pooling = if *pooling == Pooling::Last { Pooling::Both } else { *pooling };
            outputs = if pooling == Pooling::Both { 2 * width } else { width };
            documents.pool(&mut graph, &x, pooling, (width, width))
        }
        Body::Convolution { widths, filters } => {
            outputs = widths.len() * filters;
            let found: Vec<String> = widths
                .iter()
                .map(|&read| {
                    let sums = convolution(&mut graph, &documents, &x, (read, width, *filters));
                    activate(&mut graph, shape.activation, &sums)
                })
                .collect();
            graph.concat(&found.iter().map(String::as_str).collect::<Vec<_>>(), 1)
        }
        Body::Recurrent { stack, pooling, window } => {
            let layer_width = stack.outputs();
            outputs = if *pooling == Pooling::Both { 2 * layer_width } else { layer_width };
            let longer = form.longest().is_none_or(|longest| longest > *window);
            let window = longer.then_some(*window);
            let by_step = graph.transpose(&x, &[1, 0, 2]);
            let lengths = Lengths { of: documents.lengths.clone(), window };
            let (out, _) = Layers { shape: stack }.read(&mut graph, &by_step, None, Some(&lengths));
            let out = graph.transpose(&out, &[1, 0, 2]);
            documents.pool(&mut graph, &out, *pooling, (layer_width, stack.hidden))
        }
    };
    for (number, &size) in (1..).zip(&shape.dense) {
        let name = format!("dense.{number}");
        let weights = graph.weights(&format!("{name}.weights"), &[outputs, size]);
        let bias = graph.weights(&format!("{name}.bias"), &[size]);
        let sums = graph.op("Gemm", &[&x, &weights, &bias]);
        x = activate(&mut graph, shape.activation, &sums);
        outputs = size;
    }
    let rows = if shape.classes == 2 { 1 } else { shape.classes };
    let table = graph.weights("output.weights", &[rows, outputs]);
    let bias = graph.weights("output.bias", &[rows]);
    let scores = graph.table(&x, &table, &bias);
    give_classes(&mut graph, &scores, form);
    graph
}

/// The greatest sum of each filter over all places of a document: documents x filters. A document shorter than the filters is read as if zeros
/// followed it.
fn convolution(
    graph: &mut Graph,
    documents: &Documents,
    x: &str,
    (read, width, filters): (usize, usize, usize),
) -> String {
    let name = format!("filters.{read}");
    let weights = graph.weights(&format!("{name}.weights"), &[filters, read * width]);
    let weights = graph.reshape(&weights, &[filters as i64, read as i64, width as i64]);
    let weights = graph.transpose(&weights, &[0, 2, 1]);
    let bias = graph.weights(&format!("{name}.bias"), &[filters]);
    let within = documents.within(graph);
    let within = graph.unsqueeze(&within, &[2]);
    let zero = graph.floats(&[], vec![0.0]);
    let x = graph.op("Where", &[&within, x, &zero]);
    let x = graph.transpose(&x, &[0, 2, 1]);
    let settings = vec![Setting::integers("pads", &[0, read as i64 - 1])];
    let sums = graph.op_with("Conv", &[&x, &weights, &bias], settings);
    // A filter that begins at a place reads to its end; the first place counts in any document.
    let (shorter, one) = (graph.list(&[read as i64 - 1]), graph.list(&[1]));
    let places = graph.op("Sub", &[&documents.lengths, &shorter]);
    let places = graph.op("Max", &[&places, &one]);
    let places = graph.unsqueeze(&places, &[1]);
    let all = graph.count_up(&documents.steps);
    let counts = graph.op("Less", &[&all, &places]);
    maximum(graph, &sums, &counts)
}
