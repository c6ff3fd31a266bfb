//! Reading of a corpus for all commands: its specification, its progress, and the parts left out.

use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use lalograph_lab::LabError;
use lalograph_lab::artefact::texts::read_split;
use lalograph_lab::plan::CorpusPlan;
use lalograph_storage::{Existing, WholeFile};
use lalograph_text::corpus::{ReadObserver, Skipped};
use lalograph_text::{Cleaning, CleaningStep, Corpus, CorpusSpec, Reading};
use serde::Serialize;

use crate::cli::{CleaningArgs, CorpusArgs, FormChoice, PairArgs, ReadingArgs, YesNo};
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::number::{counted, percent};
use crate::output::progress::{Measure, Progress};
use crate::output::screen::Screen;

/// Lays the flags over the corpus section of a plan.
pub(crate) fn lay_over(args: &ReadingArgs, plan: &mut CorpusPlan) {
    plan.document = args.document.map(Into::into).or(plan.document);
    plan.first = args.first.or(plan.first);
    plan.recursive |= args.recursive;
    plan.form = args.form.map_or(plan.form, Into::into);
    if !args.text.is_empty() {
        plan.text.clone_from(&args.text);
    }
    if args.label.is_some() {
        (plan.label, plan.folder_labels) = (args.label.clone(), false);
    }
    if args.folder_labels {
        (plan.label, plan.folder_labels) = (None, true);
    }
    plan.group = args.group.clone().or_else(|| plan.group.take());
    plan.group_order = args.group_order.clone().or_else(|| plan.group_order.take());
    plan.delimiter = args.delimiter.or(plan.delimiter);
    plan.quoted = args.quoted.map(|quoted| quoted == YesNo::Yes).or(plan.quoted);
    plan.head &= !args.no_head;
    plan.encoding = args.encoding.clone().or_else(|| plan.encoding.take());
    plan.longest_bytes = args.longest_bytes.unwrap_or(plan.longest_bytes);
    plan.expansion = args.expansion.unwrap_or(plan.expansion);
    plan.strict |= args.strict;
}

/// A corpus section with the columns of prompts and answers.
pub(crate) fn paired(args: &PairArgs) -> CorpusPlan {
    CorpusPlan { prompt: args.prompt.clone(), answer: args.answer.clone(), ..CorpusPlan::default() }
}

/// Refuses flags that no file of the corpus has a use for.
pub(crate) fn refuse_idle(args: &ReadingArgs, corpus: &Corpus) -> Result<(), Failure> {
    let (texts, tables) = corpus.has_texts_and_tables();
    let rows = "the documents of a table are its rows, and no file here is a text file";
    let fields = "only tables and JSON Lines have fields, and no file here is one (see --form)";
    let mail = matches!(args.form, Some(FormChoice::Mail));
    let idle = [
        (args.document.is_some() && mail, "--document", "a document of --form mail is a message"),
        (args.document.is_some() && !texts, "--document", rows),
        (!args.text.is_empty() && !tables, "--text", fields),
        (args.label.is_some() && !tables, "--label", fields),
        (args.group.is_some() && !tables, "--group", fields),
        (args.group_order.is_some() && !tables, "--group-order", fields),
        (args.delimiter.is_some() && !tables, "--delimiter", fields),
        (args.quoted.is_some() && !tables, "--quoted", fields),
        (args.no_head && !tables, "--no-head", fields),
    ];
    match idle.into_iter().find(|(idle, ..)| *idle) {
        Some((_, flag, why)) => Err(Failure::Usage(format!("{flag} has no effect: {why}"))),
        None => Ok(()),
    }
}

/// Finds the corpus of a command; what its flags do not say is as in `base`.
pub(crate) fn find_corpus(args: &CorpusArgs, base: &CorpusPlan, keep: &[String]) -> Result<Corpus, Failure> {
    let mut plan = CorpusPlan { paths: args.paths.clone(), first: None, ..base.clone() };
    lay_over(&args.reading, &mut plan);
    let whole = lalograph_lab::Plan { corpus: plan, ..lalograph_lab::Plan::default() };
    whole.check().map_err(|error| Failure::Usage(error.to_string()))?;
    let part = match (&args.part.split, args.part.part) {
        (Some(path), Some(part)) => Some((Arc::new(read_split(path)?), part.into())),
        _ => None,
    };
    let spec = CorpusSpec { part, keep: keep.to_vec(), ..whole.corpus.spec() };
    let corpus = found(&spec)?;
    refuse_idle(&args.reading, &corpus)?;
    Ok(corpus)
}

/// The files of a corpus; looking for them can be interrupted.
pub(crate) fn found(spec: &CorpusSpec) -> Result<Corpus, Failure> {
    Ok(Corpus::find_while(spec, &mut || !interrupt::asked())?)
}

/// The cleaning that was asked for; the steps go after normal form C, unless they begin with `none`.
pub(crate) fn cleaning_steps(args: &CleaningArgs) -> Result<Option<Vec<CleaningStep>>, Failure> {
    if args.cleaning.is_empty() {
        return Ok(None);
    }
    let mut steps = vec![CleaningStep::NormalFormC];
    for given in &args.cleaning {
        // A pattern may hold commas.
        let names: Vec<&str> =
            if given.starts_with("replace:") { vec![given] } else { given.split(',').collect() };
        for name in names {
            if name.trim() == "none" {
                steps.clear();
            } else {
                let step: CleaningStep = name.parse().map_err(|what: String| Failure::Usage(what))?;
                if steps.contains(&step) {
                    continue;
                }
                // Decoding a message makes letters that are not in normal form yet.
                match steps == [CleaningStep::NormalFormC] && step.reads_mail() {
                    true => steps.insert(0, step),
                    false => steps.push(step),
                }
            }
        }
    }
    Ok(Some(steps))
}

