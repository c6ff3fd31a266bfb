//! Weights with fewer bits, and what they are when they are read again.

use half::f16;
use lalograph_net::Layout;

lalograph_net::choice! {
    /// Bits of a weight in an exported model. Vectors (biases, gains, first states) are always single precision.
    pub enum Precision = Single {
        /// 32 bits, those of the model file.
        Single = "single",
        /// 16 bits.
        Half = "half",
        /// 8 bits, and a factor for each output of a matrix, or each row of a table.
        Eight = "eight_bit",
    }
}

/// The axis along which the factors of an 8-bit tensor lie: the rows of tables, which have `weights` or `embedding` as the last part of their
/// name and one row an outcome; else the last, that of outputs.
pub(crate) fn axis(name: &str, shape: &[usize]) -> usize {
    let table = name == "embedding" || name == "vectors" || (name.ends_with("weights") && !dense(name));
    if table { 0 } else { shape.len() - 1 }
}

/// Dense layers and features have a column an output.
fn dense(name: &str) -> bool {
    name.starts_with("dense.") || name.starts_with("features.")
}

/// The factors of a tensor with 8 bits, gathered while its numbers go by: the greatest absolute number over 127, or 1 where all are 0.
#[derive(Debug, Clone)]
pub(crate) struct Factors {
    /// Numbers one after another that have one factor.
    inner: usize,
    /// Numbers seen.
    seen: usize,
    greatest: Vec<f32>,
}

impl Factors {
    pub(crate) fn new(name: &str, shape: &[usize]) -> Self {
        let axis = axis(name, shape);
        Self { greatest: vec![0.0; shape[axis]], inner: shape[axis + 1..].iter().product(), seen: 0 }
    }

    /// The places on the axis of all numbers from `at` on.
    fn places(&self, at: usize) -> impl Iterator<Item = usize> + use<> {
        let (inner, count) = (self.inner, self.greatest.len());
        let (mut place, mut within) = (at / inner % count, at % inner);
        std::iter::repeat_with(move || {
            let own = place;
            within += 1;
            if within == inner {
                within = 0;
                place = if place + 1 == count { 0 } else { place + 1 };
            }
            own
        })
    }

    pub(crate) fn see(&mut self, numbers: &[f32]) {
        for (place, &number) in self.places(self.seen).zip(numbers) {
            self.greatest[place] = self.greatest[place].max(number.abs());
        }
        self.seen += numbers.len();
    }

    /// The factors.
    pub(crate) fn all(&self) -> Vec<f32> {
        self.greatest.iter().map(|&greatest| if greatest > 0.0 { greatest / 127.0 } else { 1.0 }).collect()
    }

    /// The codes of the numbers from `at` on with their factors, of which `factors` are all.
    pub(crate) fn codes<'n>(
        &self,
        factors: &'n [f32],
        at: usize,
        numbers: &'n [f32],
    ) -> impl Iterator<Item = (i8, f32)> + use<'n> {
        self.places(at).zip(numbers).map(|(place, number)| {
            let factor = factors[place];
            ((number / factor).round().clamp(-127.0, 127.0) as i8, factor)
        })
    }
}

/// Whether a tensor of this shape has fewer bits: matrices do.
pub(crate) fn is_reduced(shape: &[usize]) -> bool {
    shape.len() > 1
}

/// Replaces the weights of a layout by what a reader finds in a file with fewer bits.
pub fn reduce(layout: &Layout, weights: &mut [f32], precision: Precision) {
    for tensor in layout.tensors().iter().filter(|tensor| is_reduced(&tensor.shape)) {
        let numbers = &mut weights[tensor.range.clone()];
        match precision {
            Precision::Single => {}
            Precision::Half => numbers.iter_mut().for_each(|number| *number = to_half(*number).to_f32()),
            Precision::Eight => {
                let mut seen = Factors::new(&tensor.name, &tensor.shape);
                seen.see(numbers);
                let factors = seen.all();
                let whole = numbers.to_vec();
                let codes = seen.codes(&factors, 0, &whole);
                numbers.iter_mut().zip(codes).for_each(|(x, (code, factor))| *x = f32::from(code) * factor);
            }
        }
    }
}

/// The nearest half-precision number; what is beyond them becomes the greatest of them.
pub(crate) fn to_half(number: f32) -> f16 {
    f16::from_f32(number.clamp(f16::MIN.to_f32(), f16::MAX.to_f32()))
}

#[cfg(test)]
mod tests {
    use lalograph_net::{Layout, weights::layout::Initial};

    use super::{Precision, reduce};

    fn reduced(name: &str, shape: &[usize], precision: Precision, weights: &[f32]) -> Vec<f32> {
        let mut layout = Layout::default();
        let group = layout.group("output");
        layout.push(name, shape, group, Initial::Constant(0.0));
        let mut weights = weights.to_vec();
        reduce(&layout, &mut weights, precision);
        weights
    }

    #[test]
    fn eight_bits_have_a_factor_for_each_row_of_a_table_and_each_column_of_a_matrix() {
        // The greatest of a row is kept as it is; the rest are multiples of it over 127.
        let found = reduced("output.weights", &[2, 2], Precision::Eight, &[127.0, 1.4, -0.5, 0.25]);
        assert_eq!(found, [127.0, 1.0, -0.5, 0.5 / 127.0 * 64.0]);
        let found = reduced("dense.1.weights", &[2, 2], Precision::Eight, &[127.0, 0.25, 1.4, -0.5]);
        assert_eq!(found, [127.0, 0.5 / 127.0 * 64.0, 1.0, -0.5]);
        assert_eq!(reduced("embedding", &[1, 2], Precision::Eight, &[0.0, 0.0]), [0.0, 0.0]);
    }

    #[test]
    fn vectors_keep_their_bits_and_half_precision_stays_finite() {
        for precision in [Precision::Single, Precision::Half, Precision::Eight] {
            assert_eq!(reduced("output.bias", &[2], precision, &[0.1, 1e30]), [0.1, 1e30]);
        }
        // 11 significant bits: 1 + 2^-11 is half way and goes to the even neighbour.
        let found = reduced("embedding", &[1, 3], Precision::Half, &[1.0 + 1.0 / 2048.0, 1e30, 0.5]);
        assert_eq!(found, [1.0, 65504.0, 0.5]);
    }
}
