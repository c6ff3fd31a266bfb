//! Rows of numbers on their way to a classifier: some features at each of some steps, standardised by the training rows.

use serde::{Deserialize, Serialize};

use crate::plan::NumberOrder;

/// The form of rows of numbers, and the mean and standard deviation of each feature in the training rows. It is kept in the model file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct NumberForm {
    /// Steps of a row; `None` for rows of any number of steps.
    pub steps: Option<usize>,
    /// Numbers of a step.
    pub features: usize,
    /// Order of the numbers in a row.
    pub order: NumberOrder,
    /// Mean of each feature.
    pub mean: Vec<f64>,
    /// Standard deviation of each feature; 1 for a feature that is always the same.
    pub deviation: Vec<f64>,
}

/// Why a row has no numbers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NumberError {
    /// A field is not a finite number.
    NotANumber {
        /// Its place among the columns of numbers, from 0.
        column: usize,
        /// Its text.
        found: String,
    },
    /// The row has another number of them, as with empty fields.
    Count {
        /// Numbers in the row.
        found: usize,
        /// Numbers of every row; `None` if rows have any number of steps.
        expected: Option<usize>,
    },
}

impl NumberForm {
    /// The form of rows that are not standardised yet.
    pub fn new(steps: Option<usize>, features: usize, order: NumberOrder) -> Self {
        Self { steps, features, order, mean: vec![0.0; features], deviation: vec![1.0; features] }
    }

    /// Numbers of a row; `None` if rows have any number of steps.
    pub fn count(&self) -> Option<usize> {
        self.steps.map(|steps| steps * self.features)
    }

    /// Reads a row, a number a line, and appends it step after step as it is. The result is its number of steps.
    ///
    /// # Errors
    /// The first field that is no finite number; another count.
    pub fn read(&self, text: &str, to: &mut Vec<f32>) -> Result<usize, NumberError> {
        let start = to.len();
        for (column, field) in text.lines().enumerate() {
            let number = field.trim().parse::<f32>().ok().filter(|number| number.is_finite());
            let Some(number) = number else {
                to.truncate(start);
                return Err(NumberError::NotANumber { column, found: field.trim().to_owned() });
            };
            to.push(number);
        }
        let found = to.len() - start;
        let whole =
            self.count().map_or(found > 0 && found.is_multiple_of(self.features), |count| found == count);
        if !whole {
            to.truncate(start);
            return Err(NumberError::Count { found, expected: self.count() });
        }
        let steps = found / self.features;
        if self.order == NumberOrder::ByFeature {
            let by_feature = to[start..].to_vec();
            for (column, number) in by_feature.into_iter().enumerate() {
                to[start + column % steps * self.features + column / steps] = number;
            }
        }
        Ok(steps)
    }

    /// Takes mean and standard deviation of each feature from rows of numbers.
    pub fn fit(&mut self, numbers: &[f32]) {
        let count = (numbers.len() / self.features).max(1) as f64;
        let each = |of: &dyn Fn(usize, f64) -> f64| {
            let mut sums = vec![0.0; self.features];
            for step in numbers.chunks_exact(self.features) {
                for (feature, (sum, &number)) in sums.iter_mut().zip(step).enumerate() {
                    *sum += of(feature, f64::from(number));
                }
            }
            sums.into_iter().map(|sum| sum / count).collect::<Vec<f64>>()
        };
        let mean = each(&|_, number| number);
        let variance = each(&|feature, number| (number - mean[feature]).powi(2));
        let root = |variance: f64| if variance > 0.0 { variance.sqrt() } else { 1.0 };
        (self.mean, self.deviation) = (mean, variance.into_iter().map(root).collect());
    }

    /// Subtracts the mean of each number's feature, and divides by its standard deviation.
    pub fn standardise(&self, numbers: &mut [f32]) {
        for step in numbers.chunks_exact_mut(self.features) {
            for (number, (mean, deviation)) in step.iter_mut().zip(self.mean.iter().zip(&self.deviation)) {
                *number = ((f64::from(*number) - mean) / deviation) as f32;
            }
        }
    }

    /// Whether it can be that of a model with this many features.
    pub(crate) fn is_sound(&self) -> bool {
        let finite =
            |numbers: &[f64]| numbers.len() == self.features && numbers.iter().all(|x| x.is_finite());
        let steps = self.steps.is_none_or(|steps| (1..=1 << 20).contains(&steps));
        let sizes = steps && (1..=1 << 14).contains(&self.features);
        sizes && finite(&self.mean) && finite(&self.deviation) && self.deviation.iter().all(|&x| x > 0.0)
    }
}

#[cfg(test)]
mod tests {
    use super::{NumberError, NumberForm};
    use crate::plan::NumberOrder;

    #[test]
    fn numbers_are_read_in_both_orders_and_standardised_by_feature() {
        let mut found = Vec::new();
        let mut form = NumberForm::new(Some(3), 2, NumberOrder::ByStep);
        form.read("1\n10\n2\n10\n 3 \n1e1", &mut found).unwrap();
        assert_eq!(found, [1.0, 10.0, 2.0, 10.0, 3.0, 10.0]);
        form.fit(&found);
        assert_eq!((&form.mean[..], form.deviation[1]), (&[2.0, 10.0][..], 1.0));
        assert!((form.deviation[0] - (2.0f64 / 3.0).sqrt()).abs() < 1e-12);
        form.standardise(&mut found);
        assert!((f64::from(found[4]) - 1.5f64.sqrt()).abs() < 1e-6 && found[1] == 0.0);
        let mut other = Vec::new();
        NumberForm::new(Some(3), 2, NumberOrder::ByFeature).read("1\n2\n3\n10\n20\n30", &mut other).unwrap();
        assert_eq!(other, [1.0, 10.0, 2.0, 20.0, 3.0, 30.0]);
    }

    #[test]
    fn rows_that_are_not_numbers_are_refused_with_the_field() {
        let form = NumberForm::new(Some(2), 2, NumberOrder::ByStep);
        let mut found = vec![7.0];
        let wrong = |column, text: &str| Err(NumberError::NotANumber { column, found: text.into() });
        assert_eq!(form.read("1\n2\nlow\n4", &mut found), wrong(2, "low"));
        assert_eq!(form.read("1\nNaN\n3\n4", &mut found), wrong(1, "NaN"));
        assert_eq!(form.read("1\n2\n3\n1e999", &mut found), wrong(3, "1e999"));
        let count = |found, expected| Err(NumberError::Count { found, expected });
        assert_eq!(form.read("1\n2\n3", &mut found), count(3, Some(4)));
        assert_eq!(form.read("1\n2\n3\n4\n5", &mut found), count(5, Some(4)));
        assert_eq!(found, [7.0]);
        let any = NumberForm::new(None, 2, NumberOrder::ByStep);
        assert_eq!(any.read("1\n2\n3", &mut found), count(3, None));
        assert_eq!(any.read("", &mut found), count(0, None));
        assert_eq!(any.read("1\n2\n3\n4\n5\n6", &mut found), Ok(3));
        assert_eq!(found.len(), 7);
    }
}
