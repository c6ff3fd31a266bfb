//! Several models and classes on one text, side by side.

use std::path::Path;

use lalograph_lab::measure::baseline::{NgramModel, Uniform, Unigram};
use lalograph_lab::measure::classes::ClassScore;
use lalograph_lab::measure::score::{Difference, Judgement, Score, score_baseline};
use lalograph_text::tokens::TokenSequence;
use serde::Serialize;

use crate::commands::training_text::training_text;
use crate::failure::Failure;
use crate::interrupt;
use crate::output::number::{count, percent, perplexity};
use crate::output::progress::{Measure, Progress};
use crate::output::screen::Screen;
use crate::output::table::{Column, table};
use crate::output::wrap::indented;

/// One of several models.
#[derive(Serialize)]
pub(super) struct ModelScore<'a> {
    pub(super) model: &'a str,
    #[serde(flatten)]
    pub(super) score: &'a Score,
    pub(super) loss_standard_error: Option<f64>,
    /// Difference to the first model; `None` if cleaning makes another text of the documents.
    pub(super) difference: Option<Difference>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(super) classes: Vec<ClassScore>,
}

/// Models that are no networks, on the text that a network was scored by.
pub(super) fn baselines(
    model: &Path,
    order: usize,
    text: &TokenSequence,
    screen: &Screen,
) -> Result<Vec<(String, Judgement)>, Failure> {
    let prepared = training_text(model, screen)?.task;
    let (size, training) = (prepared.vocabulary.len(), &prepared.corpus.training);
    let mut progress = Progress::new(screen, "counting n-grams", Measure::Steps, 100);
    let ngrams = NgramModel::new(order, size, training, |share| {
        progress.at((100.0 * share) as u64, "");
        !interrupt::asked()
    })?;
    progress.finish();
    let name = format!("{order}-gram");
    Ok(vec![
        (name, score_baseline(text, &mut ngrams.reader())),
        ("unigram".to_owned(), score_baseline(text, &mut Unigram::new(size, training))),
        ("uniform".to_owned(), score_baseline(text, &mut Uniform::new(size))),
    ])
}

/// The difference of a judgement to the first one; `None` if the texts differ after cleaning.
pub(super) fn difference(other: &Judgement, base: &Judgement, same_cleaning: bool) -> Option<Difference> {
    let same = same_cleaning || (other.score.changed_documents == 0 && base.score.changed_documents == 0);
    same.then(|| Difference::between(other, base))
}

/// The last part of each path, where no two are the same.
fn short_names(models: &[(String, Judgement)]) -> Vec<String> {
    let last = |name: &String| {
        Path::new(name).file_name().map_or(name.clone(), |last| last.to_string_lossy().into_owned())
    };
    let names: Vec<String> = models.iter().map(|(name, _)| last(name)).collect();
    let distinct = names.iter().collect::<std::collections::BTreeSet<_>>().len() == names.len();
    if distinct { names } else { models.iter().map(|(name, _)| name.clone()).collect() }
}

/// Several models on one text.
pub(super) fn side_by_side(models: &[(String, Judgement)], alike: &[bool], screen: &Screen) -> String {
    let first = models.first().map(|(_, judgement)| judgement);
    let above = |judgement: &Judgement, at: usize| -> [String; 2] {
        let found = first.filter(|_| at > 0).map(|first| difference(judgement, first, alike[at]));
        match found {
            None => Default::default(),
            Some(None) => ["not comparable".to_owned(), String::new()],
            Some(Some(found)) => {
                let range = found
                    .interval()
                    .map(|(low, high)| format!("{low:+.4} to {high:+.4}"))
                    .unwrap_or_default();
                [format!("{:+.4}", found.bits_per_byte), range]
            }
        }
    };
    let names = short_names(models);
    let rows: Vec<Vec<String>> = models
        .iter()
        .enumerate()
        .map(|(at, (_, judgement))| {
            let score = &judgement.score;
            let [difference, range] = above(judgement, at);
            vec![
                names[at].clone(),
                format!("{:.4}", score.bits_per_byte),
                difference,
                range,
                perplexity(score.perplexity),
                count(score.tokens),
                percent(score.unknown_tokens, score.tokens),
            ]
        })
        .collect();
    let heads = ["model", "bits per byte", "difference", "95 % interval", "perplexity", "tokens", "unknown"];
    let mut columns = vec![Column::Number; heads.len()];
    columns[0] = Column::Text;
    let scores = models.iter().map(|(_, judgement)| &judgement.score);
    let documents = first.map_or(0, |first| first.score.documents);
    let mut notes = vec![
        "Bits per byte include the spelling of unknown words and white space, and compare models of any unit and vocabulary. Perplexity compares models with the same tokens."
            .to_owned(),
    ];
    if documents > 1 {
        notes.push(format!(
            "Differences are to the first model, with 95 % confidence intervals over the same {} documents.",
            count(documents)
        ));
    }
    if alike.contains(&false) && scores.into_iter().any(|score| score.changed_documents > 0) {
        notes.push("Models whose cleaning changes the text are not comparable.".to_owned());
    }
    let notes: Vec<String> = notes.iter().map(|note| indented(note, screen.width())).collect();
    format!(
        "{}\n{}\n{}",
        screen.heading("The models compared"),
        table(screen, &heads, &columns, &rows),
        notes.join("\n")
    )
}

/// The classes of a text, each under one model or several.
pub(super) fn classes(models: &[(String, Vec<ClassScore>)], screen: &Screen) -> String {
    let several = models.len() > 1;
    let first = models.first().map_or(&[][..], |(_, classes)| classes);
    let mut rows = Vec::new();
    for class in first {
        for (at, (model, classes)) in models.iter().enumerate() {
            let Some(found) = classes.iter().find(|other| other.label == class.label) else { continue };
            let label = found.label.clone().unwrap_or_else(|| "(no label)".to_owned());
            let mut row = vec![
                if at == 0 { label } else { String::new() },
                if at == 0 { count(found.documents) } else { String::new() },
                count(found.tokens),
                percent(found.unknown_tokens, found.tokens),
                perplexity(found.perplexity),
                format!("{:.4}", found.bits_per_byte),
            ];
            if several {
                row.insert(2, model.clone());
            }
            rows.push(row);
        }
    }
    let mut heads = vec!["class", "documents", "tokens", "unknown", "perplexity", "bits per byte"];
    let mut columns = vec![Column::Number; heads.len()];
    columns[0] = Column::Text;
    if several {
        heads.insert(2, "model");
        columns.insert(2, Column::Text);
    }
    format!("{}\n{}", screen.heading("By class"), table(screen, &heads, &columns, &rows))
}
