//! Language models: one step, and whole texts.

use lalograph_net::heads::softmax::Softmax;
use lalograph_net::models::language::LanguageModelShape;
use lalograph_text::Reserved;

use super::recurrent::{Layers, State};
use crate::exchange::graph::{Extent, Graph, Setting};
use crate::exchange::precision::Precision;
use crate::exchange::tensor::Element;

const BATCH: Extent = Extent::Named("batch");
const LENGTH: Extent = Extent::Named("length");

/// The next token after one token of each text.
pub(super) fn step(shape: &LanguageModelShape, precision: Precision) -> Graph {
    let about = "The log-probabilities of the token after the given one, and the states after it. A text begins with the start token (index 2) and `fresh`; the end token (index 3) is its end.";
    let mut whole = Graph::new("step", about, precision);
    let graph = &mut whole;
    let (layers, hidden, memory) = (shape.layers, shape.hidden, shape.cell.has_memory());
    let tokens = graph.input("tokens", Element::Integer, &[BATCH], "The token that each text has come to.");
    let fresh = "Whether a text begins with this token: its states are then not read.";
    let fresh = graph.input("fresh", Element::Truth, &[BATCH], fresh);
    let states = [Extent::Fixed(layers), BATCH, Extent::Fixed(hidden)];
    let state = graph.input("state", Element::Float, &states, "What the step before gave as `next_state`.");
    let remembered = memory.then(|| {
        graph.input("memory", Element::Float, &states, "What the step before gave as `next_memory`.")
    });
    let fresh = graph.reshape(&fresh, &[1, -1, 1]);
    let mut start_of = |given: &str, part: usize| {
        let first = if shape.learn_first_state {
            let parts: Vec<String> = (1..=layers)
                .map(|layer| {
                    let name = format!("layer.{layer}.first_state");
                    let all = graph.weights(&name, &[shape.cell.state_parts() * hidden]);
                    let part = graph.slice(&all, 0, (part * hidden) as i64, ((part + 1) * hidden) as i64);
                    graph.reshape(&part, &[1, 1, hidden as i64])
                })
                .collect();
            graph.concat(&parts.iter().map(String::as_str).collect::<Vec<_>>(), 0)
        } else {
            graph.floats(&[1, 1, 1], vec![0.0])
        };
        graph.op("Where", &[&fresh, &first, given])
    };
    let outputs = start_of(&state, 0);
    let memories = remembered.map(|memory| start_of(&memory, 1));
    let each: Vec<State> = (0..layers as i64)
        .map(|layer| State {
            output: graph.slice(&outputs, 0, layer, layer + 1),
            memory: memories.as_ref().map(|memories| graph.slice(memories, 0, layer, layer + 1)),
        })
        .collect();
    let table = graph.weights("embedding", &[shape.vocabulary, shape.embedding]);
    let x = graph.gather(&table, &tokens, 0);
    let x = graph.unsqueeze(&x, &[0]);
    let stack = shape.stack();
    let (out, last) = Layers { shape: &stack }.read(graph, &x, Some(&each), None);
    let out = graph.squeeze(&out, &[0]);
    let found = log_probabilities(graph, shape, &out);
    let sizes = [BATCH, Extent::Fixed(shape.vocabulary)];
    let what = "The natural logarithm of the probability of each token to be the next.";
    graph.output(&found, "log_probabilities", Element::Float, &sizes, what);
    let together = |graph: &mut Graph, all: Vec<&String>| {
        graph.concat(&all.into_iter().map(String::as_str).collect::<Vec<_>>(), 0)
    };
    let next = together(graph, last.iter().map(|state| &state.output).collect());
    graph.output(&next, "next_state", Element::Float, &states, "The outputs of all layers after the token.");
    if memory {
        let next = together(graph, last.iter().filter_map(|state| state.memory.as_ref()).collect());
        let what = "The memories of all layers after the token.";
        graph.output(&next, "next_memory", Element::Float, &states, what);
    }
    whole
}

