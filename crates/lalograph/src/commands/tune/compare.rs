//! `tune compare`: the answers of several models to the same prompts.

use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use lalograph_lab::artefact::texts::read_split;
use lalograph_lab::measure::answers::{
    Answer, AnswerFigures, Difference, Wanted, Writing, answers, difference,
};
use lalograph_lab::writing::copying::{CopyingSettings, copying};
use lalograph_lab::{LabError, ReadyModel};
use lalograph_storage::Existing;
use lalograph_text::CorpusSpec;
use regex::Regex;
use serde::Serialize;

use crate::cli::TuneCompareArgs;
use crate::commands::input::{refuse_idle_unknown, threads};
use crate::commands::lookup::{last_part, load_model};
use crate::commands::reading::{found, watched};
use crate::commands::training_text::training_text;
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::number::{count, percent_of, perplexity};
use crate::output::page::{AnsweredPair, AnswersPage, answers_page};
use crate::output::palette::ASH;
use crate::output::progress::{Measure, Progress};
use crate::output::screen::Screen;
use crate::output::table::{Column, table};
use crate::output::wrap::indented;

/// Tokens of a sequence that counts as copied, at least.
const COPIED_RUN: u16 = 10;

/// A model and its answers.
struct Answered {
    name: String,
    answers: Vec<Answer>,
    figures: AnswerFigures,
    /// Share of the tokens of its answers that are in copied sequences, if that was asked for.
    copied_share: Option<f64>,
}

/// Runs the command.
pub(super) fn run(args: &TuneCompareArgs, screen: &Screen) -> Result<(), Failure> {
    let existing = Existing::replaced_if(args.force);
    if let Some(page) = args.page.as_ref().filter(|page| existing == Existing::Keep && page.exists()) {
        return Err(LabError::Exists(page.clone()).into());
    }
    refuse_idle(args)?;
    interrupt::listen();
    let wanted = read_pairs(args, screen)?;
    let writing = Writing {
        decoding: args.decoding.decoding(),
        beam: args.beam.beam.map(|width| args.beam.of_width(width, 1)),
        tokens: args.tokens,
        seed: args.seed,
    };
    let pool =
        rayon::ThreadPoolBuilder::new().num_threads(threads(args.threads)).build().map_err(LabError::from)?;
    let mut all: Vec<Answered> = Vec::new();
    for path in &args.models {
        let ready = Arc::new(ReadyModel::new(load_model(path)?));
        refuse_idle_unknown(args.decoding.unknown, ready.vocabulary().unit())?;
        let name = names_apart(&all, path);
        let answers = pool.install(|| answered(&ready, &wanted, &writing, &name, screen))?;
        let figures = AnswerFigures::of(&wanted, &answers);
        let copied_share = args.copying.then(|| copied(args, path, &answers, screen)).transpose()?;
        all.push(Answered { name, answers, figures, copied_share });
    }
    let shown = Comparison::new(&wanted, &all, args.pattern.as_ref());
    if args.json {
        shown.json(screen)?;
    } else {
        screen.line(&shown.words(args.examples, screen))?;
    }
    if let Some(path) = &args.page {
        let page = answers_page(&shown.page());
        files::write(path, page.as_bytes(), existing)?;
        screen.note(&format!("written: {}", path.display()));
    }
    Ok(())
}

/// Share of the tokens of all answers that are copied from the training text of a model.
fn copied(args: &TuneCompareArgs, model: &Path, answers: &[Answer], screen: &Screen) -> Result<f64, Failure> {
    let text = training_text(model, screen)?;
    let samples: Vec<&[u32]> = answers.iter().map(|answer| &answer.indices[..]).collect();
    let run = args.copied_run.unwrap_or(COPIED_RUN).into();
    let settings = CopyingSettings { run, ..CopyingSettings::default() };
    let found = copying(&samples, &text.task.corpus.training, settings)?;
    let tokens: usize = found.iter().map(|copying| copying.tokens).sum();
    let copied: f64 = found.iter().map(|copying| copying.copied_share * copying.tokens as f64).sum();
    Ok(copied / tokens.max(1) as f64)
}

