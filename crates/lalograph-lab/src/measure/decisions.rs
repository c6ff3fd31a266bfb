//! Figures of a classifier's decisions on documents whose classes are known.

use lalograph_net::numbers::chance::stream;
use rand::RngExt;
use serde::Serialize;

/// The 97.5th percentile of the standard normal distribution.
const Z: f64 = 1.959_963_984_540_054;

/// Resamples of a bootstrap.
const RESAMPLES: usize = 2000;

/// The distribution over the classes that a classifier gave each of some documents, beside its true class.
#[derive(Debug, Clone, PartialEq)]
pub struct Decisions {
    classes: usize,
    truths: Vec<u32>,
    /// Natural log-probabilities: documents x classes.
    logs: Vec<f64>,
    /// For two classes: the class, and the least log-probability of it at which it is predicted.
    threshold: Option<(usize, f64)>,
}

/// Figures of one class.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct ClassFigures {
    /// Documents of the class.
    pub documents: u64,
    /// Documents predicted as the class.
    pub predicted: u64,
    /// Documents of the class predicted as the class.
    pub right: u64,
    /// Share of the predicted documents that are right; none if the class was never predicted.
    pub precision: Option<f64>,
    /// Share of the class that was found; none if there is no document of it.
    pub recall: Option<f64>,
    /// Harmonic mean of the two: 2 right / (documents + predicted); none if the class neither occurs nor was predicted.
    pub f1: Option<f64>,
    /// Area under the ROC curve of the class against the rest; none without documents on both sides.
    pub roc_area: Option<f64>,
    /// Area under the precision-recall curve (average precision); none without a document of the class.
    pub precision_recall_area: Option<f64>,
}

/// A group of documents of similar confidence.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct ConfidenceGroup {
    /// Documents.
    pub documents: u64,
    /// Mean probability of the predicted class.
    pub confidence: f64,
    /// Share that was predicted right.
    pub accuracy: f64,
}

/// Two classifiers on the same documents.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Paired {
    /// Documents that only the first predicted right.
    pub only_first: u64,
    /// Documents that only the second predicted right.
    pub only_second: u64,
    /// Accuracy of the second minus that of the first.
    pub difference: f64,
    /// Ends of the 95 % interval of the difference, by bootstrap over the documents.
    pub interval: (f64, f64),
    /// Probability of a difference as large as this if both were equally good (McNemar, 1947; exact).
    pub p_value: f64,
}

impl Decisions {
    /// Decisions over `classes` classes. `logs` has the natural log-probabilities, documents x classes.
    pub fn new(classes: usize, truths: Vec<u32>, logs: Vec<f64>) -> Self {
        debug_assert_eq!(truths.len() * classes, logs.len());
        Self { classes, truths, logs, threshold: None }
    }

    /// The same documents with other log-probabilities, documents x classes.
    pub fn with_logs(&self, logs: Vec<f64>) -> Self {
        Self { logs, ..self.clone() }
    }

    /// The decisions between two classes where `class` is predicted at this probability of it or more, and the other class below.
    pub fn with_threshold(&self, class: usize, probability: f64) -> Self {
        Self { threshold: Some((class, probability.ln())), ..self.clone() }
    }

    /// Number of classes.
    pub fn classes(&self) -> usize {
        self.classes
    }

    /// Number of documents.
    pub fn count(&self) -> usize {
        self.truths.len()
    }

    /// Log-probabilities of a document.
    pub fn logs(&self, document: usize) -> &[f64] {
        &self.logs[document * self.classes..(document + 1) * self.classes]
    }

    /// True class of a document.
    pub fn truth(&self, document: usize) -> usize {
        self.truths[document] as usize
    }

    /// Predicted class of a document: the most probable, the first of equally probable ones; or by the threshold.
    pub fn predicted(&self, document: usize) -> usize {
        predicted(self.logs(document), self.threshold)
    }

    /// Probability of the predicted class.
    pub fn confidence(&self, document: usize) -> f64 {
        self.logs(document)[self.predicted(document)].exp()
    }

    fn is_right(&self, document: usize) -> bool {
        self.predicted(document) == self.truth(document)
    }

