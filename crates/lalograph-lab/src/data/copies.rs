//! Held-out documents that are near copies of training documents.

use std::collections::HashMap;
use std::ops::Range;
use std::sync::atomic::{AtomicBool, Ordering};

use lalograph_text::tokens::TokenSequence;
use rayon::iter::{IntoParallelRefIterator, ParallelIterator};

/// Tokens of a shingle.
const SHINGLE: usize = 5;
/// Documents of fewer tokens are alike by chance.
const SHORTEST: usize = 12;
/// Near copies share at least this part of their shingles.
const RESEMBLANCE: f64 = 0.8;

/// For each document of each held-out sequence, whether it is a near copy of a training document: the two share at least 80 % of their shingles,
/// the sets of all runs of five tokens (Broder 1997, "On the resemblance and containment of documents").
///
/// Two sets that are so alike share one of their first shingles in any order (Chaudhuri and others 2006, prefix filtering). In the order of how
/// many held-out documents have a shingle the first ones are rare, so few documents are compared.
pub(crate) fn near_copies<const N: usize>(
    training: &TokenSequence,
    held_out: [&TokenSequence; N],
) -> [Vec<bool>; N] {
    let documents: Vec<Vec<u32>> =
        held_out.iter().flat_map(|text| text.bounds().map(|bounds| shingles(text, bounds))).collect();
    let mut rarity = Rarity::default();
    documents.iter().flatten().for_each(|&shingle| rarity.count(shingle));
    let mut index: HashMap<u32, Vec<u32>, foldhash::fast::FixedState> = HashMap::default();
    for (number, document) in documents.iter().enumerate() {
        for shingle in rarity.first_of(document) {
            index.entry(shingle).or_default().push(number as u32);
        }
    }
    let copies: Vec<AtomicBool> = documents.iter().map(|_| AtomicBool::new(false)).collect();
    let bounds: Vec<Range<usize>> = if index.is_empty() { Vec::new() } else { training.bounds().collect() };
    bounds.par_iter().for_each(|bounds| {
        let document = shingles(training, bounds.clone());
        let mut candidates: Vec<u32> = rarity
            .first_of(&document)
            .iter()
            .filter_map(|shingle| index.get(shingle))
            .flatten()
            .copied()
            .collect();
        candidates.sort_unstable();
        candidates.dedup();
        for candidate in candidates {
            let copy = &copies[candidate as usize];
            if !copy.load(Ordering::Relaxed) && are_alike(&document, &documents[candidate as usize]) {
                copy.store(true, Ordering::Relaxed);
            }
        }
    });
    let mut copies = copies.into_iter().map(AtomicBool::into_inner);
    held_out.map(|text| copies.by_ref().take(text.bounds().count()).collect())
}

/// The shingles of a document as hashes, in rising order, each once; none if it is short. The end token is no part of it.
fn shingles(text: &TokenSequence, bounds: Range<usize>) -> Vec<u32> {
    let length = bounds.len().saturating_sub(1);
    if length < SHORTEST {
        return Vec::new();
    }
    let tokens: Vec<u32> = (bounds.start..bounds.start + length).map(|at| text.index(at)).collect();
    let hash = |shingle: &[u32]| {
        let mixed = shingle.iter().fold(0u64, |hash, &token| {
            (hash.rotate_left(23) ^ u64::from(token)).wrapping_mul(0x9E37_79B9_7F4A_7C15)
        });
        (mixed ^ (mixed >> 32)) as u32
    };
    let mut found: Vec<u32> = tokens.windows(SHINGLE).map(hash).collect();
    found.sort_unstable();
    found.dedup();
    found
}

/// How many documents have each shingle, about: shingles with the same last bits are counted together.
struct Rarity(Vec<u16>);

impl Default for Rarity {
    fn default() -> Self {
        Self(vec![0; 1 << 22])
    }
}

