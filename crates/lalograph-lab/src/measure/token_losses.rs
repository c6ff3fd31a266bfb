//! The loss of every token of a text, found by one process or by several.

use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::blocks::regularisation::LaneUse;
use lalograph_net::models::network::LaneRoom;
use lalograph_net::step::exchange::{Exchange, OneProcess};
use lalograph_net::step::lanes::Lanes;
use lalograph_net::step::team::Team;
use lalograph_net::weights::packed::PackedWeights;
use lalograph_net::{LanguageModel, Network};
use lalograph_text::Reserved;
use lalograph_text::tokens::TokenSequence;
use serde::{Deserialize, Serialize};

use crate::data::reading_rows::ReadingRows;
use crate::error::LabError;
use crate::plan::Plan;
use crate::training::company::{next_numbers, next_tokens, send};

/// Lanes that read documents side by side, where the state is reset before each, and rows of a lane.
const LANES: usize = 16;
const ROWS: usize = 8;

/// A model that reads texts.
pub(super) struct Reader<'m> {
    pub(super) model: &'m LanguageModel,
    pub(super) weights: &'m [f32],
    /// Tokens of a row that are read at once; no loss depends on it.
    pub(super) window: usize,
    /// Whether the state is reset where a document begins. Only then can documents be read side by side, and by several processes.
    pub(super) resets: bool,
}

/// What other processes need to read a text, before its weights and tokens.
#[derive(Serialize, Deserialize)]
struct Shared {
    plan: String,
    indices: usize,
    window: usize,
}

impl Reader<'_> {
    /// The loss of every token, in order; `None` if it was stopped, by this process or another. Each process reads some of the documents. Process 0
    /// first sends the others, which [`follow_scoring`], model and text.
    pub(super) fn losses(
        &self,
        plan: &Plan,
        text: &TokenSequence,
        exchange: &mut dyn Exchange<f32>,
        progress: &mut dyn FnMut(f64) -> bool,
    ) -> Result<Option<Vec<f64>>, LabError> {
        if !self.resets || exchange.rank().count == 1 {
            return Ok(self.read(text, &mut OneProcess::default(), progress));
        }
        let shared =
            Shared { plan: plan.to_toml()?, indices: self.model.shape().vocabulary, window: self.window };
        exchange.lead(&serde_json::to_vec(&shared).unwrap_or_default());
        send(exchange, self.weights);
        let tokens: Vec<u32> = text.iter().collect();
        exchange.lead(bytemuck::cast_slice(&tokens));
        Ok(self.read(text, exchange, progress))
    }

    /// Reads the lanes of this process, and hears from the others what theirs have found.
    pub(super) fn read(
        &self,
        text: &TokenSequence,
        exchange: &mut dyn Exchange<f32>,
        progress: &mut dyn FnMut(f64) -> bool,
    ) -> Option<Vec<f64>> {
        let (model, rank) = (self.model, exchange.rank());
        let rows = if self.resets {
            ReadingRows::of_documents(text, LANES * ROWS, self.window)
        } else {
            ReadingRows::new(text, 1, self.window, false)
        };
        let extent = Extent { steps: self.window, rows: rows.rows() };
        let room = LaneRoom { extent, used_for: LaneUse::Reading, resets: true };
        let lanes = Lanes::new(rows.rows(), LANES);
        let here = rank.lanes(lanes.count());
        let mut team = Team::new(model, room, lanes, here, model.shared(Vec::new));
        let packed = PackedWeights::reading(model.layout(), self.weights);
        let weights = packed.with(self.weights);
        let mut losses = vec![0.0; text.len()];
        let windows = rows.windows();
        for index in 0..windows {
            team.windows_mut().for_each(|(of, to)| rows.window(text, index, of, to));
            let found = team.each(|read, lane| {
                let mut losses = Vec::with_capacity(read.targets.len());
                if read.inputs.iter().all(|&token| token == Reserved::PADDING) {
                    return losses;
                }
                model.forward(weights, &read.inputs, read.resets(), lane, None);
                model.loss_of(weights, &read.targets, lane, Some(&mut losses));
                losses
            });
            for ((of, _), found) in team.windows().zip(&found) {
                for (place, &loss) in rows.places(index, of).zip(found) {
                    if let Some(at) = place {
                        losses[at] = loss;
                    }
                }
            }
            if exchange.agree(!progress((index + 1) as f64 / windows as f64)) {
                return None;
            }
        }
        if rank.count == 1 {
            return Some(losses);
        }
        // The rows of a process are a stretch of the text, and those of the next one follow it.
        let mine = team.windows().map(|(of, _)| rows.stretch(of)).reduce(|first, last| first.start..last.end);
        let all = exchange.gather(bytemuck::cast_slice(&losses[mine.unwrap_or_default()])).concat();
        Some(all.chunks_exact(8).map(|bytes| bytes.try_into().map_or(0.0, f64::from_le_bytes)).collect())
    }
}

/// Reads texts with process 0, as another one, until it has no more. `stops` says whether somebody here wants it to stop.
///
/// # Errors
/// A process that speaks another language.
pub fn follow_scoring(
    mut exchange: Box<dyn Exchange<f32>>,
    threads: usize,
    stops: &(dyn Fn() -> bool + Sync),
) -> Result<(), LabError> {
    let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build()?;
    pool.install(|| {
        while let Some(word) = exchange.follow() {
            let Shared { plan, indices, window } =
                serde_json::from_slice(&word).map_err(|_| LabError::OtherProgram)?;
            let weights = next_numbers(exchange.as_mut())?;
            let text = next_tokens(exchange.as_mut())?;
            let model = LanguageModel::new(Plan::from_toml(&plan, &[])?.shape(indices))?;
            let reader = Reader { model: &model, weights: &weights, window, resets: true };
            reader.read(&text, exchange.as_mut(), &mut |_| !stops());
        }
        Ok(())
    })
}