/// The name of a model by its run or file, with a number if another has it.
fn names_apart(before: &[Answered], path: &Path) -> String {
    let name = last_part(path).trim_end_matches(".safetensors").to_owned();
    let taken = |name: &str| before.iter().any(|other| other.name == name);
    let numbered = (2..).map(|number| format!("{name} ({number})"));
    std::iter::once(name.clone()).chain(numbered).find(|name| !taken(name)).unwrap_or(name)
}

/// Refuses what a beam, which draws no tokens, would not use.
fn refuse_idle(args: &TuneCompareArgs) -> Result<(), Failure> {
    let decoding = &args.decoding;
    let drawn = [
        (decoding.temperature.is_some(), "--temperature"),
        (decoding.repeat_power != 1.0, "--repeat-power"),
        (decoding.unknown.is_some(), "--unknown"),
    ];
    match drawn.into_iter().find(|(given, _)| *given) {
        Some((_, flag)) if args.beam.beam.is_some() => {
            Err(Failure::Usage(format!("{flag} has no effect: beam search draws no tokens")))
        }
        _ => Ok(()),
    }
}

/// The pairs of the files.
fn read_pairs(args: &TuneCompareArgs, screen: &Screen) -> Result<Vec<Wanted>, Failure> {
    let part = match (&args.part.split, args.part.part) {
        (Some(path), Some(part)) => Some((Arc::new(read_split(path)?), part.into())),
        _ => None,
    };
    let corpus = found(&CorpusSpec {
        paths: args.pairs.clone(),
        pair: Some((args.prompt.clone(), args.answer.clone())),
        first: args.first,
        part,
        ..CorpusSpec::default()
    })?;
    let wanted = watched(&corpus, "reading pairs", (None, Existing::Keep), screen, |observer| {
        let mut wanted = Vec::new();
        let reading = corpus.read_through(&mut |bytes: u64| observer.progress(bytes), |document| {
            wanted.extend(
                document
                    .pair()
                    .map(|pair| Wanted { prompt: pair.prompt.to_owned(), answer: pair.answer.to_owned() }),
            );
        })?;
        Ok((wanted, reading))
    })?;
    if wanted.is_empty() {
        return Err(Failure::with_remedy(
            "there are no pairs in these files",
            "give CSV, TSV or JSON Lines with the columns of --prompt and --answer",
        ));
    }
    Ok(wanted)
}

/// The answers of one model, with a progress bar.
fn answered(
    ready: &Arc<ReadyModel>,
    wanted: &[Wanted],
    writing: &Writing,
    name: &str,
    screen: &Screen,
) -> Result<Vec<Answer>, Failure> {
    let done = AtomicU64::new(0);
    let progress = std::sync::Mutex::new(Progress::new(
        screen,
        &format!("answers of {name}"),
        Measure::Steps,
        wanted.len() as u64,
    ));
    let found = answers(ready, wanted, writing, &|| {
        let done = done.fetch_add(1, Ordering::Relaxed) + 1;
        if let Ok(mut progress) = progress.lock() {
            progress.at(done, "");
        }
        !interrupt::asked()
    })?;
    if let Ok(progress) = progress.into_inner() {
        progress.finish();
    }
    found.ok_or_else(|| Failure::Interrupted("stopped; nothing was written".into()))
}

/// What models make of the same pairs.
struct Comparison<'c> {
    wanted: &'c [Wanted],
    all: &'c [Answered],
    pattern: Option<&'c Regex>,
    /// How each model differs from the first; none for the first itself.
    differences: Vec<Option<Differences>>,
}

/// Shares of answers that match a pattern.
#[derive(Debug, Clone, Copy, Serialize)]
struct Matches {
    /// Among prompts whose wanted answer matches: how many, and the share of matching answers.
    off_topic: u64,
    off_topic_share: Option<f64>,
    /// Among the others.
    on_topic: u64,
    on_topic_share: Option<f64>,
}

/// Differences of a model from the first.
#[derive(Debug, Clone, Copy, Serialize)]
struct Differences {
    bits_per_byte: Difference,
    token_f1: Difference,
}

