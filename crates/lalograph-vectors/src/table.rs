//! A table of vectors: words, their rows, what is near what.

use std::collections::HashMap;

use lalograph_net::products::multiply::multiply_packed;
use lalograph_net::products::pack::{Packed, Workspace};
use lalograph_net::products::view::{Accumulation, Matrix, MatrixMut};
use rayon::prelude::*;

use crate::error::VectorError;
use crate::pieces::{Pieces, weight_of};

/// Rows of the table that are compared with all queries at a time.
const ROWS: usize = 2048;

/// Spellings that are offered for a word that is not there.
const OFFERED: usize = 3;

/// A word and its similarity.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Neighbour {
    /// The row.
    pub row: u32,
    /// The cosine between the two vectors; for analogies what the method compares by.
    pub cosine: f32,
}

/// Words with vectors.
///
/// ```
/// use lalograph_vectors::VectorTable;
/// let words = ["hive", "skep", "rain"].map(str::to_owned).to_vec();
/// let table = VectorTable::new(words, 2, vec![1.0, 0.1, 0.9, 0.2, -0.3, 1.0])?;
/// let query = table.vector("hive")?;
/// let near = table.nearest(&query, 1, &[0]);
/// assert_eq!(table.word(near[0].row), "skep");
/// # Ok::<(), lalograph_vectors::VectorError>(())
/// ```
#[derive(Debug, Clone)]
pub struct VectorTable {
    words: Vec<String>,
    rows: HashMap<String, u32>,
    dimensions: usize,
    /// As they were learnt.
    values: Vec<f32>,
    /// The same at length 1; zero stays zero.
    directions: Vec<f32>,
    pieces: Option<(Pieces, Vec<f32>)>,
}

impl VectorTable {
    /// A table of these words, row after row; of words that come twice the first is found.
    ///
    /// # Errors
    /// Rows of another length than `dimensions` or numbers that are not finite.
    pub fn new(words: Vec<String>, dimensions: usize, values: Vec<f32>) -> Result<Self, VectorError> {
        if dimensions == 0 || values.len() != words.len() * dimensions {
            let found = values.len() / words.len().max(1);
            return Err(VectorError::Dimensions { found, wanted: dimensions.max(1) });
        }
        if values.iter().any(|x| !x.is_finite()) {
            return Err(VectorError::NotFinite);
        }
        let mut rows = HashMap::with_capacity(words.len());
        for (row, word) in (0..).zip(&words) {
            rows.entry(word.clone()).or_insert(row);
        }
        let mut directions = values.clone();
        directions.par_chunks_mut(dimensions).for_each(to_length_1);
        Ok(Self { words, rows, dimensions, values, directions, pieces: None })
    }

    /// The same with rows for pieces of words, so that words that are not in it have vectors too.
    #[must_use]
    pub fn with_pieces(self, pieces: Pieces, values: Vec<f32>) -> Self {
        Self { pieces: Some((pieces, values)), ..self }
    }

    /// Its words.
    pub fn words(&self) -> &[String] {
        &self.words
    }

    /// Numbers of a vector.
    pub fn dimensions(&self) -> usize {
        self.dimensions
    }

    /// All numbers, row after row.
    pub fn values(&self) -> &[f32] {
        &self.values
    }

    /// The division of unseen words into pieces, and the vectors of the pieces, if there are any.
    pub fn pieces(&self) -> Option<(&Pieces, &[f32])> {
        self.pieces.as_ref().map(|(pieces, values)| (pieces, &values[..]))
    }

    /// The word of a row.
    pub fn word(&self, row: u32) -> &str {
        &self.words[row as usize]
    }

    /// The row of a word as spelt, else in lower case.
    pub fn row(&self, word: &str) -> Option<u32> {
        self.rows.get(word).or_else(|| self.rows.get(&word.to_lowercase())).copied()
    }

    /// The row of a word exactly as spelt.
    pub fn exact_row(&self, word: &str) -> Option<u32> {
        self.rows.get(word).copied()
    }

    /// The vector of a row.
    pub fn at(&self, row: u32) -> &[f32] {
        &self.values[row as usize * self.dimensions..][..self.dimensions]
    }

    /// The same at length 1.
    pub fn direction(&self, row: u32) -> &[f32] {
        &self.directions[row as usize * self.dimensions..][..self.dimensions]
    }

    /// The vector of a word; for an unseen word, that of its pieces.
    ///
    /// # Errors
    /// A word that is not there and has no pieces that are; spellings that are near are named.
    pub fn vector(&self, word: &str) -> Result<Vec<f32>, VectorError> {
        if let Some(row) = self.row(word) {
            return Ok(self.at(row).to_vec());
        }
        if let Some((pieces, values)) = &self.pieces {
            let rows = pieces.of(word);
            let mut sum = vec![0.0; self.dimensions];
            for &row in &rows {
                add(&mut sum, weight_of(rows.len()), &values[row as usize * self.dimensions..]);
            }
            if sum.iter().any(|&x| x != 0.0) {
                return Ok(sum);
            }
        }
        Err(self.unknown(word))
    }

