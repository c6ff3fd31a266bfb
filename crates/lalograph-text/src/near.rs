//! Documents that are nearly the same as an earlier one.
//!
//! Two documents are compared by their shingles, the sets of all runs of five words in them: their resemblance is the size of
//! the intersection over that of the union (Broder 1997, "On the resemblance and containment of documents"). Signatures of the least hashes under many
//! permutations estimate it, of which 16 bits each are kept (Li and König 2010, "b-bit minwise hashing"); documents
//! whose signatures agree in a whole band are candidates (Indyk and Motwani 1998, locality-sensitive hashing). The estimate only chooses the pairs
//! whose shingles are then compared one by one: the resemblance of a pair is exact, but for hashes of 32 bits. Signatures, bands and shingles
//! lie in temporary files, so memory does not grow with the corpus.

use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::os::unix::fs::FileExt;

use crate::corpus::Document;
use crate::scratch::{Sorter, place_bytes, place_from};
use crate::words::each_word;

/// Words of a shingle.
const SHINGLE_WORDS: usize = 5;
/// Permutations: the error of an estimate is about `sqrt(s (1 - s) / 120)`, 0.037 at a resemblance of 0.8.
const PERMUTATIONS: usize = 120;
/// Earlier documents that one is compared with in each band; the earliest ones.
const COMPARED: usize = 8;
/// An estimate may be so far below what is asked for and the pair is compared all the same: three standard errors and more.
const BELOW: f64 = 0.14;
/// A signature in the file: two bytes a permutation, the place, and where the shingles end.
const STORED_BYTES: usize = 2 * PERMUTATIONS + PLACE_BYTES + 8;
const PLACE_BYTES: usize = 12;

/// The hashes of a text's shingles, sorted, each once; and the least of them under each permutation.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Signature {
    least: [u32; PERMUTATIONS],
    shingles: Vec<u32>,
}

/// For each permutation a mask and an odd factor, from a fixed stream (SplitMix64, Steele and others 2014).
const MIX: ([u32; PERMUTATIONS], [u32; PERMUTATIONS]) = {
    let (mut masks, mut factors) = ([0; PERMUTATIONS], [0; PERMUTATIONS]);
    let mut state = 0x7468_6f72_6e6d_6572u64;
    let mut index = 0;
    while index < PERMUTATIONS {
        state = state.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = state;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        z ^= z >> 31;
        masks[index] = z as u32;
        factors[index] = (z >> 32) as u32 | 1;
        index += 1;
    }
    (masks, factors)
};

/// Makes signatures; holds memory that is used again.
#[derive(Debug, Default)]
pub(crate) struct Signer {
    words: Vec<u64>,
}

impl Signer {
    pub(crate) fn sign(&mut self, text: &str) -> Signature {
        self.words.clear();
        each_word(text, |word| self.words.push(hash_word(word)));
        let mut least = [u32::MAX; PERMUTATIONS];
        let length = SHINGLE_WORDS.min(self.words.len()).max(1);
        let mut shingles = Vec::with_capacity(self.words.len());
        for shingle in self.words.windows(length) {
            let hash = shingle
                .iter()
                .fold(0u64, |hash, word| (hash.rotate_left(23) ^ word).wrapping_mul(0x9E37_79B9_7F4A_7C15));
            let hash = (hash ^ (hash >> 32)) as u32;
            shingles.push(hash);
            for ((least, mask), factor) in least.iter_mut().zip(&MIX.0).zip(&MIX.1) {
                // The high half of a product depends on all bits below it, the low half does not.
                let mixed = (hash ^ mask).wrapping_mul(*factor);
                *least = (*least).min((mixed ^ (mixed >> 15)).wrapping_mul(0x2c1b_3c6d));
            }
        }
        shingles.sort_unstable();
        shingles.dedup();
        Signature { least, shingles }
    }
}

fn hash_word(word: &str) -> u64 {
    use std::hash::{BuildHasher, Hasher};
    let mut hasher = foldhash::fast::FixedState::with_seed(11).build_hasher();
    hasher.write(word.as_bytes());
    hasher.finish()
}

