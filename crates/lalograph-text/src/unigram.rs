//! Subwords of a unigram language model (Kudo 2018, "Subword regularization"): every token has a probability, a text is cut so that the
//! product over its tokens is greatest, and the tokens are those that are left of very many when the least useful are taken
//! away, again and again. Characters that no token covers are cut into bytes, so nothing is ever unknown.

use foldhash::fast::FixedState;
use hashbrown::HashMap;

use crate::corpus::joined;

type Map<K, V> = HashMap<K, V, FixedState>;

// These constants were chosen by bytes per token of held-out English (docs/measurements.md, "Subwords").

/// Characters of the longest token.
const LONGEST: usize = 20;
/// Candidates that learning starts with, for each token wanted.
const SEEDS_EACH: usize = 5;
/// The least number of candidates.
const SEEDS_LEAST: usize = 20_000;
/// Different pieces that candidates are taken from, the most frequent.
const SEED_PIECES: usize = 200_000;
/// Rounds of expectation and maximisation between two prunings.
const ROUNDS: usize = 3;
/// Share of the tokens that a pruning keeps.
const KEPT: f64 = 0.7;
/// Expected uses below which a token is dropped at once.
const LEAST_USES: f64 = 1.0;
/// Difference of log-probability between the least likely token and a byte, in nats.
const BYTE_COST: f64 = 2.0;

/// Tokens with the logarithms of their probabilities, found by their first bytes.
#[derive(Debug, Clone, Default, PartialEq)]
pub(crate) struct CutTable {
    /// For a node and a byte, the node that it leads to. Node 0 is the start.
    steps: Map<(u32, u8), u32>,
    /// The token that ends at a node.
    ends: Vec<Option<u32>>,
    scores: Vec<f64>,
    byte_score: f64,
}

/// A part of a cut text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Cut {
    /// A token, by its position among those that [`CutTable::new`] was given.
    Token(u32),
    /// A byte of a character that no token covers.
    Byte(u8),
}

/// Memory for cutting, to be used again.
#[derive(Debug, Default)]
pub(crate) struct Lattice {
    /// For each byte position, the best sum of a way there, where its last part begins, and the token that is.
    best: Vec<(f64, u32, Option<u32>)>,
    forward: Vec<f64>,
    backward: Vec<f64>,
    parts: Vec<Cut>,
}

