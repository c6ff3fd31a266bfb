//! Results and progress of training.

use lalograph_text::Reserved;
use serde::Serialize;

use crate::error::VectorError;
use crate::objective::Weights;
use crate::pieces::{Pieces, weight_of};
use crate::table::VectorTable;

/// Its status.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct LearningProgress {
    /// Tokens read, of all passes.
    pub tokens: u64,
    /// Tokens to read.
    pub total_tokens: u64,
    /// Mean loss of the predictions since the last report, in nats; none if there were none.
    pub loss: Option<f64>,
}

/// Result of learning.
#[derive(Debug)]
pub struct Learnt {
    pub(super) weights: Weights<f32>,
    pub(super) rows: WordRows,
    pub(super) pieces: Option<Pieces>,
}

impl Learnt {
    /// The vectors of words as a table; `words` are the spellings of all indices, reserved ones first.
    ///
    /// # Errors
    /// Numbers that are not finite.
    pub fn table(&self, words: &[String]) -> Result<VectorTable, VectorError> {
        let first = Reserved::COUNT as usize;
        let input = &self.weights.input;
        let dimensions = input.width();
        let mut values = Vec::with_capacity((words.len() - first) * dimensions);
        for index in first..words.len() {
            let mut sum = vec![0.0; dimensions];
            let rows = self.rows.of(index as u32);
            for &row in rows {
                let weight = weight_of(rows.len());
                sum.iter_mut().zip(input.numbers_of(row)).for_each(|(sum, x)| *sum += weight * x);
            }
            values.extend(sum);
        }
        let table = VectorTable::new(words[first..].to_vec(), dimensions, values)?;
        Ok(match self.pieces {
            Some(pieces) => {
                let rows = (0..pieces.rows).map(|row| words.len() as u32 + row);
                table.with_pieces(pieces, rows.flat_map(|row| input.numbers_of(row).copied()).collect())
            }
            None => table,
        })
    }
}

/// The input rows of every word: its own, and those of its pieces.
#[derive(Debug)]
pub(super) struct WordRows {
    pub(super) rows: Vec<u32>,
    pub(super) starts: Vec<usize>,
}

impl WordRows {
    pub(super) fn new(words: &[String], pieces: Option<&Pieces>) -> Self {
        let (mut rows, mut starts) = (Vec::new(), vec![0]);
        for (index, word) in (0..).zip(words) {
            rows.push(index);
            if let Some(pieces) = pieces.filter(|_| index >= Reserved::COUNT) {
                rows.extend(pieces.of(word).into_iter().map(|row| words.len() as u32 + row));
            }
            starts.push(rows.len());
        }
        Self { rows, starts }
    }

    #[inline(always)]
    pub(super) fn of(&self, word: u32) -> &[u32] {
        &self.rows[self.starts[word as usize]..self.starts[word as usize + 1]]
    }
}

pub(super) type Observer<'o> =
    &'o mut (dyn FnMut(&LearningProgress, &mut dyn FnMut() -> Learnt) -> bool + Send);
