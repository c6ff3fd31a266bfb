//! Copies in samples: runs of the training text, and repetitions within a sample.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use std::path::PathBuf;

use lalograph_lab::writing::copying::{Copying, CopyingSettings, copying, excerpts};
use serde::Serialize;

use super::asked::{Asked, CopyingOfSample, Written};
use crate::commands::training_text::{TrainingText, training_text};
use crate::failure::Failure;
use crate::output::number::{count, percent_of, visible};
use crate::output::screen::Screen;
use crate::output::table::{Column, table};
use crate::output::wrap::indented;

/// Held-out text of the lengths of the samples, on the whole.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub(super) struct HeldOutCopying {
    /// Stretches.
    texts: usize,
    tokens: u64,
    longest_tokens_mean: f64,
    longest_tokens: usize,
    copied_share: f64,
    repeated_share: Option<f64>,
}

/// A run of the training text, in its file.
struct RunPlace {
    document: u64,
    path: PathBuf,
    line: u64,
    /// Its text after cleaning.
    text: String,
}

/// Places of the longest run of each sample.
fn places(
    training: &TrainingText,
    found: &[Copying],
    screen: &Screen,
) -> Result<Vec<Option<RunPlace>>, Failure> {
    let tokens = &training.task.corpus.training;
    let document = |found: &Copying| {
        let run = found.longest;
        (run.tokens > 0).then(|| tokens.document_at(run.training_start as usize))
    };
    let numbers: BTreeSet<u64> = found.iter().filter_map(document).collect();
    let mut documents = BTreeMap::new();
    for (number, document) in training.documents(&numbers, screen)? {
        let located = training.task.vocabulary.locate(&document.text);
        documents.insert(number, (document, located));
    }
    let place = |found: &Copying| {
        let number = document(found)?;
        let (document, located) = documents.get(&number)?;
        let from = found.longest.training_start as usize - tokens.document(number)?.tokens.start;
        // The end of a document has no place in its text.
        let run = located.tokens.iter().skip(from).take(found.longest.tokens);
        let ranges: Vec<&Range<usize>> = run.map(|(range, _)| range).collect();
        let text = match (ranges.first(), ranges.last()) {
            (Some(first), Some(last)) => &located.text.as_bytes()[first.start..last.end],
            _ => &[],
        };
        let start = ranges.first().map_or(located.text.len(), |range| range.start);
        let lines_before = located.text.as_bytes()[..start].iter().filter(|byte| **byte == b'\n').count();
        Some(RunPlace {
            document: number,
            path: document.path.clone(),
            line: document.line + lines_before as u64,
            text: String::from_utf8_lossy(text).into_owned(),
        })
    };
    Ok(found.iter().map(place).collect())
}

/// Copied sequences of some samples.
pub(super) struct Copies {
    measure: CopyingSettings,
    found: Vec<Copying>,
    /// The longest run of each sample and its place in the training text; `None` if no token of a sample occurs there.
    places: Vec<Option<RunPlace>>,
    names: Vec<String>,
    /// The same of held-out text, if there is any.
    pub(super) held_out: Option<HeldOutCopying>,
}

impl Copies {
    /// Looks for samples in the training text of the model's run.
    pub(super) fn find(asked: &Asked<'_>, written: &[Written]) -> Result<Self, Failure> {
        let measure = asked.measure();
        let text = training_text(&asked.args.model, asked.screen)?;
        let (training, held_out) = (&text.task.corpus.training, &text.task.corpus.validation);
        let samples: Vec<&[u32]> = written.iter().map(|sample| &sample.sample.indices[..]).collect();
        let found = copying(&samples, training, measure)?;
        let places = places(&text, &found, asked.screen)?;
        let lengths: Vec<usize> = samples.iter().map(|sample| sample.len()).collect();
        let other = excerpts(held_out, &lengths, asked.args.seed)?;
        let other: Vec<&[u32]> = other.iter().map(Vec::as_slice).filter(|text| !text.is_empty()).collect();
        let held_out = HeldOutCopying::new(&copying(&other, training, measure)?);
        let names = written.iter().map(|sample| sample.how.clone()).collect();
        Ok(Self { measure, found, places, names, held_out })
    }

    /// Copied sequences of one sample.
    pub(super) fn of(&self, index: usize) -> CopyingOfSample<'_> {
        let place = self.places[index].as_ref();
        CopyingOfSample {
            copying: &self.found[index],
            longest_text: place.map_or("", |place| &place.text),
            training_document: place.map(|place| place.document),
            training_path: place.map(|place| place.path.display().to_string()),
            training_line: place.map(|place| place.line),
        }
    }

    /// A table of all samples, held-out text last.
    pub(super) fn render(&self, screen: &Screen) -> String {
        let CopyingSettings { run, ngram } = self.measure;
        let share = |share: Option<f64>| share.map_or_else(|| "-".to_owned(), percent_of);
        let samples = self.found.iter().zip(&self.places).zip(&self.names).map(|((found, place), name)| {
            let where_it_stands = place.as_ref().map_or_else(
                || "no token of it".to_owned(),
                |RunPlace { path, line, text, .. }| {
                    format!("{}, line {}: \u{201c}{}\u{201d}", path.display(), count(*line), visible(text))
                },
            );
            vec![
                name.clone(),
                count(found.tokens as u64),
                count(found.longest.tokens as u64),
                percent_of(found.copied_share),
                share(found.repeated_share),
                where_it_stands,
            ]
        });
        let mut rows: Vec<Vec<String>> = samples.collect();
        if let Some(held_out) = &self.held_out {
            rows.push(vec![
                "held-out text".to_owned(),
                count(held_out.tokens / held_out.texts.max(1) as u64),
                format!("{:.1}", held_out.longest_tokens_mean),
                percent_of(held_out.copied_share),
                share(held_out.repeated_share),
                format!("mean of {}; longest {}", count(held_out.texts as u64), held_out.longest_tokens),
            ]);
        }
        let heads =
            ["text", "tokens", "longest", "copied", "repeated", "place of the longest copied sequence"];
        let columns =
            [Column::Text, Column::Number, Column::Number, Column::Number, Column::Number, Column::Text];
        let note = format!(
            "longest: length in tokens of the longest sequence copied from the training text; copied: share of tokens in copied sequences of {run} or more; repeated: share of {ngram}-grams that occur earlier in the same text. Compare with held-out text, in sections of the same lengths."
        );
        format!(
            "{}\n{}\n\n{}",
            screen.heading("Copying and repetition"),
            table(screen, &heads, &columns, &rows),
            indented(&note, screen.width())
        )
    }
}

impl HeldOutCopying {
    fn new(found: &[Copying]) -> Option<Self> {
        let texts = found.len();
        let tokens: usize = found.iter().map(|found| found.tokens).sum();
        let known: Vec<f64> = found.iter().filter_map(|found| found.repeated_share).collect();
        (texts > 0).then(|| Self {
            texts,
            tokens: tokens as u64,
            longest_tokens_mean: found.iter().map(|found| found.longest.tokens as f64).sum::<f64>()
                / texts as f64,
            longest_tokens: found.iter().map(|found| found.longest.tokens).max().unwrap_or(0),
            copied_share: found.iter().map(|found| found.copied_share * found.tokens as f64).sum::<f64>()
                / tokens.max(1) as f64,
            repeated_share: (!known.is_empty()).then(|| known.iter().sum::<f64>() / known.len() as f64),
        })
    }
}
