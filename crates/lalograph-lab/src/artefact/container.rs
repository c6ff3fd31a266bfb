//! The one container of everything that holds tensors: a safetensors file with metadata of ours and a seal over all of it.
//!
//! `docs/formats/container.md` describes it. The seal is a hash over the metadata, over the name, kind, shape and place of every tensor,
//! and over all numbers, so that a file that was altered or cut short is never read as complete.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, Read, Write};
use std::ops::{Deref, Range};
use std::path::Path;

use lalograph_net::Layout;
use lalograph_net::weights::layout::Tensor;
use safetensors::SafeTensors;
use safetensors::tensor::{Dtype, Metadata, TensorInfo};
use serde::Serialize;

use crate::error::LabError;

/// Texts with names: the metadata of a container.
pub type Assets = BTreeMap<&'static str, String>;

/// The contents of a container.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Kind {
    /// The metadata's `format`.
    pub format: &'static str,
    /// The metadata's `version`.
    pub version: &'static str,
}

/// Numbers with a name and a shape, to be written.
#[derive(Debug, Clone)]
pub(crate) struct Numbers<'a> {
    pub(crate) name: String,
    pub(crate) shape: Vec<usize>,
    pub(crate) values: &'a [f32],
}

const SEAL: &str = "content_hash";
/// Names the seal of a container.
const CONTAINER: &str = "container";
const CONTAINER_VERSION: &str = "1";
/// Files beyond this are not read.
const LARGEST_BYTES: u64 = 64 << 30;

/// Numbers that are read at once.
const PIECE: usize = 1 << 20;
/// Headers beyond this are not read: a vocabulary is in them.
const LONGEST_HEADER: usize = 1 << 30;

/// Writes a container's bytes: the same content gives the same bytes on every machine.
///
/// The header is written here and not by the safetensors crate, whose metadata map has no fixed order.
pub(crate) fn write_container(
    kind: Kind,
    mut metadata: Assets,
    tensors: &[Numbers<'_>],
    mut out: impl Write,
) -> io::Result<()> {
    metadata.insert("format", kind.format.to_owned());
    metadata.insert("version", kind.version.to_owned());
    metadata.insert(CONTAINER, CONTAINER_VERSION.to_owned());
    let mut seal = Seal::new(metadata.iter().map(|(key, value)| (*key, value.as_str())));
    let mut from = 0;
    let mut entries = serde_json::Map::new();
    for tensor in tensors {
        let to = from + size_of_val(tensor.values);
        seal.add_tensor(&tensor.name, &tensor.shape, (from, to));
        let entry = serde_json::json!({ "dtype": "F32", "shape": tensor.shape, "data_offsets": [from, to] });
        entries.insert(tensor.name.clone(), entry);
        from = to;
    }
    for tensor in tensors {
        for_bytes(tensor.values, |bytes| {
            seal.add_numbers(bytes);
            Ok(())
        })?;
    }
    metadata.insert(SEAL, seal.hash.finalize().to_hex().to_string());
    let mut map = serde_json::Map::new();
    map.insert("__metadata__".into(), serde_json::to_value(&metadata)?);
    map.extend(entries);
    let mut header = serde_json::to_vec(&map)?;
    // Spaces to a multiple of eight, since the numbers are to begin at one.
    header.resize(header.len().next_multiple_of(8), b' ');
    out.write_all(&(header.len() as u64).to_le_bytes())?;
    out.write_all(&header)?;
    for tensor in tensors {
        for_bytes(tensor.values, |bytes| out.write_all(bytes))?;
    }
    Ok(())
}

/// Passes numbers on as bytes, some at a time.
fn for_bytes(numbers: &[f32], mut each: impl FnMut(&[u8]) -> io::Result<()>) -> io::Result<()> {
    let mut bytes = Vec::with_capacity(1 << 16);
    for numbers in numbers.chunks(1 << 14) {
        bytes.clear();
        bytes.extend(numbers.iter().flat_map(|number| number.to_le_bytes()));
        each(&bytes)?;
    }
    Ok(())
}

/// The hash in the making. Every text has its length before it, every number 8 bytes.
pub(super) struct Seal {
    hash: blake3::Hasher,
}

impl Seal {
    /// Begins with the metadata in the order of its keys, the seal's own left out.
    fn new<'a>(metadata: impl Iterator<Item = (&'a str, &'a str)>) -> Self {
        let mut seal = Self { hash: blake3::Hasher::new() };
        for (key, value) in metadata {
            seal.add_text(key);
            seal.add_text(value);
        }
        seal
    }

    fn add_text(&mut self, text: &str) {
        self.hash.update(&(text.len() as u64).to_le_bytes());
        self.hash.update(text.as_bytes());
    }

    /// Goes on with some bytes of the numbers.
    pub(super) fn add_numbers(&mut self, bytes: &[u8]) {
        self.hash.update(bytes);
    }

    fn add_tensor(&mut self, name: &str, shape: &[usize], (from, to): (usize, usize)) {
        self.add_text(name);
        self.add_text("F32");
        let sizes = shape.iter().copied();
        for number in [shape.len()].into_iter().chain(sizes).chain([from, to]) {
            self.hash.update(&(number as u64).to_le_bytes());
        }
    }
}

