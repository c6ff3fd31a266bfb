//! Word vectors: the vectors of words, and the words with the most similar ones.

use crate::exchange::graph::{Extent, Graph, Setting};
use crate::exchange::precision::Precision;
use crate::exchange::tensor::Element;
use crate::model::VectorForm;

const BATCH: Extent = Extent::Named("batch");

/// The vectors of words.
pub(super) fn lookup(form: &VectorForm, precision: Precision) -> Graph {
    let mut graph = Graph::new("lookup", "The vectors of words.", precision);
    let what = "The number of each word: its place, from 0, among `words` of the metadata.";
    let words = graph.input("words", Element::Integer, &[BATCH], what);
    let table = graph.weights("vectors", &[form.words.len(), form.dimensions]);
    let found = graph.gather(&table, &words, 0);
    let sizes = [BATCH, Extent::Fixed(form.dimensions)];
    graph.output(&found, "word_vectors", Element::Float, &sizes, "The vector of each word.");
    graph
}

/// The words with the vectors that are most like given ones.
pub(super) fn neighbours(form: &VectorForm, precision: Precision) -> Graph {
    let about = "The words with the vectors that are most similar to given ones, the most similar first. A word is its own nearest neighbour.";
    let mut graph = Graph::new("neighbours", about, precision);
    let sizes = [BATCH, Extent::Fixed(form.dimensions)];
    let vectors =
        graph.input("word_vectors", Element::Float, &sizes, "The vectors whose neighbours are wanted.");
    let what = "The number of neighbours.";
    let count = graph.input("count", Element::Integer, &[Extent::Fixed(1)], what);
    let table = graph.weights("vectors", &[form.words.len(), form.dimensions]);
    let products = graph.op_with("Gemm", &[&vectors, &table], vec![Setting::integer("transB", 1)]);
    let lengths = graph.inverse_lengths("vectors", form.words.len());
    let products = graph.op("Mul", &[&products, &lengths]);
    let squares = graph.op("Mul", &[&vectors, &vectors]);
    let axes = graph.list(&[1]);
    let squares = graph.op("ReduceSum", &[&squares, &axes]);
    let own = graph.op("Sqrt", &[&squares]);
    let least = graph.floats(&[], vec![f32::MIN_POSITIVE]);
    let own = graph.op("Max", &[&own, &least]);
    let similarities = graph.op("Div", &[&products, &own]);
    let best = graph.ops("TopK", &[&similarities, &count], vec![Setting::integer("axis", 1)], 2);
    let sizes = [BATCH, Extent::Named("count")];
    let what = "The number of each neighbour: its place, from 0, among `words` of the metadata.";
    graph.output(&best[1], "words", Element::Integer, &sizes, what);
    let what = "The cosine of the angle between the two vectors.";
    graph.output(&best[0], "similarities", Element::Float, &sizes, what);
    graph
}
