//! One lane of a classifier.

use crate::blocks::convolution::ConvolutionTape;
use crate::blocks::dropout::Dropout;
use crate::blocks::embedding::RowSums;
use crate::blocks::pooling::PoolTape;
use crate::blocks::recurrent::window::Extent;
use crate::blocks::regularisation::LaneUse;
use crate::blocks::stack::StackTape;
use crate::models::network::LaneStep;
use crate::products::pack::Workspace;

/// Some documents, one after another.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct DocumentWindow {
    /// The tokens of all documents; empty for rows of numbers.
    pub tokens: Vec<u32>,
    /// The numbers of all documents, step after step; empty for tokens.
    pub numbers: Vec<f32>,
    /// Steps of each document, at least 1.
    pub lengths: Vec<usize>,
    /// Class of each document.
    pub classes: Vec<u32>,
}

impl DocumentWindow {
    /// Empties it, so that it can be filled again.
    pub fn clear(&mut self) {
        self.tokens.clear();
        self.numbers.clear();
        self.lengths.clear();
        self.classes.clear();
    }

    /// Steps of all documents.
    pub fn steps(&self) -> usize {
        self.lengths.iter().sum()
    }
}

/// Memory to read and train on some documents of a batch.
pub struct ClassifierLane<T> {
    pub(super) used_for: LaneUse,
    pub(super) capacity: Extent,
    pub(super) body: BodyLane<T>,
    /// Pooled vectors, then the output of each dense layer: documents x width.
    pub(super) vectors: Vec<Vec<T>>,
    /// Their dropout masks, and the vectors after dropout; empty without dropout.
    pub(super) masks: Vec<Vec<T>>,
    pub(super) dropped: Vec<Vec<T>>,
    /// Scores: documents x outputs.
    pub(super) scores: Vec<T>,
    /// Gradients by two neighbouring vectors: documents x the widest.
    pub(super) d_vectors: [Vec<T>; 2],
    pub(super) rows: RowSums,
    pub(super) work: Workspace<T>,
    /// A classifier carries no state from batch to batch.
    pub(super) carried: Vec<Vec<T>>,
}

impl<T> ClassifierLane<T> {
    /// Masks of a part of the work of a training step, if anything is dropped.
    pub(super) fn dropout(&self, step: Option<LaneStep>, part: u64) -> Option<Dropout> {
        let rates = self.used_for.regularisation().dropout;
        let LaneStep { draw, lane, .. } = step.filter(|_| rates.any())?;
        Some(Dropout::draw_part(rates, draw.seed, draw.step, lane, part))
    }
}

/// The part of a lane that depends on the body.
pub(super) enum BodyLane<T> {
    Pooled {
        tape: PoolTape<T>,
        /// The vectors of a document.
        x: Vec<T>,
        d_x: Vec<T>,
        mask: Vec<T>,
    },
    Convolution {
        tapes: Vec<ConvolutionTape<T>>,
        /// The vectors of some documents.
        x: Vec<T>,
        d_x: Vec<T>,
        mask: Vec<T>,
        touched: Vec<bool>,
        /// The steps of the documents in `x`.
        documents: Vec<std::ops::Range<usize>>,
    },
    Recurrent(Box<RecurrentLane<T>>),
}

/// Memory of recurrent layers over the documents of a lane, window by window.
pub(super) struct RecurrentLane<T> {
    /// The vectors of a window: steps x documents x width.
    pub(super) x: Vec<T>,
    pub(super) mask: Vec<T>,
    /// Before which steps documents are reset: after their end, for layers that read from the end.
    pub(super) resets: Vec<bool>,
    pub(super) tape: StackTape<T>,
    pub(super) states: Vec<Vec<T>>,
    /// The states before each window, for documents of several windows.
    pub(super) starts: Vec<Vec<Vec<T>>>,
    pub(super) pool: PoolTape<T>,
    pub(super) d_out: Vec<T>,
    pub(super) d_in: Vec<T>,
    /// The gradient of the layers by one of several windows.
    pub(super) d_layers: Vec<T>,
}
