//! A graph in the making: operators of the standard on named values.

use super::messages::{Attribute, Kind, Node, Shape, Size, SizeOf, TensorKind, Value};
use super::precision::{Precision, axis, is_reduced};
use super::tensor::{Constant, Element, Source};

pub(crate) use super::messages::Attribute as Setting;

/// A size of an input or output: a number, or a name for what differs from call to call.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Extent {
    Fixed(usize),
    Named(&'static str),
}

/// A graph.
#[derive(Debug)]
pub(crate) struct Graph {
    pub(crate) name: String,
    pub(crate) about: String,
    pub(crate) nodes: Vec<Node>,
    pub(crate) constants: Vec<Constant>,
    pub(crate) inputs: Vec<Value>,
    pub(crate) outputs: Vec<Value>,
    precision: Precision,
}

impl Graph {
    pub(crate) fn new(name: &str, about: &str, precision: Precision) -> Self {
        Self {
            name: name.to_owned(),
            about: about.to_owned(),
            nodes: Vec::new(),
            constants: Vec::new(),
            inputs: Vec::new(),
            outputs: Vec::new(),
            precision,
        }
    }

    fn value(name: &str, element: Element, shape: &[Extent], about: &str) -> Value {
        let size = |extent: &Extent| Size {
            of: Some(match extent {
                Extent::Fixed(size) => SizeOf::Fixed(*size as i64),
                Extent::Named(name) => SizeOf::Named((*name).to_owned()),
            }),
        };
        let shape = Some(Shape { sizes: shape.iter().map(size).collect() });
        Value {
            name: name.to_owned(),
            kind: Some(Kind { tensor: Some(TensorKind { element: element.number(), shape }) }),
            doc_string: about.to_owned(),
        }
    }

    /// An input; its name is that of the value.
    pub(crate) fn input(&mut self, name: &str, element: Element, shape: &[Extent], about: &str) -> String {
        self.inputs.push(Self::value(name, element, shape, about));
        name.to_owned()
    }

    /// Gives a value out under a name.
    pub(crate) fn output(
        &mut self,
        value: &str,
        name: &str,
        element: Element,
        shape: &[Extent],
        about: &str,
    ) {
        self.node("Identity", &[value], vec![name.to_owned()], Vec::new());
        self.outputs.push(Self::value(name, element, shape, about));
    }

    fn node(&mut self, operator: &str, inputs: &[&str], outputs: Vec<String>, attributes: Vec<Attribute>) {
        self.nodes.push(Node {
            inputs: inputs.iter().map(|input| (*input).to_owned()).collect(),
            name: format!("{operator}_{}", self.nodes.len() + 1),
            operator: operator.to_owned(),
            outputs,
            attributes,
        });
    }

    /// The value that an operator makes of others. An empty name is an input that is left out.
    pub(crate) fn op(&mut self, operator: &str, inputs: &[&str]) -> String {
        self.op_with(operator, inputs, Vec::new())
    }

    /// The same with settings.
    pub(crate) fn op_with(&mut self, operator: &str, inputs: &[&str], settings: Vec<Setting>) -> String {
        self.ops(operator, inputs, settings, 1).swap_remove(0)
    }

    /// The values that an operator with several outputs makes.
    pub(crate) fn ops(
        &mut self,
        operator: &str,
        inputs: &[&str],
        settings: Vec<Setting>,
        count: usize,
    ) -> Vec<String> {
        let number = self.nodes.len() + 1;
        let name = |output: usize| match count {
            1 => format!("{}_{number}", operator.to_lowercase()),
            _ => format!("{}_{number}_{output}", operator.to_lowercase()),
        };
        let outputs: Vec<String> = (1..=count).map(name).collect();
        self.node(operator, inputs, outputs.clone(), settings);
        outputs
    }

    fn constant(&mut self, name: String, of: &str, shape: &[usize], source: Source) -> String {
        if !self.constants.iter().any(|constant| constant.name == name) {
            let constant = Constant { name: name.clone(), of: of.to_owned(), shape: shape.to_vec(), source };
            self.constants.push(constant);
        }
        name
    }

    /// Integers of this shape.
    pub(crate) fn integers(&mut self, shape: &[usize], numbers: Vec<i64>) -> String {
        let same = |constant: &&Constant| match &constant.source {
            Source::Integers(of) => constant.shape == shape && *of == numbers,
            _ => false,
        };
        if let Some(found) = self.constants.iter().find(same) {
            return found.name.clone();
        }
        let name = format!("integers_{}", self.constants.len() + 1);
        self.constant(name, "", shape, Source::Integers(numbers))
    }

    /// A list of integers.
    pub(crate) fn list(&mut self, numbers: &[i64]) -> String {
        self.integers(&[numbers.len()], numbers.to_vec())
    }