/// Whether bytes begin as a container does: with the length of a JSON object, then the object. The first nine bytes decide.
pub(crate) fn begins_as_container(bytes: &[u8]) -> bool {
    bytes.get(8) == Some(&b'{') && bytes[6..8] == [0, 0]
}

/// The bytes of a file that is to be read whole.
pub(crate) fn read_file(path: &Path) -> Result<Vec<u8>, LabError> {
    let size = fs::metadata(path).map_err(LabError::at(path))?.len();
    if size > LARGEST_BYTES {
        let what = format!("{size} bytes; files of up to {LARGEST_BYTES} bytes are read");
        return Err(LabError::at(path)(io::Error::new(io::ErrorKind::FileTooLarge, what)));
    }
    fs::read(path).map_err(LabError::at(path))
}

/// Why a container is not read: the file cannot be, or a phrase that says what is wrong with it.
#[derive(Debug)]
pub(super) enum Refusal {
    Io(io::Error),
    Content(String),
}

impl From<io::Error> for Refusal {
    fn from(error: io::Error) -> Self {
        match error.kind() {
            // It was long enough when it was opened, or so the header says.
            io::ErrorKind::UnexpectedEof => Self::Content("it is cut short".into()),
            _ => Self::Io(error),
        }
    }
}

impl From<String> for Refusal {
    fn from(what: String) -> Self {
        Self::Content(what)
    }
}

impl Refusal {
    /// The error for the file at `path`; `bad` is that for its content.
    pub(super) fn at(self, path: &Path, bad: impl FnOnce(String) -> LabError) -> LabError {
        match self {
            Self::Io(error) => LabError::at(path)(error),
            Self::Content(what) => bad(what),
        }
    }
}

/// The header of a container: its texts, and where its tensors are.
#[derive(Debug)]
pub struct Header {
    metadata: BTreeMap<String, String>,
    /// By name.
    tensors: BTreeMap<String, TensorInfo>,
    /// Names in the order of their numbers in the file.
    order: Vec<String>,
}

impl Header {
    /// Reads the header of a file of so many bytes, and says where the numbers begin. Nothing is reserved but what the header takes.
    pub(super) fn read(source: &mut impl Read, bytes: u64) -> Result<(Self, usize), Refusal> {
        if bytes > LARGEST_BYTES {
            let what = format!("{bytes} bytes; files of up to {LARGEST_BYTES} bytes are read");
            return Err(io::Error::new(io::ErrorKind::FileTooLarge, what).into());
        }
        let mut begin = [0; 9];
        source.read_exact(&mut begin)?;
        if !begins_as_container(&begin) {
            return Err("it is a file of another kind, or damaged".to_owned().into());
        }
        let length = begin.first_chunk::<8>().map_or(u64::MAX, |length| u64::from_le_bytes(*length));
        if length > (LONGEST_HEADER as u64).min(bytes.saturating_sub(8)) {
            return Err("it is cut short or damaged (its header is not whole)".to_owned().into());
        }
        let mut header = begin[8..].to_vec();
        header.resize(length.max(1) as usize, 0);
        source.read_exact(&mut header[1..])?;
        let start = 8 + header.len();
        let header: Metadata = serde_json::from_slice(&header)
            .map_err(|error| format!("it is cut short or damaged ({error})"))?;
        if (start + header.data_len()) as u64 != bytes {
            return Err("it is cut short, or has data after its tensors".to_owned().into());
        }
        Ok((Self::of(&header)?, start))
    }

