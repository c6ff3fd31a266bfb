//! Curves over the thresholds of one class against the rest, and the threshold that serves an aim best.

use serde::Serialize;

use super::decisions::Decisions;

/// Points of a curve, across and up, from 0 to 1.
pub type CurvePoints = Vec<(f64, f64)>;

/// Counts at a threshold: documents of the class, and others, that are at or above it.
struct Above {
    score: f64,
    inside: u64,
    outside: u64,
}

/// The counts at every score of a ranking, the highest score first.
fn thresholds(ranking: &[(f64, bool)]) -> impl Iterator<Item = Above> + '_ {
    let (mut inside, mut outside) = (0, 0);
    ranking.chunk_by(|a, b| a.0 == b.0).map(move |tied| {
        let found = tied.iter().filter(|(_, inside)| *inside).count() as u64;
        inside += found;
        outside += tied.len() as u64 - found;
        Above { score: tied[0].0, inside, outside }
    })
}

fn totals(ranking: &[(f64, bool)]) -> (u64, u64) {
    let inside = ranking.iter().filter(|(_, inside)| *inside).count() as u64;
    (inside, ranking.len() as u64 - inside)
}

/// The ROC curve of a class: share of the other documents above a threshold, and share of the class; none without documents on both sides.
pub fn roc_curve(ranking: &[(f64, bool)]) -> Option<CurvePoints> {
    let (all_inside, all_outside) = totals(ranking);
    if all_inside == 0 || all_outside == 0 {
        return None;
    }
    let point =
        |above: Above| (above.outside as f64 / all_outside as f64, above.inside as f64 / all_inside as f64);
    Some(std::iter::once((0.0, 0.0)).chain(thresholds(ranking).map(point)).collect())
}

/// The precision-recall curve of a class: recall and precision at every threshold; none without a document of the class.
pub fn precision_recall_curve(ranking: &[(f64, bool)]) -> Option<CurvePoints> {
    let (all_inside, _) = totals(ranking);
    if all_inside == 0 {
        return None;
    }
    let point = |above: Above| {
        let precision = above.inside as f64 / (above.inside + above.outside) as f64;
        (above.inside as f64 / all_inside as f64, precision)
    };
    Some(thresholds(ranking).map(point).collect())
}

/// What a threshold is chosen for.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Aim {
    /// The highest F1 of the class.
    F1,
    /// The lowest mean cost: of a document of the class that is missed, and of another that is taken for it.
    Cost {
        /// Cost of a missed document.
        missed: f64,
        /// Cost of a false alarm.
        false_alarm: f64,
    },
}

/// A threshold on the probability of a class, and the figures of the documents at it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Threshold {
    /// Documents with this probability of the class or more are predicted as the class.
    pub probability: f64,
    /// Documents of the class that are found.
    pub found: u64,
    /// Documents of the class that are missed.
    pub missed: u64,
    /// Other documents that are taken for the class.
    pub false_alarms: u64,
    /// F1 of the class.
    pub f1: f64,
    /// Mean cost of a document, if costs were given.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cost: Option<f64>,
}