/// A line of JSON for a pair.
#[derive(Serialize)]
struct PairLine<'p> {
    kind: &'static str,
    prompt: &'p str,
    wanted: &'p str,
    answers: Vec<AnswerLine<'p>>,
}

#[derive(Serialize)]
struct AnswerLine<'p> {
    model: &'p str,
    #[serde(flatten)]
    answer: &'p Answer,
    #[serde(skip_serializing_if = "Option::is_none")]
    matches: Option<bool>,
}

/// The last line of JSON.
#[derive(Serialize)]
struct FiguresLine<'p> {
    kind: &'static str,
    models: Vec<ModelFigures<'p>>,
}

#[derive(Serialize)]
struct ModelFigures<'p> {
    model: &'p str,
    #[serde(flatten)]
    figures: AnswerFigures,
    #[serde(skip_serializing_if = "Option::is_none")]
    matches: Option<Matches>,
    #[serde(skip_serializing_if = "Option::is_none")]
    copied_share: Option<f64>,
    /// From the first model.
    #[serde(skip_serializing_if = "Option::is_none")]
    differences: Option<Differences>,
}

/// How the answers of a model differ from those of the first.
fn differences(wanted: &[Wanted], first: &Answered, other: &Answered) -> Differences {
    let of = |model: &Answered, figure: fn(&Answer) -> f64| -> Vec<f64> {
        model.answers.iter().map(figure).collect()
    };
    let bytes: Vec<f64> = wanted.iter().map(|wanted| (wanted.answer.len() + 1) as f64).collect();
    let bits: fn(&Answer) -> f64 = |answer| answer.wanted_bits;
    let f1: fn(&Answer) -> f64 = |answer| answer.token_f1;
    Differences {
        bits_per_byte: difference(&of(first, bits), &of(other, bits), &bytes),
        token_f1: difference(&of(first, f1), &of(other, f1), &vec![1.0; wanted.len()]),
    }
}

impl<'c> Comparison<'c> {
    fn new(wanted: &'c [Wanted], all: &'c [Answered], pattern: Option<&'c Regex>) -> Self {
        let others = all.iter().enumerate();
        let differences =
            others.map(|(number, other)| (number > 0).then(|| differences(wanted, &all[0], other)));
        Self { wanted, all, pattern, differences: differences.collect() }
    }

    fn matches(&self, of: &Answered) -> Option<Matches> {
        let pattern = self.pattern?;
        let share = |off_topic: bool| {
            let among = || {
                let all = self.wanted.iter().zip(&of.answers);
                all.filter(move |(wanted, _)| pattern.is_match(&wanted.answer) == off_topic)
            };
            let (all, matching) =
                (among().count(), among().filter(|(_, answer)| pattern.is_match(&answer.text)).count());
            (all as u64, (all > 0).then(|| matching as f64 / all as f64))
        };
        let ((off_topic, off_topic_share), (on_topic, on_topic_share)) = (share(true), share(false));
        Some(Matches { off_topic, off_topic_share, on_topic, on_topic_share })
    }

    fn json(&self, screen: &Screen) -> Result<(), Failure> {
        for (number, wanted) in self.wanted.iter().enumerate() {
            let answers = self.all.iter().map(|model| AnswerLine {
                model: &model.name,
                answer: &model.answers[number],
                matches: self.pattern.map(|pattern| pattern.is_match(&model.answers[number].text)),
            });
            screen.json(&PairLine {
                kind: "pair",
                prompt: &wanted.prompt,
                wanted: &wanted.answer,
                answers: answers.collect(),
            })?;
        }
        let models = self.all.iter().enumerate().map(|(number, model)| ModelFigures {
            model: &model.name,
            figures: model.figures,
            matches: self.matches(model),
            copied_share: model.copied_share,
            differences: self.differences[number],
        });
        screen.json(&FiguresLine { kind: "figures", models: models.collect() })
    }