    /// Mean natural-log cross-entropy.
    pub fn loss(&self) -> f64 {
        let sum: f64 = (0..self.count()).map(|document| -self.logs(document)[self.truth(document)]).sum();
        // Not -0.0.
        (sum / self.count() as f64).max(0.0)
    }

    /// Number of documents predicted right.
    pub fn right(&self) -> u64 {
        (0..self.count()).filter(|&document| self.is_right(document)).count() as u64
    }

    /// Share of documents predicted right.
    pub fn accuracy(&self) -> f64 {
        self.right() as f64 / self.count() as f64
    }

    /// Share of the documents that are chosen, by their numbers, predicted right; `None` if none is chosen.
    pub fn accuracy_among(&self, chosen: impl Fn(usize) -> bool) -> Option<f64> {
        let mut counts = [0u64; 2];
        (0..self.count()).filter(|&document| chosen(document)).for_each(|document| {
            counts[0] += u64::from(self.is_right(document));
            counts[1] += 1;
        });
        (counts[1] > 0).then(|| counts[0] as f64 / counts[1] as f64)
    }

    /// Share of the most frequent class: the accuracy of always predicting it.
    pub fn majority_share(&self) -> f64 {
        let counts = self.confusion();
        let largest = counts.iter().map(|row| row.iter().sum::<u64>()).max().unwrap_or(0);
        largest as f64 / self.count() as f64
    }

    /// Documents by true class (rows) and predicted class (columns).
    pub fn confusion(&self) -> Vec<Vec<u64>> {
        let mut counts = vec![vec![0; self.classes]; self.classes];
        for document in 0..self.count() {
            counts[self.truth(document)][self.predicted(document)] += 1;
        }
        counts
    }

    /// Figures of each class.
    pub fn by_class(&self) -> Vec<ClassFigures> {
        let confusion = self.confusion();
        let figures = |class: usize| {
            let documents = confusion[class].iter().sum();
            let predicted = confusion.iter().map(|row| row[class]).sum();
            let right = confusion[class][class];
            let ranking = self.ranking(class);
            ClassFigures {
                documents,
                predicted,
                right,
                precision: ratio(right, predicted),
                recall: ratio(right, documents),
                f1: ratio(2 * right, documents + predicted),
                roc_area: roc_area(&ranking),
                precision_recall_area: average_precision(&ranking),
            }
        };
        (0..self.classes).map(figures).collect()
    }

    /// Mean F1 of the classes that occur or are predicted.
    pub fn macro_f1(&self) -> f64 {
        let counts =
            self.by_class_counts().map(|[right, documents, predicted]| (2 * right, documents + predicted));
        mean(counts.filter_map(|(part, whole)| ratio(part, whole)))
    }

    /// Mean recall of the classes that occur.
    pub fn balanced_accuracy(&self) -> f64 {
        mean(self.by_class_counts().filter_map(|[right, documents, _]| ratio(right, documents)))
    }

    /// For each class the documents predicted right, of it, and predicted as it.
    fn by_class_counts(&self) -> impl Iterator<Item = [u64; 3]> {
        let confusion = self.confusion();
        (0..self.classes).map(move |class| {
            let predicted = confusion.iter().map(|row| row[class]).sum();
            [confusion[class][class], confusion[class].iter().sum(), predicted]
        })
    }

    /// Ends of the 95 % interval of the accuracy (Wilson, 1927).
    pub fn accuracy_interval(&self) -> (f64, f64) {
        wilson(self.right(), self.count() as u64)
    }

    /// Every document's probability of a class, and whether it is of that class, the most probable first.
    pub fn ranking(&self, class: usize) -> Vec<(f64, bool)> {
        let of = |document: usize| (self.logs(document)[class], self.truth(document) == class);
        let mut ranking: Vec<(f64, bool)> = (0..self.count()).map(of).collect();
        ranking.sort_by(|a, b| b.0.total_cmp(&a.0));
        ranking
    }

