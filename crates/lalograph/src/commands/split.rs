//! `split`: training, validation and test parts of a corpus.

use std::collections::{BTreeMap, BTreeSet};
use std::io::Write;
use std::path::{Path, PathBuf};

use lalograph_lab::artefact::texts::read_split;
use lalograph_storage::{Existing, FileSet, WholeFile};
use lalograph_text::partition::{SplitSpec, apply, make};
use lalograph_text::split::PartCount;
use lalograph_text::{Corpus, Division, Document, Part, Split, TextError};
use serde::Serialize;
use serde_json::{Map, Value};

use super::input::threads;
use super::reading::{find_corpus, paired, watched};
use crate::cli::SplitArgs;
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::number::{bytes, count, counted, percent};
use crate::output::screen::Screen;
use crate::output::table::{Column, table};
use crate::output::wrap::indented;

/// Runs the command.
pub(crate) fn run(args: &SplitArgs, screen: &Screen) -> Result<(), Failure> {
    interrupt::listen();
    let existing = Existing::replaced_if(args.force);
    let corpus = find_corpus(&args.corpus, &paired(&args.pair), &args.keep)?;
    if !args.set_aside.is_empty() && args.corpus.reading.label.is_none() && !args.corpus.reading.folder_labels
    {
        return Err(Failure::Usage("--set-aside needs labels: give --label or --folder-labels".into()));
    }
    if !args.keep.is_empty() && !corpus.has_texts_and_tables().1 {
        return Err(Failure::Usage("--keep has no effect: only tables and JSON Lines have fields".into()));
    }
    let parts = args.files.as_deref().map(|folder| PartFiles::places(folder, &corpus));
    // Better refused before the work than after it.
    let output = args.apply.is_none().then(|| args.output.clone());
    let places: Vec<PathBuf> =
        output.iter().chain(parts.iter().flat_map(|parts| parts.values())).cloned().collect();
    let mut set = files::begin("split", &places, existing)?;
    let mut files = parts.map(|parts| PartFiles::begin(&mut set, parts, &corpus)).transpose()?;
    let left_out = (args.corpus.reading.left_out.as_deref(), existing);
    let mut set_aside = SetAside::default();
    let split = watched(&corpus, "splitting", left_out, screen, |observer| {
        let each = |document: &Document<'_>, part| {
            if part == Part::SetAside {
                set_aside.add(document);
            }
            match &mut files {
                Some(files) => files.write(document, part),
                None => Ok(()),
            }
        };
        match &args.apply {
            Some(path) => Ok(apply(read_split(path)?, &corpus, observer, each)?),
            None => {
                let spec = SplitSpec {
                    seed: args.seed,
                    validation: args.validation(),
                    test: args.test(),
                    set_aside_labels: args.set_aside.iter().cloned().collect::<BTreeSet<String>>(),
                    near: args.near,
                };
                Ok(make(&corpus, &spec, threads(None), observer, each)?)
            }
        }
    })?;
    let mut written = Vec::new();
    if let Some(output) = &output {
        set.write(output, split.to_json()?.as_bytes())?;
        written.push(output.display().to_string());
    }
    if let Some(files) = files {
        written.extend(files.finish()?.iter().map(|path| path.display().to_string()));
    }
    set.finish()?;
    if args.json {
        return screen.json(&SplitLine::new(&split, &set_aside, written));
    }
    screen.line(&render((&split, &set_aside), &use_of(args), &written, screen))
}

/// Documents named one by one.
const NAMED: usize = 5;

/// Documents in no part, with the reason.
#[derive(Default)]
struct SetAside {
    documents: u64,
    /// The first of them: their places and labels.
    first: Vec<(PathBuf, u64, Option<String>)>,
}

impl SetAside {
    fn add(&mut self, document: &Document<'_>) {
        self.documents += 1;
        if self.first.len() < NAMED {
            let label = document.label.map(str::to_owned);
            self.first.push((document.path.to_owned(), document.line, label));
        }
    }

    /// Documents by reason: the label, and similarity to documents of two parts.
    fn reasons(&self, split: &Split) -> [u64; 2] {
        let classes = split.counted.get(&Part::SetAside).into_iter().flatten();
        let by_label = classes.filter(|(label, _)| split.set_aside_labels.contains(*label));
        let by_label = by_label.map(|(_, count)| count.documents).sum();
        [by_label, self.documents.saturating_sub(by_label)]
    }

