//! What a text costs beside its tokens, computed in the slowest and plainest way from the text form of a vocabulary of words.

use std::collections::{HashMap, HashSet};

use serde_json::Value;
use unicode_segmentation::UnicodeSegmentation;

/// Bits of spelling and of spacing of a document.
pub(crate) fn remainder_bits(vocabulary: &Value, text: &str) -> (f64, f64) {
    let known: HashSet<&str> =
        vocabulary["tokens"].as_array().unwrap().iter().map(|token| token[1].as_str().unwrap()).collect();
    let (mut words, mut gaps) = (Vec::new(), vec![String::new()]);
    for piece in text.split_word_bounds() {
        if piece.chars().all(char::is_whitespace) {
            gaps.last_mut().unwrap().push_str(piece);
        } else {
            words.push(piece);
            gaps.push(String::new());
        }
    }
    let unlisted = vocabulary["unlisted"].as_array().into_iter().flatten();
    let unlisted = unlisted.map(|word| (word[0].as_str().unwrap(), word[1].as_f64().unwrap()));
    let spelling = Spelling::new(known.iter().map(|word| (*word, 1.0)).chain(unlisted));
    let spelt = words.iter().filter(|word| !known.contains(**word)).map(|word| spelling.bits(word)).sum();
    let sides = |at: usize| (at.checked_sub(1).map(|at| words[at]), words.get(at).copied());
    let spaced =
        gaps.iter().enumerate().map(|(at, gap)| gap_bits(&vocabulary["spacing"], sides(at), gap)).sum();
    (spelt, spaced)
}

/// Symbols on their way through a word; 0 is the edge.
type Gram = Vec<u32>;

struct Spelling {
    /// How often each string of symbols is counted, by the rule of its length.
    counts: HashMap<Gram, f64>,
    discounts: [f64; 6],
}

impl Spelling {
    fn new<'w>(words: impl Iterator<Item = (&'w str, f64)>) -> Self {
        let mut raw: HashMap<Gram, f64> = HashMap::new();
        for (word, times) in words {
            let symbols = symbols(word);
            for from in 0..symbols.len() {
                for to in from + 1..=symbols.len().min(from + 6) {
                    // The first edge follows nothing.
                    if to > 1 {
                        *raw.entry(symbols[from..to].to_vec()).or_default() += times;
                    }
                }
            }
        }
        let mut counts = HashMap::new();
        for gram in raw.keys() {
            let begins = gram.len() > 1 && gram[0] == 0;
            let count = if gram.len() == 6 || begins {
                raw[gram]
            } else {
                (0..=256).filter(|&before| raw.contains_key(&[&[before], &gram[..]].concat())).count() as f64
            };
            counts.insert(gram.clone(), count);
        }
        let discounts = std::array::from_fn(|length| {
            let with = |wanted: f64| {
                counts.iter().filter(|(gram, count)| gram.len() == length + 1 && **count == wanted).count()
                    as f64
            };
            let (once, twice) = (with(1.0), with(2.0));
            if once > 0.0 && twice > 0.0 { once / (once + 2.0 * twice) } else { 0.75 }
        });
        Self { counts, discounts }
    }

    fn probability(&self, context: &[u32], symbol: u32) -> f64 {
        let shorter = match context {
            [] => 1.0 / 257.0,
            [_, rest @ ..] => self.probability(rest, symbol),
        };
        let of = |symbol: u32| self.counts.get(&[context, &[symbol]].concat()).copied().unwrap_or(0.0);
        let all: Vec<f64> = (0..=256).map(of).filter(|count| *count > 0.0).collect();
        if all.is_empty() {
            return shorter;
        }
        let discount = self.discounts[context.len()];
        let total: f64 = all.iter().sum();
        ((of(symbol) - discount).max(0.0) + discount * all.len() as f64 * shorter) / total
    }

    fn bits(&self, word: &str) -> f64 {
        let symbols = symbols(word);
        let at = |at: usize| -self.probability(&symbols[at.saturating_sub(5)..at], symbols[at]).log2();
        (1..symbols.len()).map(at).sum()
    }
}

fn symbols(word: &str) -> Gram {
    let bytes = word.bytes().map(|byte| u32::from(byte) + 1);
    std::iter::once(0).chain(bytes).chain(std::iter::once(0)).collect()
}

fn side(word: Option<&str>, first: bool) -> String {
    let c = word.and_then(|word| if first { word.chars().next() } else { word.chars().next_back() });
    match c {
        None => String::new(),
        Some(c) if c.is_alphabetic() => "a".into(),
        Some(c) if c.is_numeric() => "0".into(),
        Some(c) if c.is_ascii() => c.into(),
        Some(_) => "\u{fffd}".into(),
    }
}

/// Gaps without a shape are not looked for here.
fn gap_bits(spacing: &Value, sides: (Option<&str>, Option<&str>), gap: &str) -> f64 {
    let between = (side(sides.0, false), side(sides.1, true));
    let (mut here, mut anywhere) = (HashMap::new(), HashMap::new());
    for line in spacing.as_array().unwrap() {
        let (before, after) = (line[0].as_str().unwrap(), line[1].as_str().unwrap());
        let (text, count) = (line[2].as_str().unwrap(), line[3].as_f64().unwrap());
        *anywhere.entry(text).or_insert(0.0) += count;
        if (before, after) == (between.0.as_str(), between.1.as_str()) {
            *here.entry(text).or_insert(0.0) += count;
        }
    }
    // Up to three ends of either kind, each with nothing or up to 40 spaces or tabs behind, and the spelt gap.
    let mut probability = 1.0 / (7.0 * 81.0 + 1.0);
    for counts in [anywhere, here] {
        let (total, kinds) = (counts.values().sum::<f64>(), counts.len() as f64);
        if total > 0.0 {
            probability = (counts.get(gap).unwrap_or(&0.0) + kinds * probability) / (total + kinds);
        }
    }
    -probability.log2()
}
