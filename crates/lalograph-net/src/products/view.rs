//! Views of matrices: whole ones, transposes, some of their rows or columns.

/// A view of a row-major matrix, or of its transpose, or of some columns of either.
#[derive(Debug, Clone, Copy)]
pub struct Matrix<'a, T> {
    pub(super) data: &'a [T],
    pub(super) rows: usize,
    pub(super) columns: usize,
    pub(super) row_stride: usize,
    pub(super) column_stride: usize,
}

impl<'a, T> Matrix<'a, T> {
    /// `rows` x `columns` numbers, row after row.
    ///
    /// # Panics
    /// If `data` is not exactly that long.
    pub fn new(data: &'a [T], rows: usize, columns: usize) -> Self {
        assert_eq!(data.len(), rows * columns, "a matrix of {rows} x {columns}");
        Self { data, rows, columns, row_stride: columns, column_stride: 1 }
    }

    /// `rows` rows of `columns` numbers that begin `stride` numbers apart: they overlap if that is fewer than a row has.
    ///
    /// # Panics
    /// If `data` is too short.
    pub fn sliding(data: &'a [T], rows: usize, columns: usize, stride: usize) -> Self {
        assert!(rows == 0 || data.len() >= (rows - 1) * stride + columns, "sliding rows of a matrix");
        Self { data, rows, columns, row_stride: stride, column_stride: 1 }
    }

    /// The same numbers with rows and columns exchanged; nothing is moved.
    pub fn transposed(self) -> Self {
        Self {
            rows: self.columns,
            columns: self.rows,
            row_stride: self.column_stride,
            column_stride: self.row_stride,
            ..self
        }
    }

    /// Columns `from..to` alone.
    ///
    /// # Panics
    /// If there are no such columns.
    pub fn columns(self, from: usize, to: usize) -> Self {
        assert!(from <= to && to <= self.columns, "columns of a matrix");
        let start = (from * self.column_stride).min(self.data.len());
        Self { data: &self.data[start..], columns: to - from, ..self }
    }

    /// Rows `from..to` alone.
    ///
    /// # Panics
    /// If there are no such rows.
    pub fn rows(self, from: usize, to: usize) -> Self {
        self.transposed().columns(from, to).transposed()
    }
}

/// Treatment of existing numbers in an output.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Accumulation {
    /// The product replaces them.
    Replace,
    /// The product is added to them.
    Add,
}

/// Rows of numbers that a product is written to: some columns of a row-major matrix, or all.
#[derive(Debug)]
pub struct MatrixMut<'a, T> {
    pub(super) data: &'a mut [T],
    pub(super) rows: usize,
    pub(super) columns: usize,
    pub(super) stride: usize,
}

impl<'a, T> MatrixMut<'a, T> {
    /// All of `rows` x `columns` numbers.
    ///
    /// # Panics
    /// If `data` is not exactly that long.
    pub fn new(data: &'a mut [T], rows: usize, columns: usize) -> Self {
        assert_eq!(data.len(), rows * columns, "an output of {rows} x {columns}");
        Self { data, rows, columns, stride: columns }
    }

    /// Columns `from..to` alone.
    ///
    /// # Panics
    /// If there are no such columns.
    pub fn columns(self, from: usize, to: usize) -> Self {
        assert!(from <= to && to <= self.columns, "columns of an output");
        let start = from.min(self.data.len());
        Self { data: &mut self.data[start..], columns: to - from, ..self }
    }
}