    /// Names of the figures, and for each model its figures in words.
    fn rows(&self) -> (Vec<&'static str>, Vec<Vec<String>>) {
        let share = |share: Option<f64>| share.map_or_else(|| "-".to_owned(), percent_of);
        let interval = |found: Option<Difference>| {
            found.map_or_else(
                || "-".to_owned(),
                |Difference { difference, interval: (low, high) }| {
                    format!("{difference:+.3} ({low:+.3} to {high:+.3})")
                },
            )
        };
        let mut heads = vec![
            "model",
            "perplexity",
            "bits/byte",
            "bits/byte minus that of the first (95 %)",
            "exact",
            "token F1",
            "F1 minus that of the first (95 %)",
            "repeated",
        ];
        if self.all.iter().any(|model| model.copied_share.is_some()) {
            heads.push("copied");
        }
        if self.pattern.is_some() {
            heads.extend(["matches, off topic", "matches, on topic"]);
        }
        let rows = self.all.iter().enumerate().map(|(number, model)| {
            let (figures, differences) = (model.figures, self.differences[number]);
            let mut row = vec![
                model.name.clone(),
                perplexity(figures.perplexity),
                format!("{:.3}", figures.bits_per_byte),
                interval(differences.map(|found| found.bits_per_byte)),
                percent_of(figures.exact_share),
                format!("{:.3}", figures.token_f1),
                interval(differences.map(|found| found.token_f1)),
                percent_of(figures.repeated_share),
            ];
            row.extend(model.copied_share.map(percent_of));
            if let Some(matches) = self.matches(model) {
                row.extend([share(matches.off_topic_share), share(matches.on_topic_share)]);
            }
            row
        });
        (heads, rows.collect())
    }

    fn words(&self, examples: usize, screen: &Screen) -> String {
        let (heads, rows) = self.rows();
        let columns: Vec<Column> =
            (0..heads.len()).map(|at| if at == 0 { Column::Text } else { Column::Number }).collect();
        let mut out = format!(
            "{}\n{}",
            screen.heading(&format!("Answers to {} prompts", count(self.wanted.len() as u64))),
            table(screen, &heads, &columns, &rows)
        );
        if let Some(matches) = self.all.first().and_then(|model| self.matches(model)) {
            out.push_str(&format!(
                "\n{} prompts are off topic: their wanted answer matches; {} are on topic.",
                count(matches.off_topic),
                count(matches.on_topic)
            ));
        }
        for number in 0..examples.min(self.wanted.len()) {
            out.push_str(&format!("\n\n{}", self.example(number, screen)));
        }
        out
    }

    /// A pair with all answers below each other.
    fn example(&self, number: usize, screen: &Screen) -> String {
        let wanted = &self.wanted[number];
        let texts = [("prompt", &wanted.prompt), ("wanted", &wanted.answer)];
        let answers = self.all.iter().map(|model| (model.name.as_str(), &model.answers[number].text));
        let width =
            texts.iter().map(|(name, _)| name.len()).chain(answers.clone().map(|(name, _)| name.len()));
        let width = width.max().unwrap_or(0).min(20);
        let line = |(name, text): (&str, &String)| {
            let shown = indented(text, screen.width().saturating_sub(width + 2));
            let shown = shown.trim_start().replace('\n', &format!("\n{}", " ".repeat(width)));
            format!(
                "{}{} {shown}",
                screen.styled(ASH.style(), name),
                " ".repeat(width.saturating_sub(name.len()) + 1)
            )
        };
        texts.into_iter().chain(answers).map(line).collect::<Vec<_>>().join("\n")
    }

    fn page(&self) -> AnswersPage {
        let (heads, rows) = self.rows();
        AnswersPage {
            heads: heads.into_iter().map(str::to_owned).collect(),
            rows,
            models: self.all.iter().map(|model| model.name.clone()).collect(),
            pairs: self
                .wanted
                .iter()
                .enumerate()
                .map(|(number, wanted)| {
                    let answers = self.all.iter().map(|model| {
                        let answer = &model.answers[number];
                        (answer.text.clone(), answer.exact)
                    });
                    AnsweredPair {
                        prompt: wanted.prompt.clone(),
                        wanted: wanted.answer.clone(),
                        answers: answers.collect(),
                    }
                })
                .collect(),
        }
    }
}