impl CutTable {
    /// From tokens and their scores; those without one are skipped.
    pub(crate) fn new<'t>(tokens: impl Iterator<Item = (&'t [u8], Option<f64>)>) -> Self {
        let mut pieces = Self { ends: vec![None], ..Self::default() };
        for (bytes, score) in tokens {
            let Some(score) = score else {
                pieces.scores.push(0.0);
                continue;
            };
            let mut node = 0;
            for byte in bytes {
                let next = pieces.ends.len() as u32;
                node = *pieces.steps.entry((node, *byte)).or_insert(next);
                if node == next {
                    pieces.ends.push(None);
                }
            }
            pieces.ends[node as usize] = Some(pieces.scores.len() as u32);
            pieces.scores.push(score);
        }
        let least = pieces.scores.iter().copied().fold(0.0, f64::min);
        pieces.byte_score = least - BYTE_COST;
        pieces
    }

    /// Calls `each` with the end and the index of every token that begins at `from`.
    #[inline]
    fn beginning_at(&self, text: &[u8], from: usize, mut each: impl FnMut(usize, u32)) {
        let mut node = 0;
        for (at, byte) in text.iter().enumerate().skip(from) {
            match self.steps.get(&(node, *byte)) {
                Some(next) => node = *next,
                None => return,
            }
            if let Some(token) = self.ends[node as usize] {
                each(at + 1, token);
            }
        }
    }

    /// The most probable way to cut a piece (Viterbi 1967). Of ways that are equally likely, the one whose last token is longer, and so on
    /// from the end.
    pub(crate) fn cut<'l>(&self, piece: &str, lattice: &'l mut Lattice) -> &'l [Cut] {
        let bytes = piece.as_bytes();
        let best = &mut lattice.best;
        best.clear();
        best.resize(bytes.len() + 1, (f64::NEG_INFINITY, 0, None));
        best[0].0 = 0.0;
        for (from, c) in piece.char_indices() {
            let sum = best[from].0;
            let mut offer = |end: usize, score: f64, token| {
                if score > best[end].0 {
                    best[end] = (score, from as u32, token);
                }
            };
            self.beginning_at(bytes, from, |end, token| {
                offer(end, sum + self.scores[token as usize], Some(token));
            });
            let end = from + c.len_utf8();
            offer(end, sum + self.byte_score * c.len_utf8() as f64, None);
        }
        let parts = &mut lattice.parts;
        parts.clear();
        let mut end = bytes.len();
        while end > 0 {
            let (_, from, token) = best[end];
            match token {
                Some(token) => parts.push(Cut::Token(token)),
                None => parts.extend(bytes[from as usize..end].iter().rev().map(|byte| Cut::Byte(*byte))),
            }
            end = from as usize;
        }
        parts.reverse();
        parts
    }

    /// Adds to `expected` how often each token is to be expected in `count` copies of a piece, over all ways to cut it, and gives
    /// the logarithm of the piece's probability.
    fn expect(&self, piece: &str, count: f64, lattice: &mut Lattice, expected: &mut [f64]) -> f64 {
        let bytes = piece.as_bytes();
        let Lattice { forward, backward, .. } = lattice;
        for sums in [&mut *forward, &mut *backward] {
            sums.clear();
            sums.resize(bytes.len() + 1, f64::NEG_INFINITY);
        }
        forward[0] = 0.0;
        backward[bytes.len()] = 0.0;
        let byte_score = |c: char| self.byte_score * c.len_utf8() as f64;
        for (from, c) in piece.char_indices() {
            let sum = forward[from];
            self.beginning_at(bytes, from, |end, token| {
                forward[end] = add_logs(forward[end], sum + self.scores[token as usize]);
            });
            let end = from + c.len_utf8();
            forward[end] = add_logs(forward[end], sum + byte_score(c));
        }
        for (from, c) in piece.char_indices().rev() {
            let mut sum = backward[from + c.len_utf8()] + byte_score(c);
            self.beginning_at(bytes, from, |end, token| {
                sum = add_logs(sum, self.scores[token as usize] + backward[end]);
            });
            backward[from] = sum;
        }
        let whole = forward[bytes.len()];
        for (from, _) in piece.char_indices() {
            self.beginning_at(bytes, from, |end, token| {
                let share = forward[from] + self.scores[token as usize] + backward[end] - whole;
                expected[token as usize] += count * share.exp();
            });
        }
        whole
    }
}

fn add_logs(a: f64, b: f64) -> f64 {
    let (small, large) = if a < b { (a, b) } else { (b, a) };
    if small == f64::NEG_INFINITY { large } else { large + (small - large).exp().ln_1p() }
}

/// A token that was learnt.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Token {
    pub(crate) text: Box<str>,
    /// Number of its uses in the training text.
    pub(crate) count: u64,
    /// The logarithm of its probability.
    pub(crate) score: f64,
}

/// The learnt pieces, at most `size`, the most probable first, and the count of each byte that is its own piece.
pub(crate) fn learn(
    pieces: &[(Box<str>, u64)],
    size: usize,
    minimum_count: u64,
    threads: usize,
) -> (Vec<Token>, [u64; 256]) {
    let mut tokens = seeds(pieces, (size * SEEDS_EACH).max(SEEDS_LEAST), minimum_count);
    loop {
        for _ in 0..ROUNDS {
            let model = model_of(&tokens);
            let expected = expectations(&model, pieces, threads);
            maximise(&mut tokens, &expected);
        }
        if tokens.len() <= size {
            break;
        }
        prune(&mut tokens, pieces, size, threads);
    }
    let model = model_of(&tokens);
    let mut lattice = Lattice::default();
    let mut bytes = [0; 256];
    for (piece, count) in pieces {
        for part in model.cut(piece, &mut lattice) {
            match part {
                Cut::Token(token) => tokens[*token as usize].count += count,
                Cut::Byte(byte) => bytes[usize::from(*byte)] += count,
            }
        }
    }
    tokens.sort_by(|a, b| b.score.total_cmp(&a.score).then_with(|| a.text.cmp(&b.text)));
    (tokens, bytes)
}