    /// Documents in groups of equal size by the probability of the predicted class, the least confident first.
    pub fn confidence_groups(&self, groups: usize) -> Vec<ConfidenceGroup> {
        let mut documents: Vec<(f64, bool)> =
            (0..self.count()).map(|document| (self.confidence(document), self.is_right(document))).collect();
        documents.sort_by(|a, b| a.0.total_cmp(&b.0));
        let groups = groups.min(documents.len());
        let group = |index: usize| {
            let part = &documents[index * documents.len() / groups..(index + 1) * documents.len() / groups];
            ConfidenceGroup {
                documents: part.len() as u64,
                confidence: mean(part.iter().map(|(confidence, _)| *confidence)),
                accuracy: mean(part.iter().map(|(_, right)| f64::from(u8::from(*right)))),
            }
        };
        (0..groups).map(group).collect()
    }

    /// Expected calibration error over ten groups of equal size: the mean distance between confidence and accuracy (Naeini et al., 2015).
    pub fn calibration_error(&self) -> f64 {
        let groups = self.confidence_groups(10);
        let sum: f64 = groups
            .iter()
            .map(|group| (group.confidence - group.accuracy).abs() * group.documents as f64)
            .sum();
        sum / self.count() as f64
    }

    /// The wrong predictions, the most confident first.
    pub fn mistakes(&self) -> Vec<usize> {
        let mut wrong: Vec<usize> = (0..self.count()).filter(|&document| !self.is_right(document)).collect();
        wrong.sort_by(|&a, &b| self.confidence(b).total_cmp(&self.confidence(a)));
        wrong
    }

    /// Compares with another classifier on the same documents.
    pub fn paired(&self, other: &Self) -> Paired {
        let signs: Vec<i8> = (0..self.count())
            .map(|document| i8::from(other.is_right(document)) - i8::from(self.is_right(document)))
            .collect();
        let only_second = signs.iter().filter(|&&sign| sign > 0).count() as u64;
        let only_first = signs.iter().filter(|&&sign| sign < 0).count() as u64;
        let difference = (only_second as f64 - only_first as f64) / signs.len() as f64;
        let mut random = stream(1, "bootstrap", &[]);
        let mut differences: Vec<f64> = (0..RESAMPLES)
            .map(|_| {
                let sum: i64 =
                    (0..signs.len()).map(|_| i64::from(signs[random.random_range(0..signs.len())])).sum();
                sum as f64 / signs.len() as f64
            })
            .collect();
        differences.sort_by(f64::total_cmp);
        let cut = RESAMPLES / 40;
        Paired {
            only_first,
            only_second,
            difference,
            interval: (differences[cut], differences[RESAMPLES - 1 - cut]),
            p_value: sign_test(only_first, only_second),
        }
    }
}

/// The predicted class: the most probable; or, of two, by the class and the least log-probability of it at which it is predicted.
pub fn predicted(logs: &[f64], threshold: Option<(usize, f64)>) -> usize {
    match threshold {
        Some((class, least)) if logs[class] >= least => class,
        Some((class, _)) => 1 - class,
        None => most_probable(logs),
    }
}

/// The class with the highest log-probability; the first of equal ones.
pub fn most_probable(logs: &[f64]) -> usize {
    let better = |best: usize, class: usize| if logs[class] > logs[best] { class } else { best };
    (1..logs.len()).fold(0, better)
}

/// A part of a whole; none if the whole is empty.
fn ratio(part: u64, whole: u64) -> Option<f64> {
    (whole > 0).then(|| part as f64 / whole as f64)
}

fn mean(values: impl Iterator<Item = f64>) -> f64 {
    let (sum, count) = values.fold((0.0, 0), |(sum, count), value| (sum + value, count + 1));
    if count > 0 { sum / f64::from(count) } else { 0.0 }
}

/// Ends of the 95 % interval of a share (Wilson, 1927).
pub fn wilson(right: u64, count: u64) -> (f64, f64) {
    let (n, share) = (count as f64, right as f64 / count as f64);
    let centre = share + Z * Z / (2.0 * n);
    let half = Z * (share * (1.0 - share) / n + Z * Z / (4.0 * n * n)).sqrt();
    let scale = 1.0 + Z * Z / n;
    (((centre - half) / scale).max(0.0), ((centre + half) / scale).min(1.0))
}

