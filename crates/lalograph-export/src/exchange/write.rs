//! Writing a graph: the numbers of its weights go from file to file some at a time, so that memory does not grow with them.

use std::io::{self, Write};

use lalograph_lab::artefact::tensor_file::TensorFile;
use prost::Message;
use prost::encoding::{WireType, encode_key, encode_varint};

use super::graph::Graph;
use super::messages::{self, Entry, GRAPH, Model, OperatorSet, RAW, TENSOR, Tensor};
use crate::ExportError;

/// The versions of the standard's operators that graphs can be written for: all their operators mean the same in each.
pub const OPSETS: std::ops::RangeInclusive<u32> = 17..=22;

/// Files of this many bytes or more are beyond what the standard's encoding can hold.
const LARGEST: usize = i32::MAX as usize;

/// The version of the file format that came with a version of the operators.
fn ir_version(opset: u32) -> i64 {
    match opset {
        ..=18 => 8,
        19 | 20 => 9,
        _ => 10,
    }
}

/// What describes a model beside its graph.
#[derive(Debug, Clone, Default)]
pub(crate) struct About {
    pub(crate) opset: u32,
    pub(crate) version: String,
    pub(crate) metadata: Vec<(&'static str, String)>,
}

/// The beginning of a part whose length is known.
fn part(number: u32, length: usize) -> Vec<u8> {
    let mut bytes = Vec::new();
    encode_key(number, WireType::LengthDelimited, &mut bytes);
    encode_varint(length as u64, &mut bytes);
    bytes
}

/// Writes the graph with weights from `file`.
pub(crate) fn write(
    graph: Graph,
    about: About,
    file: &TensorFile,
    out: &mut dyn Write,
) -> Result<(), ExportError> {
    let Graph { name, about: doc_string, nodes, constants, inputs, outputs, .. } = graph;
    let model = Model {
        ir_version: ir_version(about.opset),
        producer_name: "Lalograph".to_owned(),
        producer_version: about.version,
        doc_string: doc_string.clone(),
        opset_import: vec![OperatorSet { domain: String::new(), version: about.opset.into() }],
        metadata: about
            .metadata
            .into_iter()
            .map(|(key, value)| Entry { key: key.to_owned(), value })
            .collect(),
    };
    let graph = messages::Graph { nodes, name, doc_string, inputs, outputs }.encode_to_vec();
    let heads: Vec<Vec<u8>> = constants
        .iter()
        .map(|constant| {
            let mut head = Tensor {
                sizes: constant.shape.iter().map(|&size| size as i64).collect(),
                element: constant.element().number(),
                name: constant.name.clone(),
            }
            .encode_to_vec();
            head.extend(part(RAW, constant.bytes()));
            let mut whole = part(TENSOR, head.len() + constant.bytes());
            whole.extend(head);
            whole
        })
        .collect();
    let tensors: usize = heads.iter().zip(&constants).map(|(head, one)| head.len() + one.bytes()).sum();
    let mut before = model.encode_to_vec();
    before.extend(part(GRAPH, graph.len() + tensors));
    let bytes = before.len() + graph.len() + tensors;
    if bytes >= LARGEST {
        return Err(ExportError::TooLarge { bytes: bytes as u64 });
    }
    let mut all = || -> io::Result<()> {
        out.write_all(&before)?;
        out.write_all(&graph)?;
        for (head, constant) in heads.iter().zip(&constants) {
            out.write_all(head)?;
            constant.write(file, out)?;
        }
        Ok(())
    };
    all().map_err(ExportError::Write)
}

#[cfg(test)]
mod tests {
    use lalograph_lab::artefact::tensor_file::TensorFile;
    use lalograph_lab::artefact::vectors::{KIND, VectorFile};
    use lalograph_storage::{Disk, Existing, WholeFile};
    use lalograph_vectors::VectorTable;

    use super::{About, ExportError, write};
    use crate::exchange::graph::Graph;
    use crate::exchange::precision::Precision;

    #[test]
    fn a_file_of_two_gibibytes_is_refused_before_anything_is_written() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("vectors.safetensors");
        let table = VectorTable::new(vec!["hive".into()], 2, vec![1.0, 2.0]).unwrap();
        let vectors = VectorFile { table, counts: None, vocabulary: None, made: "\"by hand\"".into() };
        vectors.save(WholeFile::create(&Disk, &path, Existing::Keep).unwrap()).unwrap();
        let file = TensorFile::open(&path, &[KIND]).unwrap();
        let about = || About { opset: 17, ..About::default() };
        let written = |rows: usize| {
            let mut graph = Graph::new("lookup", "", Precision::Single);
            graph.weights("vectors", &[rows, 512]);
            let mut out = Vec::new();
            (write(graph, about(), &file, &mut out), out.len())
        };
        let (refused, bytes) = written(1 << 20);
        assert!(matches!(refused, Err(ExportError::TooLarge { bytes }) if bytes > 1 << 31));
        assert_eq!(bytes, 0);
        assert!(written(1).0.is_ok());
    }
}
