//! Rows of which most numbers are zero.

/// Rows of numbers, of which only those that are not zero are kept: 8 bytes each, and 8 bytes a row.
///
/// ```
/// use lalograph_net::linear::SparseRows;
/// let mut rows = SparseRows::new(4);
/// rows.push([(0, 1.0), (3, 2.5)]);
/// rows.push([]);
/// assert_eq!((rows.count(), rows.row(0).collect::<Vec<_>>()), (2, vec![(0, 1.0), (3, 2.5)]));
/// ```
#[derive(Debug, Clone, PartialEq)]
pub struct SparseRows {
    width: usize,
    ends: Vec<usize>,
    columns: Vec<u32>,
    values: Vec<f32>,
}

impl SparseRows {
    /// No rows yet, of this width.
    pub fn new(width: usize) -> Self {
        Self { width, ends: Vec::new(), columns: Vec::new(), values: Vec::new() }
    }

    /// Columns of a row.
    pub fn width(&self) -> usize {
        self.width
    }

    /// Number of rows.
    pub fn count(&self) -> usize {
        self.ends.len()
    }

    /// Numbers that are kept.
    pub fn kept(&self) -> usize {
        self.values.len()
    }

    /// Appends a row by its columns and values; each column at most once.
    ///
    /// # Panics
    /// A column beyond the width.
    pub fn push(&mut self, row: impl IntoIterator<Item = (u32, f32)>) {
        for (column, value) in row {
            assert!((column as usize) < self.width, "column {column} of {}", self.width);
            self.columns.push(column);
            self.values.push(value);
        }
        self.ends.push(self.values.len());
    }

    /// Appends the rows of another matrix of the same width.
    ///
    /// # Panics
    /// The widths differ.
    pub fn append(&mut self, other: Self) {
        assert_eq!(self.width, other.width, "widths of rows");
        let before = self.values.len();
        self.ends.extend(other.ends.iter().map(|end| before + end));
        self.columns.extend(other.columns);
        self.values.extend(other.values);
    }

    /// The columns and values of a row.
    pub fn row(&self, number: usize) -> impl Iterator<Item = (u32, f32)> + '_ {
        let start = number.checked_sub(1).map_or(0, |before| self.ends[before]);
        let range = start..self.ends[number];
        self.columns[range.clone()].iter().copied().zip(self.values[range].iter().copied())
    }

    /// Multiplies every value by a factor.
    pub fn scale(&mut self, factor: f32) {
        self.values.iter_mut().for_each(|value| *value *= factor);
    }

    /// Mean over the rows of the sum of the squares of their values; 0 without rows.
    pub fn mean_square(&self) -> f64 {
        let squares: f64 = self.values.iter().map(|&value| f64::from(value) * f64::from(value)).sum();
        squares / self.count().max(1) as f64
    }
}
