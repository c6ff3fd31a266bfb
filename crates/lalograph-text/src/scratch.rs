//! Sorting more records than memory holds, by way of a temporary file that nobody else sees.

use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::fs::File;
use std::io::{self, Write};
use std::os::unix::fs::FileExt;

/// Bytes of records that are sorted in memory at a time.
const BUFFER_BYTES: usize = 1 << 21;
/// Bytes read at a time from each sorted run.
const READ_BYTES: usize = 1 << 15;

/// Takes records of `N` bytes in any order and gives them back in ascending order of their bytes. Up to 2 MiB stay in memory;
/// beyond that sorted runs go to a temporary file.
#[derive(Debug)]
pub(crate) struct Sorter<const N: usize> {
    buffer: Vec<[u8; N]>,
    buffer_records: usize,
    file: Option<File>,
    /// First record of each run in the file, and the end of the last.
    bounds: Vec<u64>,
}

impl<const N: usize> Sorter<N> {
    pub(crate) fn new() -> Self {
        Self::with_buffer(BUFFER_BYTES / N)
    }

    fn with_buffer(buffer_records: usize) -> Self {
        Self { buffer: Vec::new(), buffer_records, file: None, bounds: vec![0] }
    }

    pub(crate) fn push(&mut self, record: [u8; N]) -> io::Result<()> {
        if self.buffer.len() == self.buffer_records {
            self.spill()?;
        }
        self.buffer.push(record);
        Ok(())
    }

    fn spill(&mut self) -> io::Result<()> {
        self.buffer.sort_unstable();
        let file = match &mut self.file {
            Some(file) => file,
            none => none.insert(tempfile::tempfile()?),
        };
        file.write_all(self.buffer.as_flattened())?;
        let start = self.bounds[self.bounds.len() - 1];
        self.bounds.push(start + self.buffer.len() as u64);
        self.buffer.clear();
        Ok(())
    }

    /// All records, in order.
    pub(crate) fn finish(mut self) -> io::Result<Sorted<N>> {
        if self.file.is_some() {
            self.spill()?;
            self.buffer = Vec::new();
        } else {
            self.buffer.sort_unstable();
        }
        let mut runs: Vec<SortedRun<N>> = self
            .bounds
            .windows(2)
            .map(|pair| SortedRun { next: pair[0], end: pair[1], block: Vec::new(), at: 0 })
            .collect();
        let mut heap = BinaryHeap::with_capacity(runs.len());
        if let Some(file) = &self.file {
            for (index, run) in runs.iter_mut().enumerate() {
                if let Some(record) = run.pop(file)? {
                    heap.push(Reverse((record, index)));
                }
            }
        }
        Ok(Sorted { memory: self.buffer.into_iter(), file: self.file, runs, heap })
    }
}

#[derive(Debug)]
struct SortedRun<const N: usize> {
    next: u64,
    end: u64,
    block: Vec<u8>,
    at: usize,
}

impl<const N: usize> SortedRun<N> {
    fn pop(&mut self, file: &File) -> io::Result<Option<[u8; N]>> {
        if self.at == self.block.len() {
            let count = ((READ_BYTES / N).max(1) as u64).min(self.end - self.next);
            self.block.resize(count as usize * N, 0);
            self.at = 0;
            file.read_exact_at(&mut self.block, self.next * N as u64)?;
            self.next += count;
        }
        let record = self.block[self.at..].first_chunk().copied();
        self.at += if record.is_some() { N } else { 0 };
        Ok(record)
    }
}

/// Records in ascending order.
#[derive(Debug)]
pub(crate) struct Sorted<const N: usize> {
    memory: std::vec::IntoIter<[u8; N]>,
    file: Option<File>,
    runs: Vec<SortedRun<N>>,
    heap: BinaryHeap<Reverse<([u8; N], usize)>>,
}

impl<const N: usize> Iterator for Sorted<N> {
    type Item = io::Result<[u8; N]>;

    fn next(&mut self) -> Option<Self::Item> {
        let Some(file) = &self.file else {
            return self.memory.next().map(Ok);
        };
        let Reverse((record, index)) = self.heap.pop()?;
        match self.runs[index].pop(file) {
            Ok(Some(next)) => self.heap.push(Reverse((next, index))),
            Ok(None) => {}
            Err(error) => return Some(Err(error)),
        }
        Some(Ok(record))
    }
}

/// A place in a corpus as bytes that sort in its order: 4 of the file's position, 8 of the line.
pub(crate) fn place_bytes(file: u32, line: u64) -> [u8; 12] {
    let mut bytes = [0; 12];
    bytes[..4].copy_from_slice(&file.to_be_bytes());
    bytes[4..].copy_from_slice(&line.to_be_bytes());
    bytes
}

/// The place that [`place_bytes`] made.
pub(crate) fn place_from(bytes: &[u8]) -> (u32, u64) {
    let file = bytes.first_chunk().map_or(0, |bytes| u32::from_be_bytes(*bytes));
    let line = bytes.get(4..).and_then(<[u8]>::first_chunk).map_or(0, |bytes| u64::from_be_bytes(*bytes));
    (file, line)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::{Sorter, place_bytes, place_from};

    proptest! {
        #[test]
        fn records_come_back_in_order_with_or_without_a_file(
            records in prop::collection::vec(any::<[u8; 5]>(), 0..300), buffer in 1usize..400,
        ) {
            let mut sorter = Sorter::with_buffer(buffer);
            for record in &records {
                sorter.push(*record).unwrap();
            }
            let sorted: Vec<[u8; 5]> = sorter.finish().unwrap().map(Result::unwrap).collect();
            let mut expected = records;
            expected.sort_unstable();
            prop_assert_eq!(sorted, expected);
        }

        #[test]
        fn places_sort_as_the_corpus_does(a in any::<(u32, u64)>(), b in any::<(u32, u64)>()) {
            prop_assert_eq!(place_bytes(a.0, a.1).cmp(&place_bytes(b.0, b.1)), a.cmp(&b));
            prop_assert_eq!(place_from(&place_bytes(a.0, a.1)), a);
        }
    }
}
