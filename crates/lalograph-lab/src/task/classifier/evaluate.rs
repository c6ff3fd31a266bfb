//! Held-out documents under a classifier.

use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::blocks::regularisation::LaneUse;
use lalograph_net::models::classifier::Classifier;
use lalograph_net::models::network::LaneRoom;
use lalograph_net::step::exchange::{Exchange, Rank};
use lalograph_net::step::lanes::Lanes;
use lalograph_net::step::team::Team;
use lalograph_net::weights::packed::Parameters;

use crate::data::documents::Documents;
use crate::error::LabError;
use crate::measure::decisions::Decisions;
use crate::plan::{Criterion, Plan};
use crate::run::records::{Evaluation, Figures};
use crate::task::Evaluator;

/// Documents side by side while held-out documents are read.
pub(super) const ROWS: usize = 64;

/// Documents that are read in batches of like length.
pub(super) struct HeldOutDocuments<'d> {
    documents: &'d Documents,
    classes: usize,
    /// The documents, the shortest first.
    order: Vec<u32>,
    team: Team<Classifier, f32>,
}

impl<'d> HeldOutDocuments<'d> {
    /// Memory to read documents, if there are any.
    pub(super) fn boxed(
        net: &Classifier,
        documents: &'d Documents,
        lanes: usize,
        rank: Rank,
    ) -> Option<Box<dyn Evaluator<Classifier> + 'd>> {
        if documents.is_empty() {
            return None;
        }
        let rows = ROWS.min(documents.count());
        let extent = Extent { steps: documents.longest(), rows };
        let room = LaneRoom { extent, used_for: LaneUse::Reading, resets: false };
        let lanes = Lanes::new(rows, lanes);
        let team = Team::new(net, room, lanes, rank.lanes(lanes.count()), ());
        let order = documents.by_length();
        Some(Box::new(Self { documents, classes: net.shape().classes, order, team }))
    }
}

impl HeldOutDocuments<'_> {
    /// The log-probabilities of all documents, document by document; none if somebody was stopped.
    fn gathered(&self, here: &[f64], exchange: &mut dyn Exchange<f32>) -> Option<Vec<f64>> {
        let (classes, lanes, count) = (self.classes, self.team.lanes(), exchange.rank().count);
        let mut logs = vec![0.0; self.order.len() * classes];
        let blocks = exchange.gather(bytemuck::cast_slice(here));
        for (rank, block) in blocks.iter().enumerate() {
            let mut numbers =
                block.chunks_exact(8).map(|bytes| bytes.try_into().map_or(0.0, f64::from_le_bytes));
            for batch in self.order.chunks(lanes.rows()) {
                for rows in
                    (Rank { number: rank, count }).lanes(lanes.count()).map(|lane| lanes.rows_of(lane))
                {
                    let rows = rows.start.min(batch.len())..rows.end.min(batch.len());
                    for &number in &batch[rows] {
                        for log in &mut logs[number as usize * classes..][..classes] {
                            *log = numbers.next()?;
                        }
                    }
                }
            }
        }
        Some(logs)
    }
}

impl Evaluator<Classifier> for HeldOutDocuments<'_> {
    fn evaluate(
        &mut self,
        net: &Classifier,
        weights: Parameters<'_, f32>,
        exchange: &mut dyn Exchange<f32>,
        progress: &mut dyn FnMut(f64) -> bool,
    ) -> Result<Option<Evaluation>, LabError> {
        let (classes, count) = (self.classes, self.order.len());
        let mut here: Vec<f64> = Vec::new();
        let rows = self.team.lanes().rows();
        for (index, batch) in self.order.chunks(rows).enumerate() {
            for (rows, window) in self.team.windows_mut() {
                window.clear();
                let rows = rows.start.min(batch.len())..rows.end.min(batch.len());
                batch[rows].iter().for_each(|&number| self.documents.put(number as usize, window));
            }
            let found = self.team.each(|window, lane| {
                let mut logs = Vec::new();
                net.log_probabilities(weights, window, 1.0, lane, &mut logs);
                logs
            });
            here.extend(found.iter().flatten());
            if !progress(((index + 1) * rows).min(count) as f64 / count as f64) {
                here.clear();
                break;
            }
        }
        self.documents.check()?;
        let Some(logs) = self.gathered(&here, exchange) else { return Ok(None) };
        let truths = (0..count).map(|number| self.documents.class(number)).collect();
        Ok(Some(evaluation(&Decisions::new(classes, truths, logs), self.documents)))
    }
}

/// The figure that decides which weights are kept; lower is better.
pub(super) fn criterion(plan: &Plan, evaluation: &Evaluation) -> f64 {
    let figure = |name| 1.0 - evaluation.figure(name).unwrap_or(0.0);
    match plan.classifier.as_ref().map(|own| own.criterion).unwrap_or_default() {
        Criterion::Loss => evaluation.loss,
        Criterion::Accuracy => figure("accuracy"),
        Criterion::MacroF1 => figure("macro_f1"),
    }
}

/// The figures that a run records of the decisions about these documents.
pub(super) fn evaluation(found: &Decisions, documents: &Documents) -> Evaluation {
    let figures = Figures::of([
        ("accuracy", found.accuracy()),
        ("balanced_accuracy", found.balanced_accuracy()),
        ("macro_f1", found.macro_f1()),
    ]);
    let copies = documents.copies();
    let without = || found.accuracy_among(|number| !copies[number]);
    let figures = match (!copies.is_empty()).then(without).flatten() {
        Some(accuracy) => figures.with([("accuracy_without_copies", accuracy)]),
        None => figures,
    };
    Evaluation { loss: found.loss(), figures }
}
