//! Convolution over time: filters that each read some neighbouring steps, and the maximum of each filter over a document.
//!
//! Only the maximum of a filter has a gradient, so the backward pass reads one place a filter and document (Collobert et al., 2011).

use std::ops::Range;

use super::dense::Activation;
use super::recurrent::start::StartingValues;
use crate::numbers::real::Real;
use crate::numbers::rooms::Rooms;
use crate::products::multiply::multiply_packed;
use crate::products::pack::Workspace;
use crate::products::view::{Accumulation, Matrix, MatrixMut};
use crate::vectorised;
use crate::weights::gradient::Gradient;
use crate::weights::layout::{GroupId, Initial, Layout, PackId, ReadIn};
use crate::weights::packed::Parameters;

/// Places whose sums are computed together.
const PLACES: usize = 192;

/// Filters of one width, and the positions of their weights (filters x (width * inputs)) and biases.
#[derive(Debug, Clone)]
pub struct Convolution {
    /// Steps that a filter reads.
    width: usize,
    inputs: usize,
    filters: usize,
    activation: Activation,
    weights: Range<usize>,
    bias: Range<usize>,
    forward: PackId,
}

/// The greatest activation of each filter in each document, and its place.
#[derive(Debug, Clone, Default)]
pub struct ConvolutionTape<T> {
    /// Documents x filters.
    best: Vec<T>,
    /// The gradient by the sums of `best`.
    d_best: Vec<T>,
    /// The first step of each, within its document.
    at: Vec<u32>,
    /// Sums of some places: places x filters.
    sums: Vec<T>,
}

/// Documents that lie one after another.
#[derive(Debug, Clone, Copy)]
pub struct Documents<'a, T> {
    /// Their vectors: steps x inputs.
    pub x: &'a [T],
    /// The steps of each there.
    pub bounds: &'a [Range<usize>],
    /// Row of the tape of the first of them.
    pub first: usize,
}

impl Convolution {
    /// Adds the tensors to `layout` as `filters.WIDTH.weights` and `filters.WIDTH.bias`.
    pub fn new(
        layout: &mut Layout,
        group: GroupId,
        (width, inputs, filters): (usize, usize, usize),
        activation: Activation,
        start: StartingValues,
    ) -> Self {
        let spread = activation.spread(width * inputs, start);
        let name = format!("filters.{width}");
        let shape = [filters, width * inputs];
        let weights = layout.push(format!("{name}.weights"), &shape, group, spread);
        let bias = layout.push(format!("{name}.bias"), &[filters], group, Initial::Constant(0.0));
        let forward =
            layout.pack(&weights, (filters, width * inputs), 0..width * inputs, true, ReadIn::Every);
        Self { width, inputs, filters, activation, weights, bias, forward }
    }

    /// Number of filters.
    pub fn filters(&self) -> usize {
        self.filters
    }

    /// Steps that a filter reads.
    pub fn width(&self) -> usize {
        self.width
    }

    /// Multiplications and additions for one step of a document in the forward pass.
    pub fn operations(&self) -> f64 {
        2.0 * (self.width * self.inputs * self.filters) as f64
    }

    /// Memory for `rows` documents; the backward pass needs more than the forward pass.
    pub fn tape<T: Real>(&self, rows: usize, training: bool, rooms: &mut Rooms) -> ConvolutionTape<T> {
        ConvolutionTape {
            best: rooms.zeros(rows * self.filters),
            d_best: rooms.zeros_if(training, rows * self.filters),
            at: rooms.zeros(rows * self.filters),
            sums: rooms.zeros(PLACES * self.filters),
        }
    }

