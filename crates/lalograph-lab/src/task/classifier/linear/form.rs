//! From the tokens of a document, or a row of numbers, to the features of a linear classifier.

use lalograph_net::linear::SparseRows;
use serde::{Deserialize, Serialize};

use crate::plan::TermValues;

/// The features of a linear classifier, as its model file keeps them. Every value is multiplied by `scale`, which makes the mean squared
/// length of a training row 1, so that a strength of the penalty means the same for all values.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LinearForm {
    /// The terms; none for rows of numbers, whose features are their numbers.
    pub terms: Option<TermForm>,
    /// Number of features.
    pub features: usize,
    /// Factor of all values.
    pub scale: f32,
}

/// Terms with their values.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TermForm {
    /// The vocabulary index of each term.
    pub terms: Vec<u32>,
    /// Training documents that have each term.
    pub documents: Vec<u64>,
    /// All training documents.
    pub training_documents: u64,
    /// Value of a term in a document.
    pub values: TermValues,
    /// Number of first terms of which each two have their product as a further feature.
    pub pairs: usize,
}

/// A feature of a linear classifier.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Feature {
    /// The term of this place.
    Term(usize),
    /// The product of the terms of these places.
    Product(usize, usize),
    /// The number of this place.
    Number(usize),
}

impl TermForm {
    /// Number of features: the terms, then the products of each two of the first.
    pub(super) fn features(&self) -> usize {
        let pairs = self.paired();
        self.terms.len() + pairs * pairs.saturating_sub(1) / 2
    }

    fn paired(&self) -> usize {
        self.pairs.min(self.terms.len())
    }

    /// Column of the product of two terms, the first before the second.
    fn product(&self, first: usize, second: usize) -> usize {
        self.terms.len() + first * (2 * self.paired() - first - 1) / 2 + second - first - 1
    }

    /// Inverse document frequency of a term: the natural logarithm of all documents over those that have it (Sparck Jones, 1972).
    pub fn inverse_frequency(&self, term: usize) -> f64 {
        (self.training_documents as f64 / self.documents[term].max(1) as f64).ln()
    }
}

impl LinearForm {
    /// The feature of a column.
    pub fn feature(&self, column: usize) -> Feature {
        let Some(form) = &self.terms else { return Feature::Number(column) };
        if column < form.terms.len() {
            return Feature::Term(column);
        }
        // The last first term whose products begin at or before the column.
        let (mut low, mut high) = (0, form.paired().saturating_sub(2));
        while low < high {
            let middle = (low + high).div_ceil(2);
            if form.product(middle, middle + 1) <= column { low = middle } else { high = middle - 1 }
        }
        Feature::Product(low, column - form.product(low, low + 1) + low + 1)
    }

    /// Whether the parts of the form agree, for a vocabulary of this length.
    pub(in crate::task::classifier) fn is_sound(&self, vocabulary: usize) -> bool {
        let terms = self.terms.as_ref().is_none_or(|form| {
            let known = form.terms.iter().all(|&term| (term as usize) < vocabulary);
            known && form.documents.len() == form.terms.len() && form.features() == self.features
        });
        terms && self.features > 0 && self.scale.is_finite()
    }
}

/// A feature of a document with its value, and how often its term occurs.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(in crate::task::classifier) struct Valued {
    pub(in crate::task::classifier) column: u32,
    pub(in crate::task::classifier) value: f32,
}

/// Makes rows of documents. It belongs to one thread.
pub(in crate::task::classifier) struct RowMaker<'f> {
    form: &'f LinearForm,
    /// For each index of the vocabulary the place of its term, plus 1; 0 if it is none.
    places: Vec<u32>,
    counts: Vec<u32>,
    found: Vec<u32>,
}

impl<'f> RowMaker<'f> {
    pub(in crate::task::classifier) fn new(form: &'f LinearForm, vocabulary: usize) -> Self {
        let mut places = vec![0; vocabulary];
        let terms = form.terms.as_ref().map_or(&[][..], |form| &form.terms[..]);
        for (place, &term) in (1..).zip(terms) {
            places[term as usize] = place;
        }
        Self { form, places, counts: vec![0; terms.len()], found: Vec::new() }
    }

    /// The place of a token's term.
    pub(in crate::task::classifier) fn place(&self, token: u32) -> Option<usize> {
        self.places.get(token as usize).and_then(|&place| (place as usize).checked_sub(1))
    }