fn model_of(tokens: &[Token]) -> CutTable {
    CutTable::new(tokens.iter().map(|token| (token.text.as_bytes(), Some(token.score))))
}

/// All characters, and the substrings that make up most of the text, each with its share as probability.
fn seeds(pieces: &[(Box<str>, u64)], wanted: usize, minimum_count: u64) -> Vec<Token> {
    let mut counts: Map<&str, u64> = Map::default();
    for (piece, count) in pieces.iter().take(SEED_PIECES) {
        let bounds: Vec<usize> =
            piece.char_indices().map(|(at, _)| at).chain(std::iter::once(piece.len())).collect();
        for from in 0..bounds.len() - 1 {
            for to in (from + 1..bounds.len()).take(LONGEST) {
                *counts.entry(&piece[bounds[from]..bounds[to]]).or_default() += count;
            }
        }
    }
    let is_character = |text: &str| text.chars().nth(1).is_none();
    let mut found: Vec<(&str, u64)> = counts
        .into_iter()
        .filter(|(text, count)| *count >= minimum_count.max(if is_character(text) { 1 } else { 2 }))
        .collect();
    let weight = |(text, count): &(&str, u64)| count * text.chars().count() as u64;
    found.sort_unstable_by(|a, b| {
        let ordered = is_character(b.0).cmp(&is_character(a.0)).then(weight(b).cmp(&weight(a)));
        ordered.then_with(|| a.0.cmp(b.0))
    });
    found.truncate(wanted);
    let total: f64 = found.iter().map(|(_, count)| *count as f64).sum();
    let token = |(text, count): (&str, u64)| Token {
        text: text.into(),
        count: 0,
        score: (count as f64 / total).ln(),
    };
    found.into_iter().map(token).collect()
}

/// Adds up over all pieces, in an order that does not depend on the number of threads.
fn over_pieces<T: Send>(
    pieces: &[(Box<str>, u64)],
    threads: usize,
    work: impl Fn(&[(Box<str>, u64)]) -> T + Sync,
    mut add: impl FnMut(T),
) {
    /// Parts of the work, independent of the number of threads.
    const PARTS: usize = 16;
    let parts: Vec<&[(Box<str>, u64)]> = pieces.chunks(pieces.len().div_ceil(PARTS).max(1)).collect();
    for group in parts.chunks(threads.clamp(1, PARTS)) {
        let results: Vec<T> = std::thread::scope(|scope| {
            let workers: Vec<_> = group.iter().map(|part| scope.spawn(|| work(part))).collect();
            workers.into_iter().map(joined).collect()
        });
        results.into_iter().for_each(&mut add);
    }
}

fn expectations(model: &CutTable, pieces: &[(Box<str>, u64)], threads: usize) -> Vec<f64> {
    let mut sum = vec![0.0; model.scores.len()];
    let work = |part: &[(Box<str>, u64)]| {
        let mut expected = vec![0.0; model.scores.len()];
        let mut lattice = Lattice::default();
        for (piece, count) in part {
            model.expect(piece, *count as f64, &mut lattice, &mut expected);
        }
        expected
    };
    over_pieces(pieces, threads, work, |expected| {
        sum.iter_mut().zip(expected).for_each(|(sum, expected)| *sum += expected);
    });
    sum
}

/// New probabilities from the expectations. Tokens that are hardly used go; single characters stay.
fn maximise(tokens: &mut Vec<Token>, expected: &[f64]) {
    let mut at = 0;
    let mut kept = Vec::with_capacity(tokens.len());
    tokens.retain(|token| {
        let count = expected[at];
        at += 1;
        let stays = count >= LEAST_USES || token.text.chars().nth(1).is_none();
        if stays {
            kept.push(count.max(LEAST_USES));
        }
        stays
    });
    let total: f64 = kept.iter().sum();
    for (token, count) in tokens.iter_mut().zip(kept) {
        token.score = (count / total).ln();
    }
}