/// The resemblance of two texts, by the hashes of their shingles. Texts without shingles are equal.
fn resemblance(one: &[u32], other: &[u32]) -> f64 {
    let (mut a, mut b, mut both) = (0, 0, 0usize);
    while let (Some(x), Some(y)) = (one.get(a), other.get(b)) {
        both += usize::from(x == y);
        (a, b) = (a + usize::from(x <= y), b + usize::from(y <= x));
    }
    let either = one.len() + other.len() - both;
    if either == 0 { 1.0 } else { both as f64 / either as f64 }
}

/// Rows of a band, so that two documents of this resemblance meet in one with a probability of at least 99.9 %: the longest band
/// that still does, for long bands make few false candidates.
fn band_rows(resemblance: f64) -> usize {
    let meets = |rows: usize| 1.0 - (1.0 - resemblance.powi(rows as i32)).powi((PERMUTATIONS / rows) as i32);
    [15, 12, 10, 8, 6, 5, 4, 3, 2].into_iter().find(|&rows| meets(rows) >= 0.999).unwrap_or(1)
}

/// A document that resembles an earlier one.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct NearPair {
    /// The earlier document's number.
    pub(crate) earlier: u64,
    /// The later one's.
    pub(crate) later: u64,
    /// The resemblance, at least what was asked for.
    pub(crate) resemblance: f64,
}

/// Gathers signatures, in the order of the documents, and then finds the pairs.
pub(crate) struct NearFinder {
    threshold: f64,
    rows: usize,
    signatures: File,
    unwritten: Vec<u8>,
    shingles: BufWriter<File>,
    /// Shingles of all documents so far.
    shingle_count: u64,
    documents: u64,
    bands: Sorter<16>,
}

impl NearFinder {
    pub(crate) fn new(threshold: f64) -> io::Result<Self> {
        Ok(Self {
            threshold,
            rows: band_rows(threshold),
            signatures: tempfile::tempfile()?,
            unwritten: Vec::new(),
            shingles: BufWriter::with_capacity(1 << 18, tempfile::tempfile()?),
            shingle_count: 0,
            documents: 0,
            bands: Sorter::new(),
        })
    }

    pub(crate) fn add(&mut self, document: &Document<'_>, signature: &Signature) -> io::Result<()> {
        self.add_at((document.file, document.line), signature)
    }

    fn add_at(&mut self, place: (u32, u64), signature: &Signature) -> io::Result<()> {
        for (band, rows) in signature.least.chunks_exact(self.rows).enumerate() {
            let hash = rows.iter().fold(band as u64 + 1, |hash, row| {
                (hash ^ u64::from(*row)).wrapping_mul(0xD6E8_FEB8_6659_FD93).rotate_left(29)
            });
            let mut record = [0; 16];
            record[..8].copy_from_slice(&hash.to_be_bytes());
            record[8..].copy_from_slice(&self.documents.to_be_bytes());
            self.bands.push(record)?;
        }
        self.unwritten.extend(signature.least.iter().flat_map(|least| (*least as u16).to_le_bytes()));
        self.unwritten.extend(place_bytes(place.0, place.1));
        for shingle in &signature.shingles {
            self.shingles.write_all(&shingle.to_le_bytes())?;
        }
        self.shingle_count += signature.shingles.len() as u64;
        self.unwritten.extend(self.shingle_count.to_le_bytes());
        self.documents += 1;
        if self.unwritten.len() >= 1 << 20 {
            self.write()?;
        }
        Ok(())
    }

    fn write(&mut self) -> io::Result<()> {
        self.signatures.write_all(&self.unwritten)?;
        self.unwritten.clear();
        Ok(())
    }

