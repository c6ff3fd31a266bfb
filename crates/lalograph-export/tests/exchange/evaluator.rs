//! Running a graph: each operator in turn, from named values to named values.

use std::collections::BTreeMap;

use super::operators::apply;
use super::reading::Model;
use super::tensor::Tensor;

/// The outputs of a graph for some inputs. Kinds and sizes are those that it declares.
pub(crate) fn evaluate(model: &Model, inputs: &BTreeMap<String, Tensor>) -> BTreeMap<String, Tensor> {
    let mut named: BTreeMap<&str, usize> = BTreeMap::new();
    let mut values: BTreeMap<String, Tensor> = model.constants.clone();
    for input in &model.inputs {
        let given = &inputs[&input.name];
        check(&input.sizes, given, input.kind, &mut named, &input.name);
        assert!(values.insert(input.name.clone(), given.clone()).is_none(), "{} twice", input.name);
    }
    for node in &model.nodes {
        let given: Vec<Option<&Tensor>> = node
            .inputs
            .iter()
            .map(|name| {
                (!name.is_empty()).then(|| values.get(name).unwrap_or_else(|| panic!("{name} comes later")))
            })
            .collect();
        let made = apply(node, &given);
        assert!(made.len() >= node.outputs.len(), "{}", node.operator);
        for (name, value) in node.outputs.iter().zip(made) {
            assert!(values.insert(name.clone(), value).is_none(), "{name} twice");
        }
    }
    let output = |output: &super::reading::Value| {
        let value = values[&output.name].clone();
        check(&output.sizes, &value, output.kind, &mut named.clone(), &output.name);
        (output.name.clone(), value)
    };
    model.outputs.iter().map(output).collect()
}

fn check<'m>(
    sizes: &'m [Result<usize, String>],
    value: &Tensor,
    kind: i32,
    named: &mut BTreeMap<&'m str, usize>,
    name: &str,
) {
    assert_eq!((kind, sizes.len()), (value.kind, value.shape.len()), "{name}: {:?}", value.shape);
    for (size, &found) in sizes.iter().zip(&value.shape) {
        let wanted = match size {
            Ok(size) => *size,
            Err(size) => *named.entry(size).or_insert(found),
        };
        assert_eq!(wanted, found, "{name}: {size:?}");
    }
}