    /// Finds the maxima of documents. One that is shorter than the filters is read as if zeros followed it.
    pub fn forward<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        documents: Documents<'_, T>,
        tape: &mut ConvolutionTape<T>,
        work: &mut Workspace<T>,
    ) {
        let Documents { x, bounds: documents, first } = documents;
        let (width, filters, span) = (self.width, self.filters, self.width * self.inputs);
        let steps = x.len() / self.inputs;
        let places = (steps + 1).saturating_sub(width);
        let mut next = 0;
        for from in (0..places).step_by(PLACES) {
            let to = (from + PLACES).min(places);
            let sums = &mut tape.sums[..(to - from) * filters];
            let rows = Matrix::sliding(&x[from * self.inputs..], to - from, span, self.inputs);
            let mut out = MatrixMut::new(sums, to - from, filters);
            multiply_packed(rows, weights.packed(self.forward), &mut out, Accumulation::Replace, work);
            while next > 0 && documents[next - 1].end > from {
                next -= 1;
            }
            while let Some(document) = documents.get(next).filter(|document| document.start < to) {
                let row = (first + next) * filters..(first + next + 1) * filters;
                next += 1;
                let end = (document.end + 1).saturating_sub(width).min(to);
                let begin = document.start.max(from);
                if begin >= end {
                    continue;
                }
                let (best, at) = (&mut tape.best[row.clone()], &mut tape.at[row]);
                let sums = tape.sums[(begin - from) * filters..(end - from) * filters].chunks_exact(filters);
                vectorised!({
                    for (place, sums) in (begin - document.start..).zip(sums) {
                        if place == 0 {
                            best.copy_from_slice(sums);
                            at.fill(0);
                            continue;
                        }
                        for ((best, at), &sum) in best.iter_mut().zip(&mut *at).zip(sums) {
                            let above = sum > *best;
                            *best = if above { sum } else { *best };
                            *at = if above { place as u32 } else { *at };
                        }
                    }
                });
            }
        }
        let (table, bias) = (weights.part(&self.weights), weights.part(&self.bias));
        for (row, document) in (first..).zip(documents).filter(|(_, document)| document.len() < width) {
            let x = &x[document.start * self.inputs..document.end * self.inputs];
            let best = &mut tape.best[row * filters..(row + 1) * filters];
            for (best, weights) in best.iter_mut().zip(table.chunks_exact(span)) {
                *best = weights.iter().zip(x).map(|(&w, &x)| w * x).sum();
            }
            tape.at[row * filters..(row + 1) * filters].fill(0);
        }
        // Activations rise with their sums, so the greatest sum has the greatest activation.
        let best = &mut tape.best[first * filters..(first + documents.len()) * filters];
        for row in best.chunks_exact_mut(filters) {
            row.iter_mut().zip(bias).for_each(|(best, &bias)| *best += bias);
        }
        self.activation.apply(best);
    }

    /// The greatest activations of a document.
    pub fn best<'t, T: Real>(&self, tape: &'t ConvolutionTape<T>, row: usize) -> &'t [T] {
        &tape.best[row * self.filters..(row + 1) * self.filters]
    }

    /// Sets the gradient of the tensors to zero; [`Convolution::backward`] adds to it.
    pub fn clear<T: Real>(&self, gradient: &mut Gradient<'_, T>) {
        gradient.part(&self.weights).fill(T::ZERO);
        gradient.part(&self.bias).fill(T::ZERO);
    }

    /// Takes the gradient `d` by the greatest activations of document `row`, for [`Convolution::backward`].
    pub fn begin_backward<T: Real>(&self, tape: &mut ConvolutionTape<T>, row: usize, d: &[T]) {
        let own = row * self.filters..(row + 1) * self.filters;
        let d_best = &mut tape.d_best[own.clone()];
        d_best.copy_from_slice(d);
        self.activation.backward(&tape.best[own], d_best);
    }

    /// The backward pass of documents whose gradients were taken. Adds the gradient of the tensors, and that by `documents.x` to `d_x`;
    /// marks the steps in `touched` that have one.
    pub fn backward<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        documents: Documents<'_, T>,
        tape: &ConvolutionTape<T>,
        gradient: &mut Gradient<'_, T>,
        d_x: &mut [T],
        touched: &mut [bool],
    ) {
        let (inputs, filters, span) = (self.inputs, self.filters, self.width * self.inputs);
        let rows = documents.first * filters..(documents.first + documents.bounds.len()) * filters;
        let (d_best, at) = (&tape.d_best[rows.clone()], &tape.at[rows]);
        // The steps of the place that filter `filter` read in each document, and its gradient.
        let places = |filter: usize| {
            documents.bounds.iter().enumerate().filter_map(move |(row, document)| {
                let (d, at) = (d_best[row * filters + filter], at[row * filters + filter] as usize);
                let start = document.start + at;
                (d != T::ZERO).then_some((d, start..(start + self.width).min(document.end)))
            })
        };
        let bias = gradient.part(&self.bias);
        for d in d_best.chunks_exact(filters) {
            bias.iter_mut().zip(d).for_each(|(sum, &d)| *sum += d);
        }
        // A filter reads all documents while its numbers are in the first cache; the weights and the vectors in turn, so that the vectors of
        // one pass are in the second.
        for (filter, d_weights) in gradient.part(&self.weights).chunks_exact_mut(span).enumerate() {
            vectorised!({
                for (d, steps) in places(filter) {
                    let x = &documents.x[steps.start * inputs..steps.end * inputs];
                    for (sum, &x) in d_weights.iter_mut().zip(x) {
                        *sum += d * x;
                    }
                }
            });
        }
        for (filter, weights) in weights.part(&self.weights).chunks_exact(span).enumerate() {
            vectorised!({
                for (d, steps) in places(filter) {
                    let d_x = &mut d_x[steps.start * inputs..steps.end * inputs];
                    for (sum, &w) in d_x.iter_mut().zip(weights) {
                        *sum += d * w;
                    }
                    touched[steps].fill(true);
                }
            });
        }
    }
}
