//! How a loss is shown: as the perplexity of a language model, or as it is.

use lalograph_lab::Plan;
use lalograph_lab::run::records::{Figures, MetricsRecord};

use crate::output::curve::Heights;
use crate::output::number::perplexity;

/// The figure that a loss is shown as.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum LossScale {
    /// e to its power.
    Perplexity,
    /// The loss, for classifiers.
    Loss,
}

impl LossScale {
    /// The scale of a plan's task.
    pub(crate) fn of(plan: &Plan) -> Self {
        if plan.classifier.is_some() { Self::Loss } else { Self::Perplexity }
    }

    /// The figure's name.
    pub(crate) fn name(self) -> &'static str {
        match self {
            Self::Perplexity => "perplexity",
            Self::Loss => "loss",
        }
    }

    /// The figure of a loss.
    pub(crate) fn figure(self, loss: f64) -> f64 {
        if self == Self::Loss { loss } else { loss.exp() }
    }

    /// A figure in words.
    pub(crate) fn label(self, figure: f64) -> String {
        match self {
            Self::Perplexity => perplexity(figure),
            Self::Loss => format!("{figure:.3}"),
        }
    }

    /// The curve of the figure.
    pub(crate) fn heights(self) -> Heights {
        let label: fn(f64) -> String = match self {
            Self::Perplexity => perplexity,
            Self::Loss => |loss| format!("{loss:.3}"),
        };
        Heights { name: self.name(), label, logarithmic: self == Self::Perplexity }
    }

    /// A loss as its figure in words, or a dash.
    pub(crate) fn of_loss(self, loss: Option<f64>) -> String {
        loss.map_or_else(|| "-".to_owned(), |loss| self.label(self.figure(loss)))
    }

    /// The figure of a line of training figures; none if its loss has none, as that of a sampled softmax.
    pub(crate) fn of_training(self, record: &MetricsRecord) -> Option<f64> {
        match record {
            MetricsRecord::Training { loss, figures, .. } => self.of_training_loss(*loss, figures),
            _ => None,
        }
    }

    fn of_training_loss(self, loss: f64, figures: &Figures) -> Option<f64> {
        if self == Self::Loss { Some(loss) } else { figures.get("perplexity") }
    }
}
