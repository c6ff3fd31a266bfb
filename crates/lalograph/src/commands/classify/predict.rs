//! `classify predict`: the class of documents, one line each.

use std::io::Write;
use std::path::Path;

use lalograph_lab::measure::decisions::predicted;
use lalograph_lab::plan::CorpusPlan;
use lalograph_lab::{ReadDocument, ReadyClassifier};
use lalograph_storage::{Existing, WholeFile};
use lalograph_text::corpus::Batch;
use lalograph_text::{Corpus, Document, Reading, TextError};
use serde::Serialize;

use super::model::{ReadBatch, load, steps_of, threshold_of, unreadable};
use crate::cli::ClassifyPredictArgs;
use crate::commands::input::threads;
use crate::commands::reading::{find_corpus, watched};
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::cut::cut;
use crate::output::number::{count, counted, percent};
use crate::output::palette::{ASH, BRICK, HONEY};
use crate::output::screen::Screen;
use crate::output::table::facts;
use crate::output::wrap::columns_of;

/// Runs the command.
pub(super) fn run(args: &ClassifyPredictArgs, screen: &Screen) -> Result<(), Failure> {
    interrupt::listen();
    let model = load(&args.model)?;
    let threshold = threshold_of(args.threshold, args.positive.as_deref(), &model)?;
    let threshold = threshold.map(|(class, probability)| (class, probability.ln()));
    // Labels are those of the training documents, and new documents need none.
    let base = CorpusPlan { label: None, folder_labels: false, ..model.plan.corpus.clone() };
    let mut corpus = find_corpus(&args.corpus, &base, &args.keep)?;
    let keep = kept_columns(args, &corpus)?;
    if keep != args.keep {
        corpus = find_corpus(&args.corpus, &base, &keep)?;
    }
    if !args.keep.is_empty() && !corpus.has_texts_and_tables().1 {
        return Err(Failure::Usage("--keep has no effect: only tables and JSON Lines have fields".into()));
    }
    let labelled = args.corpus.reading.label.is_some() || args.corpus.reading.folder_labels;
    let existing = Existing::replaced_if(args.force);
    let mut sink = Sink::new(args, keep, &model, labelled, existing, screen)?;
    let mut totals = Totals::new(model.classes.len());
    let left_out = (args.corpus.reading.left_out.as_deref(), existing);
    watched(&corpus, "predicting", left_out, screen, |observer| {
        let new = || model.reader();
        let work = |reader: &mut lalograph_lab::ClassifierReader<'_>, batch: &Batch| {
            reader.read(batch.documents().map(|document| document.text))
        };
        let mut failure = None;
        let read = corpus.process(threads(args.threads), observer, new, work, |batch, found: ReadBatch| {
            let (read, logs) = found.map_err(|error| {
                failure = Some(unreadable(&model, batch, error));
                TextError::Stopped
            })?;
            for ((document, read), logs) in
                batch.documents().zip(read).zip(logs.chunks_exact(model.classes.len()))
            {
                let found = Prediction { document, read, logs, classes: &model.classes, threshold };
                totals.add(&found);
                if let Err(error) = sink.put(&found) {
                    failure = Some(error);
                    return Err(TextError::Stopped);
                }
            }
            Ok(())
        });
        match (failure, read) {
            (Some(failure), _) => Err(failure),
            (None, read) => read.map(|(reading, _): (Reading, _)| ((), reading)).map_err(Failure::from),
        }
    })?;
    sink.finish()?;
    totals.say(&model, args, screen)
}

/// Columns that are copied to the output: those of `--keep`, or all columns of a table.
fn kept_columns(args: &ClassifyPredictArgs, corpus: &Corpus) -> Result<Vec<String>, Failure> {
    if args.output.is_none() || !args.keep.is_empty() {
        return Ok(args.keep.clone());
    }
    Ok(corpus.columns()?.unwrap_or_default())
}

/// A document with the classifier's distribution.
struct Prediction<'p> {
    document: Document<'p>,
    read: ReadDocument,
    /// Natural log-probabilities of the classes.
    logs: &'p [f64],
    classes: &'p [String],
    /// Of two classes the one, and the least log-probability at which it is predicted.
    threshold: Option<(usize, f64)>,
}

impl Prediction<'_> {
    fn class(&self) -> &str {
        &self.classes[self.place()]
    }

    fn place(&self) -> usize {
        predicted(self.logs, self.threshold)
    }

    fn probability(&self) -> f64 {
        self.logs[self.place()].exp()
    }

    fn is_cut(&self) -> bool {
        self.read.read < self.read.tokens
    }
}

