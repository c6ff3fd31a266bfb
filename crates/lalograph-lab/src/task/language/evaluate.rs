//! Held-out text under a language model.

use lalograph_net::LanguageModel;
use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::blocks::regularisation::LaneUse;
use lalograph_net::models::network::LaneRoom;
use lalograph_net::step::exchange::{Exchange, Rank};
use lalograph_net::step::lanes::Lanes;
use lalograph_net::step::team::Team;
use lalograph_net::weights::packed::Parameters;
use lalograph_text::tokens::TokenSequence;

use crate::data::reading_rows::ReadingRows;
use crate::error::LabError;
use crate::measure::score::Score;
use crate::plan::{Plan, TrainingPlan};
use crate::run::records::Evaluation;
use crate::task::Evaluator;

/// The losses of all lanes, window by window; none if somebody was stopped.
fn gathered(
    here: &[f64],
    windows: usize,
    lanes: Lanes,
    exchange: &mut dyn Exchange<f32>,
) -> Option<Vec<Vec<f64>>> {
    let count = exchange.rank().count;
    let blocks = exchange.gather(bytemuck::cast_slice(here));
    let mut all = vec![Vec::with_capacity(lanes.count()); windows];
    for (rank, block) in blocks.iter().enumerate() {
        let own = Rank { number: rank, count }.lanes(lanes.count()).len();
        if block.len() != 8 * own * windows {
            return None;
        }
        for (window, losses) in all.iter_mut().zip(block.chunks_exact((8 * own).max(1))) {
            window
                .extend(losses.chunks_exact(8).map(|bytes| bytes.try_into().map_or(0.0, f64::from_le_bytes)));
        }
    }
    Some(all)
}

/// Rows side by side while held-out text is read, at most: where every document begins afresh, many that share the reading of the weights; where the
/// state is carried, few, since each begins without what was before.
pub(crate) fn most_validation_rows(training: &TrainingPlan) -> usize {
    if training.reset_at_documents { 64 } else { FEW_ROWS }
}

const FEW_ROWS: usize = 16;
/// Documents for each row, at least: fewer would be cut more often.
const DOCUMENTS_OF_A_ROW: usize = 4;

/// Rows side by side while a held-out text is read.
fn validation_rows(text: &TokenSequence, training: &TrainingPlan) -> usize {
    let enough = text.documents() as usize / DOCUMENTS_OF_A_ROW;
    enough.clamp(FEW_ROWS, most_validation_rows(training))
}

/// A text that is read in parallel rows, cut where documents end.
pub(super) struct HeldOutText {
    text: TokenSequence,
    rows: ReadingRows,
    team: Team<LanguageModel, f32>,
}

impl HeldOutText {
    /// Room to read a text in, if there is any text.
    pub(super) fn boxed<'a>(
        plan: &Plan,
        model: &LanguageModel,
        text: TokenSequence,
        rank: Rank,
    ) -> Option<Box<dyn Evaluator<LanguageModel> + 'a>> {
        if text.is_empty() {
            return None;
        }
        let training = &plan.training;
        let rows = validation_rows(&text, training);
        let rows = ReadingRows::new(&text, rows, training.window, training.reset_at_documents);
        let room = LaneRoom {
            extent: Extent { steps: training.window, rows: rows.rows() },
            used_for: LaneUse::Reading,
            resets: true,
        };
        let lanes = Lanes::new(rows.rows(), training.lanes);
        let team = Team::new(model, room, lanes, rank.lanes(lanes.count()), model.shared(Vec::new));
        Some(Box::new(Self { text, rows, team }))
    }
}

impl Evaluator<LanguageModel> for HeldOutText {
    fn evaluate(
        &mut self,
        net: &LanguageModel,
        weights: Parameters<'_, f32>,
        exchange: &mut dyn Exchange<f32>,
        progress: &mut dyn FnMut(f64) -> bool,
    ) -> Result<Option<Evaluation>, LabError> {
        let windows = self.rows.windows();
        let mut here: Vec<f64> = Vec::new();
        for index in 0..windows {
            for (rows, window) in self.team.windows_mut() {
                self.rows.window(&self.text, index, rows, window);
            }
            here.extend(self.team.losses(net, weights));
            if !progress((index + 1) as f64 / windows as f64) {
                here.clear();
                break;
            }
        }
        self.text.check()?;
        let Some(all) = gathered(&here, windows, self.team.lanes(), exchange) else { return Ok(None) };
        let total = all.iter().map(|window| window.iter().sum::<f64>()).sum();
        Ok(Some(Score::new(&self.text, total).evaluation()))
    }
}

#[cfg(test)]
mod tests {
    use lalograph_text::Reserved;

    use super::*;

    #[test]
    fn rows_are_many_where_documents_are_and_begin_afresh() {
        let text = |documents: usize| TokenSequence::from_indices([5, 6, Reserved::END].repeat(documents));
        let rows = |documents: usize, reset: bool| {
            let training = TrainingPlan { reset_at_documents: reset, ..TrainingPlan::default() };
            validation_rows(&text(documents), &training)
        };
        assert_eq!([1, 64, 65, 200, 1000].map(|documents| rows(documents, true)), [16, 16, 16, 50, 64]);
        assert_eq!(rows(1000, false), 16);
    }
}
