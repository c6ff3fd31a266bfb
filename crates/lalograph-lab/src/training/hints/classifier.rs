//! Hints about a classifier's run.

use lalograph_net::blocks::pooling::Pooling;

use super::curves::{Curves, Evidence, Stage, many_unknown, rate_too_high};
use super::hint::Hint;
use crate::plan::{ClassWeights, NetworkKind, Plan};
use crate::run::description::ClassFacts;
use crate::run::records::MetricsRecord;

/// A validation loss above the lowest by this share of it has risen.
const RISE: f64 = 0.05;
/// The same in nats, where the loss is next to nothing.
const LEAST_RISE: f64 = 0.01;
/// Standard errors within which an accuracy is no better than the share of the most frequent class.
const ERRORS: f64 = 1.0;
/// A class of fewer training documents can hardly be learnt.
const FEW_DOCUMENTS: u64 = 10;
/// A share of cut documents that matters.
const MUCH_CUT: f64 = 0.2;
/// A classifier was still improving if, over the second half of its run, the loss fell by this share...
const FALL: f64 = 0.1;
/// ...and the accuracy rose by so much...
const GAIN: f64 = 0.02;
/// ...to a value below this.
const NEARLY_ALL: f64 = 0.97;
/// A share of near copies of training documents that matters.
const MANY_COPIES: f64 = 0.02;
/// A 95 % interval of the accuracy this wide hides differences between runs.
const WIDE: f64 = 0.1;

/// Everything that the figures of a classifier say.
pub(super) fn hints(evidence: &Evidence<'_>, facts: &ClassFacts) -> Vec<Hint> {
    let curves = Curves::of(evidence.metrics);
    let validations = validations(evidence.metrics);
    let ended = evidence.stage == Stage::Ended;
    let before = [
        many_unknown(evidence.text),
        (facts.smallest_class < FEW_DOCUMENTS)
            .then_some(Hint::SmallClass { documents: facts.smallest_class }),
        (facts.cut_share > MUCH_CUT).then_some(Hint::CutDocuments { share: facts.cut_share }),
        few_validation_documents(facts, &validations).filter(|_| ended),
        near_copies(facts, evidence.metrics).filter(|_| ended),
    ];
    // Where a penalty falls from strong to weak, loss that rises at last is the reason to try several.
    let linear = evidence.plan.classifier.as_ref().is_some_and(|own| own.network == NetworkKind::Linear);
    let figures = [
        rate_too_high(evidence, &curves).filter(|_| !linear),
        overfitting(&curves, &validations).filter(|_| !linear),
        majority(evidence.plan, facts, &validations).filter(|_| ended),
        still_improving(&validations).filter(|_| ended && !linear),
    ];
    before.into_iter().chain(figures).flatten().collect()
}

/// A validation of a classifier.
struct Validation {
    step: u64,
    loss: f64,
    accuracy: f64,
    balanced: f64,
}

fn validations(metrics: &[MetricsRecord]) -> Vec<Validation> {
    let of = |record: &MetricsRecord| match record {
        MetricsRecord::Validation { step, loss, .. } => Some(Validation {
            step: *step,
            loss: *loss,
            accuracy: record.figure("accuracy")?,
            balanced: record.figure("balanced_accuracy")?,
        }),
        _ => None,
    };
    metrics.iter().filter_map(of).collect()
}

fn overfitting(curves: &Curves, validations: &[Validation]) -> Option<Hint> {
    let best = validations.iter().min_by(|a, b| a.loss.total_cmp(&b.loss))?;
    let last = validations.last()?;
    let later = validations.iter().filter(|validation| validation.step > best.step);
    let risen_to = best.loss + LEAST_RISE.max(RISE * best.loss);
    let risen = later.clone().rev().take(2).all(|validation| validation.loss > risen_to);
    if later.count() < 2 || !risen {
        return None;
    }
    let (before, training) = (curves.training_at(best.step)?, curves.training_at(last.step)?);
    (training < before).then_some(Hint::ClassifierOverfitting {
        best_step: best.step,
        best_loss: best.loss,
        best_accuracy: best.accuracy,
        step: last.step,
        loss: last.loss,
        accuracy: last.accuracy,
        training_loss: training,
    })
}