/// The same as a cleaning; none means nothing is done.
pub(crate) fn cleaning(args: &CleaningArgs) -> Result<Cleaning, Failure> {
    Ok(Cleaning { steps: cleaning_steps(args)?.unwrap_or_default() })
}

/// A line of the file of what was left out.
#[derive(Serialize)]
struct LeftOutLine<'s> {
    path: String,
    line: Option<u64>,
    reason: &'s str,
}

/// The file that every place that is left out is written to, if one was asked for.
pub(crate) struct LeftOut {
    file: Option<(PathBuf, WholeFile)>,
    failure: Option<Failure>,
}

impl LeftOut {
    /// Begins the file.
    pub(crate) fn new(path: Option<&Path>, existing: Existing) -> Result<Self, Failure> {
        let file = path.map(|path| files::create(path, existing).map(|file| (path.to_owned(), file)));
        Ok(Self { file: file.transpose()?, failure: None })
    }

    /// Writes a line.
    pub(crate) fn add(&mut self, skipped: &Skipped) {
        let Some((path, file)) = &mut self.file else {
            return;
        };
        let line = LeftOutLine {
            path: skipped.path.display().to_string(),
            line: skipped.line,
            reason: &skipped.reason.to_string(),
        };
        let written = serde_json::to_writer(&mut *file, &line)
            .map_err(std::io::Error::from)
            .and_then(|()| file.write_all(b"\n"));
        if let (Err(error), None) = (written, &self.failure) {
            self.failure = Some(LabError::at(path)(error).into());
        }
    }

    /// Puts the file in its place.
    pub(crate) fn finish(self) -> Result<(), Failure> {
        match (self.failure, self.file) {
            (Some(failure), _) => Err(failure),
            (None, Some((_, file))) => Ok(file.finish()?),
            (None, None) => Ok(()),
        }
    }
}

/// Follows a reading with a progress bar.
struct Watch<'s> {
    progress: Progress<'s>,
    left_out: LeftOut,
}

impl ReadObserver for Watch<'_> {
    fn progress(&mut self, bytes: u64) -> bool {
        self.progress.at(bytes, "");
        !interrupt::asked() && self.left_out.failure.is_none()
    }

    fn left_out(&mut self, skipped: &Skipped) {
        self.left_out.add(skipped);
    }
}

/// Does some work on a corpus with a progress bar, and reports what was left out.
pub(crate) fn watched<T>(
    corpus: &Corpus,
    what: &str,
    left_out: (Option<&Path>, Existing),
    screen: &Screen,
    work: impl FnOnce(&mut dyn ReadObserver) -> Result<(T, Reading), Failure>,
) -> Result<T, Failure> {
    let mut watch = Watch {
        progress: Progress::new(screen, what, Measure::Bytes, corpus.bytes()),
        left_out: LeftOut::new(left_out.0, left_out.1)?,
    };
    let result = work(&mut watch);
    let Watch { progress, left_out: file } = watch;
    progress.finish();
    let failed = file.failure.is_some();
    match result {
        Err(failure) if !failed => Err(failure),
        result => {
            file.finish()?;
            let (value, reading) = result?;
            say_reading(&reading, left_out.0, screen);
            Ok(value)
        }
    }
}

/// Number of places to name one by one.
const SHOWN: usize = 5;

/// Reports what was left out of a corpus, and what was guessed.
pub(crate) fn say_reading(reading: &Reading, file: Option<&Path>, screen: &Screen) {
    if reading.guessed_count > 0 {
        screen.warn(&format!(
            "the encoding of {} was guessed; set it with --encoding:",
            counted(reading.guessed_count, "file", "files")
        ));
        for guess in reading.guessed.iter().take(SHOWN) {
            screen.note(&format!("  {}: {}", guess.path.display(), guess.encoding));
        }
        say_more(reading.guessed_count, screen);
    }
    if reading.skipped_count > 0 {
        let place = file.map(|file| format!(", all of them in {}", file.display())).unwrap_or_default();
        screen.warn(&format!("{} left out{place}:", counted(reading.skipped_count, "place", "places")));
        for skipped in reading.skipped.iter().take(SHOWN) {
            screen.note(&format!("  {skipped}"));
        }
        say_more(reading.skipped_count, screen);
        if file.is_none() && reading.skipped_count > SHOWN as u64 {
            screen.note("  (--left-out FILE lists them all)");
        }
    }
}

fn say_more(count: u64, screen: &Screen) {
    let more = count.saturating_sub(SHOWN as u64);
    if more > 0 {
        screen.note(&format!("  and {more} more"));
    }
}

/// Warns when much of a text has no index.
pub(crate) fn say_unknown(unknown: u64, tokens: u64, screen: &Screen) {
    if unknown * 20 > tokens {
        screen.warn(&format!(
            "{} of the tokens are not in the vocabulary, so perplexity is misleading; bits per byte include the spelling of unknown words",
            percent(unknown, tokens)
        ));
    }
}