    fn of(header: &Metadata) -> Result<Self, String> {
        let metadata =
            header.metadata().as_ref().ok_or("it has no metadata, so Lalograph did not write it")?;
        Ok(Self {
            metadata: metadata.iter().map(|(key, value)| (key.clone(), value.clone())).collect(),
            tensors: header.tensors().into_iter().map(|(name, info)| (name, info.clone())).collect(),
            order: header.offset_keys(),
        })
    }

    /// Refuses a container of another kind or version.
    pub(super) fn check_kind(&self, kind: Kind) -> Result<(), String> {
        let format = self.asset("format")?;
        if format != kind.format {
            return Err(format!("its format is `{format}`, not `{}`", kind.format));
        }
        let version = self.asset("version")?;
        if !self.metadata.contains_key(CONTAINER) {
            let what = "it was written before the first release, and is no longer read";
            return Err(format!("{what} (version {version})"));
        }
        let container = self.asset(CONTAINER)?;
        if version != kind.version || container != CONTAINER_VERSION {
            return Err(format!(
                "its version is {version} in a container of version {container}, and this program reads version {} in version {CONTAINER_VERSION}",
                kind.version
            ));
        }
        Ok(())
    }

    /// The seal of the header, to be continued with the numbers.
    pub(super) fn seal(&self) -> Result<Seal, String> {
        let others = self.metadata.iter().filter(|(key, _)| *key != SEAL);
        let mut seal = Seal::new(others.map(|(key, value)| (key.as_str(), value.as_str())));
        for (name, info) in self.order.iter().filter_map(|name| self.tensors.get_key_value(name)) {
            if info.dtype != Dtype::F32 {
                return Err(format!("the tensor `{name}` is {:?}, and F32 was expected", info.dtype));
            }
            seal.add_tensor(name, &info.shape, info.data_offsets);
        }
        Ok(seal)
    }

    /// Refuses a seal that is not the one in the metadata.
    pub(super) fn check_seal(&self, seal: &Seal) -> Result<(), String> {
        if seal.hash.finalize().to_hex().as_str() != self.asset(SEAL)? {
            return Err("its content does not match its hash: it was changed after it was written".into());
        }
        Ok(())
    }

    /// A text of the metadata.
    ///
    /// # Errors
    /// A phrase: there is none of that key.
    pub fn asset(&self, key: &str) -> Result<&str, String> {
        self.metadata.get(key).map(String::as_str).ok_or_else(|| format!("its metadata has no `{key}`"))
    }

    /// The hash of all its content.
    ///
    /// # Errors
    /// A phrase: there is none.
    pub fn content_hash(&self) -> Result<&str, String> {
        self.asset(SEAL)
    }

    /// The names of the tensors, in the order of their numbers in the file.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.order.iter().map(String::as_str)
    }

    /// The shape of a tensor.
    ///
    /// # Errors
    /// A phrase: there is none of that name.
    pub fn shape(&self, name: &str) -> Result<&[usize], String> {
        Ok(&self.tensor(name)?.shape)
    }

    fn tensor(&self, name: &str) -> Result<&TensorInfo, String> {
        self.tensors.get(name).ok_or_else(|| format!("the tensor `{name}` is missing"))
    }

    /// The bytes of a tensor, counted from the first number of the file.
    pub(super) fn place(&self, name: &str) -> Result<Range<usize>, String> {
        let (from, to) = self.tensor(name)?.data_offsets;
        Ok(from..to)
    }

    /// Refuses a tensor that is not there, or of another shape.
    pub(crate) fn check_shape(&self, name: &str, shape: &[usize]) -> Result<(), String> {
        let found = self.shape(name)?;
        if found == shape {
            return Ok(());
        }
        Err(format!("the tensor `{name}` is {found:?}, and its plan has {shape:?}"))
    }

    /// Refuses tensors that are not those of a layout.
    pub(crate) fn check_layout(&self, layout: &Layout) -> Result<(), String> {
        for tensor in layout.tensors() {
            self.check_shape(&tensor.name, &tensor.shape)?;
        }
        let (found, wanted) = (self.names().count(), layout.tensors().len());
        if found != wanted {
            return Err(format!("it holds {found} tensors, and its plan has {wanted}"));
        }
        Ok(())
    }

    /// The columns of a tensor of rows.
    pub(crate) fn columns(&self, name: &str) -> Result<usize, String> {
        match self.shape(name)? {
            [_, columns] => Ok(*columns),
            shape => Err(format!(
                "the tensor `{name}` has the shape {shape:?}, and rows and columns were expected"
            )),
        }
    }

    /// Whether there is a tensor of that name.
    pub(crate) fn has(&self, name: &str) -> bool {
        self.tensors.contains_key(name)
    }
}

