//! `classify score`: how good classifiers are on documents with class labels.

mod calibrate;
mod json;
mod page;
mod show;

use std::path::{Path, PathBuf};

use lalograph_lab::measure::curves::{Aim, Threshold, best_threshold};
use lalograph_lab::measure::decisions::{Decisions, predicted};
use lalograph_lab::{ClassifierReader, ReadDocument, ReadyClassifier};
use lalograph_storage::Existing;
use lalograph_text::corpus::Batch;
use lalograph_text::{Corpus, TextError};

use self::calibrate::{Calibrated, calibrate};
use self::page::score_page;
use self::show::show;
use super::documents::{Named, labelled};
use super::model::{ReadBatch, load, positive_class, threshold_of, unreadable};
use crate::cli::{AimChoice, ClassifyScoreArgs};
use crate::commands::input::threads;
use crate::commands::reading::watched;
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::chart::write_pictures;
use crate::output::decision_charts::decision_charts;
use crate::output::number::count;
use crate::output::screen::Screen;

/// Runs the command.
pub(super) fn run(args: &ClassifyScoreArgs, screen: &Screen) -> Result<(), Failure> {
    interrupt::listen();
    let names: Vec<&Path> = std::iter::once(&args.model).chain(&args.beside).map(AsRef::as_ref).collect();
    let mut models = names.iter().map(|name| load(name)).collect::<Result<Vec<_>, _>>()?;
    let (threshold, aim) = thresholds(args, &models[0])?;
    let calibrated = if args.calibrate { Some(calibrate(args, &mut models, screen)?) } else { None };
    let Some(first) = models.first() else { return Ok(()) };
    let named = Named { model: &args.model, paths: &args.paths, reading: &args.reading, part: &args.part };
    let corpus = labelled(named, first, screen)?;
    let scored = read_all(&models, &corpus, (args, threshold), "scoring", screen)?;
    let mut decisions = scored.decisions(&models);
    if let Some((class, probability)) = threshold {
        decisions[0] = decisions[0].with_threshold(class, probability);
    }
    let aimed = aim.and_then(|(class, aim)| Some((class, best_threshold(&decisions[0], class, aim)?)));
    let all =
        Score { names: &names, models: &models, decisions: &decisions, scored: &scored, aimed, calibrated };
    write_files(&all, args, screen)?;
    if args.json {
        return screen.json(&json::document(&all, args.mistakes));
    }
    show(&all, args.mistakes, screen)
}

/// A score: classifiers and what they made of the same documents.
struct Score<'s> {
    names: &'s [&'s Path],
    models: &'s [ReadyClassifier],
    decisions: &'s [Decisions],
    scored: &'s Scored,
    /// The class and the threshold that was asked for.
    aimed: Option<(usize, Threshold)>,
    calibrated: Option<Calibrated>,
}

/// The places of the probabilities that `--threshold` and `--threshold-aim` are about.
type Thresholds = (Option<(usize, f64)>, Option<(usize, Aim)>);

fn thresholds(args: &ClassifyScoreArgs, model: &ReadyClassifier) -> Result<Thresholds, Failure> {
    let threshold = threshold_of(args.threshold, args.positive.as_deref(), model)?;
    let class = || positive_class(args.positive.as_deref(), model);
    let aim = match (args.threshold_aim, &args.mistake_costs[..]) {
        (None, []) => None,
        (None, _) => return Err(Failure::Usage("--mistake-costs needs --threshold-aim cost".into())),
        (Some(AimChoice::F1), []) => Some((class()?, Aim::F1)),
        (Some(AimChoice::F1), _) => {
            return Err(Failure::Usage("--mistake-costs has no effect on --threshold-aim f1".into()));
        }
        (Some(AimChoice::Cost), &[missed, false_alarm]) if missed >= 0.0 && false_alarm >= 0.0 => {
            Some((class()?, Aim::Cost { missed, false_alarm }))
        }
        (Some(AimChoice::Cost), _) => {
            return Err(Failure::Usage(
                "--threshold-aim cost needs --mistake-costs MISSED,FALSE-ALARM, both 0 or above".into(),
            ));
        }
    };
    Ok((threshold, aim))
}

