//! A linear classifier in words: its features, its solver, its outcome.

use lalograph_lab::plan::{TermChoice, TermValues};
use lalograph_lab::{LinearTask, Plan, RunFolder, TrainingOutcome};
use lalograph_net::Choice;

use crate::commands::training::time_and_model;
use crate::output::number::{count, counted};

/// The features and the solver of a linear classifier.
pub(super) fn linear_rows(task: &LinearTask) -> Vec<(&'static str, String)> {
    let plan = &task.data.plan;
    let own = plan.classifier.clone().unwrap_or_default();
    let strengths = match &task.strengths[..] {
        [strength] => format!("strength {strength}"),
        [first, .., last] => format!("{} strengths from {first} to {last}", task.strengths.len()),
        [] => String::new(),
    };
    let mut rows = vec![
        (
            "features",
            format!(
                "{}; {} in a document on average",
                linear_features(plan),
                format_args!("{:.1}", task.mean_features())
            ),
        ),
        (
            "model",
            format!(
                "{}: {} parameters",
                output_of(task.shape.classes),
                count(task.shape.parameters() as u64)
            ),
        ),
        (
            "solver",
            format!(
                "{} penalty, {strengths}; each to a gradient of {} of that at zero weights",
                own.penalty.name().to_uppercase(),
                own.tolerance
            ),
        ),
    ];
    if !task.missing_terms.is_empty() {
        let shown: Vec<&str> = task.missing_terms.iter().take(8).map(String::as_str).collect();
        rows.push((
            "not found",
            format!("{} of the listed terms: {}", count(task.missing_terms.len() as u64), shown.join(", ")),
        ));
    }
    rows
}

/// The features of a linear classifier by its plan.
pub(super) fn linear_features(plan: &Plan) -> String {
    let own = plan.classifier.clone().unwrap_or_default();
    if let Some(features) = own.features {
        return match own.time_steps {
            Some(steps) => counted((features * steps) as u64, "number of a row", "numbers of a row"),
            None => counted(features as u64, "feature at each step", "features at each step"),
        };
    }
    let terms = match own.term_choice {
        TermChoice::All => "all terms of the training documents".to_owned(),
        TermChoice::MostFrequent => format!("at most {} terms, the most frequent", count(own.terms as u64)),
        TermChoice::MutualInformation => {
            format!("at most {} terms, by mutual information with the class", count(own.terms as u64))
        }
        TermChoice::Listed => counted(own.term_list.len() as u64, "listed term", "listed terms"),
    };
    let values = match own.term_values {
        TermValues::Counts => "counts",
        TermValues::Frequencies => "relative frequencies",
        TermValues::Roots => "roots of relative frequencies",
        TermValues::TfIdf => "tf-idf",
    };
    let pairs = match own.term_pairs {
        0 => String::new(),
        pairs => format!(", products of each two of the first {}", count(pairs as u64)),
    };
    format!("{terms}{pairs}; {values}")
}

/// The outcome of a linear classifier.
pub(super) fn solved_rows(
    run: &RunFolder,
    task: &LinearTask,
    outcome: &TrainingOutcome,
) -> Vec<(&'static str, String)> {
    let mut rows = vec![("training loss", format!("{:.3}, at the last strength", outcome.training_loss))];
    if let Some(found) = &outcome.validation {
        let strength = found.figure("strength").unwrap_or(0.0);
        let solved = match found.figure("solved") {
            Some(solved) if solved > 0.0 => "solved to the tolerance",
            _ => "not solved to the tolerance: raise --iterations",
        };
        rows.push((
            "penalty",
            format!(
                "strength {strength}, the best of {} by validation; {solved}",
                count(task.strengths.len() as u64)
            ),
        ));
        let nonzero = found.figure("nonzero_weights").unwrap_or(0.0) as u64;
        rows.push((
            "weights",
            format!("{} of {} are not 0", count(nonzero), count(task.shape.weights() as u64)),
        ));
    }
    rows.push(("iterations", format!("{}, all strengths together", count(outcome.steps))));
    rows.extend(time_and_model(run, outcome));
    rows
}

/// The output of a classifier.
pub(super) fn output_of(classes: usize) -> String {
    match classes {
        2 => "logistic output".to_owned(),
        classes => format!("softmax of {} classes", count(classes as u64)),
    }
}
