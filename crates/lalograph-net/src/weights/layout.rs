//! All weights of a model in one flat array: the names, shapes and groups of its parts, and which of them products read packed.
//!
//! One array makes adding gradients, measuring their norm, stepping the optimiser and saving each a single loop.

use std::ops::Range;

use crate::products::view::Matrix;

/// The group of a tensor, named by the model. Learning rates and gradient limits can be set by group.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct GroupId(usize);

impl GroupId {
    /// Its place among the groups of its layout.
    pub fn index(self) -> usize {
        self.0
    }
}

/// A named part of the weights.
#[derive(Debug, Clone, PartialEq)]
pub struct Tensor {
    /// Its name, with dots between the parts: `layer.1.recurrent`.
    pub name: String,
    /// Its sizes, outermost first; row-major.
    pub shape: Vec<usize>,
    /// Its offset in the flat array.
    pub range: Range<usize>,
    /// Its initialisation.
    pub initial: Initial,
    /// Its group.
    pub group: GroupId,
}

impl Tensor {
    /// Whether weight decay draws it towards zero: matrices yes; biases, gains and first states no.
    pub fn decays(&self) -> bool {
        self.shape.len() > 1
    }
}

/// Initialisation of a tensor.
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
    /// Zero but for one stretch of the numbers, as used for the bias of a gate.
    ZeroBut {
        /// First index of the stretch.
        from: usize,
        /// Index past its end.
        to: usize,
        /// The value there.
        value: f64,
    },
}

/// In which passes a packed copy is read. Copies that a pass does not read are not made for it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ReadIn {
    /// In every pass.
    Every,
    /// In the backward passes of training.
    Backward,
    /// The lane only reads text: for a sampled softmax, whose full distribution training never computes.
    Reading,
}

/// A matrix among the weights that products read as their right factor.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct PackPlan {
    pub(super) range: Range<usize>,
    rows: usize,
    columns: usize,
    /// The columns that are taken.
    part: Range<usize>,
    transposed: bool,
    pub(super) read_in: ReadIn,
}

impl PackPlan {
    pub(super) fn of<'a, T>(&self, weights: &'a [T]) -> Matrix<'a, T> {
        let whole = Matrix::new(&weights[self.range.clone()], self.rows, self.columns);
        let part = whole.columns(self.part.start, self.part.end);
        if self.transposed { part.transposed() } else { part }
    }

    pub(super) fn size(&self) -> (usize, usize) {
        if self.transposed { (self.part.len(), self.rows) } else { (self.rows, self.part.len()) }
    }
}

/// The number of a packed copy.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PackId(pub(super) usize);

/// The parts of a model's weights, in the order in which they lie in the flat array.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Layout {
    groups: Vec<String>,
    tensors: Vec<Tensor>,
    packs: Vec<PackPlan>,
}

impl Layout {
    /// The group of this name, made if there is none yet.
    pub fn group(&mut self, name: &str) -> GroupId {
        let found = self.groups.iter().position(|group| group == name);
        GroupId(found.unwrap_or_else(|| {
            self.groups.push(name.to_owned());
            self.groups.len() - 1
        }))
    }

    /// The names of all groups, in the order of their ids.
    pub fn groups(&self) -> &[String] {
        &self.groups
    }

    /// Appends a tensor and returns its place.
    pub fn push(
        &mut self,
        name: impl Into<String>,
        shape: &[usize],
        group: GroupId,
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

    /// Copies that products read.
    pub(super) fn packs(&self) -> &[PackPlan] {
        &self.packs
    }

    /// The tensor of this name.
    pub fn tensor(&self, name: &str) -> Option<&Tensor> {
        self.tensors.iter().find(|tensor| tensor.name == name)
    }

    /// The tensors in order.
    pub fn tensors(&self) -> &[Tensor] {
        &self.tensors
    }

    /// Number of weights.
    pub fn len(&self) -> usize {
        self.tensors.last().map_or(0, |tensor| tensor.range.end)
    }

    /// Whether there are no tensors.
    pub fn is_empty(&self) -> bool {
        self.tensors.is_empty()
    }
}
