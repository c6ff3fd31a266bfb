//! All weights of a model in one flat array, the names and shapes of its parts, and the packed copies that products read.
//!
//! One array makes adding gradients, measuring their norm, stepping the optimiser and saving each a single loop.

use std::ops::Range;

use crate::matrix::{Matrix, Packed};
use crate::real::Real;

/// What a tensor belongs to. Learning rates and limits of gradients can be set for each group.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Group {
    /// The token vectors; with tied weights also the table of the output.
    Embedding,
    /// The recurrent layers and what stands between them.
    Layers,
    /// The output.
    Output,
}

impl Group {
    /// All groups.
    pub const ALL: [Self; 3] = [Self::Embedding, Self::Layers, Self::Output];

    /// Its place in [`Group::ALL`].
    pub fn index(self) -> usize {
        self as usize
    }
}

/// A named part of the weights.
#[derive(Debug, Clone, PartialEq)]
pub struct Tensor {
    /// Its name, with dots between the parts: `layer.0.recurrent`.
    pub name: String,
    /// Its sizes, outermost first; row-major.
    pub shape: Vec<usize>,
    /// Where it lies in the flat array.
    pub range: Range<usize>,
    /// How it is filled at the start.
    pub initial: Initial,
    /// What it belongs to.
    pub group: Group,
}

impl Tensor {
    /// Whether weight decay draws it towards zero: matrices yes; biases, gains and first states no.
    pub fn decays(&self) -> bool {
        self.shape.len() > 1
    }
}

/// How a tensor is filled before training.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Initial {
    /// Uniform in [-bound, bound].
    Uniform(f64),
    /// Normal with mean zero and this standard deviation.
    Normal(f64),
    /// Square blocks side by side, each an orthogonal matrix times this (Saxe et al., 2014).
    Orthogonal(f64),
    /// One value everywhere.
    Constant(f64),
    /// Zero but for one stretch of the numbers, as used for the bias of the forget gate.
    ZeroBut {
        /// First index of the stretch.
        from: usize,
        /// Index past its end.
        to: usize,
        /// The value there.
        value: f64,
    },
}

/// When a packed copy is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ReadIn {
    /// In every pass.
    Forward,
    /// In backward passes only.
    Backward,
}

/// A matrix among the weights that products read as their right factor.
#[derive(Debug, Clone, PartialEq)]
struct PackPlan {
    range: Range<usize>,
    rows: usize,
    columns: usize,
    /// The columns that are taken.
    part: Range<usize>,
    transposed: bool,
    read_in: ReadIn,
}

impl PackPlan {
    fn of<'a, T>(&self, weights: &'a [T]) -> Matrix<'a, T> {
        let whole = Matrix::new(&weights[self.range.clone()], self.rows, self.columns);
        let part = whole.columns(self.part.start, self.part.end);
        if self.transposed { part.transposed() } else { part }
    }

    fn size(&self) -> (usize, usize) {
        if self.transposed { (self.part.len(), self.rows) } else { (self.rows, self.part.len()) }
    }
}

/// The number of a packed copy.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PackId(usize);

/// The parts of a model's weights, in the order in which they lie in the flat array.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Layout {
    tensors: Vec<Tensor>,
    packs: Vec<PackPlan>,
}

impl Layout {
    /// Appends a tensor and returns its place.
    pub fn push(
        &mut self,
        name: impl Into<String>,
        shape: &[usize],
        group: Group,
        initial: Initial,
    ) -> Range<usize> {
        let start = self.len();
        let range = start..start + shape.iter().product::<usize>();
        self.tensors.push(Tensor {
            name: name.into(),
            shape: shape.to_vec(),
            range: range.clone(),
            initial,
            group,
        });
        range
    }

    /// Asks for a packed copy of columns `part` of the `rows` x `columns` matrix at `range`, or of their transpose.
    pub fn pack(
        &mut self,
        range: &Range<usize>,
        (rows, columns): (usize, usize),
        part: Range<usize>,
        transposed: bool,
        read_in: ReadIn,
    ) -> PackId {
        self.packs.push(PackPlan { range: range.clone(), rows, columns, part, transposed, read_in });
        PackId(self.packs.len() - 1)
    }