/// Takes away the tokens without which the text would lose least of its likelihood, at most three tenths.
fn prune(tokens: &mut Vec<Token>, pieces: &[(Box<str>, u64)], size: usize, threads: usize) {
    let model = model_of(tokens);
    let mut used = vec![0u64; tokens.len()];
    let work = |part: &[(Box<str>, u64)]| {
        let mut used = vec![0u64; model.scores.len()];
        let mut lattice = Lattice::default();
        for (piece, count) in part {
            for part in model.cut(piece, &mut lattice) {
                if let Cut::Token(token) = part {
                    used[*token as usize] += count;
                }
            }
        }
        used
    };
    over_pieces(pieces, threads, work, |part| {
        used.iter_mut().zip(part).for_each(|(sum, count)| *sum += count);
    });
    // What is lost when a token's text is cut the next best way: its uses times the difference of the logarithms.
    let mut losses: Vec<(f64, usize)> = Vec::with_capacity(tokens.len());
    let mut lattice = Lattice::default();
    for (index, token) in tokens.iter().enumerate() {
        let loss = if token.text.chars().nth(1).is_none() {
            f64::INFINITY
        } else {
            (token.score - model.without(&token.text, index as u32, &mut lattice)) * used[index] as f64
        };
        losses.push((loss, index));
    }
    losses.sort_by(|a, b| b.0.total_cmp(&a.0).then_with(|| tokens[a.1].text.cmp(&tokens[b.1].text)));
    let characters = losses.iter().take_while(|(loss, _)| *loss == f64::INFINITY).count();
    let next = ((tokens.len() as f64 * KEPT) as usize).max(size);
    // Characters beyond the size asked for are left to the bytes, the least likely first.
    if characters > size {
        losses[..characters]
            .sort_by(|a, b| tokens[b.1].score.total_cmp(&tokens[a.1].score).then(a.1.cmp(&b.1)));
    }
    let mut stays = vec![false; tokens.len()];
    losses.iter().take(next).for_each(|(_, index)| stays[*index] = true);
    let mut at = 0;
    tokens.retain(|_| {
        at += 1;
        stays[at - 1]
    });
}

