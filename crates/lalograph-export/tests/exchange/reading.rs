//! Reading a file of the standard, from its text: a message is fields of a number, a form and a content.

use std::collections::BTreeMap;

use super::tensor::{BYTE, DOUBLE, FLOAT, HALF, INTEGER, TRUTH, Tensor};

/// A field: a number, or bytes.
enum Field<'b> {
    Number(u64),
    Bytes(&'b [u8]),
}

/// The fields of a message, in their order.
struct Fields<'b> {
    bytes: &'b [u8],
}

impl<'b> Fields<'b> {
    fn number(&mut self) -> u64 {
        let mut number = 0;
        for shift in (0..).step_by(7) {
            let (first, rest) = self.bytes.split_first().unwrap();
            self.bytes = rest;
            number |= u64::from(first & 0x7f) << shift;
            if first & 0x80 == 0 {
                break;
            }
        }
        number
    }

    fn take(&mut self, length: usize) -> &'b [u8] {
        let (taken, rest) = self.bytes.split_at(length);
        self.bytes = rest;
        taken
    }
}

impl<'b> Iterator for Fields<'b> {
    type Item = (u64, Field<'b>);

    fn next(&mut self) -> Option<Self::Item> {
        if self.bytes.is_empty() {
            return None;
        }
        let key = self.number();
        let field = match key & 7 {
            0 => Field::Number(self.number()),
            1 => Field::Bytes(self.take(8)),
            2 => {
                let length = self.number() as usize;
                Field::Bytes(self.take(length))
            }
            5 => Field::Bytes(self.take(4)),
            form => panic!("form {form}"),
        };
        Some((key >> 3, field))
    }
}

/// A message taken apart: for each number its fields.
#[derive(Default)]
struct Message<'b> {
    numbers: BTreeMap<u64, Vec<u64>>,
    bytes: BTreeMap<u64, Vec<&'b [u8]>>,
}

impl<'b> Message<'b> {
    fn of(bytes: &'b [u8]) -> Self {
        let mut message = Self::default();
        for (key, field) in (Fields { bytes }) {
            match field {
                Field::Number(number) => message.numbers.entry(key).or_default().push(number),
                Field::Bytes(bytes) => message.bytes.entry(key).or_default().push(bytes),
            }
        }
        message
    }

    fn all(&self, key: u64) -> impl Iterator<Item = Message<'b>> + '_ {
        self.each(key).map(Message::of)
    }

    fn each(&self, key: u64) -> impl Iterator<Item = &'b [u8]> + '_ {
        self.bytes.get(&key).into_iter().flatten().copied()
    }

    fn text(&self, key: u64) -> String {
        self.each(key).next().map(|bytes| String::from_utf8(bytes.to_vec()).unwrap()).unwrap_or_default()
    }

    fn number(&self, key: u64) -> Option<u64> {
        self.numbers.get(&key).and_then(|all| all.last()).copied()
    }

    /// Repeated numbers, one after another or packed.
    fn integers(&self, key: u64) -> Vec<i64> {
        let mut all: Vec<i64> =
            self.numbers.get(&key).into_iter().flatten().map(|&number| number as i64).collect();
        for bytes in self.each(key) {
            let mut packed = Fields { bytes };
            while !packed.bytes.is_empty() {
                all.push(packed.number() as i64);
            }
        }
        all
    }
}

#[derive(Debug, Default)]
pub(crate) struct Attribute {
    pub(crate) number: f32,
    pub(crate) integer: i64,
    pub(crate) text: String,
    pub(crate) integers: Vec<i64>,
    pub(crate) texts: Vec<String>,
}

#[derive(Debug)]
pub(crate) struct Node {
    pub(crate) operator: String,
    pub(crate) inputs: Vec<String>,
    pub(crate) outputs: Vec<String>,
    pub(crate) attributes: BTreeMap<String, Attribute>,
}

/// An input or output.
#[derive(Debug)]
pub(crate) struct Value {
    pub(crate) name: String,
    pub(crate) about: String,
    pub(crate) kind: i32,
    /// Sizes, or the names of those that differ.
    pub(crate) sizes: Vec<Result<usize, String>>,
}

