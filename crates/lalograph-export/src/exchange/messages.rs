//! The messages of the exchange standard (ONNX) that a model file of it is made of, by their numbers in its `onnx.proto`. Fields that are
//! never written are left out, which the encoding allows.

use prost::{Message, Oneof};

/// The whole file but its graph, which is written after it.
#[derive(Clone, PartialEq, Message)]
pub(crate) struct Model {
    #[prost(int64, tag = "1")]
    pub(crate) ir_version: i64,
    #[prost(string, tag = "2")]
    pub(crate) producer_name: String,
    #[prost(string, tag = "3")]
    pub(crate) producer_version: String,
    #[prost(string, tag = "6")]
    pub(crate) doc_string: String,
    #[prost(message, repeated, tag = "8")]
    pub(crate) opset_import: Vec<OperatorSet>,
    #[prost(message, repeated, tag = "14")]
    pub(crate) metadata: Vec<Entry>,
}

/// The number of the graph in the model.
pub(crate) const GRAPH: u32 = 7;

#[derive(Clone, PartialEq, Message)]
pub(crate) struct OperatorSet {
    /// Empty for the standard's own operators.
    #[prost(string, tag = "1")]
    pub(crate) domain: String,
    #[prost(int64, tag = "2")]
    pub(crate) version: i64,
}

#[derive(Clone, PartialEq, Message)]
pub(crate) struct Entry {
    #[prost(string, tag = "1")]
    pub(crate) key: String,
    #[prost(string, tag = "2")]
    pub(crate) value: String,
}

/// A graph but its constant tensors, which are written after it.
#[derive(Clone, PartialEq, Message)]
pub(crate) struct Graph {
    #[prost(message, repeated, tag = "1")]
    pub(crate) nodes: Vec<Node>,
    #[prost(string, tag = "2")]
    pub(crate) name: String,
    #[prost(string, tag = "10")]
    pub(crate) doc_string: String,
    #[prost(message, repeated, tag = "11")]
    pub(crate) inputs: Vec<Value>,
    #[prost(message, repeated, tag = "12")]
    pub(crate) outputs: Vec<Value>,
}

/// The number of a constant tensor in the graph.
pub(crate) const TENSOR: u32 = 5;

#[derive(Clone, PartialEq, Message)]
pub(crate) struct Node {
    #[prost(string, repeated, tag = "1")]
    pub(crate) inputs: Vec<String>,
    #[prost(string, repeated, tag = "2")]
    pub(crate) outputs: Vec<String>,
    #[prost(string, tag = "3")]
    pub(crate) name: String,
    #[prost(string, tag = "4")]
    pub(crate) operator: String,
    #[prost(message, repeated, tag = "5")]
    pub(crate) attributes: Vec<Attribute>,
}

#[derive(Clone, PartialEq, Message)]
pub(crate) struct Attribute {
    #[prost(string, tag = "1")]
    pub(crate) name: String,
    #[prost(float, tag = "2")]
    pub(crate) number: f32,
    #[prost(int64, tag = "3")]
    pub(crate) integer: i64,
    #[prost(bytes = "vec", tag = "4")]
    pub(crate) text: Vec<u8>,
    #[prost(int64, repeated, tag = "8")]
    pub(crate) integers: Vec<i64>,
    #[prost(bytes = "vec", repeated, tag = "9")]
    pub(crate) texts: Vec<Vec<u8>>,
    #[prost(int32, tag = "20")]
    pub(crate) kind: i32,
}

impl Attribute {
    fn new(name: &str, kind: i32) -> Self {
        Self { name: name.to_owned(), kind, ..Self::default() }
    }

    pub(crate) fn number(name: &str, number: f32) -> Self {
        Self { number, ..Self::new(name, 1) }
    }

    pub(crate) fn integer(name: &str, integer: i64) -> Self {
        Self { integer, ..Self::new(name, 2) }
    }

    pub(crate) fn text(name: &str, text: &str) -> Self {
        Self { text: text.as_bytes().to_vec(), ..Self::new(name, 3) }
    }

    pub(crate) fn integers(name: &str, integers: &[i64]) -> Self {
        Self { integers: integers.to_vec(), ..Self::new(name, 7) }
    }

    pub(crate) fn texts(name: &str, texts: &[&str]) -> Self {
        Self { texts: texts.iter().map(|text| text.as_bytes().to_vec()).collect(), ..Self::new(name, 8) }
    }
}

/// An input or output of the graph.
#[derive(Clone, PartialEq, Message)]
pub(crate) struct Value {
    #[prost(string, tag = "1")]
    pub(crate) name: String,
    #[prost(message, optional, tag = "2")]
    pub(crate) kind: Option<Kind>,
    #[prost(string, tag = "3")]
    pub(crate) doc_string: String,
}

#[derive(Clone, PartialEq, Message)]
pub(crate) struct Kind {
    #[prost(message, optional, tag = "1")]
    pub(crate) tensor: Option<TensorKind>,
}

#[derive(Clone, PartialEq, Message)]
pub(crate) struct TensorKind {
    #[prost(int32, tag = "1")]
    pub(crate) element: i32,
    #[prost(message, optional, tag = "2")]
    pub(crate) shape: Option<Shape>,
}

#[derive(Clone, PartialEq, Message)]
pub(crate) struct Shape {
    #[prost(message, repeated, tag = "1")]
    pub(crate) sizes: Vec<Size>,
}

#[derive(Clone, PartialEq, Message)]
pub(crate) struct Size {
    #[prost(oneof = "SizeOf", tags = "1, 2")]
    pub(crate) of: Option<SizeOf>,
}

#[derive(Clone, PartialEq, Oneof)]
pub(crate) enum SizeOf {
    #[prost(int64, tag = "1")]
    Fixed(i64),
    #[prost(string, tag = "2")]
    Named(String),
}

/// A constant tensor but its numbers, which are written after it.
#[derive(Clone, PartialEq, Message)]
pub(crate) struct Tensor {
    #[prost(int64, repeated, tag = "1")]
    pub(crate) sizes: Vec<i64>,
    #[prost(int32, tag = "2")]
    pub(crate) element: i32,
    #[prost(string, tag = "8")]
    pub(crate) name: String,
}

/// The number of a tensor's numbers as bytes, lowest first.
pub(crate) const RAW: u32 = 9;