impl Rarity {
    fn place(&self, shingle: u32) -> usize {
        shingle as usize & (self.0.len() - 1)
    }

    fn count(&mut self, shingle: u32) {
        let place = self.place(shingle);
        self.0[place] = self.0[place].saturating_add(1);
    }

    /// The rarest shingles of a document, of which a near copy has at least one among its own.
    fn first_of(&self, document: &[u32]) -> Vec<u32> {
        let needed = (RESEMBLANCE * document.len() as f64).ceil() as usize;
        let first = (document.len() + 1 - needed).min(document.len());
        let mut chosen = document.to_vec();
        if first < chosen.len() {
            chosen.select_nth_unstable_by_key(first, |&shingle| (self.0[self.place(shingle)], shingle));
            chosen.truncate(first);
        }
        chosen
    }
}

fn are_alike(one: &[u32], other: &[u32]) -> bool {
    let (short, long) = (one.len().min(other.len()), one.len().max(other.len()));
    if (short as f64) < RESEMBLANCE * long as f64 {
        return false;
    }
    let (mut a, mut b, mut both) = (0, 0, 0usize);
    while let (Some(x), Some(y)) = (one.get(a), other.get(b)) {
        both += usize::from(x == y);
        (a, b) = (a + usize::from(x <= y), b + usize::from(y <= x));
    }
    both as f64 >= RESEMBLANCE * (short + long - both) as f64
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use lalograph_text::Reserved;
    use lalograph_text::tokens::TokenSequence;
    use proptest::prelude::*;

    use super::near_copies;

    fn text(documents: &[Vec<u32>]) -> TokenSequence {
        let tokens = documents.iter().flat_map(|document| document.iter().copied().chain([Reserved::END]));
        TokenSequence::from_indices(tokens.collect())
    }

    /// By the definition: each with each, in sets of runs.
    fn alike(one: &[u32], other: &[u32]) -> bool {
        let set = |text: &[u32]| text.windows(5).map(<[u32]>::to_vec).collect::<HashSet<_>>();
        let (a, b) = (set(one), set(other));
        let both = a.intersection(&b).count() as f64;
        one.len() >= 12 && other.len() >= 12 && both >= 0.8 * a.union(&b).count() as f64
    }

    proptest! {
        #[test]
        fn near_copies_are_those_of_comparing_each_with_each(
            lengths in proptest::collection::vec((0usize..90, 0u32..4), 1..12),
            changes in proptest::collection::vec((0usize..12, 0usize..90, 0usize..8), 1..20),
        ) {
            let document = |(length, seed): (usize, u32)| -> Vec<u32> {
                (0..length as u32).map(|at| 10 + (at * 7919 + seed * 31) % 400).collect()
            };
            let training: Vec<Vec<u32>> = lengths.into_iter().map(document).collect();
            let held_out: Vec<Vec<u32>> = changes
                .into_iter()
                .map(|(which, at, changed)| {
                    let mut copy = training[which % training.len()].clone();
                    for at in at..(at + changed).min(copy.len()) {
                        copy[at] = 999;
                    }
                    copy
                })
                .collect();
            let expected: Vec<bool> =
                held_out.iter().map(|held| training.iter().any(|learnt| alike(learnt, held))).collect();
            let (first, second) = held_out.split_at(held_out.len() / 2);
            let found = near_copies(&text(&training), [&text(first), &text(second)]);
            prop_assert_eq!(found.concat(), expected);
        }
    }

    #[test]
    fn a_changed_word_is_a_near_copy_and_a_short_document_none() {
        let long: Vec<u32> = (10..70).collect();
        let mut changed = long.clone();
        changed[30] = 999;
        let other: Vec<u32> = (200..260).collect();
        let training = text(&[long, vec![5, 6, 7]]);
        let [found] = near_copies(&training, [&text(&[changed, other, vec![5, 6, 7], vec![]])]);
        assert_eq!(found, [true, false, false, false]);
    }
}