    /// Adds the direction of a word to a sum, times a factor: every word has the same say, however long its vector.
    ///
    /// # Errors
    /// As for [`VectorTable::vector`].
    pub fn add_direction(&self, word: &str, factor: f32, sum: &mut [f32]) -> Result<(), VectorError> {
        let term = self.vector(word)?;
        let length = term.iter().map(|x| x * x).sum::<f32>().sqrt().max(f32::MIN_POSITIVE);
        sum.iter_mut().zip(&term).for_each(|(to, x)| *to += factor * x / length);
        Ok(())
    }

    /// The error for an unknown word, with similarly spelt words.
    pub fn unknown(&self, word: &str) -> VectorError {
        let mut near: Vec<(f64, &String)> = self
            .words
            .par_iter()
            .map(|other| (strsim::jaro_winkler(word, other), other))
            .filter(|(similarity, _)| *similarity > 0.8)
            .collect();
        near.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(b.1)));
        let near = near.into_iter().take(OFFERED).map(|(_, other)| other.clone()).collect();
        VectorError::Unknown { word: word.to_owned(), near }
    }

    /// The `count` rows nearest to a vector by cosine, those of `without` left out, the nearest first; of equal ones the earlier.
    pub fn nearest(&self, query: &[f32], count: usize, without: &[u32]) -> Vec<Neighbour> {
        self.nearest_of_all(query, count, &[without]).into_iter().next().unwrap_or_default()
    }

    /// The same for many queries, one after the other in `queries`: one product of the table with all of them, in pieces, on the threads of the current pool.
    /// `without` has what to leave out for each.
    pub fn nearest_of_all(&self, queries: &[f32], count: usize, without: &[&[u32]]) -> Vec<Vec<Neighbour>> {
        let cosines = |scores: &[f32], _: usize| scores.to_vec();
        self.best_of_all(queries, without.len(), count, without, cosines)
    }

    /// The rows that are best by a figure made of their cosines with some vectors: `per` vectors for each of the questions, of which there are as many as
    /// there are lists in `without`.
    pub(crate) fn best_of_all(
        &self,
        vectors: &[f32],
        questions: usize,
        count: usize,
        without: &[&[u32]],
        figure: impl Fn(&[f32], usize) -> Vec<f32> + Sync,
    ) -> Vec<Vec<Neighbour>> {
        let total = vectors.len() / self.dimensions;
        if total == 0 || questions == 0 || count == 0 {
            return vec![Vec::new(); questions];
        }
        let mut directions = vectors.to_vec();
        directions.chunks_mut(self.dimensions).for_each(to_length_1);
        let packed = Packed::of(Matrix::new(&directions, total, self.dimensions).transposed());
        let per = total / questions;
        let found = self
            .directions
            .par_chunks(ROWS * self.dimensions)
            .enumerate()
            .map_init(Workspace::new, |work, (part, rows)| {
                let here = rows.len() / self.dimensions;
                let mut products = vec![0.0; here * total];
                let left = Matrix::new(rows, here, self.dimensions);
                let mut out = MatrixMut::new(&mut products, here, total);
                multiply_packed(left, &packed, &mut out, Accumulation::Replace, work);
                let mut best: Vec<Best> = without.iter().map(|_| Best::new(count)).collect();
                for (at, products) in products.chunks(total).enumerate() {
                    let row = (part * ROWS + at) as u32;
                    let figures = if per == 1 { None } else { Some(figure(products, per)) };
                    let figures = figures.as_deref().unwrap_or(products);
                    for ((best, &cosine), without) in best.iter_mut().zip(figures).zip(without) {
                        if cosine > best.least && !without.contains(&row) {
                            best.take(Neighbour { row, cosine });
                        }
                    }
                }
                best
            })
            .reduce_with(|mut all, part| {
                for (all, part) in all.iter_mut().zip(part) {
                    part.found.into_iter().for_each(|neighbour| all.take(neighbour));
                }
                all
            });
        let found = found.unwrap_or_default();
        let mut lists: Vec<Vec<Neighbour>> = found.into_iter().map(|best| best.found).collect();
        lists.resize(questions, Vec::new());
        lists
    }
}

/// The best that were seen, the best first.
struct Best {
    count: usize,
    least: f32,
    found: Vec<Neighbour>,
}

impl Best {
    fn new(count: usize) -> Self {
        Self { count, least: f32::NEG_INFINITY, found: Vec::new() }
    }

