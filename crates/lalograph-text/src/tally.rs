//! Counting strings, however many different ones there are.

use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::fs::File;
use std::io::{self, BufReader, BufWriter, Read, Seek, Write};

use foldhash::fast::FixedState;
use hashbrown::HashMap;

use crate::packed::{pack, unpack};

/// Memory that one tally may take, roughly, before it writes what it has to a temporary file.
const MEMORY_BYTES: usize = 48 << 20;
/// Memory of an entry besides its letters.
const ENTRY_BYTES: usize = 56;

type Counts<K> = HashMap<K, u64, FixedState>;

/// Counts strings. What does not fit in memory waits, sorted, in temporary files.
#[derive(Debug)]
pub(crate) struct Tally {
    /// Most words are short, and short ones are counted without touching the heap.
    short: Counts<u128>,
    long: Counts<Box<str>>,
    bytes: usize,
    limit: usize,
    runs: Vec<File>,
    failure: Option<io::Error>,
}

impl Tally {
    pub(crate) fn new() -> Self {
        Self::with_limit(MEMORY_BYTES)
    }

    fn with_limit(limit: usize) -> Self {
        Self {
            short: Counts::default(),
            long: Counts::default(),
            bytes: 0,
            limit,
            runs: Vec::new(),
            failure: None,
        }
    }

    /// Counts one more. The error of a full disk is kept for [`Tally::merge`], so that this can be called from the hot loop.
    #[inline]
    pub(crate) fn add(&mut self, text: &str) {
        let found = match pack(text.as_bytes()) {
            Some(packed) => self.short.get_mut(&packed),
            None => self.long.get_mut(text),
        };
        match found {
            Some(count) => *count += 1,
            None => self.add_new(text),
        }
    }

    #[inline(never)]
    fn add_new(&mut self, text: &str) {
        if self.bytes > self.limit && self.failure.is_none() {
            self.failure = self.spill().err();
        }
        match pack(text.as_bytes()) {
            Some(packed) => {
                self.bytes += ENTRY_BYTES;
                self.short.insert(packed, 1);
            }
            None => {
                self.bytes += text.len() + ENTRY_BYTES;
                self.long.insert(text.into(), 1);
            }
        }
    }

    /// Takes all counts out.
    fn drain(&mut self) -> impl Iterator<Item = (Box<str>, u64)> {
        self.bytes = 0;
        self.short.drain().map(|(packed, count)| (unpack(packed), count)).chain(self.long.drain())
    }

    /// Writes all counts to a temporary file, sorted: length, letters, count.
    fn spill(&mut self) -> io::Result<()> {
        let mut sorted: Vec<(Box<str>, u64)> = self.drain().collect();
        sorted.sort_unstable();
        let mut file = BufWriter::with_capacity(1 << 18, tempfile::tempfile()?);
        for (text, count) in &sorted {
            file.write_all(&(text.len() as u32).to_le_bytes())?;
            file.write_all(text.as_bytes())?;
            file.write_all(&count.to_le_bytes())?;
        }
        self.runs.push(file.into_inner()?);
        Ok(())
    }

    /// Calls `each` once with every different string and how often it was counted by all the tallies together, in no
    /// particular order.
    pub(crate) fn merge(tallies: Vec<Self>, mut each: impl FnMut(&str, u64)) -> io::Result<()> {
        let mut all: Option<Self> = None;
        let mut runs = Vec::new();
        for mut tally in tallies {
            if let Some(failure) = tally.failure.take() {
                return Err(failure);
            }
            runs.append(&mut tally.runs);
            match &mut all {
                None => all = Some(tally),
                Some(all) => {
                    for (packed, count) in tally.short {
                        *all.short.entry(packed).or_default() += count;
                    }
                    for (text, count) in tally.long {
                        *all.long.entry(text).or_default() += count;
                    }
                }
            }
        }
        let Some(mut all) = all else {
            return Ok(());
        };
        if runs.is_empty() {
            all.drain().for_each(|(text, count)| each(&text, count));
            return Ok(());
        }
        all.spill()?;
        runs.append(&mut all.runs);
        merge_runs(runs, each)
    }
}

fn merge_runs(runs: Vec<File>, mut each: impl FnMut(&str, u64)) -> io::Result<()> {
    let mut readers = Vec::with_capacity(runs.len());
    let mut heap = BinaryHeap::new();
    for (index, mut run) in runs.into_iter().enumerate() {
        run.rewind()?;
        let mut reader = BufReader::with_capacity(1 << 16, run);
        if let Some((text, count)) = read_entry(&mut reader)? {
            heap.push(Reverse((text, index, count)));
        }
        readers.push(reader);
    }
    let mut current: Option<(String, u64)> = None;
    while let Some(Reverse((text, index, count))) = heap.pop() {
        if let Some((text, count)) = read_entry(&mut readers[index])? {
            heap.push(Reverse((text, index, count)));
        }
        match &mut current {
            Some((held, sum)) if *held == text => *sum += count,
            _ => {
                if let Some((held, sum)) = current.replace((text, count)) {
                    each(&held, sum);
                }
            }
        }
    }
    if let Some((held, sum)) = current {
        each(&held, sum);
    }
    Ok(())
}

fn read_entry(reader: &mut impl Read) -> io::Result<Option<(String, u64)>> {
    let mut length = [0; 4];
    match reader.read_exact(&mut length) {
        Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(None),
        other => other?,
    }
    let mut text = vec![0; u32::from_le_bytes(length) as usize];
    reader.read_exact(&mut text)?;
    let mut count = [0; 8];
    reader.read_exact(&mut count)?;
    let text = String::from_utf8(text).map_err(io::Error::other)?;
    Ok(Some((text, u64::from_le_bytes(count))))
}

