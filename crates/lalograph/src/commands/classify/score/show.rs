//! A score in the terminal.

use std::path::Path;

use lalograph_lab::measure::curves::Threshold;
use lalograph_lab::measure::decisions::Decisions;

use super::calibrate::calibrated_row;
use super::scored::Score;
use crate::commands::classify::figures::{class_table, confusion, main_rows};
use crate::commands::classify::model::steps_of;
use crate::failure::Failure;
use crate::output::number::{count, p_value, percent, percent_of, points};
use crate::output::palette::ASH;
use crate::output::screen::Screen;
use crate::output::table::{Column, facts, table};
use crate::output::wrap::indented;

/// Prints a score, with its most confident mistakes.
pub(super) fn show(all: &Score<'_>, mistakes: usize, screen: &Screen) -> Result<(), Failure> {
    let Score { names, decisions, scored, .. } = all;
    let (found, model) = (&decisions[0], &all.models[0]);
    let mut rows = main_rows(found);
    if model.input.vocabulary().is_some() {
        rows.push(("unknown tokens", percent(scored.read.unknown, scored.read.read)));
    }
    if let Some(longest) = model.longest() {
        rows.push((
            "read in part",
            format!(
                "{} of the documents, longer than {} {}",
                percent(scored.cut, found.count() as u64),
                count(longest as u64),
                steps_of(model)
            ),
        ));
    }
    rows.extend(all.calibrated.as_ref().map(calibrated_row));
    rows.extend(
        all.aimed
            .as_ref()
            .map(|(class, threshold)| ("threshold", threshold_words(*class, threshold, &model.classes))),
    );
    screen.line(&format!("{}\n{}", screen.heading("The score"), facts(screen, &rows)))?;
    screen.line(&format!(
        "\n{}\n{}",
        screen.heading("By class"),
        class_table(found, &model.classes, screen)
    ))?;
    screen.line(&format!("\n{}", confusion(found, &model.classes, screen)))?;
    screen.line(&format!("\n{}", confidence(found, screen)))?;
    if decisions.len() > 1 {
        screen.line(&format!("\n{}", beside(names, decisions, screen)))?;
    }
    let mistakes = scored.mistakes(found, mistakes);
    if !mistakes.is_empty() {
        screen.line(&format!("\n{}", screen.heading("Most confident mistakes")))?;
    }
    for (wrong, document) in mistakes {
        let head = format!(
            "  {}, line {}: predicted {} with {}, actual {} with {}",
            wrong.path.display(),
            count(wrong.line),
            model.classes[found.predicted(document)],
            percent_of(found.confidence(document)),
            model.classes[found.truth(document)],
            percent_of(found.logs(document)[found.truth(document)].exp())
        );
        screen.line(&screen.styled(ASH.style().bold(), &head))?;
        screen.line(&indented(wrong.text.trim(), screen.width()))?;
    }
    Ok(())
}

/// Several classifiers on the same documents.
fn beside(names: &[&Path], decisions: &[Decisions], screen: &Screen) -> String {
    let heads = ["classifier", "accuracy", "macro F1", "loss", "difference", "95 % interval", "p"];
    let rows: Vec<Vec<String>> = names
        .iter()
        .zip(decisions)
        .enumerate()
        .map(|(number, (name, found))| {
            let mut row = vec![
                name.display().to_string(),
                percent_of(found.accuracy()),
                format!("{:.3}", found.macro_f1()),
                format!("{:.4}", found.loss()),
            ];
            if number == 0 {
                row.extend(["-", "-", "-"].map(str::to_owned));
            } else {
                let paired = decisions[0].paired(found);
                row.push(points(paired.difference));
                row.push(format!("{} to {}", points(paired.interval.0), points(paired.interval.1)));
                row.push(p_value(paired.p_value));
            }
            row
        })
        .collect();
    let columns: Vec<Column> =
        (0..heads.len()).map(|at| if at == 0 { Column::Text } else { Column::Number }).collect();
    let note = "  Differences of accuracy to the first classifier, in percentage points; p: the probability of such a difference between equally good classifiers.";
    format!(
        "{}\n{}\n{}",
        screen.heading("On the same documents"),
        table(screen, &heads, &columns, &rows),
        indented(note.trim(), screen.width())
    )
}

/// The threshold that was asked for, with what it finds on these documents.
pub(super) fn threshold_words(class: usize, found: &Threshold, classes: &[String]) -> String {
    let cost = found.cost.map_or_else(String::new, |cost| format!(", mean cost {cost:.3}"));
    format!(
        "{:.3} for {}, the best on these documents: {} found, {} missed, {} false alarms, F1 {:.3}{cost}",
        found.probability,
        classes[class],
        count(found.found),
        count(found.missed),
        count(found.false_alarms),
        found.f1
    )
}

/// Groups of equal size by confidence.
const GROUPS: usize = 5;

/// Accuracy by confidence.
fn confidence(found: &Decisions, screen: &Screen) -> String {
    let rows: Vec<Vec<String>> = found
        .confidence_groups(GROUPS)
        .iter()
        .map(|group| vec![count(group.documents), percent_of(group.confidence), percent_of(group.accuracy)])
        .collect();
    let heads = ["documents", "mean confidence", "accuracy"];
    format!(
        "{}\n{}",
        screen.heading("Confidence, in groups of equal size"),
        table(screen, &heads, &[Column::Number; 3], &rows)
    )
}
