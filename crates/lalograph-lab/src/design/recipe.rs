//! What suits a text, a width and a number of epochs. The numbers come from `docs/measurements.md`, "Plans for a time".

use lalograph_net::Cell;
use lalograph_net::heads::softmax::Softmax;
use lalograph_text::Unit;
use lalograph_text::tokens::TokenSequence;

use crate::plan::by_size::{TOKENS, as_words, dropout};
use crate::plan::{Plan, WindowKind};

/// Widths of a network.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Width {
    /// Of the token vectors.
    pub(crate) embedding: usize,
    /// Of each layer.
    pub(crate) hidden: usize,
}

/// A network that is considered.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Network {
    /// Its widths.
    pub(crate) width: Width,
    /// Whether it is trained with a sampled softmax.
    pub(crate) sampled: bool,
}

/// The widths that are considered, from narrow to wide.
pub(crate) const WIDTHS: [Width; 9] = [
    Width { embedding: 32, hidden: 64 },
    Width { embedding: 48, hidden: 96 },
    Width { embedding: 64, hidden: 128 },
    Width { embedding: 96, hidden: 192 },
    Width { embedding: 128, hidden: 256 },
    Width { embedding: 192, hidden: 384 },
    Width { embedding: 256, hidden: 512 },
    Width { embedding: 384, hidden: 768 },
    Width { embedding: 512, hidden: 1024 },
];

/// What is known of a training text.
#[derive(Debug, Clone, Copy)]
pub(crate) struct TextShape {
    /// The unit of its tokens.
    pub(crate) unit: Unit,
    /// Its tokens.
    pub(crate) tokens: usize,
    /// Its documents.
    pub(crate) documents: usize,
    /// Tokens of its longest document.
    pub(crate) longest: usize,
}

/// Peak learning rate of layers up to [`LEARNING_WIDTH`].
const LEARNING_RATE: f64 = 0.01;
/// Wider layers learn more slowly: the rate falls as the width grows.
const LEARNING_WIDTH: f64 = 400.0;

/// Share of the steps after which the mean of the weights starts.
const AVERAGE_FROM: f64 = 0.7;

/// Most epochs of a text of 185,000 words, and of longer ones as the root of their length: of more of them, networks learn the text by heart.
const MOST_EPOCHS: f64 = 32.0;
/// The same of a short text.
const MOST_OF_SHORT: f64 = 20.0;

/// Batch sizes, the best first.
const BATCHES: [usize; 3] = [16, 8, 4];

/// Fewest windows of an epoch: of a shorter text, fewer streams.
const FEWEST_WINDOWS: usize = 24;

impl TextShape {
    pub(crate) fn of(unit: Unit, text: &TokenSequence) -> Self {
        let (mut documents, mut longest) = (0, 0);
        for document in text.bounds() {
            (documents, longest) = (documents + 1, longest.max(document.len()));
        }
        Self { unit, tokens: text.len(), documents, longest }
    }

    /// The most epochs that lower the loss on other text.
    pub(crate) fn most_epochs(&self) -> f64 {
        let by_length = MOST_EPOCHS * (as_words(self.unit, self.tokens as u64) / TOKENS).sqrt();
        by_length.max(MOST_OF_SHORT)
    }

    /// Whether documents can be dealt to so many rows of nearly equal length.
    fn fills(&self, rows: usize) -> bool {
        // A long document can be a row of its own if it is not much longer than the other rows.
        self.documents >= 8 * rows && (self.longest * rows) as f64 <= 1.25 * self.tokens as f64
    }
}

/// A plan over `base` for a width and so many epochs of a text.
pub(crate) fn recipe(base: &Plan, text: TextShape, choice: Network, epochs: f64) -> Plan {
    let mut plan = base.clone();
    let Network { width, sampled } = choice;
    plan.model.cell = Cell::Lstm;
    (plan.model.embedding, plan.model.hidden) = (Some(width.embedding), Some(width.hidden));
    // Of characters the input vectors are few, and need not be as wide.
    let few = matches!(text.unit, Unit::Character | Unit::Grapheme | Unit::Byte);
    if few {
        plan.model.embedding = Some(width.embedding.min(64));
    }
    plan.model.shared_vectors = Some(!few);
    plan.model.softmax = Some(if sampled { Softmax::Sampled } else { Softmax::Full });
    plan.training.window = 32;
    // Shuffled documents are worth a smaller batch.
    match BATCHES.into_iter().find(|&rows| text.fills(rows)) {
        Some(rows) => (plan.training.batch, plan.training.windows) = (rows, WindowKind::Documents),
        None => {
            let most = text.tokens / (FEWEST_WINDOWS * plan.training.window);
            plan.training.batch = BATCHES[0].min(most).max(1);
        }
    }
    let slower = (LEARNING_WIDTH / width.hidden as f64).min(1.0);
    plan.training.learning_rate = (LEARNING_RATE * slower * 1e4).round() / 1e4;
    plan.training.dropout = Some(dropout(width.hidden, epochs, text.unit, text.tokens as u64));
    plan.optimiser.average_from = Some(AVERAGE_FROM);
    plan
}