#[derive(Debug)]
pub(crate) struct Model {
    pub(crate) opset: u64,
    pub(crate) about: String,
    pub(crate) metadata: BTreeMap<String, String>,
    pub(crate) nodes: Vec<Node>,
    pub(crate) constants: BTreeMap<String, Tensor>,
    pub(crate) inputs: Vec<Value>,
    pub(crate) outputs: Vec<Value>,
}

fn value(message: &Message<'_>) -> Value {
    let kind = message.all(2).next().unwrap();
    let tensor = kind.all(1).next().unwrap();
    let shape = tensor.all(2).next().unwrap();
    let size = |size: Message<'_>| size.number(1).map(|number| number as usize).ok_or_else(|| size.text(2));
    Value {
        name: message.text(1),
        about: message.text(3),
        kind: tensor.number(1).unwrap() as i32,
        sizes: shape.all(1).map(size).collect(),
    }
}

fn constant(message: &Message<'_>) -> (String, Tensor) {
    let kind = message.number(2).unwrap() as i32;
    let shape: Vec<usize> = message.integers(1).into_iter().map(|size| size as usize).collect();
    let raw = message.each(9).next().unwrap_or_default();
    let numbers = match kind {
        FLOAT => raw.as_chunks().0.iter().map(|&bytes| f64::from(f32::from_le_bytes(bytes))).collect(),
        DOUBLE => raw.as_chunks().0.iter().map(|&bytes| f64::from_le_bytes(bytes)).collect(),
        INTEGER => raw.as_chunks().0.iter().map(|&bytes| i64::from_le_bytes(bytes) as f64).collect(),
        BYTE => raw.iter().map(|&byte| f64::from(byte as i8)).collect(),
        TRUTH => raw.iter().map(|&byte| f64::from(byte)).collect(),
        HALF => raw.as_chunks().0.iter().map(|&bytes| half(u16::from_le_bytes(bytes))).collect(),
        kind => panic!("kind {kind}"),
    };
    (message.text(8), Tensor::new(kind, &shape, numbers))
}

/// A half-precision number (IEEE 754 binary16).
fn half(bits: u16) -> f64 {
    let sign = if bits >> 15 == 1 { -1.0 } else { 1.0 };
    let (exponent, fraction) = (i32::from(bits >> 10 & 31), f64::from(bits & 1023));
    sign * match exponent {
        0 => fraction * 2f64.powi(-24),
        _ => (1024.0 + fraction) * 2f64.powi(exponent - 25),
    }
}

impl Model {
    pub(crate) fn read(bytes: &[u8]) -> Self {
        let model = Message::of(bytes);
        let graph = model.all(7).next().unwrap();
        let node = |node: Message<'_>| Node {
            operator: node.text(4),
            inputs: node.each(1).map(|name| String::from_utf8(name.to_vec()).unwrap()).collect(),
            outputs: node.each(2).map(|name| String::from_utf8(name.to_vec()).unwrap()).collect(),
            attributes: node
                .all(5)
                .map(|own| {
                    let number =
                        own.each(2).next().map(|bytes| f32::from_le_bytes(bytes.try_into().unwrap()));
                    let texts = own.each(9).map(|text| String::from_utf8(text.to_vec()).unwrap());
                    let attribute = Attribute {
                        number: number.unwrap_or_default(),
                        integer: own.number(3).unwrap_or_default() as i64,
                        text: own.text(4),
                        integers: own.integers(8),
                        texts: texts.collect(),
                    };
                    (own.text(1), attribute)
                })
                .collect(),
        };
        let opset = model.all(8).next().unwrap();
        assert_eq!(opset.text(1), "", "the standard's own operators");
        Self {
            opset: opset.number(2).unwrap(),
            about: model.text(6),
            metadata: model.all(14).map(|entry| (entry.text(1), entry.text(2))).collect(),
            nodes: graph.all(1).map(node).collect(),
            constants: graph.all(5).map(|tensor| constant(&tensor)).collect(),
            inputs: graph.all(11).map(|message| value(&message)).collect(),
            outputs: graph.all(12).map(|message| value(&message)).collect(),
        }
    }
}