/// The best validation is no better than always predicting the most frequent class.
fn majority(plan: &Plan, facts: &ClassFacts, validations: &[Validation]) -> Option<Hint> {
    let best = validations.iter().max_by(|a, b| a.accuracy.total_cmp(&b.accuracy))?;
    let share = facts.majority_share;
    let error = (share * (1.0 - share) / facts.validation_documents.max(1) as f64).sqrt();
    if best.accuracy > share + ERRORS * error {
        return None;
    }
    // A classifier that always predicts one class has the recall 1 for it and 0 for all others.
    let one_class = (best.balanced - 1.0 / facts.classes.max(1) as f64).abs() < 1e-9;
    let own = plan.classifier.clone().unwrap_or_default();
    Some(Hint::NoBetterThanMajority {
        accuracy: best.accuracy,
        majority_share: share,
        one_class,
        network: own.network,
        last_state: own.network == NetworkKind::Recurrent && own.pooling == Pooling::Last,
        balanced: own.class_weights == ClassWeights::Balanced,
    })
}

/// The last validation is the best, and much better than that half way.
fn still_improving(validations: &[Validation]) -> Option<Hint> {
    let last = validations.last()?;
    let half = validations.iter().rfind(|validation| 2 * validation.step <= last.step)?;
    let best = validations.iter().all(|validation| validation.loss >= last.loss);
    let fall = 1.0 - last.loss / half.loss;
    let improving = best && fall > FALL && last.accuracy > half.accuracy + GAIN && last.accuracy < NEARLY_ALL;
    improving.then_some(Hint::StillImproving { fall, before: half.accuracy, accuracy: last.accuracy })
}

/// Documents of the test part, or of the validation part if there is no test, that resemble training documents.
fn near_copies(facts: &ClassFacts, metrics: &[MetricsRecord]) -> Option<Hint> {
    let tested = metrics.iter().rfind(|record| matches!(record, MetricsRecord::Test { .. }));
    let (record, copies, documents) = match tested {
        Some(record) => (record, facts.test_copies, facts.test_documents),
        None => {
            let validation =
                metrics.iter().rfind(|record| matches!(record, MetricsRecord::Validation { best: true, .. }));
            (validation?, facts.validation_copies, facts.validation_documents)
        }
    };
    let share = copies as f64 / documents.max(1) as f64;
    (share > MANY_COPIES).then_some(Hint::NearCopies {
        test: tested.is_some(),
        documents: copies,
        share,
        accuracy: record.figure("accuracy")?,
        accuracy_without: record.figure("accuracy_without_copies"),
    })
}

fn few_validation_documents(facts: &ClassFacts, validations: &[Validation]) -> Option<Hint> {
    let accuracy = validations.last()?.accuracy;
    let documents = facts.validation_documents;
    let (low, high) =
        crate::measure::decisions::wilson((accuracy * documents as f64).round() as u64, documents);
    (high - low > WIDE).then_some(Hint::FewValidationDocuments { documents, low, high })
}

#[cfg(test)]
mod tests {
    use crate::plan::Plan;
    use crate::run::description::{ClassFacts, TextFacts};
    use crate::run::records::{Figures, MetricsRecord};
    use crate::training::hints::{Evidence, Hint, Stage, hints};

    const CLASSES: ClassFacts = ClassFacts {
        classes: 2,
        training_documents: 1000,
        validation_documents: 2000,
        test_documents: 0,
        smallest_class: 300,
        majority_share: 0.7,
        cut_share: 0.05,
        validation_copies: 0,
        test_copies: 0,
    };

    /// Six validations with these losses and accuracies, each after two lines of training figures.
    fn run(losses: [f64; 6], training: [f64; 6], accuracies: [f64; 6], balanced: f64) -> Vec<MetricsRecord> {
        let mut metrics = Vec::new();
        for (index, ((loss, training), accuracy)) in
            losses.into_iter().zip(training).zip(accuracies).enumerate()
        {
            let step = 100 * (index as u64 + 1);
            for at in [step - 50, step] {
                metrics.push(MetricsRecord::Training {
                    step: at,
                    epoch: 1.0,
                    tokens: 0,
                    seconds: 0.0,
                    loss: training,
                    figures: Figures::of([("accuracy", 0.9)]),
                    learning_rate: 0.01,
                    gradient_norm: 1.0,
                    clipped_gradient_norm: 1.0,
                    clipped_share: 0.0,
                    tokens_per_second: 1.0,
                });
            }
            let figures =
                Figures::of([("accuracy", accuracy), ("balanced_accuracy", balanced), ("macro_f1", 0.5)]);
            metrics.push(MetricsRecord::Validation {
                step,
                epoch: 1.0,
                seconds: 0.0,
                loss,
                figures,
                best: false,
            });
        }
        metrics
    }