/// The log-probability of every token of texts.
pub(super) fn text(shape: &LanguageModelShape, precision: Precision) -> Graph {
    let about = "The log-probability of every token of a text, given those before it. Each text is read from the start token (index 2), which is not among its tokens; the end token (index 3) can be its last.";
    let mut whole = Graph::new("text", about, precision);
    let graph = &mut whole;
    let what = "The tokens of each text, then padding (index 0).";
    let tokens = graph.input("tokens", Element::Integer, &[BATCH, LENGTH], what);
    let lengths = graph.input("lengths", Element::Integer, &[BATCH], "The number of tokens of each text.");
    // What is read is each token but the last, after the start token.
    let rows = graph.size(&tokens, 0);
    let one = graph.list(&[1]);
    let column = graph.concat(&[&rows, &one], 0);
    let start = graph.integers(&[1, 1], vec![Reserved::START.into()]);
    let start = graph.op("Expand", &[&start, &column]);
    let before = graph.slice(&tokens, 1, 0, -1);
    let read = graph.concat(&[&start, &before], 1);
    let read = graph.transpose(&read, &[1, 0]);
    let table = graph.weights("embedding", &[shape.vocabulary, shape.embedding]);
    let x = graph.gather(&table, &read, 0);
    let stack = shape.stack();
    let (out, _) = Layers { shape: &stack }.read(graph, &x, None, None);
    let out = graph.reshape(&out, &[-1, shape.hidden as i64]);
    let found = log_probabilities(graph, shape, &out);
    let targets = graph.transpose(&tokens, &[1, 0]);
    let targets = graph.reshape(&targets, &[-1, 1]);
    let own = graph.op_with("GatherElements", &[&found, &targets], vec![Setting::integer("axis", 1)]);
    let steps = graph.size(&tokens, 1);
    let sizes = graph.concat(&[&steps, &rows], 0);
    let own = graph.op("Reshape", &[&own, &sizes]);
    let own = graph.transpose(&own, &[1, 0]);
    let places = graph.count_up(&steps);
    let ends = graph.unsqueeze(&lengths, &[1]);
    let within = graph.op("Less", &[&places, &ends]);
    let zero = graph.floats(&[], vec![0.0]);
    let own = graph.op("Where", &[&within, &own, &zero]);
    let what = "The natural logarithm of the probability of each token; 0 for padding.";
    graph.output(&own, "log_probabilities", Element::Float, &[BATCH, LENGTH], what);
    whole
}

/// The log-probabilities of all tokens, rows x vocabulary, from the outputs of the last layer, rows x hidden.
fn log_probabilities(graph: &mut Graph, shape: &LanguageModelShape, x: &str) -> String {
    let LanguageModelShape { vocabulary, embedding, hidden, tied, .. } = *shape;
    let settings = &shape.softmax;
    let excluded = |from: usize, to: usize| -> Vec<usize> {
        let all = settings.excluded.iter().map(|&token| token as usize);
        all.filter(|token| (from..to).contains(token)).map(|token| token - from).collect()
    };
    if settings.kind != Softmax::Clustered {
        let (table, x, inputs) = if tied {
            let projection = graph.weights("output.projection", &[hidden, embedding]);
            ("embedding", graph.op("MatMul", &[x, &projection]), embedding)
        } else {
            ("output.weights", x.to_owned(), hidden)
        };
        let table = graph.weights(table, &[vocabulary, inputs]);
        return softmax(graph, &x, &table, "output.bias", vocabulary, &excluded(0, vocabulary));
    }
    let ends: Vec<usize> = settings.clusters.ends.iter().copied().chain([vocabulary]).collect();
    let (common, clusters) = (ends[0], ends.len() - 1);
    let mut never = excluded(0, common);
    for (cluster, pair) in ends.windows(2).enumerate() {
        if excluded(pair[0], pair[1]).len() == pair[1] - pair[0] {
            never.push(common + cluster);
        }
    }
    let outcomes = common + clusters;
    let table = graph.weights("output.frequent.weights", &[outcomes, hidden]);
    let frequent = softmax(graph, x, &table, "output.frequent.bias", outcomes, &never);
    let mut parts = vec![graph.slice(&frequent, 1, 0, common as i64)];
    let mut width = hidden;
    for (cluster, pair) in ends.windows(2).enumerate() {
        width = (width / settings.clusters.shrink).max(8).min(hidden);
        let name = format!("output.cluster.{}", cluster + 1);
        let projection = graph.weights(&format!("{name}.projection"), &[hidden, width]);
        let x = graph.op("MatMul", &[x, &projection]);
        let size = pair[1] - pair[0];
        let table = graph.weights(&format!("{name}.weights"), &[size, width]);
        let bias = format!("{name}.bias");
        let within = softmax(graph, &x, &table, &bias, size, &excluded(pair[0], pair[1]));
        let at = (common + cluster) as i64;
        let own = graph.slice(&frequent, 1, at, at + 1);
        parts.push(graph.op("Add", &[&within, &own]));
    }
    graph.concat(&parts.iter().map(String::as_str).collect::<Vec<_>>(), 1)
}

/// The log-softmax over a table of `outcomes` rows, of which some are never predicted.
fn softmax(
    graph: &mut Graph,
    x: &str,
    table: &str,
    bias: &str,
    outcomes: usize,
    excluded: &[usize],
) -> String {
    let mut bias = graph.weights(bias, &[outcomes]);
    if !excluded.is_empty() {
        let mut never = vec![0.0; outcomes];
        excluded.iter().for_each(|&outcome| never[outcome] = f32::NEG_INFINITY);
        let never = graph.floats(&[outcomes], never);
        bias = graph.op("Add", &[&bias, &never]);
    }
    let scores = graph.table(x, table, &bias);
    graph.op_with("LogSoftmax", &[&scores], vec![Setting::integer("axis", 1)])
}
