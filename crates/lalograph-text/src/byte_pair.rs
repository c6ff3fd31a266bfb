//! Subwords by byte-pair merging (Gage 1994, "A new algorithm for data compression"; Sennrich, Haddow and Birch 2016, "Neural machine translation of
//! rare words with subword units"): beginning with bytes, the most frequent pair of neighbours becomes a token of its own, again and
//! again. Every byte stays a token, so nothing is ever unknown.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

use foldhash::fast::FixedState;
use hashbrown::HashMap;

type Map<K, V> = HashMap<K, V, FixedState>;
/// Two symbols side by side. Symbols are positions in the list of tokens, the 256 bytes first.
pub(crate) type Pair = (u32, u32);

/// Symbols that are single bytes.
pub(crate) const BYTES: u32 = 256;

/// Result of learning.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Learnt {
    /// The bytes of every token: the 256 single ones, then those made by merging, in the order in which they were made.
    pub(crate) tokens: Vec<Box<[u8]>>,
    /// Number of its uses in the training text.
    pub(crate) counts: Vec<u64>,
    /// The pairs in the order in which they were merged. Two pairs may make the same token.
    pub(crate) merges: Vec<Pair>,
}

/// A piece under way.
struct Word {
    symbols: Vec<u32>,
    count: u64,
}

/// Learns merges until there are `size` tokens, or no pair occurs `minimum_count` times. Of pairs that are equally common, the one
/// with the older left symbol is merged first, then the one with the older right symbol.
pub(crate) fn learn(pieces: &[(Box<str>, u64)], size: usize, minimum_count: u64) -> Learnt {
    let mut words: Vec<Word> = pieces
        .iter()
        .map(|(piece, count)| Word { symbols: piece.bytes().map(u32::from).collect(), count: *count })
        .collect();
    let mut learnt =
        Learnt { tokens: (0..=255u8).map(|byte| Box::from([byte])).collect(), ..Learnt::default() };
    let mut known: Map<Box<[u8]>, u32> =
        learnt.tokens.iter().zip(0..).map(|(token, symbol)| (token.clone(), symbol)).collect();
    let mut pairs: Map<Pair, Found> = Map::default();
    for (index, word) in words.iter().enumerate() {
        add_pairs(&mut pairs, word, index as u32);
    }
    let mut queue: BinaryHeap<(u64, Reverse<Pair>)> =
        pairs.iter().map(|(pair, found)| (found.count, Reverse(*pair))).collect();
    let mut seen_at = vec![0u32; words.len()];
    let mut touched: Vec<Pair> = Vec::new();
    while learnt.tokens.len() < size {
        let Some((count, Reverse(pair))) = queue.pop() else {
            break;
        };
        let Some(found) = pairs.get_mut(&pair) else {
            continue;
        };
        // Counts only fall after they were queued, except where the pair was queued again.
        if found.count != count {
            if found.count > 0 && found.count < count {
                queue.push((found.count, Reverse(pair)));
            }
            continue;
        }
        if count < minimum_count.max(1) {
            break;
        }
        let places = std::mem::take(&mut found.words);
        learnt.merges.push(pair);
        let turn = learnt.merges.len() as u32;
        let merged = [&*learnt.tokens[pair.0 as usize], &*learnt.tokens[pair.1 as usize]].concat();
        let symbol = match known.get(merged.as_slice()) {
            Some(symbol) => *symbol,
            None => {
                let symbol = learnt.tokens.len() as u32;
                learnt.tokens.push(merged.clone().into());
                known.insert(merged.into(), symbol);
                symbol
            }
        };
        touched.clear();
        for index in places {
            // A word is listed once for each time the pair came into it.
            if std::mem::replace(&mut seen_at[index as usize], turn) == turn {
                continue;
            }
            let word = &mut words[index as usize];
            if !word.symbols.windows(2).any(|two| (two[0], two[1]) == pair) {
                continue;
            }
            for two in word.symbols.windows(2) {
                if let Some(found) = pairs.get_mut(&(two[0], two[1])) {
                    found.count -= word.count;
                }
            }
            merge(&mut word.symbols, pair, symbol);
            add_pairs(&mut pairs, word, index);
            touched.extend(word.symbols.windows(2).map(|two| (two[0], two[1])));
        }
        touched.sort_unstable();
        touched.dedup();
        for pair in &touched {
            if let Some(found) = pairs.get(pair) {
                queue.push((found.count, Reverse(*pair)));
            }
        }
        pairs.remove(&pair);
    }
    learnt.counts = vec![0; learnt.tokens.len()];
    for word in &words {
        for symbol in &word.symbols {
            learnt.counts[*symbol as usize] += word.count;
        }
    }
    learnt
}

/// The frequency of a pair, and the words that may contain it.
#[derive(Default)]
struct Found {
    count: u64,
    words: Vec<u32>,
}

fn add_pairs(pairs: &mut Map<Pair, Found>, word: &Word, index: u32) {
    for two in word.symbols.windows(2) {
        let found = pairs.entry((two[0], two[1])).or_default();
        found.count += word.count;
        if found.words.last() != Some(&index) {
            found.words.push(index);
        }
    }
}

/// Replaces every occurrence of a pair, from the left.
fn merge(symbols: &mut Vec<u32>, pair: Pair, by: u32) {
    let (mut read, mut write) = (0, 0);
    while read < symbols.len() {
        let here = read + 1 < symbols.len() && (symbols[read], symbols[read + 1]) == pair;
        symbols[write] = if here { by } else { symbols[read] };
        read += if here { 2 } else { 1 };
        write += 1;
    }
    symbols.truncate(write);
}