/// A container that was read and whose seal was found whole.
pub(crate) struct Container {
    header: Header,
    /// Those of all tensors, in their order in the file.
    numbers: Vec<f32>,
}

impl Deref for Container {
    type Target = Header;

    fn deref(&self) -> &Header {
        &self.header
    }
}

impl Container {
    /// Reads a file and checks all of it; `bad` is the error for its content, of which it is given a phrase.
    ///
    /// # Errors
    /// The file cannot be read; it is no such container.
    pub(crate) fn open(
        path: &Path,
        kind: Kind,
        bad: impl FnOnce(String) -> LabError,
    ) -> Result<Self, LabError> {
        let file = File::open(path).map_err(LabError::at(path))?;
        let facts = file.metadata().map_err(LabError::at(path))?;
        if !facts.is_file() {
            // Of a pipe nobody knows the length before its end.
            return Self::read(&read_file(path)?, kind).map_err(bad);
        }
        Self::read_from(file, facts.len(), kind).map_err(|refusal| refusal.at(path, bad))
    }

    /// The same from the bytes of a file.
    ///
    /// # Errors
    /// A phrase that says why these bytes are no such file.
    pub(crate) fn read(bytes: &[u8], kind: Kind) -> Result<Self, String> {
        Self::read_from(bytes, bytes.len() as u64, kind).map_err(|refusal| match refusal {
            Refusal::Io(error) => error.to_string(),
            Refusal::Content(what) => what,
        })
    }

    fn read_from(mut source: impl Read + Send, bytes: u64, kind: Kind) -> Result<Self, Refusal> {
        let (header, start) = Header::read(&mut source, bytes)?;
        header.check_kind(kind)?;
        let mut seal = header.seal()?;
        let mut numbers = vec![0.0f32; (bytes - start as u64) as usize / size_of::<f32>()];
        // One piece goes into the seal while the next is read.
        let mut last: &[u8] = &[];
        for piece in numbers.chunks_mut(PIECE) {
            let bytes = bytemuck::cast_slice_mut(piece);
            let (read, ()) = rayon::join(|| source.read_exact(bytes), || seal.add_numbers(last));
            read?;
            last = bytes;
        }
        seal.add_numbers(last);
        header.check_seal(&seal)?;
        // Little-endian in the file.
        numbers.iter_mut().for_each(|number| *number = f32::from_bits(u32::from_le(number.to_bits())));
        Ok(Self { header, numbers })
    }

    /// The numbers of a tensor, whatever its shape.
    pub(crate) fn all_numbers(&self, name: &str) -> Result<&[f32], String> {
        let place = self.place(name)?;
        let place = place.start / size_of::<f32>()..place.end / size_of::<f32>();
        Ok(self.numbers.get(place).unwrap_or_default())
    }

    /// The numbers of a tensor of this shape.
    pub(crate) fn numbers(&self, name: &str, shape: &[usize]) -> Result<&[f32], String> {
        self.check_shape(name, shape)?;
        self.all_numbers(name)
    }

