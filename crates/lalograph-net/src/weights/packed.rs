//! The packed copies of weights that products read.

use std::ops::Range;

use super::layout::{Layout, PackId, PackPlan, ReadIn};
use crate::numbers::real::Real;
use crate::products::pack::Packed;

/// Purpose of packed copies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pass {
    /// Forward passes whose result is read: validation, scoring, sampling.
    Reading,
    /// Forward and backward passes of a training step.
    Training,
}

impl Pass {
    fn reads(self, copy: ReadIn) -> bool {
        match copy {
            ReadIn::Every => true,
            ReadIn::Backward => self == Self::Training,
            ReadIn::Reading => self == Self::Reading,
        }
    }
}

/// The packed copies of a model's weights. They are made again whenever the weights have changed.
#[derive(Debug, Clone, Default)]
pub struct PackedWeights<T> {
    copies: Vec<Packed<T>>,
}

impl<T: Real> PackedWeights<T> {
    /// Room for the copies that reading needs, and with `training` those of training too.
    pub fn new(layout: &Layout, training: bool) -> Self {
        let copy = |plan: &PackPlan| {
            let (rows, columns) = plan.size();
            let wanted = training || plan.read_in != ReadIn::Backward;
            if wanted { Packed::new(rows, columns) } else { Packed::default() }
        };
        Self { copies: layout.packs().iter().map(copy).collect() }
    }

    /// Copies for reading, filled.
    pub fn reading(layout: &Layout, weights: &[T]) -> Self {
        let mut packed = Self::new(layout, false);
        packed.update(layout, weights, Pass::Reading);
        packed
    }

    /// Copies for training, filled.
    pub fn training(layout: &Layout, weights: &[T]) -> Self {
        let mut packed = Self::new(layout, true);
        packed.update(layout, weights, Pass::Training);
        packed
    }

    /// Bytes of the copies of a model that is trained, without making them.
    pub fn bytes_for(layout: &Layout) -> usize {
        let size = |plan: &PackPlan| Packed::<T>::len_for(plan.size().0, plan.size().1) * size_of::<T>();
        layout.packs().iter().map(size).sum()
    }

    /// Bytes of the copies of a model that is only read.
    pub fn bytes_for_reading(layout: &Layout) -> usize {
        let read = layout.packs().iter().filter(|plan| Pass::Reading.reads(plan.read_in));
        read.map(|plan| Packed::<T>::len_for(plan.size().0, plan.size().1) * size_of::<T>()).sum()
    }

    /// Copies the part of `weights` that `pass` reads, on all threads of the current pool.
    pub fn update(&mut self, layout: &Layout, weights: &[T], pass: Pass) {
        /// Below this the threads cost more than they save.
        const SMALL: usize = 1 << 15;
        for (copy, plan) in self.copies.iter_mut().zip(layout.packs()) {
            if !pass.reads(plan.read_in) {
                continue;
            }
            match copy.len() {
                0 => {}
                1..SMALL => copy.pack(plan.of(weights)),
                _ => copy.pack_side_by_side(plan.of(weights)),
            }
        }
    }

    /// The weights and their copies, to compute with.
    pub fn with<'a>(&'a self, flat: &'a [T]) -> Parameters<'a, T> {
        Parameters { flat, copies: &self.copies }
    }
}

/// A model's weights, flat and packed: what layers compute with.
#[derive(Debug, Clone, Copy)]
pub struct Parameters<'a, T> {
    /// All numbers, in the order of the layout.
    pub flat: &'a [T],
    copies: &'a [Packed<T>],
}

impl<'a, T> Parameters<'a, T> {
    /// All weights.
    pub fn all(&self) -> &'a [T] {
        self.flat
    }

    /// One tensor.
    pub fn part(&self, range: &Range<usize>) -> &'a [T] {
        &self.flat[range.clone()]
    }

    /// One packed copy.
    pub fn packed(&self, id: PackId) -> &'a Packed<T> {
        &self.copies[id.0]
    }
}