/// Merges in their order.
#[derive(Debug, Clone, Default, PartialEq)]
pub(crate) struct Merges {
    /// For each pair, its rank and its merged symbol.
    ranks: Map<Pair, (u32, u32)>,
}

impl Merges {
    /// From the pairs in the order in which they were merged, and what each becomes.
    pub(crate) fn new(merges: impl Iterator<Item = (Pair, u32)>) -> Self {
        let mut ranks = Map::default();
        for (rank, (pair, symbol)) in merges.enumerate() {
            ranks.entry(pair).or_insert((rank as u32, symbol));
        }
        Self { ranks }
    }

    /// The symbols of a piece.
    pub(crate) fn cut(&self, piece: &[u8], symbols: &mut Vec<u32>) {
        symbols.clear();
        symbols.extend(piece.iter().map(|byte| u32::from(*byte)));
        // Pieces are short: looking at all pairs again and again is quicker than keeping a queue of them.
        loop {
            let ranked = symbols.windows(2).filter_map(|two| {
                let pair = (two[0], two[1]);
                self.ranks.get(&pair).map(|(rank, symbol)| (*rank, pair, *symbol))
            });
            match ranked.min() {
                Some((_, pair, symbol)) => merge(symbols, pair, symbol),
                None => return,
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use proptest::prelude::*;

    use super::{BYTES, Merges, Pair, learn};

    /// The same, done plainly: count all pairs again before every merge.
    fn plain(pieces: &[(Box<str>, u64)], size: usize, minimum_count: u64) -> Vec<Vec<u8>> {
        let mut tokens: Vec<Vec<u8>> = (0..=255u8).map(|byte| vec![byte]).collect();
        let mut words: Vec<(Vec<usize>, u64)> =
            pieces.iter().map(|(piece, count)| (piece.bytes().map(usize::from).collect(), *count)).collect();
        while tokens.len() < size {
            let mut counts: BTreeMap<(usize, usize), u64> = BTreeMap::new();
            for (symbols, count) in &words {
                for at in 1..symbols.len() {
                    *counts.entry((symbols[at - 1], symbols[at])).or_default() += count;
                }
            }
            // The first of the largest: the map is in the order of the symbols' age.
            let Some(largest) = counts.values().max().copied().filter(|&count| count >= minimum_count) else {
                break;
            };
            let pair = *counts.iter().find(|(_, count)| **count == largest).unwrap().0;
            let merged = [tokens[pair.0].clone(), tokens[pair.1].clone()].concat();
            let symbol = match tokens.iter().position(|token| *token == merged) {
                Some(symbol) => symbol,
                None => {
                    tokens.push(merged);
                    tokens.len() - 1
                }
            };
            for (symbols, _) in &mut words {
                let mut next = Vec::new();
                let mut at = 0;
                while at < symbols.len() {
                    if at + 1 < symbols.len() && (symbols[at], symbols[at + 1]) == pair {
                        next.push(symbol);
                        at += 2;
                    } else {
                        next.push(symbols[at]);
                        at += 1;
                    }
                }
                *symbols = next;
            }
        }
        tokens
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(300))]
        #[test]
        fn the_merges_are_the_greedy_ones(
            pieces in prop::collection::btree_map("[ab]{1,8}|[abc\u{e9} ]{1,10}", 1u64..6, 1..30),
            merges in 1usize..40, minimum_count in 1u64..4,
        ) {
            let pieces: Vec<(Box<str>, u64)> = pieces.into_iter().map(|(p, n)| (p.into(), n)).collect();
            let size = BYTES as usize + merges;
            let learnt = learn(&pieces, size, minimum_count);
            let tokens: Vec<Vec<u8>> = learnt.tokens.iter().map(|token| token.to_vec()).collect();
            prop_assert_eq!(tokens, plain(&pieces, size, minimum_count));
            // Cutting the pieces again gives the counts.
            let symbol_of = |pair: &Pair| {
                let merged = [&*learnt.tokens[pair.0 as usize], &*learnt.tokens[pair.1 as usize]].concat();
                learnt.tokens.iter().position(|token| **token == *merged).unwrap() as u32
            };
            let cutter = Merges::new(learnt.merges.iter().map(|pair| (*pair, symbol_of(pair))));
            let mut counts = vec![0; learnt.tokens.len()];
            let mut symbols = Vec::new();
            for (piece, count) in &pieces {
                cutter.cut(piece.as_bytes(), &mut symbols);
                let bytes: Vec<u8> = symbols.iter().flat_map(|s| learnt.tokens[*s as usize].to_vec()).collect();
                prop_assert_eq!(bytes.as_slice(), piece.as_bytes());
                for symbol in &symbols {
                    counts[*symbol as usize] += count;
                }
            }
            prop_assert_eq!(counts, learnt.counts);
        }
    }

    #[test]
    fn a_run_of_one_letter_is_merged_from_the_left_and_older_symbols_first() {
        let learnt = learn(&[("aaaaa".into(), 1)], 300, 1);
        let made: Vec<&[u8]> = learnt.tokens[256..].iter().map(|token| &**token).collect();
        assert_eq!(made, [&b"aa"[..], b"aaa", b"aaaaa"]);
        assert_eq!(learnt.counts[97..98], [0]);
        assert_eq!(learnt.counts[258], 1);
    }
}