    fn found(metrics: &[MetricsRecord], classes: ClassFacts) -> Vec<Hint> {
        let plan = Plan::for_classifier();
        let text = TextFacts { classes: Some(classes), ..TextFacts::default() };
        hints(&Evidence { plan: &plan, text: &text, metrics, flow: None, stage: Stage::Ended })
    }

    const FALLING: [f64; 6] = [0.6, 0.5, 0.42, 0.41, 0.405, 0.4];
    const GOOD: [f64; 6] = [0.75, 0.8, 0.82, 0.83, 0.84, 0.85];

    #[test]
    fn a_good_run_has_no_hint() {
        assert_eq!(found(&run(FALLING, FALLING, GOOD, 0.8), CLASSES), []);
        // Nor has one whose loss rises from nothing to next to nothing.
        let decided = run([0.6, 0.1, 0.0001, 0.0002, 0.0004, 0.0006], FALLING, GOOD, 0.8);
        assert_eq!(found(&decided, CLASSES), []);
    }

    #[test]
    fn each_problem_of_a_classifier_has_its_hint_with_its_figure() {
        let risen = run([0.6, 0.5, 0.45, 0.5, 0.55, 0.6], FALLING, GOOD, 0.8);
        let hints = found(&risen, CLASSES);
        assert!(
            matches!(hints[..], [Hint::ClassifierOverfitting { best_step: 300, step: 600, .. }]),
            "{hints:?}"
        );
        assert!(hints[0].to_string().contains("the weights of step 300"), "{}", hints[0]);
        for (balanced, one) in [(0.5, true), (0.6, false)] {
            let hints = found(&run(FALLING, FALLING, [0.7; 6], balanced), CLASSES);
            let [Hint::NoBetterThanMajority { one_class, .. }] = hints[..] else { panic!("{hints:?}") };
            assert_eq!(one_class, one);
            let said = hints[0].to_string();
            assert_eq!(said.contains("predicts one class"), one);
            assert!(said.contains("a `linear` network") && !said.contains("instead of `last`"), "{said}");
        }
        let rising = run([0.9, 0.8, 0.7, 0.6, 0.55, 0.5], FALLING, [0.5, 0.55, 0.6, 0.65, 0.7, 0.75], 0.8);
        let hints = found(&rising, CLASSES);
        assert!(matches!(hints[..], [Hint::StillImproving { before: 0.6, accuracy: 0.75, .. }]), "{hints:?}");
        assert!(hints[0].to_string().contains("loss fell by 29 %"), "{}", hints[0]);
        let without_copies =
            |accuracy| Figures::of([("accuracy", 0.9), ("accuracy_without_copies", accuracy)]);
        let mut tested = run(FALLING, FALLING, GOOD, 0.8);
        tested.push(MetricsRecord::Test { step: 600, loss: 0.4, figures: without_copies(0.7) });
        let copied = ClassFacts { test_documents: 100, test_copies: 30, ..CLASSES };
        let hints = found(&tested, copied);
        assert!(matches!(hints[..], [Hint::NearCopies { test: true, documents: 30, .. }]), "{hints:?}");
        assert!(hints[0].to_string().contains("90.0 % with them and 70.0 % without"), "{}", hints[0]);
        assert_eq!(found(&tested, ClassFacts { test_copies: 2, ..copied }), []);
        let few = ClassFacts { validation_documents: 100, smallest_class: 4, cut_share: 0.6, ..CLASSES };
        let hints = found(&run(FALLING, FALLING, GOOD, 0.8), few);
        let names: Vec<&str> = hints.iter().map(Hint::name).collect();
        assert_eq!(names, ["small_class", "cut_documents", "few_validation_documents"]);
        assert!(hints[2].to_string().contains("100 validation documents"), "{}", hints[2]);
    }
}
