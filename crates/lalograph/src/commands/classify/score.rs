//! `classify score`: how good classifiers are on documents with class labels.

use std::path::{Path, PathBuf};

use lalograph_lab::measure::decisions::{ClassFigures, ConfidenceGroup, Decisions, Paired};
use lalograph_lab::{ClassifierReader, ReadDocument, ReadyClassifier};
use lalograph_storage::Existing;
use lalograph_text::TextError;
use lalograph_text::corpus::Batch;
use serde::Serialize;

use super::documents::{Named, labelled};
use super::figures::{class_table, confusion, main_rows};
use super::model::{ReadBatch, load, unreadable};
use crate::cli::ClassifyScoreArgs;
use crate::commands::input::threads;
use crate::commands::reading::watched;
use crate::failure::Failure;
use crate::interrupt;
use crate::output::number::{count, percent, percent_of};
use crate::output::palette::ASH;
use crate::output::screen::Screen;
use crate::output::table::{Column, facts, table};
use crate::output::wrap::indented;

/// Groups of documents by confidence.
const GROUPS: usize = 10;

/// Runs the command.
pub(super) fn run(args: &ClassifyScoreArgs, screen: &Screen) -> Result<(), Failure> {
    interrupt::listen();
    let names: Vec<&Path> = std::iter::once(&args.model).chain(&args.beside).map(AsRef::as_ref).collect();
    let models = names.iter().map(|name| load(name)).collect::<Result<Vec<_>, _>>()?;
    let Some(first) = models.first() else { return Ok(()) };
    let named = Named { model: &args.model, paths: &args.paths, reading: &args.reading, part: &args.part };
    let corpus = labelled(named, first, screen)?;
    let left_out = (args.reading.left_out.as_deref(), Existing::Keep);
    let scored = watched(&corpus, "scoring", left_out, screen, |observer| {
        let mut scored = Scored::new(&models);
        let new = || models.iter().map(ReadyClassifier::reader).collect::<Vec<_>>();
        let work = |readers: &mut Vec<ClassifierReader<'_>>, batch: &Batch| {
            let read = |reader: &mut ClassifierReader<'_>| {
                reader.read(batch.documents().map(|document| document.text))
            };
            readers.iter_mut().map(read).collect::<Vec<_>>()
        };
        let read = corpus.process(threads(args.threads), observer, new, work, |batch, found| {
            scored.add(batch, found, &models).map_err(|()| TextError::Stopped)
        });
        match scored.failure.take() {
            Some(failure) => Err(failure),
            None => read.map(|(reading, _)| (scored, reading)).map_err(Failure::from),
        }
    })?;
    let decisions = scored.decisions(&models);
    if args.json {
        return screen.json(&document(args, &names, &models, &decisions, &scored));
    }
    show(args, &names, first, &decisions, &scored, screen)
}

/// A document that the first classifier got wrong.
struct Wrong {
    document: usize,
    path: PathBuf,
    line: u64,
    text: String,
}

/// Characters of the text of a wrong document that are kept.
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
    wrong: Vec<Wrong>,
    read: ReadDocument,
    cut: u64,
    failure: Option<Failure>,
}

