//! From a text to indices, from the page: what it calls `vocabulary` is all that is known.

use std::collections::HashMap;

use serde_json::Value;
use unicode_properties::{GeneralCategoryGroup, UnicodeGeneralCategory};
use unicode_segmentation::UnicodeSegmentation;

use super::cleaning::{Step, clean};

pub(crate) struct Page {
    unit: String,
    cleaning: Vec<Step>,
    tokens: HashMap<Vec<u8>, u32>,
    bytes: HashMap<u32, Vec<u8>>,
    scores: HashMap<Vec<u8>, (u32, f64)>,
    ranks: HashMap<(u32, u32), usize>,
    longest: usize,
}

fn number(value: &Value) -> u32 {
    u32::try_from(value.as_u64().unwrap()).unwrap()
}

impl Page {
    pub(crate) fn new(vocabulary: &str) -> Self {
        let vocabulary: Value = serde_json::from_str(vocabulary).unwrap();
        let (mut tokens, mut bytes, mut scores) = (HashMap::new(), HashMap::new(), HashMap::new());
        for entry in vocabulary["tokens"].as_array().unwrap() {
            let own = match entry[1].as_str() {
                Some(text) => text.as_bytes().to_vec(),
                None => {
                    let digits = entry[1]["bytes"].as_str().unwrap();
                    (0..digits.len())
                        .step_by(2)
                        .map(|at| u8::from_str_radix(&digits[at..at + 2], 16).unwrap())
                        .collect()
                }
            };
            if let Some(score) = entry[3].as_f64() {
                scores.insert(own.clone(), (number(&entry[0]), score));
            }
            bytes.insert(number(&entry[0]), own.clone());
            tokens.insert(own, number(&entry[0]));
        }
        let merges = vocabulary["merges"].as_array().into_iter().flatten();
        let ranks = merges.enumerate().map(|(rank, pair)| ((number(&pair[0]), number(&pair[1])), rank));
        Self {
            unit: vocabulary["unit"].as_str().unwrap().to_owned(),
            cleaning: vocabulary["cleaning"].as_array().unwrap().iter().map(Step::read).collect(),
            ranks: ranks.collect(),
            longest: tokens.keys().map(Vec::len).max().unwrap_or(0),
            tokens,
            bytes,
            scores,
        }
    }

    pub(crate) fn indices(&self, text: &str) -> Vec<u32> {
        let text = self.cleaning.iter().fold(text.to_owned(), |text, step| clean(&text, step));
        let known = |token: &str| self.tokens.get(token.as_bytes()).copied().unwrap_or(1);
        match self.unit.as_str() {
            "word" => {
                let words = text.split_word_bounds().filter(|word| !word.chars().all(char::is_whitespace));
                words.map(known).collect()
            }
            "character" => text.chars().map(|c| known(&c.to_string())).collect(),
            "grapheme" => text.graphemes(true).map(known).collect(),
            "byte" => text.bytes().map(|byte| 4 + u32::from(byte)).collect(),
            "byte_pair" => pieces(&text).iter().flat_map(|piece| self.merged(piece)).collect(),
            "unigram" => pieces(&text).iter().flat_map(|piece| self.divided(piece)).collect(),
            other => panic!("{other}"),
        }
    }

    fn merged(&self, piece: &str) -> Vec<u32> {
        let mut indices: Vec<u32> = piece.bytes().map(|byte| 4 + u32::from(byte)).collect();
        loop {
            let ranked = indices.windows(2).filter_map(|pair| {
                self.ranks.get(&(pair[0], pair[1])).map(|rank| (*rank, (pair[0], pair[1])))
            });
            let Some((_, (left, right))) = ranked.min() else { return indices };
            let both = [&self.bytes[&left][..], &self.bytes[&right]].concat();
            let joined = self.tokens[&both];
            let mut next = Vec::new();
            let mut at = 0;
            while at < indices.len() {
                if indices[at] == left && indices.get(at + 1) == Some(&right) {
                    next.push(joined);
                    at += 2;
                } else {
                    next.push(indices[at]);
                    at += 1;
                }
            }
            indices = next;
        }
    }

    fn divided(&self, piece: &str) -> Vec<u32> {
        let least = self.scores.values().map(|(_, score)| *score).fold(0.0, f64::min) - 2.0;
        let text = piece.as_bytes();
        let mut best: Vec<(f64, Vec<u32>)> = vec![(f64::NEG_INFINITY, Vec::new()); text.len() + 1];
        best[0].0 = 0.0;
        for (from, c) in piece.char_indices() {
            let (sum, way) = best[from].clone();
            let mut offer = |end: usize, score: f64, own: &[u32]| {
                if score > best[end].0 {
                    best[end] = (score, [&way[..], own].concat());
                }
            };
            for end in from + 1..=text.len().min(from + self.longest) {
                if let Some((index, score)) = self.scores.get(&text[from..end]) {
                    offer(end, sum + score, &[*index]);
                }
            }
            let bytes: Vec<u32> =
                text[from..from + c.len_utf8()].iter().map(|byte| 4 + u32::from(*byte)).collect();
            offer(from + c.len_utf8(), sum + least * bytes.len() as f64, &bytes);
        }
        best.pop().unwrap().1
    }
}

#[derive(Clone, Copy, PartialEq)]
enum Class {
    Space,
    Letter,
    Digit,
    Joined,
    Mark,
}

fn class(c: char) -> Class {
    let group = c.general_category_group();
    if c.is_whitespace() {
        Class::Space
    } else if c.is_alphabetic() {
        Class::Letter
    } else if group == GeneralCategoryGroup::Number {
        Class::Digit
    } else if group == GeneralCategoryGroup::Mark || c == '\u{200d}' {
        Class::Joined
    } else {
        Class::Mark
    }
}

fn pieces(text: &str) -> Vec<String> {
    let all: Vec<char> = text.chars().collect();
    let mut pieces = Vec::new();
    let mut at = 0;
    while at < all.len() {
        let start = at;
        let mut own = class(all[at]);
        at += 1;
        if all[start] == ' ' && at < all.len() && class(all[at]) != Class::Space {
            own = class(all[at]);
            at += 1;
        }
        let mut size = 1;
        while at < all.len() && size < 64 {
            let next = class(all[at]);
            let apostrophe = all[at] == '\''
                && own == Class::Letter
                && all.get(at + 1).is_some_and(|&c| class(c) == Class::Letter);
            if next != own && next != Class::Joined && !apostrophe {
                break;
            }
            at += 1;
            size += 1;
        }
        if own == Class::Space && at - start >= 2 && all[at - 1] == ' ' && at < all.len() {
            at -= 1;
        }
        pieces.push(all[start..at].iter().collect());
    }
    pieces
}