/// Stretches of equal scores in a ranking: how many are of the class, and how many are not.
fn ties(ranking: &[(f64, bool)]) -> impl Iterator<Item = (u64, u64)> + '_ {
    ranking.chunk_by(|a, b| a.0 == b.0).map(|tied| {
        let inside = tied.iter().filter(|(_, inside)| *inside).count() as u64;
        (inside, tied.len() as u64 - inside)
    })
}

/// Area under the ROC curve: the probability that a document of the class has a higher score than another, ties counted half.
fn roc_area(ranking: &[(f64, bool)]) -> Option<f64> {
    let (mut above, mut area, mut others) = (0, 0.0, 0);
    for (inside, outside) in ties(ranking) {
        area += outside as f64 * (above as f64 + inside as f64 / 2.0);
        above += inside;
        others += outside;
    }
    (above > 0 && others > 0).then(|| area / (above as f64 * others as f64))
}

/// Average precision: the precision at each threshold, weighted by the rise of the recall there.
fn average_precision(ranking: &[(f64, bool)]) -> Option<f64> {
    let (mut found, mut taken, mut area) = (0, 0, 0.0);
    for (inside, outside) in ties(ranking) {
        found += inside;
        taken += inside + outside;
        area += inside as f64 * found as f64 / taken as f64;
    }
    (found > 0).then(|| area / found as f64)
}

