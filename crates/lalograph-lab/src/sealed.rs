//! Safetensors files with a seal: metadata of ours, and a hash over it and all numbers, so that a file that was altered or cut short is never
//! taken for whole.

use std::collections::BTreeMap;
use std::io::{self, Write};
use std::ops::Range;

use safetensors::SafeTensors;
use safetensors::tensor::Dtype;
use serde::Serialize;

/// Numbers with a name and a shape, to be written.
#[derive(Debug, Clone)]
pub(crate) struct Numbers<'a> {
    pub(crate) name: String,
    pub(crate) shape: Vec<usize>,
    pub(crate) values: &'a [f32],
}

const SEAL: &str = "content_hash";

/// Writes a file's bytes: the same for the same content, whatever the machine's clock says.
///
/// The header is written here and not by the safetensors crate, whose metadata map has no fixed order.
pub(crate) fn write_sealed(
    mut metadata: BTreeMap<&str, String>,
    tensors: &[Numbers<'_>],
    mut out: impl Write,
) -> io::Result<()> {
    let mut hash = metadata_hash(metadata.iter().map(|(key, value)| (*key, value.as_str())));
    for tensor in tensors {
        for_bytes(tensor.values, |bytes| {
            hash.update(bytes);
            Ok(())
        })?;
    }
    metadata.insert(SEAL, hash.finalize().to_hex().to_string());
    let mut from = 0;
    let entries = tensors.iter().map(|tensor| {
        let to = from + tensor.values.len() * 4;
        let entry = Entry { shape: &tensor.shape, bytes: std::mem::replace(&mut from, to)..to };
        (tensor.name.as_str(), entry)
    });
    let header = header(metadata.iter().map(|(key, value)| (*key, value.as_str())), entries);
    out.write_all(&(header.len() as u64).to_le_bytes())?;
    out.write_all(&header)?;
    for tensor in tensors {
        for_bytes(tensor.values, |bytes| out.write_all(bytes))?;
    }
    Ok(())
}

struct Entry<'a> {
    shape: &'a [usize],
    bytes: Range<usize>,
}

/// The header, with spaces to a length of a multiple of eight, since the numbers are to begin at one.
fn header<'a>(
    metadata: impl Iterator<Item = (&'a str, &'a str)>,
    entries: impl Iterator<Item = (&'a str, Entry<'a>)>,
) -> Vec<u8> {
    let metadata: BTreeMap<&str, &str> = metadata.collect();
    let mut map = serde_json::Map::new();
    map.insert("__metadata__".into(), serde_json::json!(metadata));
    for (name, Entry { shape, bytes }) in entries {
        let entry =
            serde_json::json!({ "dtype": "F32", "shape": shape, "data_offsets": [bytes.start, bytes.end] });
        map.insert(name.to_owned(), entry);
    }
    let mut header = json(&map).into_bytes();
    header.resize(header.len().next_multiple_of(8), b' ');
    header
}

/// Hands numbers on as bytes, some at a time.
fn for_bytes(numbers: &[f32], mut each: impl FnMut(&[u8]) -> io::Result<()>) -> io::Result<()> {
    let mut bytes = Vec::with_capacity(1 << 16);
    for numbers in numbers.chunks(1 << 14) {
        bytes.clear();
        bytes.extend(numbers.iter().flat_map(|number| number.to_le_bytes()));
        each(&bytes)?;
    }
    Ok(())
}

/// A file that was read.
pub(crate) struct Sealed<'b> {
    metadata: BTreeMap<String, String>,
    tensors: SafeTensors<'b>,
    header: &'b [u8],
    data: &'b [u8],
}

impl<'b> Sealed<'b> {
    /// Takes the bytes of a file apart; [`Sealed::check`] is still to be asked.
    ///
    /// # Errors
    /// A phrase that says why these bytes are no such file.
    pub(crate) fn read(bytes: &'b [u8]) -> Result<Self, String> {
        let damaged = |error: safetensors::SafeTensorError| format!("it is cut short or damaged ({error})");
        let (length, header) = SafeTensors::read_metadata(bytes).map_err(damaged)?;
        let tensors = SafeTensors::deserialize(bytes).map_err(damaged)?;
        let metadata =
            header.metadata().as_ref().ok_or("it has no metadata, so it is not one of Lalograph's")?;
        let metadata = metadata.iter().map(|(key, value)| (key.clone(), value.clone())).collect();
        let (header, data) = bytes[8..].split_at(length.min(bytes.len() - 8));
        Ok(Self { metadata, tensors, header, data })
    }

    /// A text of the metadata.
    pub(crate) fn entry(&self, key: &str) -> Result<&str, String> {
        self.metadata.get(key).map(String::as_str).ok_or_else(|| format!("its metadata has no `{key}`"))
    }

