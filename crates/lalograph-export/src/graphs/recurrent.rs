//! Recurrent layers, one on the other.
//!
//! Vectors of tokens are `steps x rows x width` here, as the operators of the standard want them. Its gates have the order that they have
//! in a model file, so weights are only turned and never rearranged.

use lalograph_net::blocks::recurrent::cell::Cell;
use lalograph_net::blocks::stack::StackShape;

use crate::exchange::graph::{Graph, Setting};

/// One layer in one direction.
struct Layer<'l> {
    name: &'l str,
    cell: Cell,
    inputs: usize,
    hidden: usize,
}

/// The states of a layer, 1 x rows x hidden each.
#[derive(Debug, Clone)]
pub(super) struct State {
    pub(super) output: String,
    pub(super) memory: Option<String>,
}

impl Layer<'_> {
    /// A matrix of the layer as the standard has it: 1 x outputs x inputs.
    fn matrix(&self, graph: &mut Graph, what: &str, inputs: usize) -> String {
        let outputs = self.cell.gates() * self.hidden;
        let matrix = graph.weights(&format!("{}.{what}", self.name), &[inputs, outputs]);
        let turned = graph.transpose(&matrix, &[1, 0]);
        graph.unsqueeze(&turned, &[0])
    }

    /// Reads `x` from a state: all outputs, steps x rows x hidden, and the last state.
    fn read(&self, graph: &mut Graph, x: &str, first: Option<&State>) -> (String, State) {
        let width = self.cell.gates() * self.hidden;
        let weights = self.matrix(graph, "input", self.inputs);
        let recurrent = self.matrix(graph, "recurrent", self.hidden);
        let bias = graph.weights(&format!("{}.bias", self.name), &[width]);
        // The second half of the standard's biases is added to the recurrent product.
        let second = match self.cell {
            Cell::Gru => {
                let zeros = graph.floats(&[2 * self.hidden], vec![0.0; 2 * self.hidden]);
                let own = graph.weights(&format!("{}.candidate_bias", self.name), &[self.hidden]);
                graph.concat(&[&zeros, &own], 0)
            }
            _ => graph.floats(&[width], vec![0.0; width]),
        };
        let bias = graph.concat(&[&bias, &second], 0);
        let bias = graph.unsqueeze(&bias, &[0]);
        let mut settings = vec![Setting::integer("hidden_size", self.hidden as i64)];
        let operator = match self.cell {
            Cell::PlainTanh | Cell::PlainRelu => {
                let name = if self.cell == Cell::PlainRelu { "Relu" } else { "Tanh" };
                settings.push(Setting::texts("activations", &[name]));
                "RNN"
            }
            Cell::Gru => {
                settings.push(Setting::integer("linear_before_reset", 1));
                "GRU"
            }
            Cell::Lstm => "LSTM",
        };
        let mut inputs = vec![x, &weights, &recurrent, &bias];
        if let Some(first) = first {
            inputs.extend(["", &first.output]);
            inputs.extend(first.memory.as_deref());
        }
        let count = if self.cell.has_memory() { 3 } else { 2 };
        let mut outputs = graph.ops(operator, &inputs, settings, count).into_iter();
        let all = outputs.next().unwrap_or_default();
        let last = State { output: outputs.next().unwrap_or_default(), memory: outputs.next() };
        (graph.squeeze(&all, &[1]), last)
    }
}

/// How long the texts are, for layers that read from the end.
#[derive(Debug, Clone)]
pub(super) struct Lengths {
    /// Steps of each row: a list.
    pub(super) of: String,
    /// Steps of a window, at the end of which a layer that reads from the end begins; none if no text is longer.
    pub(super) window: Option<usize>,
}

/// The layers of a stack.
pub(super) struct Layers<'s> {
    pub(super) shape: &'s StackShape,
}

