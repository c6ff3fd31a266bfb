//! A sealed file whose tensors stay on disk and are read some numbers at a time, so that memory does not grow with the weights.

use std::cell::RefCell;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::ops::Deref;
use std::path::Path;

use super::container::{Header, Kind, Refusal};
use crate::error::LabError;

/// Bytes that are read at once.
const BLOCK: usize = 1 << 18;

/// An open file, the seal of which was found whole.
#[derive(Debug)]
pub struct TensorFile {
    header: Header,
    kind: Kind,
    file: RefCell<File>,
    /// Where the numbers begin.
    start: u64,
}

impl Deref for TensorFile {
    type Target = Header;

    fn deref(&self) -> &Header {
        &self.header
    }
}

impl TensorFile {
    /// Opens a container of one of these kinds and reads it through once to check its seal.
    ///
    /// # Errors
    /// The file cannot be read; it is damaged, cut short or of another kind.
    pub fn open(path: &Path, kinds: &[Kind]) -> Result<Self, LabError> {
        let file = File::open(path).map_err(LabError::at(path))?;
        let bytes = file.metadata().map_err(LabError::at(path))?.len();
        Self::check(file, bytes, kinds)
            .map_err(|refusal| refusal.at(path, |what| LabError::BadModel { path: path.to_owned(), what }))
    }

    fn check(mut file: File, bytes: u64, kinds: &[Kind]) -> Result<Self, Refusal> {
        let (header, start) = Header::read(&mut file, bytes)?;
        let named = |kind: &&Kind| header.asset("format").is_ok_and(|format| format == kind.format);
        let kind = kinds.iter().find(named).or(kinds.first());
        let kind = *kind.ok_or_else(|| "no kind of file was asked for".to_owned())?;
        header.check_kind(kind)?;
        let mut seal = header.seal()?;
        let mut block = vec![0; BLOCK];
        loop {
            let read = file.read(&mut block)?;
            if read == 0 {
                break;
            }
            seal.add_numbers(&block[..read]);
        }
        header.check_seal(&seal)?;
        Ok(Self { header, kind, file: RefCell::new(file), start: start as u64 })
    }

    /// Its kind.
    pub fn kind(&self) -> Kind {
        self.kind
    }

    /// Reads a tensor from its first number to its last, some numbers at a time.
    ///
    /// # Errors
    /// The file cannot be read; the tensor is not there; a number is not finite; `each` fails.
    pub fn read(&self, name: &str, mut each: impl FnMut(&[f32]) -> io::Result<()>) -> io::Result<()> {
        let place = self.place(name).map_err(io::Error::other)?;
        let mut file = self.file.borrow_mut();
        file.seek(SeekFrom::Start(self.start + place.start as u64))?;
        let mut bytes = vec![0; BLOCK.min(place.len())];
        let mut numbers = Vec::with_capacity(bytes.len() / 4);
        let mut left = place.len();
        while left > 0 {
            let block = &mut bytes[..left.min(BLOCK)];
            file.read_exact(block)?;
            left -= block.len();
            numbers.clear();
            numbers.extend(block.as_chunks::<4>().0.iter().map(|word| f32::from_le_bytes(*word)));
            if numbers.iter().any(|number| !number.is_finite()) {
                return Err(io::Error::other(format!("the tensor `{name}` has a number that is not finite")));
            }
            each(&numbers)?;
        }
        Ok(())
    }
}