    /// The features of a document in rising order of their columns. The tokens are without an end token.
    pub(in crate::task::classifier) fn row(&mut self, tokens: &[u32]) -> Vec<Valued> {
        let Some(form) = &self.form.terms else { return Vec::new() };
        self.found.clear();
        for &token in tokens {
            let Some(place) = self.place(token) else { continue };
            if self.counts[place] == 0 {
                self.found.push(place as u32);
            }
            self.counts[place] += 1;
        }
        self.found.sort_unstable();
        let length = tokens.len() as f64;
        let value = |place: usize| {
            let count = f64::from(self.counts[place]);
            match form.values {
                TermValues::Counts => count,
                TermValues::Frequencies => count / length,
                TermValues::Roots => (count / length).sqrt(),
                TermValues::TfIdf => count * form.inverse_frequency(place),
            }
        };
        let mut values: Vec<f64> = self.found.iter().map(|&place| value(place as usize)).collect();
        if form.values == TermValues::TfIdf {
            let norm = values.iter().map(|value| value * value).sum::<f64>().sqrt();
            values.iter_mut().filter(|_| norm > 0.0).for_each(|value| *value /= norm);
        }
        let scale = f64::from(self.form.scale);
        let valued =
            |column: usize, value: f64| Valued { column: column as u32, value: (value * scale) as f32 };
        let mut row: Vec<Valued> =
            self.found.iter().zip(&values).map(|(&place, &value)| valued(place as usize, value)).collect();
        let paired = self.found.partition_point(|&place| (place as usize) < form.paired());
        for (index, (&first, one)) in self.found[..paired].iter().zip(&values).enumerate() {
            let others = self.found[index + 1..paired].iter().zip(&values[index + 1..]);
            row.extend(
                others.map(|(&second, two)| valued(form.product(first as usize, second as usize), one * two)),
            );
        }
        for &place in &self.found {
            self.counts[place as usize] = 0;
        }
        row.retain(|valued| valued.value != 0.0);
        row
    }

    /// The features of a row of standardised numbers.
    pub(in crate::task::classifier) fn numbers(&self, numbers: &[f32]) -> Vec<Valued> {
        let valued = |(column, &number): (usize, &f32)| Valued {
            column: column as u32,
            value: number * self.form.scale,
        };
        numbers.iter().enumerate().map(valued).filter(|valued| valued.value != 0.0).collect()
    }
}

/// Sets the scale of a form by its training rows, which are scaled too.
pub(super) fn fit_scale(form: &mut LinearForm, training: &mut SparseRows) {
    let square = training.mean_square();
    form.scale = if square > 0.0 { (1.0 / square.sqrt()) as f32 } else { 1.0 };
    training.scale(form.scale);
}

#[cfg(test)]
mod tests {
    use super::{Feature, LinearForm, RowMaker, TermForm};
    use crate::plan::TermValues;

    fn form(values: TermValues, pairs: usize) -> LinearForm {
        let terms =
            TermForm { terms: vec![7, 5, 9], documents: vec![1, 4, 2], training_documents: 4, values, pairs };
        LinearForm { features: terms.features(), terms: Some(terms), scale: 2.0 }
    }

    #[test]
    fn values_of_terms_are_those_worked_out_by_hand() {
        // Eight tokens: the first term four times, the second twice, two of no term.
        let tokens = [7, 5, 7, 1, 5, 7, 2, 7];
        let row = |values, pairs| -> Vec<(u32, f32)> {
            let form = form(values, pairs);
            RowMaker::new(&form, 10).row(&tokens).iter().map(|valued| (valued.column, valued.value)).collect()
        };
        assert_eq!(row(TermValues::Counts, 0), [(0, 8.0), (1, 4.0)]);
        assert_eq!(row(TermValues::Frequencies, 0), [(0, 1.0), (1, 0.5)]);
        assert_eq!(row(TermValues::Roots, 0), [(0, 2.0 * 0.5f32.sqrt()), (1, 1.0)]);
        // The second term is in every document and tells nothing: the first is all of the length.
        assert_eq!(row(TermValues::TfIdf, 0), [(0, 2.0)]);
        assert_eq!(row(TermValues::Counts, 3), [(0, 8.0), (1, 4.0), (3, 16.0)]);
        let form = form(TermValues::Roots, 0);
        assert!(RowMaker::new(&form, 10).row(&[]).is_empty());
    }

    #[test]
    fn columns_and_features_agree() {
        let terms = TermForm {
            terms: (0..9).collect(),
            documents: vec![1; 9],
            training_documents: 1,
            values: TermValues::Counts,
            pairs: 6,
        };
        let form = LinearForm { features: terms.features(), terms: Some(terms.clone()), scale: 1.0 };
        assert_eq!(form.features, 9 + 15);
        let mut column = 9;
        for first in 0..6 {
            for second in first + 1..6 {
                assert_eq!(terms.product(first, second), column);
                assert_eq!(form.feature(column), Feature::Product(first, second));
                column += 1;
            }
        }
        assert_eq!(form.feature(4), Feature::Term(4));
        assert!(form.is_sound(9) && !form.is_sound(8));
    }
}
