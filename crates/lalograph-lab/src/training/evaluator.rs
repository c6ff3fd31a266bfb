//! Held-out data in training.

use lalograph_net::Network;
use lalograph_net::step::exchange::Exchange;
use lalograph_net::weights::packed::Parameters;

use crate::error::LabError;
use crate::run::records::Evaluation;

/// Held-out data with the lanes to read it.
pub trait Evaluator<N: Network>: Send {
    /// Reads all of it, each process its lanes; they tell each other what they found through `exchange`. `progress` is
    /// called with the share done and stops the work by returning `false`; the result is then `None`.
    ///
    /// # Errors
    /// The data cannot be read any more.
    fn evaluate(
        &mut self,
        net: &N,
        weights: Parameters<'_, f32>,
        exchange: &mut dyn Exchange<f32>,
        progress: &mut dyn FnMut(f64) -> bool,
    ) -> Result<Option<Evaluation>, LabError>;
}
