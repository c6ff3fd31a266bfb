//! Word vectors by counting: shifted positive pointwise mutual information of words and their neighbours, factorised (Levy and Goldberg, 2014).
//!
//! The matrix has `max(0, ln(n(w, c) N / (n(w) n(c)^0.75 ...)) - ln k)` for a word w and a neighbour c, with the counts of neighbours smoothed to the power of 3/4 (Levy, Goldberg and
//! Dagan, 2015); of its leading singular directions the left ones, times the roots of their values, are the vectors.

use foldhash::fast::FixedState;
use hashbrown::HashMap;
use lalograph_text::Reserved;
use lalograph_text::tokens::TokenSequence;
use rayon::prelude::*;

use crate::error::VectorError;
use crate::linear::{Operator, leading};
use crate::sampling::SAMPLING_POWER;
use crate::table::VectorTable;

/// Settings of factorising the counts.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Factorising {
    /// Numbers of a vector.
    pub dimensions: usize,
    /// Words to either side that are neighbours; one at a distance d counts as much as a window drawn at random would reach it.
    pub window: usize,
    /// Shift of the counts, k: it has the effect of k negative samples in prediction.
    pub shift: f64,
    /// The seed of the directions that the search begins with.
    pub seed: u64,
}

/// Makes vectors for a vocabulary whose spellings are `words`, reserved ones first. `progress` is given the share of the text counted, and stops the work by returning `false`.
///
/// # Errors
/// Settings outside their ranges; a text in which nothing is found together; a stop.
pub fn factorise(
    settings: &Factorising,
    words: &[String],
    text: &TokenSequence,
    mut progress: impl FnMut(f64) -> bool,
) -> Result<VectorTable, VectorError> {
    let refuse = |setting, value: String, must| Err(VectorError::Setting { setting, value, must });
    let Factorising { dimensions, window, shift, seed } = *settings;
    if !(1..=4096).contains(&dimensions) {
        return refuse("the number of dimensions", dimensions.to_string(), "1 to 4096");
    }
    if !(1..=1000).contains(&window) {
        return refuse("the window", window.to_string(), "1 to 1000");
    }
    if !(shift >= 1.0 && shift.is_finite()) {
        return refuse("the shift", shift.to_string(), "1 or above");
    }
    let mut pairs: HashMap<(u32, u32), u64, FixedState> = HashMap::default();
    let mut document = Vec::new();
    for (at, index) in text.iter().enumerate() {
        if index >= Reserved::COUNT {
            document.push(index);
        }
        if index == Reserved::END || at + 1 == text.len() {
            for (position, &word) in document.iter().enumerate() {
                for (distance, &other) in (1..=window).zip(&document[position + 1..]) {
                    let weight = (window + 1 - distance) as u64;
                    *pairs.entry((word, other)).or_default() += weight;
                    *pairs.entry((other, word)).or_default() += weight;
                }
            }
            document.clear();
            if !progress((at + 1) as f64 / text.len() as f64) {
                return Err(lalograph_text::TextError::Stopped.into());
            }
        }
    }
    text.check()?;
    let matrix = Sparse::new(&pairs, words.len(), shift);
    if matrix.entries.is_empty() {
        return Err(VectorError::TooLittle);
    }
    let (values, directions) = leading(&matrix, dimensions, seed);
    let first = Reserved::COUNT as usize;
    let mut numbers = vec![0.0f32; (words.len() - first) * dimensions];
    for (at, (value, direction)) in values.iter().zip(&directions).enumerate() {
        for (row, x) in direction[first..].iter().enumerate() {
            numbers[row * dimensions + at] = (value.sqrt() * x) as f32;
        }
    }
    VectorTable::new(words[first..].to_vec(), dimensions, numbers)
}

/// A square matrix of which most entries are zero, row after row.
struct Sparse {
    size: usize,
    starts: Vec<usize>,
    entries: Vec<(u32, f64)>,
    /// The same by column.
    turned: (Vec<usize>, Vec<(u32, f64)>),
}