/// Counts over all documents.
struct Totals {
    documents: u64,
    by_class: Vec<u64>,
    tokens: u64,
    unknown: u64,
    cut: u64,
    labelled: u64,
    right: u64,
}

impl Totals {
    fn new(classes: usize) -> Self {
        Self {
            documents: 0,
            by_class: vec![0; classes],
            tokens: 0,
            unknown: 0,
            cut: 0,
            labelled: 0,
            right: 0,
        }
    }

    fn add(&mut self, found: &Prediction<'_>) {
        self.documents += 1;
        self.by_class[found.place()] += 1;
        self.tokens += found.read.read;
        self.unknown += found.read.unknown;
        self.cut += u64::from(found.is_cut());
        if let Some(label) = found.document.label {
            self.labelled += 1;
            self.right += u64::from(label == found.class());
        }
    }

    fn say(
        &self,
        model: &ReadyClassifier,
        args: &ClassifyPredictArgs,
        screen: &Screen,
    ) -> Result<(), Failure> {
        if self.unknown * 20 > self.tokens {
            screen.warn(&format!(
                "{} of the tokens are unknown to the classifier",
                percent(self.unknown, self.tokens)
            ));
        }
        if self.cut > 0 {
            screen.note(&format!(
                "{} of {} read in part: the classifier reads at most {} {}",
                count(self.cut),
                counted(self.documents, "document", "documents"),
                count(model.longest().unwrap_or(0) as u64),
                steps_of(model)
            ));
        }
        if args.json {
            return Ok(());
        }
        let by_class: Vec<String> = model
            .classes
            .iter()
            .zip(&self.by_class)
            .filter(|(_, documents)| **documents > 0)
            .map(|(class, &documents)| format!("{class} {}", count(documents)))
            .collect();
        let mut rows = vec![("documents", count(self.documents)), ("predicted", by_class.join(", "))];
        if self.labelled > 0 {
            let what = format!(
                "{} of {} documents with a label",
                percent(self.right, self.labelled),
                count(self.labelled)
            );
            rows.push(("right", what));
        }
        if let Some(path) = &args.output {
            rows.push(("written", path.display().to_string()));
        }
        screen.line(&format!("\n{}\n{}", screen.heading("Predictions"), facts(screen, &rows)))
    }
}