impl CutTable {
    /// The best sum of a text's logarithms when one token may not be used.
    fn without(&self, text: &str, token: u32, lattice: &mut Lattice) -> f64 {
        let bytes = text.as_bytes();
        let best = &mut lattice.forward;
        best.clear();
        best.resize(bytes.len() + 1, f64::NEG_INFINITY);
        best[0] = 0.0;
        for (from, c) in text.char_indices() {
            let sum = best[from];
            self.beginning_at(bytes, from, |end, found| {
                if found != token {
                    best[end] = best[end].max(sum + self.scores[found as usize]);
                }
            });
            let end = from + c.len_utf8();
            best[end] = best[end].max(sum + self.byte_score * c.len_utf8() as f64);
        }
        best[bytes.len()]
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::{Cut, CutTable, Lattice, learn};

    /// The best sum, and the sums of all ways by token, found by trying every way.
    fn exhaustive(tokens: &[(String, f64)], byte_score: f64, text: &str) -> (f64, f64, Vec<f64>) {
        fn walk(
            tokens: &[(String, f64)],
            byte_score: f64,
            text: &str,
            sum: f64,
            path: &mut Vec<usize>,
            all: &mut Vec<(f64, Vec<usize>)>,
        ) {
            let Some(c) = text.chars().next() else {
                all.push((sum, path.clone()));
                return;
            };
            for (index, (token, score)) in tokens.iter().enumerate() {
                if let Some(rest) = text.strip_prefix(token.as_str()) {
                    path.push(index);
                    walk(tokens, byte_score, rest, sum + score, path, all);
                    path.pop();
                }
            }
            walk(
                tokens,
                byte_score,
                &text[c.len_utf8()..],
                sum + byte_score * c.len_utf8() as f64,
                path,
                all,
            );
        }
        let mut all = Vec::new();
        walk(tokens, byte_score, text, 0.0, &mut Vec::new(), &mut all);
        let best = all.iter().map(|(sum, _)| *sum).fold(f64::NEG_INFINITY, f64::max);
        let whole: f64 = all.iter().map(|(sum, _)| sum.exp()).sum();
        let mut expected = vec![0.0; tokens.len()];
        for (sum, path) in &all {
            for token in path {
                expected[*token] += sum.exp() / whole;
            }
        }
        (best, whole.ln(), expected)
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(500))]
        #[test]
        fn the_best_cut_and_the_expectations_equal_those_of_trying_all(
            tokens in prop::collection::btree_map("[ab\u{e9}]{1,4}", 0.5f64..6.0, 1..12), text in "[abc\u{e9}]{0,9}",
        ) {
            let tokens: Vec<(String, f64)> = tokens.into_iter().map(|(token, cost)| (token, -cost)).collect();
            let pieces = CutTable::new(tokens.iter().map(|(token, score)| (token.as_bytes(), Some(*score))));
            let mut lattice = Lattice::default();
            let parts = pieces.cut(&text, &mut lattice).to_vec();
            let (mut sum, mut bytes) = (0.0, Vec::new());
            for part in &parts {
                match part {
                    Cut::Token(token) => {
                        sum += tokens[*token as usize].1;
                        bytes.extend(tokens[*token as usize].0.bytes());
                    }
                    Cut::Byte(byte) => {
                        sum += pieces.byte_score;
                        bytes.push(*byte);
                    }
                }
            }
            prop_assert_eq!(bytes.as_slice(), text.as_bytes());
            let (best, whole, expected) = exhaustive(&tokens, pieces.byte_score, &text);
            prop_assert!((sum - best).abs() < 1e-9, "{sum} {best}");
            let mut found = vec![0.0; tokens.len()];
            let total = pieces.expect(&text, 1.0, &mut lattice, &mut found);
            prop_assert!((total - whole).abs() < 1e-9);
            for (found, expected) in found.iter().zip(&expected) {
                prop_assert!((found - expected).abs() < 1e-9, "{found} {expected}");
            }
        }
    }

    fn corpus() -> Vec<(Box<str>, u64)> {
        let stems: Vec<String> = ["ho", "ne", "bro", "qu", "fra", "com"]
            .iter()
            .flat_map(|first| ["ney", "od", "een", "me", "ba"].map(|last| format!("{first}{last}")))
            .collect();
        let ends = ["", "s", "less", "keeper", "ward"];
        let mut pieces = Vec::new();
        for (i, stem) in stems.iter().enumerate() {
            for (j, end) in ends.iter().enumerate() {
                pieces.push((format!(" {stem}{end}").into(), (40 / (i + 1) + 10 / (j + 1)) as u64));
            }
        }
        pieces
    }

    #[test]
    fn training_finds_the_parts_of_words_within_its_size() {
        let pieces = corpus();
        let (tokens, bytes) = learn(&pieces, 70, 1, 2);
        assert!(tokens.len() <= 70 && bytes.iter().all(|&count| count == 0));
        let total: f64 = tokens.iter().map(|token| token.score.exp()).sum();
        assert!((total - 1.0).abs() < 1e-9, "{total}");
        for part in [" honey", " brood"] {
            assert!(tokens.iter().any(|token| &*token.text == part), "{part}: {tokens:?}");
        }
        assert!(tokens.is_sorted_by(|a, b| a.score >= b.score));
        let (again, _) = learn(&pieces, 70, 1, 1);
        assert_eq!(tokens, again, "the number of threads changes nothing");
        // Fewer tokens than there are characters: the rest is bytes.
        let (few, bytes) = learn(&pieces, 5, 1, 1);
        assert_eq!(few.len(), 5);
        assert!(bytes.iter().sum::<u64>() > 0);
    }
}