/// Reads all documents of a corpus with all classifiers.
fn read_all(
    models: &[ReadyClassifier],
    corpus: &Corpus,
    (args, threshold): (&ClassifyScoreArgs, Option<(usize, f64)>),
    what: &'static str,
    screen: &Screen,
) -> Result<Scored, Failure> {
    let left_out = (args.reading.left_out.as_deref(), Existing::Keep);
    watched(corpus, what, left_out, screen, |observer| {
        let mut scored = Scored::new(models);
        scored.threshold = threshold.map(|(class, probability)| (class, probability.ln()));
        let new = || models.iter().map(ReadyClassifier::reader).collect::<Vec<_>>();
        let work = |readers: &mut Vec<ClassifierReader<'_>>, batch: &Batch| {
            let read = |reader: &mut ClassifierReader<'_>| {
                reader.read(batch.documents().map(|document| document.text))
            };
            readers.iter_mut().map(read).collect::<Vec<_>>()
        };
        let read = corpus.process(threads(args.threads), observer, new, work, |batch, found| {
            scored.add(batch, found, models).map_err(|()| TextError::Stopped)
        });
        match scored.failure.take() {
            Some(failure) => Err(failure),
            None => read.map(|(reading, _)| (scored, reading)).map_err(Failure::from),
        }
    })
}

/// Writes the charts and the page that were asked for: all of them, or none.
fn write_files(all: &Score<'_>, args: &ClassifyScoreArgs, screen: &Screen) -> Result<(), Failure> {
    let charts = match &args.pictures {
        Some(_) => decision_charts(&all.decisions[0], &all.models[0].classes),
        None => Vec::new(),
    };
    let folder = args.pictures.clone().unwrap_or_default();
    let stems: Vec<PathBuf> = charts.iter().map(|(name, _)| folder.join(name)).collect();
    let mut places: Vec<PathBuf> = stems.iter().flat_map(|stem| files::picture(stem)).collect();
    places.extend(args.page.clone());
    if places.is_empty() {
        return Ok(());
    }
    let mut set = files::begin("score", &places, Existing::replaced_if(args.force))?;
    let names: Vec<&str> = charts.iter().map(|(name, _)| *name).collect();
    for ((_, scene), stem) in charts.into_iter().zip(&stems) {
        write_pictures(scene, &mut set, stem)?;
    }
    if let Some(path) = &args.page {
        set.write(path, score_page(all, args.mistakes)?.as_bytes())?;
    }
    set.finish()?;
    if !names.is_empty() {
        screen.note(&format!("written to {}: {}", folder.display(), names.join(", ")));
    }
    if let Some(path) = &args.page {
        screen.note(&format!("written to {}", path.display()));
    }
    Ok(())
}

/// A document with its text.
struct Shown {
    document: usize,
    path: PathBuf,
    line: u64,
    text: String,
}

/// First documents that are kept as examples.
const EXAMPLES: usize = 20;

/// Characters of the text of a document that are kept.
const EXCERPT: usize = 1200;

fn excerpt(text: &str) -> String {
    match text.char_indices().nth(EXCERPT) {
        Some((end, _)) => format!("{} \u{2026}", &text[..end]),
        None => text.to_owned(),
    }
}

/// What the classifiers made of the documents.
struct Scored {
    /// For each classifier the true classes and the log-probabilities.
    truths: Vec<Vec<u32>>,
    logs: Vec<Vec<f64>>,
    /// The documents that the first classifier got wrong.
    wrong: Vec<Shown>,
    examples: Vec<Shown>,
    read: ReadDocument,
    cut: u64,
    failure: Option<Failure>,
    threshold: Option<(usize, f64)>,
}

impl Scored {
    fn new(models: &[ReadyClassifier]) -> Self {
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
    fn add(&mut self, batch: &Batch, found: Vec<ReadBatch>, models: &[ReadyClassifier]) -> Result<(), ()> {
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
                    text: excerpt(document.text),
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

    fn decisions(&self, models: &[ReadyClassifier]) -> Vec<Decisions> {
        let each = models.iter().zip(self.truths.iter().zip(&self.logs));
        each.map(|(model, (truths, logs))| Decisions::new(model.classes.len(), truths.clone(), logs.clone()))
            .collect()
    }

    /// The wrong documents, the most confident first.
    fn mistakes(&self, found: &Decisions, most: usize) -> Vec<(&Shown, usize)> {
        let order = found.mistakes().into_iter().take(most);
        let place = |document: usize| self.wrong.binary_search_by_key(&document, |wrong| wrong.document);
        order.filter_map(|document| Some((&self.wrong[place(document).ok()?], document))).collect()
    }
}
