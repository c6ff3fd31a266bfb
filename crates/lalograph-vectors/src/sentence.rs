//! Vectors of whole texts, and how far texts are apart.

use crate::error::VectorError;
use crate::table::{VectorTable, add, cosine, to_length_1};

/// Weights of a text's words in its vector.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Weighing {
    /// All alike.
    Mean,
    /// By `a / (a + share of the word in the text that the vectors are of)`, so that frequent words say less (Arora, Liang and Ma, 2017).
    Frequency {
        /// a, 1e-3 as a rule.
        a: f64,
    },
}

/// The vector of a text that was cut into words, at length 1; `shares` are the words' shares of the text that they were learnt from, by row, if they are known.
///
/// # Errors
/// No word that has a vector.
pub fn sentence(
    table: &VectorTable,
    words: &[String],
    weighing: Weighing,
    shares: Option<&[f64]>,
) -> Result<Vec<f32>, VectorError> {
    let mut sum = vec![0.0; table.dimensions()];
    let mut known = false;
    for word in words {
        let Ok(mut vector) = table.vector(word) else {
            continue;
        };
        known = true;
        to_length_1(&mut vector);
        let share = table.row(word).and_then(|row| shares?.get(row as usize).copied());
        let weight = match (weighing, share) {
            (Weighing::Frequency { a }, Some(share)) => a / (a + share),
            _ => 1.0,
        };
        add(&mut sum, weight as f32, &vector);
    }
    if !known {
        return Err(VectorError::NothingKnown(words.join(" ")));
    }
    to_length_1(&mut sum);
    Ok(sum)
}

/// One minus the cosine between any two of some vectors.
pub fn distances(vectors: &[Vec<f32>]) -> Vec<Vec<f64>> {
    vectors.iter().map(|a| vectors.iter().map(|b| 1.0 - cosine(a, b)).collect()).collect()
}

#[cfg(test)]
mod tests {
    use super::{Weighing, distances, sentence};
    use crate::VectorTable;

    #[test]
    fn frequent_words_weigh_less() {
        let words = ["the", "bee"].map(str::to_owned).to_vec();
        let table = VectorTable::new(words.clone(), 2, vec![2.0, 0.0, 0.0, 1.0]).unwrap();
        let mean = sentence(&table, &words, Weighing::Mean, None).unwrap();
        assert!((mean[0] - mean[1]).abs() < 1e-6);
        let shares = [0.05, 0.0001];
        let weighed = sentence(&table, &words, Weighing::Frequency { a: 1e-3 }, Some(&shares)).unwrap();
        // 1 / 51 against 1 / 1.1.
        assert!((f64::from(weighed[0] / weighed[1]) - 1.1 / 51.0).abs() < 1e-5);
        assert!(sentence(&table, &["xyz".to_owned()], Weighing::Mean, None).is_err());
        let apart = distances(&[mean, vec![0.0, 1.0]]);
        assert!((apart[0][1] - (1.0 - 0.5f64.sqrt())).abs() < 1e-6 && apart[0][0].abs() < 1e-6);
    }
}
