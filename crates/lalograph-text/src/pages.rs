//! A file that is read page by page where its bytes are wanted. It is not mapped into memory: a mapped file that shrinks, or whose disk
//! fails, ends the process by a signal; a read of it fails.

use std::cell::RefCell;
use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU64, Ordering};

use foldhash::fast::FixedState;
use hashbrown::HashMap;

/// Bytes that are read at once.
const PAGE: usize = 4096;
/// Pages of all files that a thread keeps: 8 MiB, as many as there are rows in a batch and a few documents more.
const KEPT: usize = 2048;

/// Pages by their file and place in it.
type Pages = HashMap<(u64, u64), Box<[u8; PAGE]>, FixedState>;

thread_local! {
    static PAGES: RefCell<Pages> = RefCell::new(Pages::default());
}

/// A file that is only read.
#[derive(Debug)]
pub(crate) struct PagedFile {
    file: File,
    length: u64,
    /// Tag of its pages among those of other files.
    number: u64,
    /// Why the first page that could not be read could not be.
    lost: OnceLock<io::Error>,
}

impl PagedFile {
    /// The first bytes of a file, as many as it had when it was opened.
    pub(crate) fn new(file: File, length: u64) -> Self {
        static FILES: AtomicU64 = AtomicU64::new(0);
        Self { file, length, number: FILES.fetch_add(1, Ordering::Relaxed), lost: OnceLock::new() }
    }

    /// The `N` bytes at a place that is a multiple of `N`, a power of two; zeros beyond the end, and where they cannot be read, which
    /// [`PagedFile::lost`] is then true.
    #[inline]
    pub(crate) fn bytes<const N: usize>(&self, at: u64) -> [u8; N] {
        let (page, within) = (at / PAGE as u64, (at % PAGE as u64) as usize);
        PAGES.with_borrow_mut(|pages| {
            if let Some(kept) = pages.get(&(self.number, page)) {
                return kept[within..].first_chunk().copied().unwrap_or([0; N]);
            }
            let read = self.read(page);
            let bytes = read[within..].first_chunk().copied().unwrap_or([0; N]);
            if pages.len() >= KEPT {
                pages.clear();
            }
            pages.insert((self.number, page), read);
            bytes
        })
    }

    #[cold]
    fn read(&self, page: u64) -> Box<[u8; PAGE]> {
        let mut bytes = Box::new([0; PAGE]);
        let from = page * PAGE as u64;
        let size = self.length.saturating_sub(from).min(PAGE as u64) as usize;
        if let Err(error) = self.file.read_exact_at(&mut bytes[..size], from) {
            bytes.fill(0);
            // The first failure is reported.
            let _ = self.lost.set(error);
        }
        bytes
    }

    /// Why something of it could not be read, if something could not be.
    pub(crate) fn lost(&self) -> Option<&io::Error> {
        self.lost.get()
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::{KEPT, PAGE, PagedFile};

    #[test]
    fn every_place_is_read_however_many_pages_there_are() {
        let mut file = tempfile::tempfile().unwrap();
        let numbers = (KEPT + 9) * PAGE / 8;
        let bytes: Vec<u8> = (0..numbers as u64).flat_map(u64::to_le_bytes).collect();
        file.write_all(&bytes).unwrap();
        // All but the last three bytes.
        let paged = PagedFile::new(file, bytes.len() as u64 - 3);
        for at in (0..numbers - 1).chain((0..numbers - 1).rev().step_by(97)) {
            assert_eq!(paged.bytes(8 * at as u64), (at as u64).to_le_bytes());
        }
        let last = (numbers as u64 - 1).to_le_bytes();
        assert_eq!(paged.bytes::<8>(8 * (numbers as u64 - 1))[..5], last[..5]);
        assert_eq!(paged.bytes::<4>(8 * numbers as u64), [0; 4]);
        assert!(paged.lost().is_none());
    }

    #[test]
    fn a_shrinking_file_is_reported() {
        let mut file = tempfile::tempfile().unwrap();
        file.write_all(&[7; 3 * PAGE]).unwrap();
        let paged = PagedFile::new(file.try_clone().unwrap(), 3 * PAGE as u64);
        assert_eq!(paged.bytes::<2>(0), [7; 2]);
        file.set_len(PAGE as u64).unwrap();
        assert!(paged.lost().is_none());
        assert_eq!(paged.bytes::<2>(PAGE as u64), [0; 2]);
        assert_eq!(paged.lost().unwrap().kind(), std::io::ErrorKind::UnexpectedEof);
    }
}