/// The threshold on the probability of `class` that serves an aim best, midway between the two probabilities that it divides; the highest of
/// several that are as good. None without documents.
pub fn best_threshold(decisions: &Decisions, class: usize, aim: Aim) -> Option<Threshold> {
    let ranking = decisions.ranking(class);
    let (all_inside, _) = totals(&ranking);
    let highest = ranking.first()?.0.exp();
    let all: Vec<Above> = thresholds(&ranking).collect();
    // Above every probability: no document is of the class.
    let none = Above { score: f64::INFINITY, inside: 0, outside: 0 };
    let candidates = std::iter::once((&none, (1.0 + highest) / 2.0)).chain(all.iter().enumerate().map(
        |(index, above)| {
            let next = all.get(index + 1).map_or(0.0, |next| next.score.exp());
            (above, (above.score.exp() + next) / 2.0)
        },
    ));
    let figures = candidates.map(|(above, probability)| {
        let missed = all_inside - above.inside;
        let cost = match aim {
            Aim::F1 => None,
            Aim::Cost { missed: of_missed, false_alarm } => {
                Some((of_missed * missed as f64 + false_alarm * above.outside as f64) / ranking.len() as f64)
            }
        };
        let f1 = 2.0 * above.inside as f64 / (above.inside + above.outside + all_inside).max(1) as f64;
        Threshold { probability, found: above.inside, missed, false_alarms: above.outside, f1, cost }
    });
    // Higher is better.
    let merit = |found: &Threshold| found.cost.map_or(found.f1, |cost| -cost);
    figures.reduce(|best, other| if merit(&other) > merit(&best) { other } else { best })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::{Aim, best_threshold, precision_recall_curve, roc_curve};
    use crate::measure::decisions::tests::two;

    #[test]
    fn curves_are_those_worked_out_by_hand() {
        let found = two(&[(1, 0.9), (0, 0.8), (1, 0.8), (0, 0.3), (1, 0.2)]);
        let ranking = found.ranking(1);
        let third = 1.0 / 3.0;
        let roc = roc_curve(&ranking).unwrap();
        assert_eq!(roc, [(0.0, 0.0), (0.0, third), (0.5, 2.0 / 3.0), (1.0, 2.0 / 3.0), (1.0, 1.0)]);
        let precision = precision_recall_curve(&ranking).unwrap();
        assert_eq!(precision, [(third, 1.0), (2.0 * third, 2.0 / 3.0), (2.0 * third, 0.5), (1.0, 0.6)]);
        assert!(roc_curve(&two(&[(1, 0.5)]).ranking(1)).is_none());
    }

    #[test]
    fn a_threshold_follows_its_aim() {
        let found = two(&[(1, 0.9), (0, 0.8), (1, 0.6), (0, 0.3), (1, 0.2), (0, 0.1)]);
        let f1 = best_threshold(&found, 1, Aim::F1).unwrap();
        // All three found with two false alarms: 6 / 8.
        assert!((f1.probability - 0.15).abs() < 1e-12 && f1.f1 == 0.75, "{f1:?}");
        let dear = best_threshold(&found, 1, Aim::Cost { missed: 1.0, false_alarm: 5.0 }).unwrap();
        assert!((dear.probability - 0.85).abs() < 1e-12 && (dear.found, dear.false_alarms) == (1, 0));
        let cheap = best_threshold(&found, 1, Aim::Cost { missed: 5.0, false_alarm: 1.0 }).unwrap();
        assert_eq!((cheap.missed, cheap.false_alarms, cheap.cost), (0, 2, Some(2.0 / 6.0)));
        let never = best_threshold(&found, 1, Aim::Cost { missed: 0.0, false_alarm: 1.0 }).unwrap();
        assert!(never.found == 0 && never.probability > 0.9);
    }

    proptest! {
        #[test]
        fn the_area_under_the_curve_is_that_of_all_pairs(documents in prop::collection::vec((0u32..2, 0.01f64..0.99), 2..60)) {
            let found = two(&documents);
            let area = found.by_class()[1].roc_area;
            let curve = roc_curve(&found.ranking(1)).map(|points| {
                points.windows(2).map(|pair| (pair[1].0 - pair[0].0) * (pair[1].1 + pair[0].1) / 2.0).sum::<f64>()
            });
            prop_assert_eq!(area.is_some(), curve.is_some());
            if let (Some(area), Some(curve)) = (area, curve) {
                prop_assert!((area - curve).abs() < 1e-9);
            }
            // No threshold tried one by one is better.
            let best = best_threshold(&found, 1, Aim::F1).unwrap();
            for threshold in documents.iter().map(|(_, p)| p - 1e-9) {
                let at = |wanted: u32| documents.iter().filter(|(truth, p)| *truth == wanted && *p >= threshold).count() as f64;
                let all = documents.iter().filter(|(truth, _)| *truth == 1).count() as f64;
                let f1 = 2.0 * at(1) / (at(1) + at(0) + all).max(1.0);
                prop_assert!(f1 <= best.f1 + 1e-12);
            }
        }
    }
}
