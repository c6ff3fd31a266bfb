//! Rows of numbers that begin where lines of the cache do: a register of numbers then never lies in two of them, which took a tenth of the speed.

use lalograph_net::Real;

/// Numbers that are computed side by side.
pub const LANES: usize = 16;

/// Numbers of a row that lie side by side.
#[derive(Debug, Clone, Copy)]
#[repr(align(64))]
pub struct Line<T>(pub [T; LANES]);

/// Rows of the same width, each of whole lines. What fills up the last line of a row is zero.
#[derive(Debug, Clone)]
pub struct Rows<T> {
    width: usize,
    stride: usize,
    /// All lines, row after row.
    pub lines: Vec<Line<T>>,
}

impl<T> Line<T> {
    /// Another line, number by number.
    #[inline(always)]
    pub fn map<U>(&self, change: impl FnMut(&T) -> U) -> Line<U> {
        Line(self.0.each_ref().map(change))
    }
}

impl<T: Real> Line<T> {
    /// Nothing but zeros.
    pub const ZERO: Self = Self([T::ZERO; LANES]);

    /// Adds `factor` times `x`.
    #[inline(always)]
    pub fn add(&mut self, factor: T, x: &Self) {
        for lane in 0..LANES {
            self.0[lane] += factor * x.0[lane];
        }
    }
}

impl<T> Rows<T> {
    /// Numbers of a row.
    pub fn width(&self) -> usize {
        self.width
    }

    /// Lines of a row.
    #[inline(always)]
    pub fn stride(&self) -> usize {
        self.stride
    }

    /// Number of rows.
    pub fn count(&self) -> usize {
        self.lines.len() / self.stride
    }

    /// A row.
    #[inline(always)]
    pub fn row(&self, row: u32) -> &[Line<T>] {
        &self.lines[row as usize * self.stride..][..self.stride]
    }

    /// A row, to be changed.
    #[inline(always)]
    pub fn row_mut(&mut self, row: u32) -> &mut [Line<T>] {
        &mut self.lines[row as usize * self.stride..][..self.stride]
    }

    /// The numbers of a row, without what fills it up.
    pub fn numbers_of(&self, row: u32) -> impl Iterator<Item = &T> {
        self.row(row).iter().flat_map(|line| &line.0).take(self.width)
    }

    /// The numbers of all rows, row after row.
    pub fn numbers(&self) -> impl Iterator<Item = &T> {
        (0..self.count() as u32).flat_map(|row| self.numbers_of(row))
    }

    /// The same to be changed.
    pub fn numbers_mut(&mut self) -> impl Iterator<Item = &mut T> {
        let (width, stride) = (self.width, self.stride);
        self.lines
            .chunks_mut(stride)
            .flat_map(move |row| row.iter_mut().flat_map(|line| &mut line.0).take(width))
    }

    /// Other rows, number by number.
    pub fn map<U>(&self, change: impl Fn(&T) -> U) -> Rows<U> {
        let lines = self.lines.iter().map(|line| line.map(&change)).collect();
        Rows { width: self.width, stride: self.stride, lines }
    }
}

impl<T: Real> Rows<T> {
    /// Rows of zeros.
    pub fn new(width: usize, count: usize) -> Self {
        let stride = width.div_ceil(LANES);
        Self { width, stride, lines: vec![Line::ZERO; count * stride] }
    }
}

#[cfg(test)]
mod tests {
    use super::{LANES, Line, Rows};

    #[test]
    fn rows_are_aligned_to_cache_lines_and_padded_with_zeros() {
        for width in [1, 15, 16, 17, 100] {
            let mut rows = Rows::<f32>::new(width, 5);
            rows.numbers_mut().zip(1..).for_each(|(x, number)| *x = number as f32);
            assert_eq!((rows.count(), rows.numbers().count()), (5, 5 * width));
            for row in 0..5 {
                let lines = rows.row(row);
                assert_eq!((lines.as_ptr() as usize % 64, lines.len()), (0, rows.stride()));
                let numbers: Vec<f32> = lines.iter().flat_map(|line| line.0).collect();
                let wanted = (0..width).map(|at| (row as usize * width + at + 1) as f32);
                assert!(numbers[..width].iter().copied().eq(wanted), "{width} {row}: {numbers:?}");
                assert!(rows.numbers_of(row).eq(&numbers[..width]));
                assert!(numbers[width..].iter().all(|&x| x == 0.0));
            }
            let twice = rows.map(|x| 2.0 * f64::from(*x));
            assert!(twice.numbers().zip(rows.numbers()).all(|(twice, x)| *twice == 2.0 * f64::from(*x)));
        }
        assert_eq!(Rows::<f64>::new(3, 0).count(), 0);
    }

    #[test]
    fn a_line_is_added_number_by_number() {
        let mut sum = Line::<f32>(std::array::from_fn(|lane| lane as f32));
        sum.add(-0.5, &Line([4.0; LANES]));
        assert!(sum.0.iter().enumerate().all(|(lane, &x)| x == lane as f32 - 2.0));
    }
}
