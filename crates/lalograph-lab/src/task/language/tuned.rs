//! What a tuned model is validated on: the new text, the old text, and how far it has moved from its base.

use lalograph_net::LanguageModel;
use lalograph_net::step::exchange::Exchange;
use lalograph_net::weights::packed::Parameters;

use crate::error::LabError;
use crate::run::records::Evaluation;
use crate::task::Evaluator;

/// Figure: perplexity of the old text.
pub(crate) const OLD_PERPLEXITY: &str = "old_perplexity";
/// Figure: distance of the weights from those of the base, over the norm of those of the base.
pub(crate) const MOVED: &str = "moved";

/// Share of the progress that the old text is.
const HALF: f64 = 0.5;

/// An evaluator of the new text, with one of the old text if that is wanted.
pub(super) struct TunedText<'a> {
    pub(super) new: Box<dyn Evaluator<LanguageModel> + 'a>,
    pub(super) old: Option<Box<dyn Evaluator<LanguageModel> + 'a>>,
    /// The weights that tuning began with, if they are still known.
    pub(super) base: Option<Vec<f32>>,
}

impl Evaluator<LanguageModel> for TunedText<'_> {
    fn evaluate(
        &mut self,
        net: &LanguageModel,
        weights: Parameters<'_, f32>,
        exchange: &mut dyn Exchange<f32>,
        progress: &mut dyn FnMut(f64) -> bool,
    ) -> Result<Option<Evaluation>, LabError> {
        let part = if self.old.is_some() { HALF } else { 1.0 };
        let Some(found) = self.new.evaluate(net, weights, exchange, &mut |share| progress(share * part))?
        else {
            return Ok(None);
        };
        let mut figures = found.figures;
        if let Some(base) = &self.base {
            figures = figures.with([(MOVED, moved(base, weights.all()))]);
        }
        if let Some(old) = &mut self.old {
            let Some(old) =
                old.evaluate(net, weights, exchange, &mut |share| progress(part + share * HALF))?
            else {
                return Ok(None);
            };
            figures = figures.with([(OLD_PERPLEXITY, old.loss.exp())]);
        }
        Ok(Some(Evaluation { loss: found.loss, figures }))
    }
}

/// The distance between two sets of weights over the norm of the first.
fn moved(base: &[f32], now: &[f32]) -> f64 {
    let square = |x: f32| f64::from(x) * f64::from(x);
    let distance: f64 = base.iter().zip(now).map(|(base, now)| square(now - base)).sum();
    let norm: f64 = base.iter().copied().map(square).sum();
    (distance / norm.max(f64::MIN_POSITIVE)).sqrt()
}

#[cfg(test)]
mod tests {
    use super::moved;

    #[test]
    fn movement_is_relative_to_the_base() {
        assert_eq!(moved(&[3.0, 4.0], &[3.0, 4.0]), 0.0);
        assert_eq!(moved(&[3.0, 4.0], &[6.0, 8.0]), 1.0);
        assert!((moved(&[3.0, 4.0], &[3.0, 4.5]) - 0.1).abs() < 1e-12);
    }
}