    fn lines(&self, split: &Split, screen: &Screen) -> Vec<String> {
        let documents = |number| counted(number, "document", "documents");
        let mut lines = Vec::new();
        let [by_label, between] = self.reasons(split);
        if by_label > 0 {
            let labels: Vec<&str> = split.set_aside_labels.iter().map(String::as_str).collect();
            let what = format!("{} set aside for the label ({}).", documents(by_label), labels.join(", "));
            lines.push(indented(&what, screen.width()));
        }
        if between > 0 {
            let what =
                format!("{} set aside: near duplicates of documents in two parts.", documents(between));
            lines.push(indented(&what, screen.width()));
        }
        for (path, line, label) in &self.first {
            let label = label.as_deref().filter(|label| split.set_aside_labels.contains(*label));
            let why = label.unwrap_or("near duplicates of two parts");
            lines.push(format!("    {}, line {}: {why}", path.display(), count(*line)));
        }
        let more = self.documents.saturating_sub(self.first.len() as u64);
        if more > 0 {
            lines.push(format!("    and {} more; --files writes all of them to a file", count(more)));
        }
        lines
    }
}

/// The parts as files, each written beside its place.
struct PartFiles {
    parts: BTreeMap<Part, (PathBuf, WholeFile)>,
    /// One document a line, or JSON Lines.
    lines: bool,
    keep: Vec<String>,
}

impl PartFiles {
    fn holds_lines(corpus: &Corpus) -> bool {
        let spec = corpus.spec();
        let (_, tables) = corpus.has_texts_and_tables();
        spec.division == Some(Division::Line) && !tables && !spec.folder_labels
    }

    /// Path of each part.
    fn places(folder: &Path, corpus: &Corpus) -> BTreeMap<Part, PathBuf> {
        let ending = if Self::holds_lines(corpus) { "txt" } else { "jsonl" };
        let place = |part: Part| (part, folder.join(format!("{}.{ending}", part.name())));
        Part::ALL.into_iter().map(place).collect()
    }

    fn begin(set: &mut FileSet, places: BTreeMap<Part, PathBuf>, corpus: &Corpus) -> Result<Self, Failure> {
        let mut parts = BTreeMap::new();
        for (part, path) in places {
            let file = set.file(&path)?;
            parts.insert(part, (path, file));
        }
        Ok(Self { parts, lines: Self::holds_lines(corpus), keep: corpus.spec().keep.clone() })
    }

    fn write(&mut self, document: &Document<'_>, part: Part) -> Result<(), TextError> {
        let Some((path, file)) = self.parts.get_mut(&part) else {
            return Ok(());
        };
        let written = if self.lines {
            file.write_all(document.text.as_bytes())
        } else {
            let mut row = Map::new();
            row.insert("text".into(), document.text.into());
            if let Some(label) = document.label {
                row.insert("label".into(), label.into());
            }
            for (name, value) in self.keep.iter().zip(document.kept.values()) {
                row.insert(name.clone(), Value::from(value));
            }
            serde_json::to_writer(&mut *file, &row).map_err(std::io::Error::from)
        };
        written
            .and_then(|()| file.write_all(b"\n"))
            .map_err(|source| TextError::Io { path: path.clone(), source })
    }

    /// Puts all files in their places.
    fn finish(self) -> Result<Vec<PathBuf>, Failure> {
        let mut places = Vec::new();
        for (path, file) in self.parts.into_values() {
            file.finish()?;
            places.push(path);
        }
        Ok(places)
    }
}

/// `split --json`.
#[derive(Serialize)]
struct SplitLine<'s> {
    seed: u64,
    parts: BTreeMap<&'static str, PartLine<'s>>,
    exceptions: usize,
    set_aside: SetAsideLine<'s>,
    written: Vec<String>,
}

#[derive(Serialize)]
struct SetAsideLine<'s> {
    by_label: u64,
    between_two_parts: u64,
    first: Vec<SetAsidePlace<'s>>,
}

#[derive(Serialize)]
struct SetAsidePlace<'s> {
    path: String,
    line: u64,
    label: Option<&'s str>,
}

