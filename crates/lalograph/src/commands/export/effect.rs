//! What fewer bits change: the perplexity of a language model, the decisions of a classifier.

use std::path::{Path, PathBuf};

use lalograph_export::{Form, OpenModel, Precision, reduce};
use lalograph_lab::data::numbers::NumberError;
use lalograph_lab::measure::documents::Documents;
use lalograph_lab::measure::score::{Scoring, score};
use lalograph_lab::plan::CorpusPlan;
use lalograph_lab::{LabError, ModelFile, ReadyClassifier};
use lalograph_net::Network;
use lalograph_storage::Existing;
use serde::Serialize;

use crate::commands::reading::{found, watched};
use crate::failure::Failure;
use crate::interrupt;
use crate::output::number::{count, percent_of, perplexity};
use crate::output::progress::{Measure, Progress};
use crate::output::screen::Screen;

/// What fewer bits change.
#[derive(Debug, Clone, Copy, Serialize)]
#[serde(rename_all = "snake_case")]
pub(super) enum Effect {
    /// Of a language model.
    Perplexity {
        /// Tokens that were scored.
        tokens: u64,
        /// With the weights of the model.
        single: f64,
        /// With the exported weights.
        exported: f64,
    },
    /// Of a classifier.
    Decisions {
        /// Documents.
        documents: u64,
        /// Share of documents whose most probable class is the same.
        same_share: f64,
        /// Greatest change of the probability of a class.
        greatest_change: f64,
    },
}

impl Effect {
    /// The figures for people.
    pub(super) fn rows(&self) -> Vec<(&'static str, String)> {
        match *self {
            Self::Perplexity { tokens, single, exported } => {
                let change = 100.0 * (exported / single - 1.0);
                vec![
                    ("scored text", format!("{} tokens", count(tokens))),
                    (
                        "perplexity",
                        format!("{} instead of {}, {change:+.3} %", perplexity(exported), perplexity(single)),
                    ),
                ]
            }
            Self::Decisions { documents, same_share, greatest_change } => vec![
                ("documents", count(documents)),
                ("same class", percent_of(same_share)),
                ("greatest change", format!("{greatest_change:.4} in the probability of a class")),
            ],
        }
    }
}

/// Measures the effect on a text.
pub(super) fn effect(
    path: &Path,
    model: &OpenModel,
    texts: &[PathBuf],
    precision: Precision,
    screen: &Screen,
) -> Result<Effect, Failure> {
    match &model.form {
        Form::Language(form) => {
            let mut file = ModelFile::load(path)?;
            let documents = read(&form.plan.corpus, texts, screen)?;
            let single = perplexity_of(&file, &documents, screen)?;
            reduce(file.model.layout(), &mut file.weights, precision);
            let exported = perplexity_of(&file, &documents, screen)?;
            Ok(Effect::Perplexity { tokens: single.1, single: single.0, exported: exported.0 })
        }
        Form::Classifier(form) => {
            let mut ready = ReadyClassifier::load(path)?;
            let documents = read(&form.plan.corpus, texts, screen)?;
            let before = decide(&ready, &documents)?;
            ready.change_weights(|layout, weights| reduce(layout, weights, precision));
            let after = decide(&ready, &documents)?;
            let classes = ready.classes.len();
            let pairs = || before.chunks_exact(classes).zip(after.chunks_exact(classes));
            let same = pairs().filter(|(before, after)| best(before) == best(after)).count();
            let changes = before.iter().zip(&after).map(|(before, after)| (before - after).abs());
            Ok(Effect::Decisions {
                documents: documents.list.len() as u64,
                same_share: same as f64 / documents.list.len().max(1) as f64,
                greatest_change: changes.fold(0.0, f64::max),
            })
        }
        Form::Vectors(_) => Err(Failure::Usage("--text has no effect: word vectors predict no text".into())),
    }
}

fn best(probabilities: &[f64]) -> Option<usize> {
    (0..probabilities.len()).max_by(|&a, &b| probabilities[a].total_cmp(&probabilities[b]))
}

/// The documents of other files, read as a corpus was.
fn read(base: &CorpusPlan, texts: &[PathBuf], screen: &Screen) -> Result<Documents, Failure> {
    let plan = CorpusPlan { paths: texts.to_vec(), first: None, split: None, ..base.clone() };
    let corpus = found(&plan.spec())?;
    watched(&corpus, "reading", (None, Existing::Keep), screen, |observer| {
        let documents = Documents::read(&corpus, observer)?;
        let reading = documents.reading.clone();
        Ok((documents, reading))
    })
}

/// Perplexity, and the tokens that it is of.
fn perplexity_of(file: &ModelFile, documents: &Documents, screen: &Screen) -> Result<(f64, u64), Failure> {
    let mut progress = Progress::new(screen, "scoring", Measure::Steps, 100);
    let found = score(file, documents, Scoring::default(), &mut |share| {
        progress.at((100.0 * share) as u64, "");
        !interrupt::asked()
    })?;
    progress.finish();
    let score = found.judgement.score;
    Ok((score.perplexity, score.tokens))
}

/// The probabilities of all classes of all documents.
fn decide(ready: &ReadyClassifier, documents: &Documents) -> Result<Vec<f64>, Failure> {
    let texts = documents.list.iter().map(|document| document.text.as_str());
    match ready.reader().read(texts) {
        Ok((_, logs)) => Ok(logs.into_iter().map(f64::exp).collect()),
        Err((number, error)) => {
            let what = match error {
                NumberError::NotANumber { found, .. } => format!("`{found}` is not a finite number"),
                NumberError::Count { found, .. } => {
                    format!("{found} numbers, which make no row of this model")
                }
            };
            let document = &documents.list[number];
            Err(LabError::NotNumbers { path: document.path.clone(), line: document.line, what }.into())
        }
    }
}