/// Destination of the predictions.
enum Sink<'s> {
    Lines { screen: &'s Screen, labelled: bool, name: usize },
    Json(&'s Screen),
    Csv { writer: Box<csv::Writer<WholeFile>>, labelled: bool },
    JsonFile { file: WholeFile, keep: Vec<String> },
}

/// Columns of a class's name.
const NAME: usize = 20;

impl<'s> Sink<'s> {
    fn new(
        args: &ClassifyPredictArgs,
        keep: Vec<String>,
        model: &ReadyClassifier,
        labelled: bool,
        existing: Existing,
        screen: &'s Screen,
    ) -> Result<Self, Failure> {
        let Some(path) = &args.output else {
            if args.json {
                return Ok(Self::Json(screen));
            }
            let name = model.classes.iter().map(|class| class.chars().count()).max().unwrap_or(0).min(NAME);
            if model.classes.len() <= BARS {
                let order = model.classes.join(", ");
                screen
                    .line(&screen.styled(ASH.style(), &cut(&format!("  bars: {order}"), screen.width())))?;
            }
            return Ok(Self::Lines { screen, labelled, name });
        };
        let file = files::create(path, existing)?;
        if path.extension().is_some_and(|extension| extension == "jsonl") {
            return Ok(Self::JsonFile { file, keep });
        }
        let mut writer = Box::new(csv::Writer::from_writer(file));
        let mut heads = vec!["file".to_owned(), "line".to_owned()];
        heads.extend(keep);
        if labelled {
            heads.push("actual".to_owned());
        }
        heads.extend(["predicted".to_owned(), "probability".to_owned()]);
        heads.extend(model.classes.iter().map(|class| format!("probability {class}")));
        heads.extend(["tokens", "read_tokens", "unknown_tokens"].map(str::to_owned));
        writer.write_record(&heads).map_err(Failure::work)?;
        Ok(Self::Csv { writer, labelled })
    }

    fn put(&mut self, found: &Prediction<'_>) -> Result<(), Failure> {
        match self {
            Self::Lines { screen, labelled, name } => screen.line(&line(found, *labelled, *name, screen)),
            Self::Json(screen) => screen.json(&PredictionLine::of(found, &[])),
            Self::JsonFile { file, keep } => {
                let line = serde_json::to_vec(&PredictionLine::of(found, keep)).map_err(Failure::work)?;
                file.write_all(&line).and_then(|()| file.write_all(b"\n")).map_err(Failure::work)
            }
            Self::Csv { writer, labelled } => {
                let number = |p: f64| format!("{p:.6}");
                let Prediction { document, read, logs, .. } = found;
                let mut record = vec![document.path.display().to_string(), document.line.to_string()];
                record.extend(document.kept.values().map(str::to_owned));
                if *labelled {
                    record.push(document.label.unwrap_or_default().to_owned());
                }
                record.extend([found.class().to_owned(), number(found.probability())]);
                record.extend(logs.iter().map(|log| number(log.exp())));
                record.extend([read.tokens, read.read, read.unknown].map(|n| n.to_string()));
                writer.write_record(&record).map_err(Failure::work)
            }
        }
    }

    fn finish(self) -> Result<(), Failure> {
        match self {
            Self::Lines { .. } | Self::Json(_) => Ok(()),
            Self::JsonFile { file, .. } => Ok(file.finish()?),
            Self::Csv { writer, .. } => {
                let file = writer.into_inner().map_err(|error| Failure::work(error.into_error()))?;
                Ok(file.finish()?)
            }
        }
    }
}

/// Classes that bars are drawn for, at most.
const BARS: usize = 16;

/// A prediction as a line: the class, its probability, a bar for each class, what was unknown or cut, and the text.
fn line(found: &Prediction<'_>, labelled: bool, name: usize, screen: &Screen) -> String {
    let bar = |log: &f64| {
        let eighths = (log.exp() * 8.0).round() as u32;
        char::from_u32(0x2580 + eighths).filter(|_| eighths > 0).unwrap_or('\u{b7}')
    };
    let bars: String =
        if found.classes.len() <= BARS { found.logs.iter().map(bar).collect() } else { String::new() };
    let class = cut(found.class(), name);
    let pad = " ".repeat(name.saturating_sub(class.chars().count()));
    let mut line = format!(
        "  {}{pad} {:>5.1} %",
        screen.styled(HONEY.style().bold(), &class),
        100.0 * found.probability()
    );
    if !bars.is_empty() {
        line.push_str(&format!("  {bars}"));
    }
    let mut rest = Vec::new();
    if labelled {
        rest.push(match found.document.label {
            Some(label) if label == found.class() => "right".to_owned(),
            Some(label) => screen.styled(BRICK.style(), &format!("actual: {}", cut(label, NAME))),
            None => "no label".to_owned(),
        });
    }
    if found.read.unknown > 0 {
        rest.push(format!("{} of {} tokens unknown", count(found.read.unknown), count(found.read.read)));
    }
    if found.is_cut() {
        rest.push(format!("{} of {} read", count(found.read.read), count(found.read.tokens)));
    }
    if !rest.is_empty() {
        line.push_str(&format!("  {}", rest.join(", ")));
    }
    let used = columns_of(&line) + 2;
    let text: Vec<&str> = found.document.text.split_whitespace().take(60).collect();
    let shown = cut(&text.join(" "), screen.width().saturating_sub(used));
    format!("{line}  {}", screen.styled(ASH.style(), &shown))
}

/// A prediction in JSON.
#[derive(Serialize)]
struct PredictionLine<'p> {
    path: &'p Path,
    line: u64,
    #[serde(skip_serializing_if = "serde_json::Map::is_empty")]
    kept: serde_json::Map<String, serde_json::Value>,
    #[serde(skip_serializing_if = "Option::is_none")]
    actual: Option<&'p str>,
    predicted: &'p str,
    probability: f64,
    probabilities: serde_json::Map<String, serde_json::Value>,
    tokens: u64,
    read_tokens: u64,
    unknown_tokens: u64,
}

impl<'p> PredictionLine<'p> {
    fn of(found: &'p Prediction<'_>, keep: &[String]) -> Self {
        let Prediction { document, read, logs, classes, .. } = found;
        let probabilities = classes.iter().zip(*logs).map(|(class, log)| (class.clone(), log.exp().into()));
        let kept = keep.iter().zip(document.kept.values()).map(|(name, value)| (name.clone(), value.into()));
        Self {
            path: document.path,
            line: document.line,
            kept: kept.collect(),
            actual: document.label,
            predicted: found.class(),
            probability: found.probability(),
            probabilities: probabilities.collect(),
            tokens: read.tokens,
            read_tokens: read.read,
            unknown_tokens: read.unknown,
        }
    }
}