/// Keeps the entries with the highest counts; among equal counts, the first in the order of code points.
#[derive(Debug)]
pub(crate) struct MostFrequent {
    wanted: usize,
    /// The least of those kept is on top.
    kept: BinaryHeap<(Reverse<u64>, Box<str>)>,
}

impl MostFrequent {
    pub(crate) fn new(wanted: usize) -> Self {
        Self { wanted, kept: BinaryHeap::new() }
    }

    /// Shows it one more; `refused` is called with what is not kept for it, which may be that itself.
    pub(crate) fn offer(&mut self, text: &str, count: u64, mut refused: impl FnMut(&str, u64)) {
        if self.kept.len() < self.wanted {
            self.kept.push((Reverse(count), text.into()));
        } else if let Some(mut least) = self.kept.peek_mut()
            && (Reverse(count), text) < (least.0, &*least.1)
        {
            refused(&least.1, least.0.0);
            *least = (Reverse(count), text.into());
        } else {
            refused(text, count);
        }
    }

    /// The most frequent first.
    pub(crate) fn ranked(self) -> Vec<(Box<str>, u64)> {
        self.kept.into_sorted_vec().into_iter().map(|(Reverse(count), text)| (text, count)).collect()
    }
}

/// Keeps the most frequent of distinct strings; among those that are counted as often, those with the smallest hashes, as a sample in which none is more
/// likely than another. Which are kept depends on which there are, and on nothing else.
#[derive(Debug)]
pub(crate) struct Sample {
    wanted: usize,
    /// The rarest of those kept is on top, of equally rare ones that with the greatest hash.
    kept: BinaryHeap<(Reverse<u64>, [u8; 32], Box<str>)>,
}

impl Sample {
    pub(crate) fn new(wanted: usize) -> Self {
        Self { wanted, kept: BinaryHeap::new() }
    }

    /// Shows it one more, which it has not seen before.
    pub(crate) fn offer(&mut self, text: &str, count: u64) {
        let key = (Reverse(count), *blake3::hash(text.as_bytes()).as_bytes());
        if self.kept.len() < self.wanted {
            self.kept.push((key.0, key.1, text.into()));
        } else if let Some(mut last) = self.kept.peek_mut()
            && key < (last.0, last.1)
        {
            *last = (key.0, key.1, text.into());
        }
    }

    /// Kept strings in the order of code points, with counts.
    pub(crate) fn sorted(self) -> Vec<(Box<str>, u64)> {
        let mut sample: Vec<(Box<str>, u64)> =
            self.kept.into_iter().map(|(Reverse(count), _, text)| (text, count)).collect();
        sample.sort_unstable();
        sample
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashMap;

    use proptest::prelude::*;

    use super::{MostFrequent, Sample, Tally};

    #[test]
    fn a_sample_does_not_depend_on_the_order() {
        let words: Vec<(String, u64)> =
            (0..1000).map(|n| (format!("word{n}"), 1 + u64::from(n < 10))).collect();
        let sample = |words: &mut dyn Iterator<Item = &(String, u64)>| {
            let mut sample = Sample::new(100);
            words.for_each(|(word, count)| sample.offer(word, *count));
            sample.sorted()
        };
        let (forward, backward) = (sample(&mut words.iter()), sample(&mut words.iter().rev()));
        assert_eq!((forward.len(), &forward), (100, &backward));
        // All of the frequent ones, and about half of the others from each half.
        let kept = |(word, count): &&(String, u64)| forward.contains(&(word.as_str().into(), *count));
        assert!(words[..10].iter().all(|word| kept(&word)));
        let low = words[10..505].iter().filter(kept).count();
        assert!((25..=65).contains(&low), "{low}");
        assert_eq!(sample(&mut words[..7].iter()).len(), 7);
    }

    proptest! {
        #[test]
        fn counts_are_exact_whether_they_fit_in_memory_or_not(
            words in prop::collection::vec("[a-c\u{e9}]{0,3}|[ab]{14,18}", 0..400), limit in 0usize..3000, parts in 1usize..4,
        ) {
            let mut tallies: Vec<Tally> = (0..parts).map(|_| Tally::with_limit(limit)).collect();
            let mut expected: HashMap<&str, u64> = HashMap::new();
            for (index, word) in words.iter().enumerate() {
                tallies[index % parts].add(word);
                *expected.entry(word).or_default() += 1;
            }
            let mut found = HashMap::new();
            let (mut most_frequent, mut refused) = (MostFrequent::new(5), 0);
            Tally::merge(tallies, |word, count| {
                assert!(found.insert(word.to_owned(), count).is_none(), "{word} came twice");
                most_frequent.offer(word, count, |_, _| refused += 1);
            }).unwrap();
            prop_assert_eq!(refused, expected.len().saturating_sub(5));
            let mut ranked: Vec<(&str, u64)> = expected.iter().map(|(word, count)| (*word, *count)).collect();
            ranked.sort_by(|a, b| b.1.cmp(&a.1).then(a.0.cmp(b.0)));
            ranked.truncate(5);
            let kept = most_frequent.ranked();
            prop_assert_eq!(kept.iter().map(|(word, count)| (&**word, *count)).collect::<Vec<_>>(), ranked);
            prop_assert_eq!(found.len(), expected.len());
            for (word, count) in expected {
                prop_assert_eq!(found[word], count);
            }
        }
    }
}