/// The two-sided probability of a split as uneven as this of `a + b` fair coin tosses.
fn sign_test(a: u64, b: u64) -> f64 {
    let (n, least) = (a + b, a.min(b));
    // The logarithm of each binomial coefficient follows from the one before.
    let (mut log, mut sum) = (-(n as f64) * 2f64.ln(), 0.0);
    for k in 0..=least {
        sum += f64::exp(log);
        log += ((n - k) as f64).ln() - ((k + 1) as f64).ln();
    }
    (2.0 * sum).min(1.0)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::{Decisions, sign_test, wilson};
    use proptest::prelude::*;

    /// Decisions with these probabilities of class 1 of two.
    pub(crate) fn two(documents: &[(u32, f64)]) -> Decisions {
        let logs = documents.iter().flat_map(|&(_, p)| [(1.0 - p).ln(), p.ln()]).collect();
        Decisions::new(2, documents.iter().map(|&(truth, _)| truth).collect(), logs)
    }

    #[test]
    fn figures_are_those_worked_out_by_hand() {
        let found = two(&[(1, 0.9), (1, 0.4), (0, 0.2), (0, 0.7), (0, 0.1)]);
        assert_eq!(found.confusion(), [[2, 1], [1, 1]]);
        assert!((found.accuracy() - 0.6).abs() < 1e-15 && (found.majority_share() - 0.6).abs() < 1e-15);
        assert!((found.balanced_accuracy() - (2.0 / 3.0 + 0.5) / 2.0).abs() < 1e-15);
        let [first, second] = found.by_class()[..] else { panic!() };
        assert_eq!((first.precision, first.recall), (Some(2.0 / 3.0), Some(2.0 / 3.0)));
        assert_eq!((second.precision, second.recall, second.f1), (Some(0.5), Some(0.5), Some(0.5)));
        assert!((found.macro_f1() - (2.0 / 3.0 + 0.5) / 2.0).abs() < 1e-15);
        // Pairs of a document of class 1 and one of class 0: 0.9 above all three, 0.4 above two.
        assert!((second.roc_area.unwrap() - 5.0 / 6.0).abs() < 1e-15);
        // Precision 1 at the first of class 1, 2/3 at the second.
        assert!((second.precision_recall_area.unwrap() - (1.0 + 2.0 / 3.0) / 2.0).abs() < 1e-15);
        let loss = -(0.9f64.ln() + 0.4f64.ln() + 0.8f64.ln() + 0.3f64.ln() + 0.9f64.ln()) / 5.0;
        assert!((found.loss() - loss).abs() < 1e-15);
        // Wrong are the documents with 0.7 for class 0, and 0.4 for class 1: confidence 0.7 and 0.6.
        assert_eq!(found.mistakes(), [3, 1]);
    }

    #[test]
    fn classes_without_documents_have_no_recall_and_do_not_count_in_means() {
        let logs = vec![-0.1, -3.0, -5.0, -0.1, -3.0, -5.0];
        let found = Decisions::new(3, vec![0, 1], logs);
        let figures = found.by_class();
        assert_eq!((figures[1].precision, figures[1].recall, figures[1].f1), (None, Some(0.0), Some(0.0)));
        assert_eq!((figures[2].recall, figures[2].f1, figures[2].roc_area), (None, None, None));
        assert!((found.macro_f1() - (2.0 / 3.0 + 0.0) / 2.0).abs() < 1e-15);
        assert_eq!(found.balanced_accuracy(), 0.5);
    }

    #[test]
    fn intervals_and_tests_have_their_known_values() {
        // Wilson's interval of 8 of 10: (0.8 + 0.19207 +- 1.96 sqrt(0.016 + 0.0096036)) / 1.38415.
        let (low, high) = wilson(8, 10);
        assert!((low - 0.490_162).abs() < 1e-6 && (high - 0.943_318).abs() < 1e-6, "{low} {high}");
        // 2 and 8 of 10 coins: 2 (1 + 10 + 45) / 1024.
        assert!((sign_test(2, 8) - 112.0 / 1024.0).abs() < 1e-12);
        assert!((sign_test(0, 0) - 1.0).abs() < 1e-12 && (sign_test(5, 5) - 1.0).abs() < 1e-12);
        let (a, b) =
            (two(&[(1, 0.9), (1, 0.2), (0, 0.3), (0, 0.6)]), two(&[(1, 0.9), (1, 0.7), (0, 0.3), (0, 0.1)]));
        let paired = a.paired(&b);
        assert_eq!((paired.only_first, paired.only_second, paired.difference), (0, 2, 0.5));
        assert!(paired.interval.0 <= 0.5 && paired.interval.1 >= 0.5 && paired.p_value == 0.5);
    }

    #[test]
    fn confidence_that_is_right_so_often_has_no_calibration_error() {
        // Ten documents of confidence 0.8, eight of them right: one value, so every group has the same confidence.
        let documents: Vec<(u32, f64)> = (0..100).map(|i| (u32::from(i % 10 < 8), 0.8)).collect();
        let found = two(&documents);
        let groups = found.confidence_groups(1);
        assert!((groups[0].accuracy - 0.8).abs() < 1e-12 && (groups[0].confidence - 0.8).abs() < 1e-12);
        let sure = two(&documents.iter().map(|&(truth, _)| (truth, 0.999_999)).collect::<Vec<_>>());
        assert!((sure.calibration_error() - 0.2).abs() < 1e-5);
    }

    proptest! {
        #[test]
        fn areas_are_those_of_all_pairs(documents in prop::collection::vec((0u32..2, 1u32..20), 2..40)) {
            let documents: Vec<(u32, f64)> =
                documents.into_iter().map(|(truth, p)| (truth, f64::from(p) / 20.0)).collect();
            let found = two(&documents).by_class()[1];
            let (mut sum, mut pairs) = (0.0, 0.0);
            for (_, p) in documents.iter().filter(|(truth, _)| *truth == 1) {
                for (_, q) in documents.iter().filter(|(truth, _)| *truth == 0) {
                    pairs += 1.0;
                    sum += if p > q { 1.0 } else if p == q { 0.5 } else { 0.0 };
                }
            }
            prop_assert_eq!(found.roc_area.is_some(), pairs > 0.0);
            if let Some(area) = found.roc_area {
                prop_assert!((area - sum / pairs).abs() < 1e-12);
            }
            // Average precision by its definition: at each document of the class, the precision among those of at least its score.
            let of_class: Vec<f64> = documents.iter().filter(|(truth, _)| *truth == 1).map(|(_, p)| *p).collect();
            let precision = |p: f64| {
                let (inside, all) = (of_class.iter().filter(|&&q| q >= p).count(), documents.iter().filter(|(_, q)| *q >= p).count());
                inside as f64 / all as f64
            };
            if let Some(area) = found.precision_recall_area {
                let expected = of_class.iter().map(|&p| precision(p)).sum::<f64>() / of_class.len() as f64;
                prop_assert!((area - expected).abs() < 1e-12);
            }
        }
    }
}