    /// The bytes of a tensor of this shape.
    pub(crate) fn bytes(&self, name: &str, shape: &[usize]) -> Result<&[u8], String> {
        let found = self.tensors.tensor(name).map_err(|_| format!("the tensor `{name}` is missing"))?;
        if found.dtype() != Dtype::F32 || found.shape() != shape {
            return Err(format!(
                "the tensor `{name}` is {:?} {:?}, and its plan asks for F32 {shape:?}",
                found.dtype(),
                found.shape(),
            ));
        }
        let start = found.data().as_ptr() as usize - self.data.as_ptr() as usize;
        Ok(&self.data[start..start + found.data().len()])
    }

    /// The numbers of a tensor of this shape.
    pub(crate) fn numbers(&self, name: &str, shape: &[usize]) -> Result<Vec<f32>, String> {
        let (words, _) = self.bytes(name, shape)?.as_chunks::<4>();
        Ok(words.iter().map(|word| f32::from_le_bytes(*word)).collect())
    }

    /// The columns of a tensor of rows.
    pub(crate) fn columns(&self, name: &str) -> Result<usize, String> {
        let found = self.tensors.tensor(name).map_err(|_| format!("the tensor `{name}` is missing"))?;
        match found.shape() {
            [_, columns] => Ok(*columns),
            shape => Err(format!(
                "the tensor `{name}` has the shape {shape:?}, and rows and columns were expected"
            )),
        }
    }

    /// Whether there is a tensor of that name.
    pub(crate) fn has(&self, name: &str) -> bool {
        self.tensors.tensor(name).is_ok()
    }

    /// How many tensors there are.
    pub(crate) fn len(&self) -> usize {
        self.tensors.len()
    }

    /// Refuses a file whose metadata or numbers are not those that were sealed.
    pub(crate) fn check(&self) -> Result<(), String> {
        let others = self.metadata.iter().filter(|(key, _)| *key != SEAL);
        let mut hash = metadata_hash(others.map(|(key, value)| (key.as_str(), value.as_str())));
        if hash.update(self.data).finalize().to_hex().as_str() != self.entry(SEAL)? {
            return Err("its content does not match its hash: it was altered after it was written".into());
        }
        Ok(())
    }

    /// Refuses a file whose header is not to the byte what is written here for such a content.
    pub(crate) fn check_header(&self) -> Result<(), String> {
        let place = |tensor: &safetensors::tensor::TensorView<'_>| {
            let start = tensor.data().as_ptr() as usize - self.data.as_ptr() as usize;
            start..start + tensor.data().len()
        };
        let tensors: Vec<_> = self.tensors.iter().collect();
        let entries = tensors
            .iter()
            .map(|(name, tensor)| (*name, Entry { shape: tensor.shape(), bytes: place(tensor) }));
        let metadata = self.metadata.iter().map(|(key, value)| (key.as_str(), value.as_str()));
        if header(metadata, entries) == self.header { Ok(()) } else { Err("its header was altered".into()) }
    }
}

/// The rows of a tensor in any safetensors file: their width and their numbers, of single or double precision.
pub(crate) fn foreign_rows(bytes: &[u8], name: &str, rows: usize) -> Result<(usize, Vec<f32>), String> {
    let file =
        SafeTensors::deserialize(bytes).map_err(|error| format!("it is cut short or damaged ({error})"))?;
    let tensor = file.tensor(name).map_err(|_| {
        let names: Vec<&str> = file.names();
        format!("the tensor `{name}` is missing; it has {}", names.join(", "))
    })?;
    let [found, columns] = tensor.shape()[..] else {
        return Err(format!(
            "the tensor `{name}` has the shape {:?}, and rows and columns were expected",
            tensor.shape()
        ));
    };
    if found != rows {
        return Err(format!("the tensor `{name}` has {found} rows, and there are {rows} words"));
    }
    let numbers = match tensor.dtype() {
        Dtype::F32 => tensor.data().as_chunks::<4>().0.iter().map(|x| f32::from_le_bytes(*x)).collect(),
        Dtype::F64 => {
            tensor.data().as_chunks::<8>().0.iter().map(|x| f64::from_le_bytes(*x) as f32).collect()
        }
        other => return Err(format!("the tensor `{name}` is {other:?}, and F32 or F64 can be read")),
    };
    Ok((columns, numbers))
}

/// Plain data with string keys as JSON.
pub(crate) fn json<T: Serialize>(value: &T) -> String {
    // Serialising such data cannot fail.
    serde_json::to_string(value).unwrap_or_default()
}

/// BLAKE3 of every metadata key and value in the order of the keys, each with its length before it; the tensors' bytes are to follow.
fn metadata_hash<'a>(metadata: impl Iterator<Item = (&'a str, &'a str)>) -> blake3::Hasher {
    let mut hash = blake3::Hasher::new();
    for (key, value) in metadata {
        for part in [key.as_bytes(), value.as_bytes()] {
            hash.update(&(part.len() as u64).to_le_bytes());
            hash.update(part);
        }
    }
    hash
}