    /// All pairs in the order of the later documents, and a way to find where documents are.
    pub(crate) fn finish(mut self) -> io::Result<(NearPairs, Places)> {
        self.write()?;
        let shingles = self.shingles.into_inner().map_err(io::IntoInnerError::into_error)?;
        let places = Places { signatures: self.signatures, shingles };
        let mut pairs = Sorter::new();
        let mut bucket: Vec<Candidate> = Vec::new();
        let mut bucket_hash = [0; 8];
        for record in self.bands.finish()? {
            let record = record?;
            let (hash, number) = record.split_at(8);
            let number = number.first_chunk().map_or(0, |bytes| u64::from_be_bytes(*bytes));
            if hash != bucket_hash {
                bucket.clear();
                bucket_hash.copy_from_slice(hash);
                // Most buckets hold one document, whose signature nobody needs.
                bucket.push(Candidate { number, signature: None, shingles: None });
                continue;
            }
            let mut later = Candidate { number, signature: None, shingles: None };
            for earlier in &mut bucket {
                let agree = |(a, b): &(&u16, &u16)| a == b;
                let (own, theirs) = (later.signature(&places)?, earlier.signature(&places)?);
                let same = own.iter().zip(theirs).filter(agree).count();
                if (same as f64 / PERMUTATIONS as f64) < self.threshold - BELOW {
                    continue;
                }
                let resemblance = resemblance(later.shingles(&places)?, earlier.shingles(&places)?);
                if resemblance >= self.threshold {
                    let mut pair = [0; 24];
                    pair[..8].copy_from_slice(&number.to_be_bytes());
                    pair[8..16].copy_from_slice(&earlier.number.to_be_bytes());
                    pair[16..].copy_from_slice(&resemblance.to_be_bytes());
                    pairs.push(pair)?;
                }
            }
            if bucket.len() < COMPARED {
                bucket.push(later);
            }
        }
        Ok((NearPairs { sorted: pairs.finish()?, last: None }, places))
    }
}

/// A document of a bucket, with what was read of it.
struct Candidate {
    number: u64,
    signature: Option<[u16; PERMUTATIONS]>,
    shingles: Option<Vec<u32>>,
}

impl Candidate {
    fn signature(&mut self, places: &Places) -> io::Result<&[u16; PERMUTATIONS]> {
        match &mut self.signature {
            Some(signature) => Ok(signature),
            none => Ok(none.insert(places.signature(self.number)?)),
        }
    }

    fn shingles(&mut self, places: &Places) -> io::Result<&[u32]> {
        match &mut self.shingles {
            Some(shingles) => Ok(shingles),
            none => Ok(none.insert(places.shingles(self.number)?)),
        }
    }
}

/// Positions of documents, by their number.
pub(crate) struct Places {
    signatures: File,
    shingles: File,
}

impl Places {
    fn read(&self, number: u64) -> io::Result<[u8; STORED_BYTES]> {
        let mut bytes = [0; STORED_BYTES];
        self.signatures.read_exact_at(&mut bytes, number * STORED_BYTES as u64)?;
        Ok(bytes)
    }

    fn signature(&self, number: u64) -> io::Result<[u16; PERMUTATIONS]> {
        let bytes = self.read(number)?;
        let (words, _) = bytes.as_chunks::<2>();
        Ok(std::array::from_fn(|index| u16::from_le_bytes(words[index])))
    }

    /// End of a document's shingles.
    fn end(&self, number: u64) -> io::Result<u64> {
        let bytes = self.read(number)?;
        Ok(bytes[STORED_BYTES - 8..].first_chunk().map_or(0, |end| u64::from_le_bytes(*end)))
    }

    fn shingles(&self, number: u64) -> io::Result<Vec<u32>> {
        let start = if number == 0 { 0 } else { self.end(number - 1)? };
        let mut bytes = vec![0; 4 * (self.end(number)? - start) as usize];
        self.shingles.read_exact_at(&mut bytes, 4 * start)?;
        Ok(bytes.as_chunks::<4>().0.iter().map(|bytes| u32::from_le_bytes(*bytes)).collect())
    }

    /// The file's position in the corpus and the line.
    pub(crate) fn place(&self, number: u64) -> io::Result<(u32, u64)> {
        Ok(place_from(&self.read(number)?[2 * PERMUTATIONS..][..PLACE_BYTES]))
    }
}

/// Pairs in ascending order of the later document, then of the earlier one, each once.
pub(crate) struct NearPairs {
    sorted: crate::scratch::Sorted<24>,
    last: Option<[u8; 24]>,
}

impl Iterator for NearPairs {
    type Item = io::Result<NearPair>;

