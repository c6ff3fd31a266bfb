//! Weights that were made elsewhere: tensors of any safetensors file, by the names and shapes of a layout.

use std::fmt::Write;

use lalograph_net::Layout;
use safetensors::SafeTensors;
use safetensors::tensor::{Dtype, TensorView};

/// Mismatches that are named; the others are counted.
const NAMED: usize = 12;

/// Reads all tensors of a layout, in its order. Single, double, half and bfloat16 precision are read.
///
/// # Errors
/// A phrase that names every tensor that is missing, unexpected, of another shape, of a kind that is not read, or not finite.
pub fn foreign_weights(bytes: &[u8], layout: &Layout) -> Result<Vec<f32>, String> {
    let file = SafeTensors::deserialize(bytes)
        .map_err(|error| format!("it is no safetensors file, cut short or damaged ({error})"))?;
    let mut wrong = Vec::new();
    let mut weights = Vec::with_capacity(layout.len());
    for wanted in layout.tensors() {
        match file.tensor(&wanted.name) {
            Err(_) => wrong.push(format!("`{}` {:?} is missing", wanted.name, wanted.shape)),
            Ok(found) if found.shape() != wanted.shape => {
                let turned = found.shape().iter().rev().eq(&wanted.shape) && wanted.shape.len() == 2;
                let advice = if turned { "; is it transposed?" } else { "" };
                wrong.push(format!(
                    "`{}` is {:?}, and {:?} is expected{advice}",
                    wanted.name,
                    found.shape(),
                    wanted.shape
                ));
            }
            Ok(found) => match numbers(&found) {
                Some(numbers) if numbers.iter().all(|number| number.is_finite()) => weights.extend(numbers),
                Some(_) => wrong.push(format!("`{}` has numbers that are not finite", wanted.name)),
                None => wrong.push(format!(
                    "`{}` is {:?}, and F32, F64, F16 or BF16 can be read",
                    wanted.name,
                    found.dtype()
                )),
            },
        }
    }
    let mut names = file.names();
    names.sort_unstable();
    let known = |name: &str| layout.tensor(name).is_some();
    let unexpected = names.into_iter().filter(|name| !known(name));
    wrong.extend(unexpected.map(|name| format!("`{name}` is not expected")));
    if wrong.is_empty() {
        return Ok(weights);
    }
    let mut text = wrong[..wrong.len().min(NAMED)].join("; ");
    if wrong.len() > NAMED {
        let _ = write!(text, "; and {} more", wrong.len() - NAMED);
    }
    Err(text)
}

fn numbers(tensor: &TensorView<'_>) -> Option<Vec<f32>> {
    let data = tensor.data();
    Some(match tensor.dtype() {
        Dtype::F32 => data.as_chunks().0.iter().map(|&bytes| f32::from_le_bytes(bytes)).collect(),
        Dtype::F64 => data.as_chunks().0.iter().map(|&bytes| f64::from_le_bytes(bytes) as f32).collect(),
        Dtype::F16 => {
            data.as_chunks().0.iter().map(|&bytes| half::f16::from_le_bytes(bytes).to_f32()).collect()
        }
        Dtype::BF16 => {
            data.as_chunks().0.iter().map(|&bytes| half::bf16::from_le_bytes(bytes).to_f32()).collect()
        }
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use lalograph_net::Layout;
    use lalograph_net::weights::layout::Initial;
    use safetensors::tensor::{Dtype, TensorView, serialize};

    use super::foreign_weights;

    fn layout() -> Layout {
        let mut layout = Layout::default();
        let group = layout.group("output");
        layout.push("table", &[2, 3], group, Initial::Constant(0.0));
        layout.push("bias", &[2], group, Initial::Constant(0.0));
        layout
    }

    fn read(tensors: &[(&str, Dtype, &[usize], Vec<u8>)]) -> Result<Vec<f32>, String> {
        let views = tensors
            .iter()
            .map(|(name, kind, shape, data)| (*name, TensorView::new(*kind, shape.to_vec(), data).unwrap()));
        foreign_weights(&serialize(views, None).unwrap(), &layout())
    }

    #[test]
    fn tensors_of_four_precisions_are_read_in_the_layouts_order() {
        let singles = |numbers: &[f32]| numbers.iter().flat_map(|x| x.to_le_bytes()).collect::<Vec<u8>>();
        let table = singles(&[1.0, 2.0, 3.0, 4.0, 5.0, 6.0]);
        let halves: Vec<u8> = [0x3c00u16, 0xc000].iter().flat_map(|x| x.to_le_bytes()).collect();
        let brains: Vec<u8> = [0x3f80u16, 0xc000].iter().flat_map(|x| x.to_le_bytes()).collect();
        let doubles: Vec<u8> = [1.0f64, -2.0].iter().flat_map(|x| x.to_le_bytes()).collect();
        for (kind, bias) in [
            (Dtype::F32, singles(&[1.0, -2.0])),
            (Dtype::F64, doubles),
            (Dtype::F16, halves),
            (Dtype::BF16, brains),
        ] {
            let found = read(&[("bias", kind, &[2], bias), ("table", Dtype::F32, &[2, 3], table.clone())]);
            assert_eq!(found.unwrap(), [1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 1.0, -2.0], "{kind:?}");
        }
    }

    #[test]
    fn all_that_is_wrong_is_named() {
        let zeros = |count: usize| vec![0; 4 * count];
        let error = read(&[("table", Dtype::F32, &[3, 2], zeros(6)), ("extra", Dtype::F32, &[1], zeros(1))])
            .unwrap_err();
        for part in [
            "`table` is [3, 2], and [2, 3] is expected; is it transposed?",
            "`bias` [2] is missing",
            "`extra` is not expected",
        ] {
            assert!(error.contains(part), "{error}");
        }
        let table = || ("table", Dtype::F32, &[2usize, 3][..], zeros(6));
        let error = read(&[table(), ("bias", Dtype::I32, &[2], zeros(2))]).unwrap_err();
        assert!(error.contains("I32"), "{error}");
        let nan = f32::NAN.to_le_bytes().repeat(2);
        let error = read(&[table(), ("bias", Dtype::F32, &[2], nan)]).unwrap_err();
        assert!(error.contains("not finite"), "{error}");
        assert!(foreign_weights(b"{}", &layout()).is_err());
    }
}
