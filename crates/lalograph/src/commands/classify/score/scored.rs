//! What classifiers made of documents whose classes are known.

use std::borrow::Cow;
use std::path::{Path, PathBuf};

use lalograph_lab::measure::curves::Threshold;
use lalograph_lab::measure::decisions::{Decisions, predicted};
use lalograph_lab::{ClassifierReader, DocumentInput, ReadDocument, ReadyClassifier};
use lalograph_storage::Existing;
use lalograph_text::corpus::Batch;
use lalograph_text::{Corpus, TextError};

use crate::commands::classify::model::{ReadBatch, unreadable};
use crate::commands::reading::watched;
use crate::failure::Failure;
use crate::output::number::count;
use crate::output::screen::Screen;

/// A score: classifiers and what they made of the same documents.
pub(super) struct Score<'s> {
    pub(super) names: &'s [&'s Path],
    pub(super) models: &'s [ReadyClassifier],
    pub(super) decisions: &'s [Decisions],
    pub(super) scored: &'s Scored,
    /// The class and the threshold that was asked for.
    pub(super) aimed: Option<(usize, Threshold)>,
    pub(super) calibrated: Option<Calibrated>,
}

/// A temperature that was fitted, with the loss before and after.
pub(super) struct Calibrated {
    pub(super) temperature: f64,
    pub(super) documents: u64,
    pub(super) mistakes: u64,
    pub(super) losses: [f64; 2],
}

/// Reads all documents of a corpus with all classifiers.
pub(crate) fn read_all(
    models: &[ReadyClassifier],
    corpus: &Corpus,
    (left_out, threads, threshold): (Option<&Path>, usize, Option<(usize, f64)>),
    what: &'static str,
    screen: &Screen,
) -> Result<Scored, Failure> {
    watched(corpus, what, (left_out, Existing::Keep), screen, |observer| {
        let mut scored = Scored::new(models);
        scored.threshold = threshold.map(|(class, probability)| (class, probability.ln()));
        let new = || models.iter().map(ReadyClassifier::reader).collect::<Vec<_>>();
        let work = |readers: &mut Vec<ClassifierReader<'_>>, batch: &Batch| {
            let read = |reader: &mut ClassifierReader<'_>| {
                reader.read(batch.documents().map(|document| document.text))
            };
            readers.iter_mut().map(read).collect::<Vec<_>>()
        };
        let read = corpus.process(threads, observer, new, work, |batch, found| {
            scored.add(batch, found, models).map_err(|()| TextError::Stopped)
        });
        match scored.failure.take() {
            Some(failure) => Err(failure),
            None => read.map(|(reading, _)| (scored, reading)).map_err(Failure::from),
        }
    })
}

/// A document with its text.
pub(super) struct Shown {
    pub(super) document: usize,
    pub(super) path: PathBuf,
    pub(super) line: u64,
    pub(super) text: String,
}

/// First documents that are kept as examples.
const EXAMPLES: usize = 20;

/// Characters of the text of a document that are kept.
const EXCERPT: usize = 1200;

pub(super) fn excerpt(text: &str) -> String {
    match text.char_indices().nth(EXCERPT) {
        Some((end, _)) => format!("{} \u{2026}", &text[..end]),
        None => text.to_owned(),
    }
}

/// The text of a document; the numbers of a row in a line.
fn shown_text<'t>(text: &'t str, input: &DocumentInput) -> Cow<'t, str> {
    match input {
        DocumentInput::Text(_) => Cow::Borrowed(text),
        DocumentInput::Numbers(_) => Cow::Owned(text.replace('\n', ", ")),
    }
}

/// What the classifiers made of the documents.
pub(crate) struct Scored {
    /// For each classifier the true classes and the log-probabilities.
    pub(super) truths: Vec<Vec<u32>>,
    pub(super) logs: Vec<Vec<f64>>,
    /// The documents that the first classifier got wrong.
    pub(super) wrong: Vec<Shown>,
    pub(super) examples: Vec<Shown>,
    pub(super) read: ReadDocument,
    pub(super) cut: u64,
    pub(super) failure: Option<Failure>,
    pub(super) threshold: Option<(usize, f64)>,
}

impl Scored {
    pub(super) fn new(models: &[ReadyClassifier]) -> Self {
        Self {
            truths: vec![Vec::new(); models.len()],
            logs: vec![Vec::new(); models.len()],
            wrong: Vec::new(),
            examples: Vec::new(),
            read: ReadDocument::default(),
            cut: 0,
            failure: None,
            threshold: None,
        }
    }

    /// Adds the documents of a batch; an error if a classifier cannot read one, or does not have its label.
    pub(super) fn add(
        &mut self,
        batch: &Batch,
        found: Vec<ReadBatch>,
        models: &[ReadyClassifier],
    ) -> Result<(), ()> {
        for (number, (model, found)) in models.iter().zip(found).enumerate() {
            let (read, logs) = found.map_err(|error| self.failure = Some(unreadable(model, batch, error)))?;
            let each = batch.documents().zip(read).zip(logs.chunks_exact(model.classes.len()));
            for ((document, read), logs) in each {
                let label = document.label.unwrap_or_default();
                let Ok(truth) = model.classes.binary_search_by(|class| class.as_str().cmp(label)) else {
                    self.failure = Some(Failure::with_remedy(
                        format!(
                            "{}, line {}: the classifier has no class `{label}`",
                            document.path.display(),
                            count(document.line)
                        ),
                        format!("its classes are {}", model.classes.join(", ")),
                    ));
                    return Err(());
                };
                let at = self.truths[number].len();
                self.truths[number].push(truth as u32);
                self.logs[number].extend_from_slice(logs);
                if number > 0 {
                    continue;
                }
                self.read.tokens += read.tokens;
                self.read.read += read.read;
                self.read.unknown += read.unknown;
                self.cut += u64::from(read.read < read.tokens);
                let shown = || Shown {
                    document: at,
                    path: document.path.to_owned(),
                    line: document.line,
                    text: excerpt(&shown_text(document.text, &model.input)),
                };
                if at < EXAMPLES {
                    self.examples.push(shown());
                }
                if predicted(logs, self.threshold) != truth {
                    self.wrong.push(shown());
                }
            }
        }
        Ok(())
    }

    pub(crate) fn decisions(&self, models: &[ReadyClassifier]) -> Vec<Decisions> {
        let each = models.iter().zip(self.truths.iter().zip(&self.logs));
        each.map(|(model, (truths, logs))| Decisions::new(model.classes.len(), truths.clone(), logs.clone()))
            .collect()
    }

    /// The wrong documents, the most confident first.
    pub(super) fn mistakes(&self, found: &Decisions, most: usize) -> Vec<(&Shown, usize)> {
        let order = found.mistakes().into_iter().take(most);
        let place = |document: usize| self.wrong.binary_search_by_key(&document, |wrong| wrong.document);
        order.filter_map(|document| Some((&self.wrong[place(document).ok()?], document))).collect()
    }
}
