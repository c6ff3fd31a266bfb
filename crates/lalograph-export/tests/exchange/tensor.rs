//! Tensors of the evaluator: numbers in double precision, whatever their kind.

/// The kinds of the standard that the graphs have, by their numbers.
pub const FLOAT: i32 = 1;
pub const BYTE: i32 = 3;
pub const INTEGER: i32 = 7;
pub const TRUTH: i32 = 9;
pub const HALF: i32 = 10;
pub const DOUBLE: i32 = 11;

#[derive(Debug, Clone, PartialEq)]
pub struct Tensor {
    pub kind: i32,
    pub shape: Vec<usize>,
    pub numbers: Vec<f64>,
}

impl Tensor {
    pub fn new(kind: i32, shape: &[usize], numbers: Vec<f64>) -> Self {
        assert_eq!(shape.iter().product::<usize>(), numbers.len(), "{shape:?}");
        Self { kind, shape: shape.to_vec(), numbers }
    }

    pub fn floats(shape: &[usize], numbers: impl IntoIterator<Item = f32>) -> Self {
        Self::new(FLOAT, shape, numbers.into_iter().map(f64::from).collect())
    }

    pub fn integers(shape: &[usize], numbers: impl IntoIterator<Item = i64>) -> Self {
        Self::new(INTEGER, shape, numbers.into_iter().map(|number| number as f64).collect())
    }

    pub fn truths(shape: &[usize], numbers: impl IntoIterator<Item = bool>) -> Self {
        Self::new(TRUTH, shape, numbers.into_iter().map(|truth| f64::from(u8::from(truth))).collect())
    }

    pub fn list(&self) -> Vec<i64> {
        assert_eq!(self.kind, INTEGER);
        self.numbers.iter().map(|&number| number as i64).collect()
    }

    /// An axis that may count from the end.
    pub fn axis(&self, axis: i64) -> usize {
        usize::try_from(if axis < 0 { axis + self.shape.len() as i64 } else { axis }).unwrap()
    }

    /// Sizes before, along and after an axis.
    pub fn around(&self, axis: usize) -> (usize, usize, usize) {
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
    pub fn expanded(&self, shape: &[usize]) -> Self {
        let numbers = places(shape).map(|place| self.spread(&place)).collect();
        Self::new(self.kind, shape, numbers)
    }
}

/// All places of a shape, the last axis fastest.
pub fn places(shape: &[usize]) -> impl Iterator<Item = Vec<usize>> + use<> {
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
pub fn common(shapes: &[&[usize]]) -> Vec<usize> {
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
