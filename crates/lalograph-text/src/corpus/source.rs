//! One file as a stream of UTF-8 lines, unpacked and decoded.

use std::fs::File;
use std::io::{self, BufRead, BufReader, Read};
use std::os::fd::AsFd;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use encoding_rs::{Encoding, UTF_8};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fs::{Mode, OFlags};
use rustix::io::Errno;

use super::encoding::{Decoding, Detected, detect};
use super::find::is_standard_input;
use super::meter::Meter;
use super::reading::Reason;

/// Bytes read at a time.
const BLOCK: usize = 1 << 18;
/// Unpacked bytes below which nothing is called a bomb.
const HARMLESS: u64 = 1 << 26;

/// A file that can be read.
pub(super) struct Source {
    /// UTF-8, without a byte-order mark; bytes FF where something could not be decoded.
    pub(super) lines: Box<dyn BufRead + Send>,
    /// Its text encoding.
    pub(super) encoding: &'static Encoding,
    /// Whether that was guessed.
    pub(super) guessed: bool,
}

/// Opens a file, unpacks and decodes it. `meter` continues with the bytes taken from the disk.
pub(super) fn open(
    path: &Path,
    named: Option<&'static Encoding>,
    expansion: u64,
    meter: &Arc<Meter>,
) -> Result<Source, Reason> {
    let unreadable = |error: io::Error| reason_of(&error);
    let raw = if is_standard_input(path) {
        Box::new(Asking { inner: io::stdin(), meter: Arc::clone(meter) })
    } else {
        open_raw(path, meter).map_err(unreadable)?
    };
    let counted = Counted { inner: raw, all: Arc::clone(meter), here: Arc::new(AtomicU64::new(0)) };
    let here = Arc::clone(&counted.here);
    let mut packed = BufReader::with_capacity(BLOCK, counted);
    // A pipe may give few bytes at first; four are enough to detect the encoding.
    let start = packed.fill_buf().map_err(unreadable)?;
    let limited = |inner: Box<dyn Read + Send>| Limited { inner, here, produced: 0, times: expansion };
    let mut lines: Box<dyn BufRead + Send> = if start.starts_with(&[0x1f, 0x8b]) {
        let unpacked = flate2::bufread::MultiGzDecoder::new(packed);
        Box::new(BufReader::with_capacity(BLOCK, limited(Box::new(unpacked))))
    } else if start.starts_with(&[0x28, 0xb5, 0x2f, 0xfd]) {
        let unpacked = zstd::Decoder::with_buffer(packed).map_err(unreadable)?;
        Box::new(BufReader::with_capacity(BLOCK, limited(Box::new(unpacked))))
    } else {
        Box::new(packed)
    };
    let block = lines.fill_buf().map_err(unreadable)?;
    let detected = match named {
        // A byte-order mark is not text, even if the user named the encoding.
        Some(encoding) => Detected::Text {
            encoding,
            mark_bytes: Encoding::for_bom(block).filter(|(of, _)| *of == encoding).map_or(0, |(_, n)| n),
            guessed: false,
        },
        None => detect(block, block.len() < BLOCK),
    };
    let Detected::Text { encoding, mark_bytes, guessed } = detected else {
        return Err(Reason::Binary);
    };
    lines.consume(mark_bytes);
    if encoding != UTF_8 {
        lines = Box::new(BufReader::with_capacity(BLOCK, Decoding::new(lines, encoding)));
    }
    Ok(Source { lines, encoding, guessed })
}

/// The reason to report for a file that could not be read to its end.
pub(super) fn reason_of(error: &io::Error) -> Reason {
    match error.get_ref().and_then(|inner| inner.downcast_ref::<Reason>()) {
        Some(reason) => reason.clone(),
        None if error.kind() == io::ErrorKind::UnexpectedEof => {
            Reason::Unreadable("the compressed data end too soon".into())
        }
        None => Reason::Unreadable(super::find::plain(error)),
    }
}

/// Opens a file; where it may keep its reader waiting, so that the reader asks meanwhile whether to continue.
fn open_raw(path: &Path, meter: &Arc<Meter>) -> io::Result<Box<dyn Read + Send>> {
    let file = std::fs::metadata(path)?;
    if file.is_file() && file.len() > 0 {
        return Ok(Box::new(File::open(path)?));
    }
    // A pipe that nobody writes to is opened at once, and waited for in `Asking`.
    let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::CLOEXEC;
    let inner = File::from(rustix::fs::open(path, flags, Mode::empty())?);
    Ok(Box::new(Asking { inner, meter: Arc::clone(meter) }))
}

/// A pipe, a device, or a file that the system generates: reading waits for data, and stops when it is no longer needed.
struct Asking<R> {
    inner: R,
    meter: Arc<Meter>,
}

impl<R: Read + AsFd> Read for Asking<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        const PATIENCE: Timespec = Timespec { tv_sec: 0, tv_nsec: 100_000_000 };
        loop {
            if self.meter.is_stopped() {
                return Err(io::Error::other("no longer needed"));
            }
            match poll(&mut [PollFd::new(&self.inner, PollFlags::IN)], Some(&PATIENCE)) {
                Ok(0) | Err(Errno::INTR) => continue,
                polled => polled?,
            };
            match self.inner.read(buffer) {
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
                read => return read,
            }
        }
    }
}

struct Counted {
    inner: Box<dyn Read + Send>,
    all: Arc<Meter>,
    here: Arc<AtomicU64>,
}

impl Read for Counted {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let count = self.inner.read(buffer)?;
        self.all.add(count);
        self.here.fetch_add(count as u64, Ordering::Relaxed);
        Ok(count)
    }
}

/// Refuses to continue when what is unpacked is out of all proportion to what was read.
struct Limited {
    inner: Box<dyn Read + Send>,
    here: Arc<AtomicU64>,
    produced: u64,
    times: u64,
}

impl Read for Limited {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let count = self.inner.read(buffer)?;
        self.produced += count as u64;
        let read = self.here.load(Ordering::Relaxed);
        if self.produced > HARMLESS && self.produced / self.times > read {
            return Err(io::Error::other(Reason::Expands(self.times)));
        }
        Ok(count)
    }
}