    fn next(&mut self) -> Option<Self::Item> {
        loop {
            let record = match self.sorted.next()? {
                Ok(record) => record,
                Err(error) => return Some(Err(error)),
            };
            // Two documents may meet in several bands.
            if self.last.replace(record) != Some(record) {
                let number = |at: usize| {
                    record[at..].first_chunk().map_or(0, |bytes: &[u8; 8]| u64::from_be_bytes(*bytes))
                };
                return Some(Ok(NearPair {
                    later: number(0),
                    earlier: number(8),
                    resemblance: f64::from_bits(number(16)),
                }));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use proptest::prelude::*;

    use super::{NearFinder, PERMUTATIONS, Signer, band_rows, resemblance};

    fn exact(a: &str, b: &str) -> f64 {
        let set = |text: &str| -> HashSet<Vec<String>> {
            let words: Vec<String> = text.split(' ').map(str::to_owned).collect();
            words.windows(5.min(words.len())).map(<[String]>::to_vec).collect()
        };
        let (a, b) = (set(a), set(b));
        a.intersection(&b).count() as f64 / a.union(&b).count() as f64
    }

    fn estimate(a: &str, b: &str) -> f64 {
        let mut signer = Signer::default();
        let (a, b) = (signer.sign(a), signer.sign(b));
        a.least.iter().zip(&b.least).filter(|(a, b)| **a as u16 == **b as u16).count() as f64
            / PERMUTATIONS as f64
    }

    proptest! {
        #[test]
        fn estimates_stay_within_five_standard_errors(seed in 0usize..1000, changed in 0usize..60) {
            let word = |index: usize, salt: usize| format!("w{}", (index * 7919 + salt * 104_729) % 100_003);
            let first: Vec<String> = (0..120).map(|i| word(i, seed)).collect();
            let mut second = first.clone();
            for (index, second) in second.iter_mut().take(changed).enumerate() {
                *second = word(index + 500, seed + 1);
            }
            let (first, second) = (first.join(" "), second.join(" "));
            let truth = exact(&first, &second);
            let error = (truth * (1.0 - truth) / PERMUTATIONS as f64).sqrt();
            let mut signer = Signer::default();
            let (a, b) = (signer.sign(&first), signer.sign(&second));
            prop_assert!((resemblance(&a.shingles, &b.shingles) - truth).abs() < 1e-12);
            let found = estimate(&first, &second);
            prop_assert!((found - truth).abs() <= 5.0 * error + 1e-9, "{found} {truth}");
        }
    }

    #[test]
    fn pairs_are_those_of_comparing_each_with_each() {
        // Documents of 80 words, in pairs of which the second has up to 13 of them changed, side by side: resemblances from 1 to about 0.6.
        let word = |index: usize, salt: usize| format!("w{}", (index * 7919 + salt * 104_729) % 100_003);
        let mut texts = Vec::new();
        for pair in 0..300 {
            let mut words: Vec<String> = (0..80).map(|index| word(index, pair)).collect();
            texts.push(words.join(" "));
            for at in 0..pair % 14 {
                words[20 + at] = word(at + 500, pair + 1);
            }
            texts.push(words.join(" "));
        }
        let (mut finder, mut signer) = (NearFinder::new(0.8).unwrap(), Signer::default());
        for (text, line) in texts.iter().zip(1..) {
            finder.add_at((0, line), &signer.sign(text)).unwrap();
        }
        let (pairs, places) = finder.finish().unwrap();
        let pairs: Vec<_> = pairs.map(Result::unwrap).collect();
        let expected: Vec<(u64, u64)> = (0..texts.len())
            .flat_map(|later| (0..later).map(move |earlier| (earlier, later)))
            .filter(|&(earlier, later)| {
                later / 2 == earlier / 2 && exact(&texts[earlier], &texts[later]) >= 0.8
            })
            .map(|(earlier, later)| (earlier as u64, later as u64))
            .collect();
        assert!((100..250).contains(&expected.len()), "{}", expected.len());
        assert_eq!(pairs.iter().map(|pair| (pair.earlier, pair.later)).collect::<Vec<_>>(), expected);
        for pair in pairs {
            let truth = exact(&texts[pair.earlier as usize], &texts[pair.later as usize]);
            assert!((pair.resemblance - truth).abs() < 1e-12);
        }
        assert_eq!(places.place(7).unwrap(), (0, 8));
    }

    #[test]
    fn short_texts_have_signatures_too() {
        assert_eq!(estimate("bee", "bee"), 1.0);
        assert!(estimate("bee", "wasp") < 0.1);
        assert!(estimate("the bees are quiet", "the bees are loud") < 0.1);
        assert_eq!(estimate("", ""), 1.0);
    }

    #[test]
    fn bands_are_as_long_as_the_resemblance_allows() {
        assert_eq!([0.3, 0.5, 0.8, 0.9, 0.99].map(band_rows), [1, 2, 5, 8, 15]);
    }
}