    /// One integer without a shape.
    pub(crate) fn scalar(&mut self, number: i64) -> String {
        self.integers(&[], vec![number])
    }

    /// Numbers of this shape.
    pub(crate) fn floats(&mut self, shape: &[usize], numbers: Vec<f32>) -> String {
        let name = format!("numbers_{}", self.constants.len() + 1);
        self.constant(name, "", shape, Source::Floats(numbers))
    }

    /// Numbers of double precision of this shape.
    pub(crate) fn doubles(&mut self, shape: &[usize], numbers: Vec<f64>) -> String {
        let name = format!("numbers_{}", self.constants.len() + 1);
        self.constant(name, "", shape, Source::Doubles(numbers))
    }

    /// One over the length of each row of a tensor of the model file.
    pub(crate) fn inverse_lengths(&mut self, of: &str, rows: usize) -> String {
        let source = Source::InverseLengths { of: of.to_owned() };
        self.constant(format!("{of}.inverse_lengths"), "", &[rows], source)
    }

    /// A tensor of the model file as single-precision numbers, whatever its bits in the exported file.
    pub(crate) fn weights(&mut self, name: &str, shape: &[usize]) -> String {
        let precision = if is_reduced(shape) { self.precision } else { Precision::Single };
        let whole = format!("{name}.single");
        let made = self.nodes.iter().any(|node| node.outputs.first() == Some(&whole));
        match precision {
            Precision::Single => return self.constant(name.to_owned(), name, shape, Source::Weights),
            _ if made => {}
            Precision::Half => {
                let half = self.constant(name.to_owned(), name, shape, Source::HalfWeights);
                let to = vec![Setting::integer("to", Element::Float.number().into())];
                self.node("Cast", &[&half], vec![whole.clone()], to);
            }
            Precision::Eight => {
                let codes = self.constant(name.to_owned(), name, shape, Source::EightBitWeights);
                let axis = axis(name, shape);
                let source = Source::Factors { of: name.to_owned(), shape: shape.to_vec() };
                let factors = self.constant(format!("{name}.factors"), "", &[shape[axis]], source);
                let settings = vec![Setting::integer("axis", axis as i64)];
                self.node("DequantizeLinear", &[&codes, &factors], vec![whole.clone()], settings);
            }
        }
        whole
    }
}

/// Operators with the settings that are always theirs here.
impl Graph {
    pub(crate) fn cast(&mut self, value: &str, element: Element) -> String {
        self.op_with("Cast", &[value], vec![Setting::integer("to", element.number().into())])
    }

    pub(crate) fn transpose(&mut self, value: &str, order: &[i64]) -> String {
        self.op_with("Transpose", &[value], vec![Setting::integers("perm", order)])
    }

    pub(crate) fn concat(&mut self, values: &[&str], axis: i64) -> String {
        self.op_with("Concat", values, vec![Setting::integer("axis", axis)])
    }

    pub(crate) fn gather(&mut self, from: &str, indices: &str, axis: i64) -> String {
        self.op_with("Gather", &[from, indices], vec![Setting::integer("axis", axis)])
    }

    pub(crate) fn unsqueeze(&mut self, value: &str, axes: &[i64]) -> String {
        let axes = self.list(axes);
        self.op("Unsqueeze", &[value, &axes])
    }

    pub(crate) fn squeeze(&mut self, value: &str, axes: &[i64]) -> String {
        let axes = self.list(axes);
        self.op("Squeeze", &[value, &axes])
    }

    pub(crate) fn reshape(&mut self, value: &str, shape: &[i64]) -> String {
        let shape = self.list(shape);
        self.op("Reshape", &[value, &shape])
    }

    /// The elements of an axis from one place to another; negative places count from the end.
    pub(crate) fn slice(&mut self, value: &str, axis: i64, from: i64, to: i64) -> String {
        let (from, to, axis) = (self.list(&[from]), self.list(&[to]), self.list(&[axis]));
        self.op("Slice", &[value, &from, &to, &axis])
    }

    /// The size of a value along an axis, as a list of one number.
    pub(crate) fn size(&mut self, value: &str, axis: i64) -> String {
        let shape = self.op("Shape", &[value]);
        let axis = self.list(&[axis]);
        self.gather(&shape, &axis, 0)
    }

    /// `x` (rows x inputs) times a table of one row an outcome, plus the bias.
    pub(crate) fn table(&mut self, x: &str, table: &str, bias: &str) -> String {
        self.op_with("Gemm", &[x, table, bias], vec![Setting::integer("transB", 1)])
    }

    /// For each of `steps` (a list of one number) its number from 0.
    pub(crate) fn count_up(&mut self, steps: &str) -> String {
        let (zero, one) = (self.scalar(0), self.scalar(1));
        let steps = self.squeeze(steps, &[0]);
        self.op("Range", &[&zero, &steps, &one])
    }
}