    fn take(&mut self, neighbour: Neighbour) {
        let before = |other: &Neighbour| {
            other.cosine > neighbour.cosine || (other.cosine == neighbour.cosine && other.row < neighbour.row)
        };
        let at = self.found.partition_point(before);
        if at < self.count {
            self.found.insert(at, neighbour);
            self.found.truncate(self.count);
            if self.found.len() == self.count {
                self.least = self.found.last().map_or(f32::NEG_INFINITY, |last| last.cosine);
            }
        }
    }
}

/// Scales a vector to length 1, unless it is zero.
pub(crate) fn to_length_1(vector: &mut [f32]) {
    let square: f64 = vector.iter().map(|&x| f64::from(x) * f64::from(x)).sum();
    if square > 0.0 {
        // In double precision: one over a great length is no number of single precision any more.
        let factor = 1.0 / square.sqrt();
        vector.iter_mut().for_each(|x| *x = (f64::from(*x) * factor) as f32);
    }
}

/// Adds `factor` times the front of `more` to a vector.
pub(crate) fn add(to: &mut [f32], factor: f32, more: &[f32]) {
    to.iter_mut().zip(more).for_each(|(to, more)| *to += factor * more);
}

/// The cosine between two vectors; 0 if either is zero.
pub fn cosine(a: &[f32], b: &[f32]) -> f64 {
    let dot =
        |a: &[f32], b: &[f32]| -> f64 { a.iter().zip(b).map(|(&a, &b)| f64::from(a) * f64::from(b)).sum() };
    let lengths = (dot(a, a) * dot(b, b)).sqrt();
    if lengths > 0.0 { dot(a, b) / lengths } else { 0.0 }
}

#[cfg(test)]
mod tests {
    use super::{VectorTable, cosine};
    use crate::VectorError;
    use crate::pieces::Pieces;
    use lalograph_net::numbers::chance::stream;
    use rand::RngExt;

    fn table(words: usize, dimensions: usize) -> VectorTable {
        let mut random = stream(5, "test", &[]);
        let values = (0..words * dimensions).map(|_| random.random_range(-1.0f32..1.0)).collect();
        VectorTable::new((0..words).map(|i| format!("word{i}")).collect(), dimensions, values).unwrap()
    }

    #[test]
    fn neighbours_are_those_of_a_plain_search() {
        for (words, dimensions, count) in [(1, 3, 5), (50, 7, 4), (5000, 20, 12)] {
            let table = table(words, dimensions);
            let rows: Vec<u32> = (0..words.min(9) as u32).collect();
            let queries: Vec<f32> = rows.iter().flat_map(|&row| table.at(row).to_vec()).collect();
            let without: Vec<[u32; 1]> = rows.iter().map(|&row| [row]).collect();
            let without: Vec<&[u32]> = without.iter().map(|row| &row[..]).collect();
            let all = table.nearest_of_all(&queries, count, &without);
            for (&row, found) in rows.iter().zip(&all) {
                let mut plain: Vec<(f64, u32)> = (0..words as u32)
                    .filter(|&other| other != row)
                    .map(|other| (cosine(table.at(row), table.at(other)), other))
                    .collect();
                plain.sort_by(|a, b| b.0.total_cmp(&a.0));
                plain.truncate(count);
                assert_eq!(found.len(), plain.len());
                for (found, plain) in found.iter().zip(&plain) {
                    assert!((f64::from(found.cosine) - plain.0).abs() < 1e-5 && found.row == plain.1);
                }
                assert_eq!(&table.nearest(table.at(row), count, &[row])[..], &found[..]);
            }
        }
    }

    #[test]
    fn unknown_words_get_vectors_from_pieces_or_spelling_suggestions() {
        let words = ["hive", "hives", "comb"].map(str::to_owned).to_vec();
        let table = VectorTable::new(words, 2, vec![1.0, 0.0, 0.8, 0.1, 0.0, 1.0]).unwrap();
        let Err(VectorError::Unknown { near, .. }) = table.vector("hivve") else { panic!() };
        assert_eq!(near[0], "hive");
        assert!(table.row("HIVE") == Some(0) && table.nearest(&[1.0, 0.0], 0, &[]).is_empty());
        let pieces = Pieces { shortest: 3, longest: 3, rows: 4 };
        let table = table.with_pieces(pieces, vec![1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0, 8.0]);
        let rows = pieces.of("hivve");
        let first = rows.iter().map(|&row| (2 * row + 1) as f32).sum::<f32>() / (rows.len() as f32).sqrt();
        assert!((table.vector("hivve").unwrap()[0] - first).abs() < 1e-5);
    }

    #[test]
    fn tables_that_are_none_are_refused() {
        let words = || vec!["a".to_owned(), "b".to_owned()];
        assert!(VectorTable::new(words(), 2, vec![1.0; 3]).is_err());
        assert!(VectorTable::new(words(), 0, Vec::new()).is_err());
        assert!(matches!(VectorTable::new(words(), 1, vec![1.0, f32::NAN]), Err(VectorError::NotFinite)));
    }
}