impl Layers<'_> {
    /// The learnt first state of all layers of one direction for `rows` (a list of one number); none if it is zero.
    fn first(&self, graph: &mut Graph, name: &str, rows: &str) -> Option<State> {
        let StackShape { cell, hidden, learn_first_state, .. } = *self.shape;
        if !learn_first_state {
            return None;
        }
        let parts = cell.state_parts();
        let all = graph.weights(&format!("{name}.first_state"), &[parts * hidden]);
        let (one, width) = (graph.list(&[1]), graph.list(&[hidden as i64]));
        let shape = graph.concat(&[&one, rows, &width], 0);
        let mut part = |number: usize| {
            let part = graph.slice(&all, 0, (number * hidden) as i64, ((number + 1) * hidden) as i64);
            graph.op("Expand", &[&part, &shape])
        };
        Some(State { output: part(0), memory: cell.has_memory().then(|| part(1)) })
    }

    /// Reads `x` through all layers. `states` gives the state that each layer begins with; without it that is the first state. The result is the
    /// output of the last layer, steps x rows x outputs, and the last states of the forward direction.
    pub(super) fn read(
        &self,
        graph: &mut Graph,
        x: &str,
        states: Option<&[State]>,
        lengths: Option<&Lengths>,
    ) -> (String, Vec<State>) {
        let StackShape { cell, hidden, layers, both_directions, layer_norm, residual, .. } = *self.shape;
        let outputs = self.shape.outputs();
        let rows = graph.size(x, 1);
        let mut x = x.to_owned();
        let mut last = Vec::new();
        for number in 0..layers {
            let inputs = if number == 0 { self.shape.inputs } else { outputs };
            let name = format!("layer.{}", number + 1);
            let layer = Layer { name: &name, cell, inputs, hidden };
            let first = match states {
                Some(states) => Some(states[number].clone()),
                None => self.first(graph, &name, &rows),
            };
            let (mut out, state) = layer.read(graph, &x, first.as_ref());
            last.push(state);
            if let (true, Some(lengths)) = (both_directions, lengths) {
                let name = format!("{name}.reverse");
                let reverse = self.reverse(graph, &Layer { name: &name, cell, inputs, hidden }, &x, lengths);
                out = graph.concat(&[&out, &reverse], 2);
            }
            if layer_norm {
                let norm = |graph: &mut Graph, what: &str| {
                    graph.weights(&format!("layer.{}.norm.{what}", number + 1), &[outputs])
                };
                let (gain, bias) = (norm(graph, "gain"), norm(graph, "bias"));
                let settings = vec![Setting::integer("axis", -1), Setting::number("epsilon", 1e-5)];
                out = graph.op_with("LayerNormalization", &[&out, &gain, &bias], settings);
            }
            if residual && number > 0 {
                out = graph.op("Add", &[&out, &x]);
            }
            x = out;
        }
        (x, last)
    }

    /// Reads `x` from the end of each text, or of each window of it. Steps after a text's end mean nothing.
    fn reverse(&self, graph: &mut Graph, layer: &Layer<'_>, x: &str, lengths: &Lengths) -> String {
        let turn = |graph: &mut Graph, x: &str, lengths: &str| {
            let settings = vec![Setting::integer("time_axis", 0), Setting::integer("batch_axis", 1)];
            graph.op_with("ReverseSequence", &[x, lengths], settings)
        };
        let Some(window) = lengths.window else {
            let rows = graph.size(x, 1);
            let first = self.first(graph, layer.name, &rows);
            let turned = turn(graph, x, &lengths.of);
            let (out, _) = layer.read(graph, &turned, first.as_ref());
            return turn(graph, &out, &lengths.of);
        };
        // Each window of each text is a row of its own.
        let size = window as i64;
        let (steps, rows) = (graph.size(x, 0), graph.size(x, 1));
        let (one_less, window) = (graph.list(&[size - 1]), graph.list(&[size]));
        let whole = graph.op("Add", &[&steps, &one_less]);
        let windows = graph.op("Div", &[&whole, &window]);
        let padded = graph.op("Mul", &[&windows, &window]);
        let missing = graph.op("Sub", &[&padded, &steps]);
        let (three, two) = (graph.list(&[0, 0, 0]), graph.list(&[0, 0]));
        let pads = graph.concat(&[&three, &missing, &two], 0);
        let x = graph.op("Pad", &[x, &pads]);
        let apart = |graph: &mut Graph, x: &str, first: &str, second: &str, width: usize| {
            let width = graph.list(&[width as i64]);
            let shape = graph.concat(&[first, second, &rows, &width], 0);
            let apart = graph.op("Reshape", &[x, &shape]);
            graph.transpose(&apart, &[1, 0, 2, 3])
        };
        let x = apart(graph, &x, &windows, &window, layer.inputs);
        let x = graph.reshape(&x, &[size, -1, layer.inputs as i64]);
        let numbers = graph.count_up(&windows);
        let starts = graph.op("Mul", &[&numbers, &window]);
        let starts = graph.unsqueeze(&starts, &[1]);
        let left = graph.op("Sub", &[&lengths.of, &starts]);
        let one = graph.list(&[1]);
        let left = graph.op("Max", &[&left, &one]);
        let left = graph.op("Min", &[&left, &window]);
        let left = graph.reshape(&left, &[-1]);
        let all_rows = graph.size(&x, 1);
        let first = self.first(graph, layer.name, &all_rows);
        let turned = turn(graph, &x, &left);
        let (out, _) = layer.read(graph, &turned, first.as_ref());
        let out = turn(graph, &out, &left);
        let out = apart(graph, &out, &window, &windows, layer.hidden);
        let width = graph.list(&[layer.hidden as i64]);
        let shape = graph.concat(&[&padded, &rows, &width], 0);
        let out = graph.op("Reshape", &[&out, &shape]);
        let zero = graph.list(&[0]);
        graph.op("Slice", &[&out, &zero, &steps, &zero])
    }
}