    /// The tensors in order.
    pub fn tensors(&self) -> &[Tensor] {
        &self.tensors
    }

    /// How many numbers there are in all.
    pub fn len(&self) -> usize {
        self.tensors.last().map_or(0, |tensor| tensor.range.end)
    }

    /// Whether there are no tensors.
    pub fn is_empty(&self) -> bool {
        self.tensors.is_empty()
    }

    /// Numbers in the packed copies of a model that is trained, without making them.
    pub fn packed_len<T: Real>(&self) -> usize {
        let size = |plan: &PackPlan| Packed::<T>::len_for(plan.size().0, plan.size().1);
        self.packs.iter().map(size).sum()
    }
}

/// The packed copies of a model's weights. They are made anew whenever the weights have changed.
#[derive(Debug, Clone, Default)]
pub struct PackedWeights<T> {
    copies: Vec<Packed<T>>,
}

impl<T: Real> PackedWeights<T> {
    /// Room for the copies that forward passes read, and with `backward` those of backward passes too.
    pub fn new(layout: &Layout, backward: bool) -> Self {
        let copy = |plan: &PackPlan| {
            let (rows, columns) = plan.size();
            if backward || plan.read_in == ReadIn::Forward {
                Packed::new(rows, columns)
            } else {
                Packed::default()
            }
        };
        Self { copies: layout.packs.iter().map(copy).collect() }
    }

    /// Room for forward passes, filled.
    pub fn reading(layout: &Layout, weights: &[T]) -> Self {
        let mut packed = Self::new(layout, false);
        packed.update(layout, weights);
        packed
    }

    /// Copies `weights`, on all threads of the pool that it is called in.
    pub fn update(&mut self, layout: &Layout, weights: &[T]) {
        /// Below this the threads cost more than they save.
        const SMALL: usize = 1 << 15;
        for (copy, plan) in self.copies.iter_mut().zip(&layout.packs) {
            match copy.len() {
                0 => {}
                1..SMALL => copy.pack(plan.of(weights)),
                _ => copy.pack_side_by_side(plan.of(weights)),
            }
        }
    }

    /// Numbers held.
    pub fn len(&self) -> usize {
        self.copies.iter().map(Packed::len).sum()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The weights and their copies, to compute with.
    pub fn with<'a>(&'a self, flat: &'a [T]) -> Weights<'a, T> {
        Weights { flat, copies: &self.copies }
    }
}

/// A model's weights, flat and packed.
#[derive(Debug, Clone, Copy)]
pub struct Weights<'a, T> {
    /// All numbers, as the layout says.
    pub flat: &'a [T],
    copies: &'a [Packed<T>],
}

impl<'a, T> Weights<'a, T> {
    /// One tensor.
    pub fn part(&self, range: &Range<usize>) -> &'a [T] {
        &self.flat[range.clone()]
    }

    /// One packed copy.
    pub fn packed(&self, id: PackId) -> &'a Packed<T> {
        &self.copies[id.0]
    }
}

/// The gradient of a lane: laid out like the weights from `offset` on. What is before it is added up elsewhere, see
/// [`RowGradient`].
#[derive(Debug)]
pub struct Gradient<'a, T> {
    /// The numbers.
    pub data: &'a mut [T],
    /// Where they begin in the layout.
    pub offset: usize,
}

impl<T> Gradient<'_, T> {
    /// The gradient of one tensor.
    pub fn part(&mut self, range: &Range<usize>) -> &mut [T] {
        &mut self.data[range.start - self.offset..range.end - self.offset]
    }
}

/// A gradient for some rows of a table, each of which may come more than once: for tables so large that most rows
/// have none.
#[derive(Debug, Clone, Default)]
pub struct RowGradient<T> {
    /// Where the table lies.
    pub table: Range<usize>,
    /// Numbers of a row.
    pub width: usize,
    /// The rows.
    pub rows: Vec<u32>,
    /// Their gradients, row after row.
    pub values: Vec<T>,
}
