//! Predictions for the documents that were set aside.

use std::collections::BTreeMap;
use std::sync::Arc;

use lalograph_lab::measure::decisions::most_probable;
use lalograph_lab::{ClassifierReader, PreparedClassifier, ReadyClassifier, RunFolder};
use lalograph_storage::Existing;
use lalograph_text::corpus::Batch;
use lalograph_text::{CorpusSpec, Part, TextError};
use serde::Serialize;

use super::model::{ReadBatch, unreadable};
use crate::commands::reading::{found, watched};
use crate::failure::Failure;
use crate::output::number::{count, counted};
use crate::output::screen::Screen;

/// Predicted classes of the documents that were set aside.
#[derive(Debug, Serialize)]
pub(super) struct SetAside {
    documents: u64,
    /// Documents by predicted class; those of classes that none has are absent.
    predicted: BTreeMap<String, u64>,
}

/// Predicts the documents that the plan sets aside; none if it sets no label aside.
pub(super) fn predicted_aside(
    run: &RunFolder,
    prepared: &PreparedClassifier,
    threads: usize,
    screen: &Screen,
) -> Result<Option<SetAside>, Failure> {
    let data = prepared.data();
    if data.plan.classifier.as_ref().is_none_or(|own| own.set_aside.is_empty()) {
        return Ok(None);
    }
    let model = ReadyClassifier::load(&run.model())?;
    let part = Some((Arc::new(data.split.clone()), Part::SetAside));
    let corpus = found(&CorpusSpec { part, ..data.plan.corpus.spec() })?;
    let by_class = watched(&corpus, "predicting", (None, Existing::Keep), screen, |observer| {
        let mut by_class = vec![0u64; model.classes.len()];
        let mut failure = None;
        let new = || model.reader();
        let work = |reader: &mut ClassifierReader<'_>, batch: &Batch| {
            reader.read(batch.documents().map(|document| document.text))
        };
        let read = corpus.process(threads, observer, new, work, |batch, found: ReadBatch| {
            let (_, logs) = found.map_err(|error| {
                failure = Some(unreadable(&model, batch, error));
                TextError::Stopped
            })?;
            logs.chunks_exact(model.classes.len()).for_each(|logs| by_class[most_probable(logs)] += 1);
            Ok(())
        });
        match (failure, read) {
            (Some(failure), _) => Err(failure),
            (None, read) => read.map(|(reading, _)| (by_class, reading)).map_err(Failure::from),
        }
    })?;
    let documents = by_class.iter().sum();
    let predicted = model.classes.into_iter().zip(by_class).filter(|&(_, documents)| documents > 0).collect();
    Ok(Some(SetAside { documents, predicted }))
}

/// They in a row of the outcome.
pub(super) fn aside_row(aside: &SetAside, run: &RunFolder) -> (&'static str, String) {
    let classes: Vec<String> =
        aside.predicted.iter().map(|(class, &documents)| format!("{class} {}", count(documents))).collect();
    let what = format!(
        "{}, predicted: {}; `classify predict` with --split {} --part set-aside lists them",
        counted(aside.documents, "document", "documents"),
        classes.join(", "),
        run.split().display()
    );
    ("set aside", what)
}
