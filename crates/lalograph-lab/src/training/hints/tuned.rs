//! Hints about a tuned model: what it forgot, and whether tuning changed anything.

use super::curves::{Evidence, Stage};
use super::hint::Hint;
use crate::run::records::MetricsRecord;
use crate::task::language::tuned::{MOVED, OLD_PERPLEXITY};

/// Old text is forgotten if the logarithm of its perplexity has risen by so much: perplexity by a tenth.
const FORGOTTEN: f64 = 0.1;
/// A validation loss that has fallen by less has hardly changed: perplexity by a hundredth.
const HARDLY: f64 = 0.01;
/// So have weights that moved by a smaller share of their norm.
const HARDLY_MOVED: f64 = 0.02;

/// A validation of a tuned model.
struct Validation {
    step: u64,
    loss: f64,
    old_perplexity: Option<f64>,
    moved: Option<f64>,
}

/// Everything that the figures of a tuned model say besides those of any language model.
pub(super) fn hints(evidence: &Evidence<'_>) -> Vec<Hint> {
    let validations: Vec<Validation> = evidence
        .metrics
        .iter()
        .filter_map(|record| match *record {
            MetricsRecord::Validation { step, loss, .. } => Some(Validation {
                step,
                loss,
                old_perplexity: record.figure(OLD_PERPLEXITY),
                moved: record.figure(MOVED),
            }),
            _ => None,
        })
        .collect();
    let Some((base, tuned)) = validations.split_first().filter(|(base, _)| base.step == 0) else {
        return Vec::new();
    };
    let ended = evidence.stage == Stage::Ended;
    let effect = effect(base, tuned).filter(|_| ended);
    forgetting(evidence, base, &validations).into_iter().chain(effect).collect()
}

/// By the weights that are kept.
fn forgetting(evidence: &Evidence<'_>, base: &Validation, all: &[Validation]) -> Option<Hint> {
    let kept = all.iter().min_by(|a, b| a.loss.total_cmp(&b.loss))?;
    let (before, after) = (base.old_perplexity?, kept.old_perplexity?);
    (after.ln() - before.ln() > FORGOTTEN).then(|| Hint::Forgetting {
        step: kept.step,
        old_before: before,
        old_after: after,
        new_before: base.loss.exp(),
        new_after: kept.loss.exp(),
        keeps_old: evidence.plan.tune.as_ref().is_some_and(|tune| tune.keep_old > 0.0),
    })
}

/// Whether tuning made a difference.
fn effect(base: &Validation, tuned: &[Validation]) -> Option<Hint> {
    let last = tuned.last()?;
    let lowest = tuned.iter().map(|validation| validation.loss).min_by(f64::total_cmp)?;
    let perplexities = (base.loss.exp(), lowest.exp());
    let moved = last.moved.filter(|&moved| moved < HARDLY_MOVED);
    match moved {
        Some(moved) if (base.loss - lowest).abs() < HARDLY => {
            Some(Hint::HardlyTuned { step: last.step, moved, before: perplexities.0, after: perplexities.1 })
        }
        _ if lowest >= base.loss => {
            Some(Hint::BaseIsBetter { step: last.step, base: perplexities.0, tuned: perplexities.1 })
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::super::{Evidence, Hint, Stage, hints};
    use crate::plan::{Plan, TunePlan};
    use crate::run::description::TextFacts;
    use crate::run::records::{Figures, MetricsRecord};

    /// The names of the hints of a run of these validations: step, loss, old perplexity, share moved.
    fn names(validations: &[(u64, f64, f64, f64)], stage: Stage) -> Vec<&'static str> {
        let metrics: Vec<MetricsRecord> = validations
            .iter()
            .map(|&(step, loss, old, moved)| MetricsRecord::Validation {
                step,
                epoch: 1.0,
                seconds: 1.0,
                loss,
                figures: Figures::of([("old_perplexity", old), ("moved", moved)]),
                best: false,
            })
            .collect();
        let plan = Plan { tune: Some(TunePlan::default()), ..Plan::default() };
        let text = TextFacts { steps_per_epoch: 100, unigram_loss: Some(9.0), ..TextFacts::default() };
        let evidence = Evidence { plan: &plan, text: &text, metrics: &metrics, flow: None, stage };
        hints(&evidence).iter().map(Hint::name).collect()
    }

    #[test]
    fn a_tuned_run_says_what_it_forgot_and_whether_it_changed_anything() {
        let ended = Stage::Ended;
        let learnt = [(0, 3.0, 10.0, 0.0), (500, 2.5, 10.5, 0.2), (1000, 2.49, 10.9, 0.3)];
        assert!(names(&learnt, ended).is_empty());
        let forgot = [(0, 3.0, 10.0, 0.0), (500, 2.5, 11.5, 0.2), (1000, 2.49, 12.0, 0.3)];
        assert_eq!(names(&forgot, ended), ["forgetting"]);
        assert_eq!(names(&forgot, Stage::UnderWay), ["forgetting"]);
        // The weights of step 0 are kept: nothing is forgotten, and nothing was gained.
        let worse = [(0, 3.0, 10.0, 0.0), (500, 3.01, 20.0, 0.2), (1000, 3.005, 30.0, 0.3)];
        assert_eq!(names(&worse, ended), ["base_is_better"]);
        assert!(names(&worse, Stage::UnderWay).is_empty());
        let few = [(0, 3.0, 10.0, 0.0), (3, 2.995, 10.0, 0.001)];
        assert_eq!(names(&few, ended), ["hardly_tuned"]);
        // Few steps that help are no reason for a hint about their number.
        assert!(names(&[(0, 3.0, 10.0, 0.0), (30, 2.6, 10.0, 0.1)], ended).is_empty());
        assert!(names(&[(0, 3.0, 10.0, 0.0)], ended).is_empty());
    }
}
