//! Classifiers: from the tokens of a document, or from rows of numbers, to one of several classes.
//!
//! Every step of a document has a vector; a body makes one vector of them; dense layers and a head make a distribution over the classes of it.
//! Documents of any length lie one after another, and no number of one enters another: a document's probabilities do not depend on the
//! documents beside it.

mod body;
mod lane;
mod shape;

use std::ops::Range;

pub use lane::{ClassifierLane, DocumentWindow};
use shape::check;
pub use shape::{Body, ClassifierInput, ClassifierShape};

use self::body::Encoder;
use super::language::{GROUPS, Operations, ShapeError};
use super::network::{Draw, LaneRoom, LaneStep, Network};
use crate::blocks::dense::Dense;
use crate::blocks::dropout::{apply as apply_mask, drop_out};
use crate::blocks::embedding::RowSums;
use crate::heads::classes::ClassHead;
use crate::heads::loss::Loss;
use crate::numbers::real::Real;
use crate::numbers::rooms::Rooms;
use crate::products::pack::Workspace;
use crate::weights::gradient::{GradientParts, LaneGradient, RowGradient};
use crate::weights::layout::Layout;
use crate::weights::packed::Parameters;

/// Number of the dropout stream of the dense layers; the parts of the body are numbered from 0.
const DENSE_PART: u64 = u64::MAX;

/// The architecture of a classifier. It holds no weights: they are a flat array that every method is given, with packed copies.
#[derive(Debug, Clone)]
pub struct Classifier {
    shape: ClassifierShape,
    layout: Layout,
    /// The table of token vectors; none for rows of numbers.
    embedding: Option<Range<usize>>,
    encoder: Encoder,
    dense: Vec<Dense>,
    head: ClassHead,
}

impl Classifier {
    /// Lays out the weights of a classifier of this shape.
    ///
    /// # Errors
    /// A size of 0, or one beyond reason.
    pub fn new(shape: ClassifierShape) -> Result<Self, ShapeError> {
        check(&shape)?;
        let mut layout = Layout::default();
        let [tokens, layers, output] = GROUPS.map(|name| layout.group(name));
        let embedding = match shape.input {
            ClassifierInput::Tokens { vocabulary, embedding } => {
                let spread = shape.start.spread(1.0 / 3f64.sqrt());
                Some(layout.push("embedding", &[vocabulary, embedding], tokens, spread))
            }
            ClassifierInput::Numbers { .. } => None,
        };
        let encoder = Encoder::new(&mut layout, layers, &shape, embedding.clone());
        let mut width = encoder.outputs();
        let dense = (1..).zip(&shape.dense).map(|(number, &outputs)| {
            let name = format!("dense.{number}");
            let sizes = (std::mem::replace(&mut width, outputs), outputs);
            Dense::new(&mut layout, &name, output, sizes, shape.activation, shape.start)
        });
        let dense: Vec<Dense> = dense.collect();
        let head = ClassHead::new(&mut layout, output, (width, shape.classes), shape.start);
        Ok(Self { shape, layout, embedding, encoder, dense, head })
    }

    /// Its shape.
    pub fn shape(&self) -> &ClassifierShape {
        &self.shape
    }

    /// Matrix operations for one step of a document of `length` steps; its share of those done once a document is counted in.
    pub fn operations(&self, length: f64) -> Operations {
        let dense: f64 = self.dense.iter().map(Dense::operations).sum();
        let once = (dense + self.head.operations()) / length.max(1.0);
        let body = self.encoder.operations();
        Operations { forward: body.forward + once, training: body.training + 3.0 * once }
    }

