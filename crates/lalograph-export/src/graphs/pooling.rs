//! Pooling over the steps of documents, of which those after a document's end count for nothing.

use lalograph_net::blocks::pooling::Pooling;

use crate::exchange::graph::Graph;
use crate::exchange::tensor::Element;

/// Documents of several lengths: `lengths` is a list, and `steps` (a list of one number) the greatest.
pub(super) struct Documents {
    pub(super) lengths: String,
    pub(super) steps: String,
}

impl Documents {
    /// Lengths of documents whose steps are along the second axis of `of`; none has fewer than one.
    pub(super) fn new(graph: &mut Graph, lengths: &str, of: &str) -> Self {
        let one = graph.list(&[1]);
        Self { lengths: graph.op("Max", &[lengths, &one]), steps: graph.size(of, 1) }
    }

    /// Which steps are in their documents: documents x steps.
    pub(super) fn within(&self, graph: &mut Graph) -> String {
        let places = graph.count_up(&self.steps);
        let ends = graph.unsqueeze(&self.lengths, &[1]);
        graph.op("Less", &[&places, &ends])
    }

    /// One vector of the vectors of all steps, `x` (documents x steps x width): documents x width, or twice that. Numbers from `reverse_from` on
    /// are of a direction that reads from the end.
    pub(super) fn pool(
        &self,
        graph: &mut Graph,
        x: &str,
        pooling: Pooling,
        (width, reverse_from): (usize, usize),
    ) -> String {
        let within = self.within(graph);
        if pooling == Pooling::Last {
            let one = graph.list(&[1]);
            let last = graph.op("Sub", &[&self.lengths, &one]);
            let last = graph.unsqueeze(&last, &[1]);
            let places = graph.count_up(&self.steps);
            let last = graph.op("Equal", &[&places, &last]);
            let last = self.sum(graph, x, &last);
            if reverse_from == width {
                return last;
            }
            let first = graph.slice(x, 1, 0, 1);
            let first = graph.squeeze(&first, &[1]);
            let first = graph.slice(&first, 1, reverse_from as i64, width as i64);
            let last = graph.slice(&last, 1, 0, reverse_from as i64);
            return graph.concat(&[&last, &first], 1);
        }
        let mean = matches!(pooling, Pooling::Mean | Pooling::Both).then(|| {
            let sum = self.sum(graph, x, &within);
            let lengths = graph.unsqueeze(&self.lengths, &[1]);
            let lengths = graph.cast(&lengths, Element::Float);
            graph.op("Div", &[&sum, &lengths])
        });
        let max = matches!(pooling, Pooling::Max | Pooling::Both).then(|| {
            let x = graph.transpose(x, &[0, 2, 1]);
            maximum(graph, &x, &within)
        });
        match (mean, max) {
            (Some(mean), Some(max)) => graph.concat(&[&mean, &max], 1),
            (one, other) => one.or(other).unwrap_or_default(),
        }
    }

    /// The sum over the steps that `which` (documents x steps) has.
    fn sum(&self, graph: &mut Graph, x: &str, which: &str) -> String {
        let which = graph.cast(which, Element::Float);
        let which = graph.unsqueeze(&which, &[1]);
        let sum = graph.op("MatMul", &[&which, x]);
        graph.squeeze(&sum, &[1])
    }
}

/// The greatest number of each column of `x` (documents x width x steps) over the steps that `which` (documents x steps) has.
pub(super) fn maximum(graph: &mut Graph, x: &str, which: &str) -> String {
    let which = graph.unsqueeze(which, &[1]);
    let least = graph.floats(&[], vec![f32::MIN]);
    let x = graph.op("Where", &[&which, x, &least]);
    // Pooling over two axes is what every runtime has.
    let x = graph.unsqueeze(&x, &[3]);
    let max = graph.op("GlobalMaxPool", &[&x]);
    graph.squeeze(&max, &[2, 3])
}