    /// The numbers of all tensors of a layout, where the layout has them.
    pub(crate) fn into_weights(self, layout: &Layout) -> Result<Vec<f32>, String> {
        self.check_layout(layout)?;
        let bytes = |range: &Range<usize>| range.start * size_of::<f32>()..range.end * size_of::<f32>();
        let same =
            |tensor: &Tensor| self.place(&tensor.name).is_ok_and(|place| place == bytes(&tensor.range));
        if layout.tensors().iter().all(same) {
            return Ok(self.numbers);
        }
        let mut weights = Vec::with_capacity(layout.len());
        for tensor in layout.tensors() {
            weights.extend(self.all_numbers(&tensor.name)?);
        }
        Ok(weights)
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
pub(crate) fn json<T: Serialize>(value: &T) -> Result<String, LabError> {
    serde_json::to_string(value).map_err(|error| LabError::Write(error.to_string()))
}

#[cfg(test)]
mod tests {
    use super::{Assets, Container, Kind, Numbers, write_container};

    const KIND: Kind = Kind { format: "lalograph test", version: "1" };

    fn written() -> Vec<u8> {
        let numbers = |name: &str, values| Numbers { name: name.into(), shape: vec![2, 1], values };
        let tensors = [numbers("one", &[1.0, 2.0][..]), numbers("two", &[3.0, 4.0])];
        let mut bytes = Vec::new();
        write_container(KIND, Assets::from([("note", "hive".to_owned())]), &tensors, &mut bytes).unwrap();
        bytes
    }

    fn refusal(bytes: &[u8]) -> String {
        Container::read(bytes, KIND).err().unwrap()
    }

    /// The same bytes with one text in place of another of the same length.
    fn with(from: &str, to: &str) -> Vec<u8> {
        let mut bytes = written();
        assert_eq!(from.len(), to.len());
        let places: Vec<usize> =
            (0..bytes.len() - from.len()).filter(|&at| bytes[at..].starts_with(from.as_bytes())).collect();
        places.iter().for_each(|&at| bytes[at..at + from.len()].copy_from_slice(to.as_bytes()));
        assert!(!places.is_empty(), "{from}");
        bytes
    }

    #[test]
    fn written_values_are_read_back() {
        let bytes = written();
        let found = Container::read(&bytes, KIND).unwrap();
        assert_eq!(found.asset("note"), Ok("hive"));
        assert_eq!(found.names().collect::<Vec<_>>(), ["one", "two"]);
        assert_eq!(found.numbers("two", &[2, 1]), Ok(&[3.0, 4.0][..]));
        assert!(found.numbers("two", &[1, 2]).is_err() && found.numbers("three", &[1]).is_err());
    }

    #[test]
    fn names_shapes_places_numbers_and_texts_are_all_sealed() {
        let altered = "changed after it was written";
        // Two tensors of one shape that change their names, as a swap of their entries would.
        let swapped = String::from_utf8_lossy(&with("\"one\"", "\"xxx\"")).into_owned();
        assert!(swapped.contains("\"xxx\""));
        let mut bytes = with("\"one\"", "\"xxx\"");
        for (from, to) in [("\"two\"", "\"one\""), ("\"xxx\"", "\"two\"")] {
            let at = (0..bytes.len()).find(|&at| bytes[at..].starts_with(from.as_bytes())).unwrap();
            bytes[at..at + from.len()].copy_from_slice(to.as_bytes());
        }
        assert!(refusal(&bytes).contains(altered), "{}", refusal(&bytes));
        assert!(refusal(&with("[2,1]", "[1,2]")).contains(altered));
        assert!(refusal(&with("hive", "Hive")).contains(altered));
        let mut numbers = written();
        *numbers.last_mut().unwrap() ^= 1;
        assert!(refusal(&numbers).contains(altered));
        let whole = written();
        for cut in 0..whole.len() {
            assert!(Container::read(&whole[..cut], KIND).is_err(), "{cut} bytes");
        }
        let longer: Vec<u8> = whole.iter().copied().chain([0]).collect();
        assert!(Container::read(&longer, KIND).is_err());
    }

    #[test]
    fn other_formats_and_versions_and_files_of_before_are_named() {
        assert!(
            refusal(&with("lalograph test", "lalograph tent")).contains("its format is `lalograph tent`")
        );
        let other = Kind { version: "2", ..KIND };
        let error = Container::read(&written(), other).err().unwrap();
        assert!(error.contains("its version is 1"), "{error}");
        assert!(refusal(&with("container\":", "contained\":")).contains("before the first release"));
    }
}
