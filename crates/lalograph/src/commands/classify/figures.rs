//! Figures of decisions in words and tables.

use lalograph_lab::measure::decisions::Decisions;

use crate::output::cut::cut;
use crate::output::number::{count, percent_of};
use crate::output::screen::Screen;
use crate::output::table::{Column, table};

/// Classes that a confusion matrix is drawn for, at most.
const MATRIX: usize = 12;
/// Confusions that are listed for more classes.
const LISTED: usize = 15;
/// Columns of a class's name in a matrix.
const NAME: usize = 14;

/// A share to three figures, or a dash.
pub(super) fn share_of(share: Option<f64>) -> String {
    share.map_or_else(|| "-".to_owned(), |share| format!("{share:.3}"))
}

/// The main figures.
pub(super) fn main_rows(found: &Decisions) -> Vec<(&'static str, String)> {
    let (low, high) = found.accuracy_interval();
    vec![
        ("documents", count(found.count() as u64)),
        (
            "accuracy",
            format!(
                "{} (95 % interval {} to {})",
                percent_of(found.accuracy()),
                percent_of(low),
                percent_of(high)
            ),
        ),
        ("most frequent class", format!("{} of the documents", percent_of(found.majority_share()))),
        ("balanced accuracy", percent_of(found.balanced_accuracy())),
        ("macro F1", share_of(Some(found.macro_f1()))),
        ("loss", format!("{:.4} nats per document", found.loss())),
        (
            "calibration error",
            format!(
                "{}, mean distance between confidence and accuracy",
                percent_of(found.calibration_error())
            ),
        ),
    ]
}

/// Heads and rows of the figures by class, with their means.
pub(super) fn class_rows(found: &Decisions, classes: &[String]) -> (Vec<&'static str>, Vec<Vec<String>>) {
    let figures = found.by_class();
    let heads = vec!["class", "documents", "predicted", "precision", "recall", "F1", "ROC area", "PR area"];
    let mut rows: Vec<Vec<String>> = classes
        .iter()
        .zip(&figures)
        .map(|(class, figures)| {
            vec![
                class.clone(),
                count(figures.documents),
                count(figures.predicted),
                share_of(figures.precision),
                share_of(figures.recall),
                share_of(figures.f1),
                share_of(figures.roc_area),
                share_of(figures.precision_recall_area),
            ]
        })
        .collect();
    let mean = |of: &dyn Fn(usize) -> Option<f64>| {
        let known: Vec<f64> = (0..figures.len()).filter_map(of).collect();
        share_of((!known.is_empty()).then(|| known.iter().sum::<f64>() / known.len() as f64))
    };
    let all = count(found.count() as u64);
    rows.push(vec![
        "mean of classes (macro)".to_owned(),
        all.clone(),
        all.clone(),
        mean(&|class| figures[class].precision),
        mean(&|class| figures[class].recall),
        mean(&|class| figures[class].f1),
        mean(&|class| figures[class].roc_area),
        mean(&|class| figures[class].precision_recall_area),
    ]);
    // With one class a document, each wrong prediction is a false positive of one class and a false negative of another.
    let micro = share_of(Some(found.accuracy()));
    let dash = || "-".to_owned();
    rows.push(vec![
        "all documents (micro)".to_owned(),
        all.clone(),
        all,
        micro.clone(),
        micro.clone(),
        micro,
        dash(),
        dash(),
    ]);
    (heads, rows)
}

/// Figures by class, with their means, as a table.
pub(super) fn class_table(found: &Decisions, classes: &[String], screen: &Screen) -> String {
    let (heads, rows) = class_rows(found, classes);
    let columns: Vec<Column> =
        (0..heads.len()).map(|at| if at == 0 { Column::Text } else { Column::Number }).collect();
    table(screen, &heads, &columns, &rows)
}

/// Documents by actual and predicted class; for many classes the most frequent confusions.
pub(super) fn confusion(found: &Decisions, classes: &[String], screen: &Screen) -> String {
    let counts = found.confusion();
    if classes.len() <= MATRIX {
        let names: Vec<String> = classes.iter().map(|class| cut(class, NAME)).collect();
        let mut heads = vec!["actual \\ predicted"];
        heads.extend(names.iter().map(String::as_str));
        let rows: Vec<Vec<String>> = names
            .iter()
            .zip(&counts)
            .map(|(name, row)| std::iter::once(name.clone()).chain(row.iter().map(|&n| count(n))).collect())
            .collect();
        let columns: Vec<Column> =
            (0..heads.len()).map(|at| if at == 0 { Column::Text } else { Column::Number }).collect();
        return format!("{}\n{}", screen.heading("Confusion"), table(screen, &heads, &columns, &rows));
    }
    let mut wrong: Vec<(u64, usize, usize)> = Vec::new();
    for (actual, row) in counts.iter().enumerate() {
        let others = row.iter().enumerate().filter(|(predicted, n)| *predicted != actual && **n > 0);
        wrong.extend(others.map(|(predicted, &n)| (n, actual, predicted)));
    }
    wrong.sort_by_key(|&(n, actual, predicted)| (std::cmp::Reverse(n), actual, predicted));
    let rows: Vec<Vec<String>> = wrong
        .iter()
        .take(LISTED)
        .map(|&(n, actual, predicted)| vec![classes[actual].clone(), classes[predicted].clone(), count(n)])
        .collect();
    let heads = ["actual", "predicted", "documents"];
    let columns = [Column::Text, Column::Text, Column::Number];
    format!("{}\n{}", screen.heading("Most frequent confusions"), table(screen, &heads, &columns, &rows))
}