impl Scored {
    fn new(models: &[ReadyClassifier]) -> Self {
        Self {
            truths: vec![Vec::new(); models.len()],
            logs: vec![Vec::new(); models.len()],
            wrong: Vec::new(),
            read: ReadDocument::default(),
            cut: 0,
            failure: None,
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
                if lalograph_lab::measure::decisions::most_probable(logs) != truth {
                    self.wrong.push(Wrong {
                        document: at,
                        path: document.path.to_owned(),
                        line: document.line,
                        text: excerpt(document.text),
                    });
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
    fn mistakes(&self, found: &Decisions, most: usize) -> Vec<(&Wrong, usize)> {
        let order = found.mistakes().into_iter().take(most);
        let place = |document: usize| self.wrong.binary_search_by_key(&document, |wrong| wrong.document);
        order.filter_map(|document| Some((&self.wrong[place(document).ok()?], document))).collect()
    }
}

fn show(
    args: &ClassifyScoreArgs,
    names: &[&Path],
    model: &ReadyClassifier,
    decisions: &[Decisions],
    scored: &Scored,
    screen: &Screen,
) -> Result<(), Failure> {
    let found = &decisions[0];
    let mut rows = main_rows(found);
    rows.push(("unknown tokens", percent(scored.read.unknown, scored.read.read)));
    if let Some(longest) = model.longest() {
        rows.push((
            "read in part",
            format!(
                "{} of the documents, longer than {} tokens",
                percent(scored.cut, found.count() as u64),
                count(longest as u64)
            ),
        ));
    }
    screen.line(&format!("{}\n{}", screen.heading("The score"), facts(screen, &rows)))?;
    screen.line(&format!(
        "\n{}\n{}",
        screen.heading("By class"),
        class_table(found, &model.classes, screen)
    ))?;
    screen.line(&format!("\n{}", confusion(found, &model.classes, screen)))?;
    if decisions.len() > 1 {
        screen.line(&format!("\n{}", beside(names, decisions, screen)))?;
    }
    let mistakes = scored.mistakes(found, args.mistakes);
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
    let points = |share: f64| format!("{:+.1}", 100.0 * share);
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
                row.push(match paired.p_value {
                    p if p < 0.001 => "< 0.001".to_owned(),
                    p => format!("{p:.3}"),
                });
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

/// JSON output of `classify score`.
#[derive(Serialize)]
struct ScoreDocument<'s> {
    classes: &'s [String],
    documents: u64,
    tokens: u64,
    unknown_tokens: u64,
    cut_documents: u64,
    #[serde(flatten)]
    figures: FiguresOf,
    confusion: Vec<Vec<u64>>,
    by_class: Vec<ClassOf<'s>>,
    confidence_groups: Vec<ConfidenceGroup>,
    mistakes: Vec<Mistake<'s>>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    beside: Vec<Other<'s>>,
}

#[derive(Serialize)]
struct FiguresOf {
    accuracy: f64,
    accuracy_interval: (f64, f64),
    majority_share: f64,
    balanced_accuracy: f64,
    macro_f1: f64,
    loss: f64,
    calibration_error: f64,
}

impl FiguresOf {
    fn of(found: &Decisions) -> Self {
        Self {
            accuracy: found.accuracy(),
            accuracy_interval: found.accuracy_interval(),
            majority_share: found.majority_share(),
            balanced_accuracy: found.balanced_accuracy(),
            macro_f1: found.macro_f1(),
            loss: found.loss(),
            calibration_error: found.calibration_error(),
        }
    }
}

#[derive(Serialize)]
struct ClassOf<'s> {
    class: &'s str,
    #[serde(flatten)]
    figures: ClassFigures,
}

#[derive(Serialize)]
struct Mistake<'s> {
    path: &'s Path,
    line: u64,
    predicted: &'s str,
    probability: f64,
    actual: &'s str,
    actual_probability: f64,
    text: &'s str,
}

#[derive(Serialize)]
struct Other<'s> {
    model: &'s Path,
    #[serde(flatten)]
    figures: FiguresOf,
    paired: Paired,
}

fn document<'s>(
    args: &ClassifyScoreArgs,
    names: &[&'s Path],
    models: &'s [ReadyClassifier],
    decisions: &[Decisions],
    scored: &'s Scored,
) -> ScoreDocument<'s> {
    let (found, classes) = (&decisions[0], &models[0].classes[..]);
    let by_class = classes.iter().zip(found.by_class()).map(|(class, figures)| ClassOf { class, figures });
    let mistakes = scored.mistakes(found, args.mistakes).into_iter().map(|(wrong, document)| Mistake {
        path: &wrong.path,
        line: wrong.line,
        predicted: &classes[found.predicted(document)],
        probability: found.confidence(document),
        actual: &classes[found.truth(document)],
        actual_probability: found.logs(document)[found.truth(document)].exp(),
        text: &wrong.text,
    });
    let others = names.iter().zip(decisions).skip(1);
    ScoreDocument {
        classes,
        documents: found.count() as u64,
        tokens: scored.read.read,
        unknown_tokens: scored.read.unknown,
        cut_documents: scored.cut,
        figures: FiguresOf::of(found),
        confusion: found.confusion(),
        by_class: by_class.collect(),
        confidence_groups: found.confidence_groups(GROUPS),
        mistakes: mistakes.collect(),
        beside: others
            .map(|(model, other)| Other { model, figures: FiguresOf::of(other), paired: found.paired(other) })
            .collect(),
    }
}
