//! Pieces of words: character n-grams, so that a word that was never seen has a vector too (Bojanowski et al., 2017).

use serde::{Deserialize, Serialize};

use crate::error::VectorError;

/// Pieces of words. The same characters are one piece at the start of a word, another at its end and a third inside it; a whole word is no piece.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Pieces {
    /// Characters of the shortest piece.
    pub shortest: usize,
    /// Characters of the longest piece.
    pub longest: usize,
    /// Rows that pieces share: each has the row of its hash.
    pub rows: u32,
}

/// Position of a piece in its word.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Place {
    Start,
    Inside,
    End,
}

impl Pieces {
    /// Refuses what is no way to cut.
    ///
    /// # Errors
    /// Pieces of no character, the shortest longer than the longest, no rows.
    pub fn check(&self) -> Result<(), VectorError> {
        let refuse = |setting, value: usize, must| {
            Err(VectorError::Setting { setting, value: value.to_string(), must })
        };
        match *self {
            Self { shortest: 0, .. } => refuse("the shortest piece", 0, "1 character or more"),
            Self { shortest, longest, .. } if longest < shortest => {
                refuse("the longest piece", longest, "as long as the shortest or longer")
            }
            Self { rows: 0, .. } => refuse("the number of rows for pieces", 0, "1 or more"),
            _ => Ok(()),
        }
    }

    /// The rows of a word's pieces, from 0, in order; repeated pieces are repeated.
    pub fn of(&self, word: &str) -> Vec<u32> {
        let characters: Vec<char> = word.chars().collect();
        let mut rows = Vec::new();
        for start in 0..characters.len() {
            for length in self.shortest..=self.longest {
                let Some(piece) = characters.get(start..start + length) else {
                    break;
                };
                let place = match (start == 0, start + length == characters.len()) {
                    (true, true) => break,
                    (true, false) => Place::Start,
                    (false, false) => Place::Inside,
                    (false, true) => Place::End,
                };
                rows.push(self.row(place, &piece.iter().collect::<String>()));
            }
        }
        rows
    }

    /// By a hash that is the same on all machines and in all versions, since files depend on it.
    fn row(&self, place: Place, piece: &str) -> u32 {
        let mut hasher = blake3::Hasher::new();
        hasher.update(&[place as u8]).update(piece.as_bytes());
        let hash = hasher.finalize();
        let number = hash.as_bytes()[..8].iter().fold(0u64, |number, &byte| number << 8 | u64::from(byte));
        (number % u64::from(self.rows)) as u32
    }
}

/// The weight of each of the rows of a word: 1 over the root of their number. With the root, words of many and of few pieces train equally fast: with the sum they train too fast, with the mean too slowly.
pub(crate) fn weight_of(rows: usize) -> f32 {
    1.0 / (rows.max(1) as f32).sqrt()
}

#[cfg(test)]
mod tests {
    use super::Pieces;

    #[test]
    fn a_word_has_the_pieces_that_its_characters_make() {
        let pieces = Pieces { shortest: 2, longest: 3, rows: 1 << 20 };
        // éb and bé; ébé is the whole.
        assert_eq!(pieces.of("ébé").len(), 2);
        assert!(pieces.of("a").is_empty());
        // hi hiv iv ive ve.
        let hive = pieces.of("hive");
        assert_eq!(hive.len(), 5);
        assert_eq!(hive[..3], pieces.of("hives")[..3]);
        let one = Pieces { shortest: 1, longest: 1, rows: 1 << 20 };
        let ababa = one.of("ababa");
        assert!(ababa[1] == ababa[3] && ababa[0] != ababa[2] && ababa[2] != ababa[4] && ababa[0] != ababa[4]);
        assert!(hive.iter().all(|&row| row < 1 << 20));
        assert_eq!(Pieces { shortest: 1, longest: 1, rows: 7 }.of("ab").len(), 2);
        for bad in [(0, 3, 5), (3, 2, 5), (1, 2, 0)] {
            assert!(Pieces { shortest: bad.0, longest: bad.1, rows: bad.2 }.check().is_err());
        }
    }
}