    /// Writes the natural log-probability of each class of each document of the window (documents x classes) to `logs`, the scores divided
    /// by `temperature`.
    pub fn log_probabilities<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        window: &DocumentWindow,
        temperature: f64,
        lane: &mut ClassifierLane<T>,
        logs: &mut Vec<f64>,
    ) {
        let classes = self.shape.classes;
        logs.clear();
        logs.resize(window.lengths.len() * classes, 0.0);
        self.read(weights, window, lane, None);
        let scores = lane.scores.chunks_exact(self.head.outputs());
        for (logs, scores) in logs.chunks_exact_mut(classes).zip(scores) {
            self.head.log_probabilities(scores, temperature, logs);
        }
    }

    /// Reads the documents and leaves their scores in the lane.
    fn read<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        window: &DocumentWindow,
        lane: &mut ClassifierLane<T>,
        step: Option<LaneStep>,
    ) {
        let documents = window.lengths.len();
        assert!(documents <= lane.capacity.rows, "documents of a lane");
        if documents == 0 {
            return;
        }
        self.encoder.encode(weights, window, lane, step);
        let mut dropout = lane.dropout(step, DENSE_PART).filter(|dropout| dropout.rates.output > 0.0);
        let ClassifierLane { vectors, masks, dropped, scores, work, .. } = lane;
        let widths = self.widths();
        for (index, width) in widths.enumerate() {
            let numbers = documents * width;
            if let Some(dropout) = &mut dropout {
                let (mask, dropped) = (&mut masks[index][..numbers], &mut dropped[index][..numbers]);
                dropped.copy_from_slice(&vectors[index][..numbers]);
                drop_out(dropped, mask, dropout.rates.output, &mut dropout.random);
            }
            // The input of a layer and its output are neighbours.
            let (before, after) = vectors.split_at_mut(index + 1);
            let x = if dropout.is_some() { &dropped[index] } else { &before[index] };
            let x = &x[..numbers];
            match self.dense.get(index) {
                Some(dense) => {
                    let out = &mut after[0][..documents * dense.outputs()];
                    dense.forward(weights, x, out, work);
                }
                None => {
                    self.head.scores(weights, x, &mut scores[..documents * self.head.outputs()], work);
                }
            }
        }
    }

    /// Widths of the pooled vector and of the output of each dense layer.
    fn widths(&self) -> impl Iterator<Item = usize> + '_ {
        std::iter::once(self.encoder.outputs()).chain(self.dense.iter().map(Dense::outputs))
    }
}

impl Network for Classifier {
    type Window = DocumentWindow;
    type Lane<T: Real> = ClassifierLane<T>;
    type Shared<T: Real> = ();

    fn layout(&self) -> &Layout {
        &self.layout
    }

    fn dense(&self) -> Range<usize> {
        self.embedding.as_ref().map_or(0, |table| table.end)..self.layout.len()
    }

    fn lane<T: Real>(&self, room: LaneRoom, rooms: &mut Rooms) -> ClassifierLane<T> {
        let LaneRoom { extent, used_for, .. } = room;
        let (training, rates) = (used_for.is_training(), used_for.regularisation().dropout);
        let rows = extent.rows;
        let widest = self.widths().max().unwrap_or(0);
        let drops = rates.output > 0.0;
        let vocabulary = match self.shape.input {
            ClassifierInput::Tokens { vocabulary, .. } if training => vocabulary,
            _ => 0,
        };
        ClassifierLane {
            used_for,
            capacity: extent,
            body: self.encoder.lane(extent, used_for, rooms),
            vectors: self.widths().map(|width| rooms.zeros(rows * width)).collect(),
            masks: self.widths().map(|width| rooms.zeros_if(drops, rows * width)).collect(),
            dropped: self.widths().map(|width| rooms.zeros_if(drops, rows * width)).collect(),
            scores: rooms.zeros(rows * self.head.outputs()),
            d_vectors: std::array::from_fn(|_| rooms.zeros_if(training, rows * widest)),
            rows: RowSums::within(vocabulary, rooms),
            work: Workspace::within(rooms),
            carried: Vec::new(),
        }
    }

    fn gradient<T: Real>(&self, room: LaneRoom, dense: Range<usize>, rooms: &mut Rooms) -> LaneGradient<T> {
        if !room.used_for.is_training() {
            return LaneGradient::default();
        }
        let table = match (&self.embedding, self.shape.input) {
            (Some(table), ClassifierInput::Tokens { vocabulary, embedding }) => {
                let rows = self.encoder.touched(room.extent).min(vocabulary);
                Some(RowGradient::within(rooms, table.clone(), embedding, rows))
            }
            _ => None,
        };
        LaneGradient::within(rooms, dense, table.into_iter().collect())
    }

