//! Tensors of the evaluator: numbers in double precision, whatever their kind.

/// The kinds of the standard that the graphs have, by their numbers.
pub(crate) const FLOAT: i32 = 1;
pub(crate) const BYTE: i32 = 3;
pub(crate) const INTEGER: i32 = 7;
pub(crate) const TRUTH: i32 = 9;
pub(crate) const HALF: i32 = 10;
pub(crate) const DOUBLE: i32 = 11;

#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Tensor {
    pub(crate) kind: i32,
    pub(crate) shape: Vec<usize>,
    pub(crate) numbers: Vec<f64>,
}

impl Tensor {
    pub(crate) fn new(kind: i32, shape: &[usize], numbers: Vec<f64>) -> Self {
        assert_eq!(shape.iter().product::<usize>(), numbers.len(), "{shape:?}");
        Self { kind, shape: shape.to_vec(), numbers }
    }

    pub(crate) fn floats(shape: &[usize], numbers: impl IntoIterator<Item = f32>) -> Self {
        Self::new(FLOAT, shape, numbers.into_iter().map(f64::from).collect())
    }

    pub(crate) fn integers(shape: &[usize], numbers: impl IntoIterator<Item = i64>) -> Self {
        Self::new(INTEGER, shape, numbers.into_iter().map(|number| number as f64).collect())
    }

    pub(crate) fn truths(shape: &[usize], numbers: impl IntoIterator<Item = bool>) -> Self {
        Self::new(TRUTH, shape, numbers.into_iter().map(|truth| f64::from(u8::from(truth))).collect())
    }

    pub(crate) fn list(&self) -> Vec<i64> {
        assert_eq!(self.kind, INTEGER);
        self.numbers.iter().map(|&number| number as i64).collect()
    }

    /// An axis that may count from the end.
    pub(crate) fn axis(&self, axis: i64) -> usize {
        usize::try_from(if axis < 0 { axis + self.shape.len() as i64 } else { axis }).unwrap()
    }

    /// Sizes before, along and after an axis.
    pub(crate) fn around(&self, axis: usize) -> (usize, usize, usize) {
        let (before, after) = (&self.shape[..axis], &self.shape[axis + 1..]);
        (before.iter().product(), self.shape[axis], after.iter().product())
    }

    /// The value of a place in a shape that this one is spread to.
    fn spread(&self, place: &[usize]) -> f64 {
        let skipped = place.len() - self.shape.len();
        let at = self.shape.iter().zip(&place[skipped..]).fold(0, |at, (&size, &own)| {
            assert!(size == 1 || own < size, "{:?} at {place:?}", self.shape);
            at * size + if size == 1 { 0 } else { own }
        });
        self.numbers[at]
    }

    /// This one in another shape that it is spread to.
    pub(crate) fn expanded(&self, shape: &[usize]) -> Self {
        let numbers = places(shape).map(|place| self.spread(&place)).collect();
        Self::new(self.kind, shape, numbers)
    }
}

/// All places of a shape, the last axis fastest.
pub(crate) fn places(shape: &[usize]) -> impl Iterator<Item = Vec<usize>> + use<> {
    let shape = shape.to_vec();
    let count: usize = shape.iter().product();
    (0..count).map(move |mut at| {
        let mut place = vec![0; shape.len()];
        for (own, &size) in place.iter_mut().zip(&shape).rev() {
            *own = at % size;
            at /= size;
        }
        place
    })
}

/// The shape that several are spread to: from the last axis, sizes are equal or 1.
pub(crate) fn common(shapes: &[&[usize]]) -> Vec<usize> {
    let longest = shapes.iter().map(|shape| shape.len()).max().unwrap();
    (0..longest)
        .map(|axis| {
            let sizes = shapes.iter().filter_map(|shape| {
                (axis + shape.len()).checked_sub(longest).map(|own| shape[own]).filter(|&size| size != 1)
            });
            let sizes: Vec<usize> = sizes.collect();
            assert!(sizes.windows(2).all(|pair| pair[0] == pair[1]), "{shapes:?}");
            sizes.first().copied().unwrap_or(1)
        })
        .collect()
}
