//! The sizes and choices that settle a classifier's weights.

use crate::blocks::dense::Activation;
use crate::blocks::pooling::Pooling;
use crate::blocks::recurrent::start::StartingValues;
use crate::blocks::stack::StackShape;
use crate::models::language::ShapeError;

/// Input of a classifier.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ClassifierInput {
    /// Tokens, each with a vector.
    Tokens {
        /// Token indices, reserved ones included.
        vocabulary: usize,
        /// Width of a token's vector.
        embedding: usize,
    },
    /// Rows of numbers: some features at every step.
    Numbers {
        /// Features.
        features: usize,
    },
}

impl ClassifierInput {
    /// Numbers of a step.
    pub fn width(self) -> usize {
        match self {
            Self::Tokens { embedding, .. } => embedding,
            Self::Numbers { features } => features,
        }
    }
}

/// From the vectors of all steps of a document to one vector.
#[derive(Debug, Clone, PartialEq)]
pub enum Body {
    /// Pooling of the vectors themselves.
    Pooled {
        /// The pooling; not [`Pooling::Last`].
        pooling: Pooling,
    },
    /// Filters over neighbouring steps, and the maximum of each over the document.
    Convolution {
        /// Steps that filters read, ascending.
        widths: Vec<usize>,
        /// Filters of each width.
        filters: usize,
    },
    /// Recurrent layers, and pooling of their outputs.
    Recurrent {
        /// The layers; they read the vectors of the input.
        stack: StackShape,
        /// The pooling.
        pooling: Pooling,
        /// Steps of a window. In a longer document the state is carried from window to window and the gradient is cut between them; a layer
        /// that reads from the end starts at the end of each window.
        window: usize,
    },
}

/// The shape of a classifier.
#[derive(Debug, Clone, PartialEq)]
pub struct ClassifierShape {
    /// Input.
    pub input: ClassifierInput,
    /// Number of classes, at least 2.
    pub classes: usize,
    /// From the steps of a document to one vector.
    pub body: Body,
    /// Widths of the dense layers after it.
    pub dense: Vec<usize>,
    /// Activation of dense layers and filters.
    pub activation: Activation,
    /// Weight of each class in the loss; empty for 1.
    pub class_weights: Vec<f64>,
    /// Initialisation of weights; unused by a trained model.
    pub start: StartingValues,
}

pub(super) fn check(shape: &ClassifierShape) -> Result<(), ShapeError> {
    let mut sizes = vec![("number of classes", shape.classes, 1 << 16)];
    match shape.input {
        ClassifierInput::Tokens { vocabulary, embedding } => {
            sizes.push(("vocabulary size", vocabulary, 1 << 24));
            sizes.push(("embedding width", embedding, 1 << 14));
        }
        ClassifierInput::Numbers { features } => sizes.push(("number of features", features, 1 << 14)),
    }
    match &shape.body {
        Body::Pooled { .. } => {}
        Body::Convolution { widths, filters } => {
            sizes.push(("number of filters", *filters, 1 << 14));
            sizes.push(("number of filter widths", widths.len(), 64));
            sizes.extend(widths.iter().map(|&width| ("filter width", width, 1 << 10)));
        }
        Body::Recurrent { stack, window, .. } => {
            sizes.push(("hidden width", stack.hidden, 1 << 14));
            sizes.push(("number of layers", stack.layers, 64));
            sizes.push(("window", *window, 1 << 16));
        }
    }
    sizes.extend(shape.dense.iter().map(|&width| ("width of a dense layer", width, 1 << 14)));
    for (name, value, limit) in sizes {
        if value == 0 {
            return Err(ShapeError::Zero(name));
        }
        if value > limit {
            return Err(ShapeError::TooLarge { name, value, limit });
        }
    }
    Ok(())
}