#[derive(Serialize)]
struct PartLine<'s> {
    documents: u64,
    bytes: u64,
    classes: BTreeMap<&'s str, u64>,
}

impl<'s> SplitLine<'s> {
    fn new(split: &'s Split, set_aside: &'s SetAside, written: Vec<String>) -> Self {
        let part = |part: Part| {
            let PartCount { documents, bytes } = split.count_of(part);
            let classes = split.counted.get(&part).into_iter().flatten();
            let classes = classes
                .filter(|(label, _)| !label.is_empty())
                .map(|(label, count)| (label.as_str(), count.documents));
            (part.name(), PartLine { documents, bytes, classes: classes.collect() })
        };
        Self {
            seed: split.seed,
            parts: Part::ALL.into_iter().map(part).collect(),
            exceptions: split.exceptions.len(),
            set_aside: SetAsideLine::new(split, set_aside),
            written,
        }
    }
}

impl<'s> SetAsideLine<'s> {
    fn new(split: &Split, set_aside: &'s SetAside) -> Self {
        let [by_label, between_two_parts] = set_aside.reasons(split);
        let place = |(path, line, label): &'s (PathBuf, u64, Option<String>)| SetAsidePlace {
            path: path.display().to_string(),
            line: *line,
            label: label.as_deref(),
        };
        Self { by_label, between_two_parts, first: set_aside.first.iter().map(place).collect() }
    }
}

/// Classes that the table has columns for.
const CLASS_COLUMNS: usize = 6;

/// The command that a split of this corpus is for.
fn use_of(args: &SplitArgs) -> String {
    let path = args.corpus.paths.first().map(|path| path.display().to_string()).unwrap_or_default();
    match (&args.pair.prompt, &args.pair.answer) {
        (Some(prompt), Some(answer)) => {
            format!("lalograph tune MODEL {path} --prompt {prompt} --answer {answer}")
        }
        _ => format!("lalograph train {path}"),
    }
}

fn render(
    (split, set_aside): (&Split, &SetAside),
    used_by: &str,
    written: &[String],
    screen: &Screen,
) -> String {
    let total: u64 = Part::ALL.iter().map(|&part| split.count_of(part).documents).sum();
    let class = |part: Part, label: &str| {
        split.counted.get(&part).and_then(|classes| classes.get(label)).map_or(0, |count| count.documents)
    };
    let labels: BTreeSet<&str> =
        split.counted.values().flat_map(|classes| classes.keys()).map(String::as_str).collect();
    let size = |label: &str| Part::ALL.iter().map(|&part| class(part, label)).sum::<u64>();
    let shown: Vec<&str> = if labels.iter().any(|label| !label.is_empty()) && labels.len() <= CLASS_COLUMNS {
        labels.iter().copied().collect()
    } else {
        Vec::new()
    };
    let mut heads = vec!["part", "documents", "share", "text"];
    heads.extend(&shown);
    let columns: Vec<Column> =
        (0..heads.len()).map(|at| if at == 0 { Column::Text } else { Column::Number }).collect();
    let rows: Vec<Vec<String>> = Part::ALL
        .into_iter()
        .filter(|&part| part != Part::SetAside || split.count_of(part).documents > 0)
        .map(|part| {
            let of = split.count_of(part);
            let mut row = vec![
                part.name().replace('_', " "),
                count(of.documents),
                percent(of.documents, total),
                bytes(of.bytes),
            ];
            row.extend(shown.iter().map(|label| {
                format!("{} ({})", count(class(part, label)), percent(class(part, label), size(label)))
            }));
            row
        })
        .collect();
    let mut lines = vec![screen.heading("The split"), table(screen, &heads, &columns, &rows)];
    lines.extend(set_aside.lines(split, screen));
    if !split.exceptions.is_empty() {
        let moved = format!(
            "{} moved to another part, to balance classes or to keep near duplicates together.",
            counted(split.exceptions.len() as u64, "text was", "texts were"),
        );
        lines.push(indented(&moved, screen.width()));
    }
    let steady = "Documents keep their part when other documents are added or removed.";
    lines.push(indented(steady, screen.width()));
    if let Some(file) = written.first() {
        lines.push(format!("  written to {}", written.join(", ")));
        if file.ends_with(".json") {
            lines.push(format!("  to use it: {used_by} ... --split {file}"));
        }
    }
    lines.join("\n")
}