    fn draw<T: Real>(&self, (): &mut (), _: Draw) {}

    fn scored(&self, window: &DocumentWindow) -> u64 {
        window.lengths.len() as u64
    }

    fn tokens(&self, window: &DocumentWindow) -> u64 {
        window.steps() as u64
    }

    fn table(&self) -> Option<(Range<usize>, usize)> {
        Some((self.embedding.clone()?, self.shape.input.width()))
    }

    fn rows<'w>(&self, window: &'w DocumentWindow) -> &'w [u32] {
        &window.tokens
    }

    fn begin<T: Real>(&self, _: Parameters<'_, T>, _: &mut ClassifierLane<T>) {}

    fn loss<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        window: &DocumentWindow,
        lane: &mut ClassifierLane<T>,
    ) -> f64 {
        self.read(weights, window, lane, None);
        let mut logs = vec![0.0; self.shape.classes];
        let scores = lane.scores.chunks_exact(self.head.outputs()).zip(&window.classes);
        let loss = |(scores, &class): (&[T], &u32)| {
            self.head.log_probabilities(scores, 1.0, &mut logs);
            -logs[class as usize]
        };
        scores.map(loss).sum()
    }

    fn learn<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        window: &DocumentWindow,
        step: LaneStep,
        (): &(),
        lane: &mut ClassifierLane<T>,
        gradient: &mut GradientParts<'_, T>,
    ) -> Loss {
        let documents = window.lengths.len();
        if let Some(table) = gradient.tables.first_mut() {
            lane.rows.begin(table);
        }
        if documents == 0 {
            gradient.dense.part(&self.dense()).fill(T::ZERO);
            return Loss::default();
        }
        self.read(weights, window, lane, Some(step));
        let smoothing = lane.used_for.regularisation().label_smoothing;
        let drops = lane.used_for.regularisation().dropout.output > 0.0;
        let scores = &mut lane.scores[..documents * self.head.outputs()];
        let weights_of = &self.shape.class_weights;
        let loss = self.head.learn(scores, &window.classes, step.scale, smoothing, weights_of);
        let ClassifierLane { vectors, masks, dropped, scores, d_vectors, work, .. } = &mut *lane;
        let [d_out, d_in] = d_vectors;
        let fed = |index: usize, numbers: usize| {
            if drops { &dropped[index][..numbers] } else { &vectors[index][..numbers] }
        };
        let widths = self.widths().enumerate().collect::<Vec<_>>();
        for &(index, width) in widths.iter().rev() {
            let numbers = documents * width;
            match self.dense.get(index) {
                Some(dense) => {
                    let outputs = documents * dense.outputs();
                    let out = &vectors[index + 1][..outputs];
                    let (d_out, d_x) = (&mut d_out[..outputs], &mut d_in[..numbers]);
                    let x = fed(index, numbers);
                    dense.backward(weights, x, out, d_out, &mut gradient.dense, d_x, work);
                }
                None => {
                    let scores = &scores[..documents * self.head.outputs()];
                    let d_x = &mut d_in[..numbers];
                    self.head.backward(weights, fed(index, numbers), scores, &mut gradient.dense, d_x, work);
                }
            }
            if drops {
                apply_mask(&masks[index][..numbers], &mut d_in[..numbers]);
            }
            std::mem::swap(d_out, d_in);
        }
        self.encoder.encode_backward(weights, window, step, lane, gradient);
        loss
    }

    fn state_widths(&self) -> Vec<usize> {
        Vec::new()
    }

    fn states<'l, T: Real>(&self, lane: &'l ClassifierLane<T>) -> &'l [Vec<T>] {
        &lane.carried
    }

    fn states_mut<'l, T: Real>(&self, lane: &'l mut ClassifierLane<T>) -> &'l mut [Vec<T>] {
        &mut lane.carried
    }
}