impl Sparse {
    fn new(pairs: &HashMap<(u32, u32), u64, FixedState>, size: usize, shift: f64) -> Self {
        let mut counts = vec![0u64; size];
        pairs.iter().for_each(|(&(word, _), &count)| counts[word as usize] += count);
        let powered = |count: u64| (count as f64).powf(SAMPLING_POWER);
        let all: f64 = counts.iter().map(|&count| powered(count)).sum();
        let mut entries: Vec<(u32, u32, f64)> = pairs
            .iter()
            .filter_map(|(&(word, other), &count)| {
                let expected = counts[word as usize] as f64 * powered(counts[other as usize]) / all;
                let information = (count as f64 / expected).ln() - shift.ln();
                (information > 0.0).then_some((word, other, information))
            })
            .collect();
        let list = |entries: &mut Vec<(u32, u32, f64)>| {
            entries.sort_unstable_by_key(|&(row, column, _)| (row, column));
            let mut starts = vec![0; size + 1];
            entries.iter().for_each(|&(row, ..)| starts[row as usize + 1] += 1);
            (0..size).for_each(|row| starts[row + 1] += starts[row]);
            (starts, entries.iter().map(|&(_, column, value)| (column, value)).collect::<Vec<_>>())
        };
        let (starts, by_row) = list(&mut entries);
        entries.iter_mut().for_each(|entry| *entry = (entry.1, entry.0, entry.2));
        let turned = list(&mut entries);
        Self { size, starts, entries: by_row, turned }
    }
}

fn products(starts: &[usize], entries: &[(u32, f64)], block: &[Vec<f64>]) -> Vec<Vec<f64>> {
    let product = |vector: &Vec<f64>| {
        let sum = |row: &[usize]| -> f64 {
            entries[row[0]..row[1]].iter().map(|&(column, value)| value * vector[column as usize]).sum()
        };
        starts.windows(2).map(sum).collect()
    };
    block.par_iter().map(product).collect()
}

impl Operator for Sparse {
    fn rows(&self) -> usize {
        self.size
    }
    fn columns(&self) -> usize {
        self.size
    }
    fn times(&self, block: &[Vec<f64>]) -> Vec<Vec<f64>> {
        products(&self.starts, &self.entries, block)
    }
    fn transposed_times(&self, block: &[Vec<f64>]) -> Vec<Vec<f64>> {
        products(&self.turned.0, &self.turned.1, block)
    }
}

#[cfg(test)]
mod tests {
    use super::{Factorising, Sparse, factorise};
    use crate::VectorError;
    use foldhash::fast::FixedState;
    use hashbrown::HashMap;
    use lalograph_text::tokens::TokenSequence;

    #[test]
    fn entries_are_those_of_the_formula() {
        let mut pairs: HashMap<(u32, u32), u64, FixedState> = HashMap::default();
        for (pair, count) in [((0, 1), 8), ((1, 0), 8), ((1, 2), 2), ((2, 1), 2)] {
            pairs.insert(pair, count);
        }
        let matrix = Sparse::new(&pairs, 3, 1.0);
        // Counts 8, 10, 2.
        let all = 8f64.powf(0.75) + 10f64.powf(0.75) + 2f64.powf(0.75);
        let expected = (8.0 * all / (8.0 * 10f64.powf(0.75))).ln();
        assert_eq!(matrix.entries[0].0, 1);
        assert!((matrix.entries[0].1 - expected).abs() < 1e-12);
        let turned = &matrix.turned.1[matrix.turned.0[1]..matrix.turned.0[2]];
        assert!((turned[0].1 - expected).abs() < 1e-12 && turned[0].0 == 0);
    }

    #[test]
    fn words_with_the_same_neighbours_come_together() {
        let words: Vec<String> = (0..8).map(|index| format!("w{index}")).collect();
        // 4 and 5 are before 6, and 7 by itself before 4.
        let text = [4, 6, 3, 5, 6, 3, 4, 6, 3, 5, 6, 3, 7, 7, 3, 7, 7, 3];
        let text = TokenSequence::from_indices(text.repeat(20));
        let settings = Factorising { dimensions: 3, window: 2, shift: 1.0, seed: 1 };
        let table = factorise(&settings, &words, &text, |_| true).unwrap();
        assert_eq!(table.word(table.nearest(table.at(0), 1, &[0])[0].row), "w5");
        let bad = Factorising { shift: 0.0, ..settings };
        assert!(matches!(factorise(&bad, &words, &text, |_| true), Err(VectorError::Setting { .. })));
        assert!(matches!(factorise(&settings, &words, &text, |_| false), Err(VectorError::Text(_))));
        let lonely = TokenSequence::from_indices(vec![4, 3]);
        assert!(matches!(factorise(&settings, &words, &lonely, |_| true), Err(VectorError::TooLittle)));
    }
}
