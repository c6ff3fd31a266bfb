//! A sealed file whose tensors stay on disk and are read some numbers at a time, so that memory does not grow with the weights.

use std::cell::RefCell;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::ops::Deref;
use std::path::Path;

use super::container::{Header, Kind, LARGEST_BYTES, LONGEST_HEADER};
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
            .map_err(LabError::at(path))?
            .map_err(|what| LabError::BadModel { path: path.to_owned(), what })
    }

    fn check(mut file: File, bytes: u64, kinds: &[Kind]) -> io::Result<Result<Self, String>> {
        let mut length = [0; 8];
        if !(9..=LARGEST_BYTES).contains(&bytes) {
            return Ok(Err("it is a file of another kind, or damaged".into()));
        }
        file.read_exact(&mut length)?;
        let header_bytes = u64::from_le_bytes(length);
        if header_bytes > (LONGEST_HEADER as u64).min(bytes - 8) {
            return Ok(Err("it is a file of another kind, or damaged".into()));
        }
        let mut first = length.to_vec();
        first.resize(8 + header_bytes as usize, 0);
        file.read_exact(&mut first[8..])?;
        let sealed = || -> Result<_, String> {
            let (header, start) = Header::read(&first, bytes)?;
            let named = |kind: &&Kind| header.asset("format").is_ok_and(|format| format == kind.format);
            let kind = *kinds.iter().find(named).or(kinds.first()).ok_or("no kind of file was asked for")?;
            header.check_kind(kind)?;
            let seal = header.seal()?;
            Ok((header, kind, start, seal))
        };
        let (header, kind, start, mut seal) = match sealed() {
            Ok(sealed) => sealed,
            Err(what) => return Ok(Err(what)),
        };
        let mut block = vec![0; BLOCK];
        loop {
            let read = file.read(&mut block)?;
            if read == 0 {
                break;
            }
            seal.add_numbers(&block[..read]);
        }
        Ok(header.check_seal(&seal).map(|()| Self {
            header,
            kind,
            file: RefCell::new(file),
            start: start as u64,
        }))
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
