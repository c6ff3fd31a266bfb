//! What suits a text, a width and a number of epochs.

use lalograph_net::Cell;

use crate::plan::Plan;

/// Widths of a network.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Width {
    /// Of the token vectors.
    pub(crate) embedding: usize,
    /// Of each layer.
    pub(crate) hidden: usize,
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

/// A plan over `base` for a width and so many epochs.
pub(crate) fn recipe(base: &Plan, width: Width, epochs: f64) -> Plan {
    let mut plan = base.clone();
    plan.model.cell = Cell::Gru;
    plan.model.shared_vectors = true;
    (plan.model.embedding, plan.model.hidden) = (Some(width.embedding), Some(width.hidden));
    plan.training.dropout = Some(dropout(epochs));
    plan
}

/// Dropout for so many epochs.
pub(crate) fn dropout(epochs: f64) -> f64 {
    if epochs < 3.0 { 0.1 } else { 0.4 }
}
