//! `score`: judge a text with trained models.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use lalograph_lab::measure::baseline::{NgramModel, Uniform, Unigram};
use lalograph_lab::measure::documents::Documents;
use lalograph_lab::measure::foresight::expected;
use lalograph_lab::measure::score::{
    Difference, Judgement, PassageScore, Score, Scoring, TextScore, score, score_baseline, sentences,
};
use lalograph_lab::{LabError, ModelFile, ReadyModel};
use lalograph_storage::Existing;
use lalograph_text::tokens::TokenSequence;
use lalograph_text::{Reserved, TextError, Vocabulary};
use serde::Serialize;

use super::lookup::load_model;
use super::reading::{find_corpus, say_unknown, watched};
use super::training_text::training_text;
use crate::cli::{PassageChoice, ScoreArgs, StateChoice};
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::number::{bytes, count, percent, perplexity, visible};
use crate::output::page::{SHOWN_ON_PAGE, SurpriseToken, surprise_page};
use crate::output::palette::{BRICK, HONEY, SLATE};
use crate::output::progress::{Measure, Progress};
use crate::output::screen::Screen;
use crate::output::table::{Column, facts, table};
use crate::output::wrap::indented;

/// Tokens that are shown one by one, at most.
const SHOWN: usize = 2000;

/// Sentences of fewer tokens are not listed: headings, cries and slips of the rule that ends sentences.
const SHORTEST_SENTENCE: u64 = 3;

/// What `score --json` prints.
#[derive(Serialize)]
struct ScoreDocument<'a> {
    #[serde(flatten)]
    score: &'a Score,
    loss_standard_error: Option<f64>,
    #[serde(flatten)]
    listed: Listed,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    tokens_by_surprise: Vec<TokenSurprise>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    models: Vec<ModelScore<'a>>,
}

/// The passages with the highest losses per token, and those with the lowest.
#[derive(Default, Serialize)]
struct Listed {
    #[serde(skip_serializing_if = "Vec::is_empty")]
    worst: Vec<ListedPassage>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    best: Vec<ListedPassage>,
}

/// A passage with its text.
#[derive(Serialize)]
struct ListedPassage {
    #[serde(flatten)]
    score: PassageScore,
    path: PathBuf,
    line: u64,
    perplexity: f64,
    text: String,
}

/// One token of the text, in order.
#[derive(Serialize)]
struct TokenSurprise {
    /// White space before it that no token holds.
    before: String,
    token: String,
    index: u32,
    surprise_bits: f64,
}

/// One of several models.
#[derive(Serialize)]
struct ModelScore<'a> {
    model: &'a str,
    #[serde(flatten)]
    score: &'a Score,
    loss_standard_error: Option<f64>,
    /// How far it is above the first model; none where cleaning makes another text of it.
    difference: Option<Difference>,
}

/// Runs the command.
pub(crate) fn run(args: &ScoreArgs, screen: &Screen) -> Result<(), Failure> {
    interrupt::listen();
    if let Some(page) = args.page.as_ref().filter(|page| page.exists() && !args.force) {
        return Err(LabError::Exists(page.clone()).into());
    }
    let models: Vec<&Path> = std::iter::once(&args.model).chain(&args.beside).map(AsRef::as_ref).collect();
    let files = models.iter().map(|model| load_model(model)).collect::<Result<Vec<_>, _>>()?;
    let Some(file) = files.first() else {
        return Ok(());
    };
    // All of them score the same documents: what the flags do not say of the text is as in the plan of the first.
    let corpus = find_corpus(&args.corpus, &file.plan.corpus, &[])?;
    let left_out = (args.corpus.reading.left_out.as_deref(), Existing::Keep);
    let documents = watched(&corpus, "reading", left_out, screen, |observer| {
        let documents = Documents::read(&corpus, observer)?;
        let reading = documents.reading.clone();
        Ok((documents, reading))
    })?;
    let mut scored = Vec::new();
    for file in &files {
        let found = score_one(args, file, &documents, screen)?;
        say_unknown(found.judgement.score.unknown_tokens, found.judgement.score.tokens, screen);
        scored.push(found);
    }
    let found = &scored[0];
    let baselines = match args.baselines {
        Some(order) => baselines(&args.model, order.into(), &found.text, screen)?,
        None => Vec::new(),
    };
    let names = models.iter().map(|model| model.display().to_string());
    let judgements = scored.iter().map(|found| found.judgement.clone());
    let several: Vec<(String, Judgement)> = names.zip(judgements).chain(baselines).collect();
    // Whether the cleaning of each is that of the first; baselines have its own.
    let alike: Vec<bool> = (0..several.len())
        .map(|at| files.get(at).is_none_or(|other| other.vocabulary.cleaning() == file.vocabulary.cleaning()))
        .collect();
    let several = if several.len() > 1 { &several[..] } else { &[] };
    let whole = Whole { documents: &documents, found, vocabulary: &file.vocabulary };
    let listed = whole.extremes(args);
    if let Some(path) = &args.page {
        write_page(path, args, file, &whole, screen)?;
    }
    if args.json {
        let tokens_by_surprise = if args.surprise { whole.surprises() } else { Vec::new() };
        let models = several.iter().zip(&alike).map(|((model, judgement), alike)| ModelScore {
            model,
            score: &judgement.score,
            loss_standard_error: judgement.loss_standard_error,
            difference: difference(judgement, &several[0].1, *alike),
        });
        return screen.json(&ScoreDocument {
            score: &found.judgement.score,
            loss_standard_error: found.judgement.loss_standard_error,
            listed,
            tokens_by_surprise,
            models: models.collect(),
        });
    }
    if !args.beside.is_empty() {
        return screen.line(&side_by_side(several, &alike, screen));
    }
    screen.line(&format!(
        "{}\n{}",
        screen.heading("The text under the model"),
        facts(screen, &rows(&found.judgement))
    ))?;
    let unigram = score_baseline(&found.text, &mut Unigram::of_vocabulary(&file.vocabulary)).score.perplexity;
    if found.judgement.score.perplexity > unigram {
        screen.warn(&format!(
            "worse than a unigram model: one that knows only how frequent each token was in the training text has a perplexity of {}; \
             the text may be of another kind than the training text, or the model needs more steps",
            perplexity(unigram)
        ));
    }
    if !several.is_empty() {
        screen.line(&format!("\n{}", side_by_side(several, &alike, screen)))?;
    }
    let what = if args.by == Some(PassageChoice::Sentence) { "sentences" } else { "documents" };
    for (heading, passages) in [("Most surprising", &listed.worst), ("Least surprising", &listed.best)] {
        if !passages.is_empty() {
            screen.line(&format!("\n{}", screen.heading(&format!("{heading} {what}"))))?;
        }
        for passage in passages {
            let head = format!(
                "  {}, line {}: perplexity {} over {} tokens",
                passage.path.display(),
                count(passage.line),
                perplexity(passage.perplexity),
                count(passage.score.tokens)
            );
            screen.line(&screen.styled(SLATE.style().bold(), &head))?;
            screen.line(&indented(&passage.text, screen.width()))?;
        }
    }
    if listed.worst.iter().chain(&listed.best).any(|passage| passage.score.unknown_tokens > 0) {
        screen.line(&format!("\n{MARKED}"))?;
    }
    if args.surprise {
        screen.line(&format!("\n{}", show_surprise(&whole, screen)))?;
    }
    Ok(())
}

/// Models that are no networks, on the text that a network was judged by.
fn baselines(
    model: &Path,
    order: usize,
    text: &TokenSequence,
    screen: &Screen,
) -> Result<Vec<(String, Judgement)>, Failure> {
    let prepared = training_text(model, screen)?;
    let (size, training) = (prepared.vocabulary.len(), &prepared.corpus.training);
    let mut progress = Progress::new(screen, "counting n-grams", Measure::Steps, 100);
    let ngrams = NgramModel::new(order, size, training, |share| {
        progress.at((100.0 * share) as u64, "");
        !interrupt::asked()
    })?;
    progress.finish();
    let name = format!("n-grams of up to {order}, smoothed");
    Ok(vec![
        (name, score_baseline(text, &mut ngrams.reader())),
        ("unigram".to_owned(), score_baseline(text, &mut Unigram::new(size, training))),
        ("uniform".to_owned(), score_baseline(text, &mut Uniform::new(size))),
    ])
}

fn score_one(
    args: &ScoreArgs,
    file: &ModelFile,
    documents: &Documents,
    screen: &Screen,
) -> Result<TextScore, Failure> {
    let scoring = Scoring {
        window: args.window as usize,
        resets: args.state.map(|state| state == StateChoice::Anew),
        tokens: args.surprise || args.page.is_some() || args.by == Some(PassageChoice::Sentence),
    };
    let mut progress = Progress::new(screen, "scoring", Measure::Steps, 100);
    let found = score(file, documents, scoring, &mut |share| {
        progress.at((100.0 * share) as u64, "");
        !interrupt::asked()
    })?;
    progress.finish();
    Ok(found)
}

/// What a judgement is above the first one; none where the texts are not the same after cleaning.
fn difference(other: &Judgement, base: &Judgement, same_cleaning: bool) -> Option<Difference> {
    let same = same_cleaning || (other.score.changed_documents == 0 && base.score.changed_documents == 0);
    same.then(|| Difference::between(other, base))
}

fn rows(found: &Judgement) -> Vec<(&'static str, String)> {
    let Judgement { score, loss_standard_error, .. } = found;
    let error = loss_standard_error
        .map_or_else(String::new, |error| format!(", standard error {error:.5} over documents"));
    // Of a few documents the error itself is uncertain.
    let many = loss_standard_error.filter(|_| score.documents >= 20);
    let range = many.map_or_else(String::new, |error| {
        let at = |sign: f64| perplexity((score.loss + sign * 1.96 * error).exp());
        format!(", {} to {} with 95 % confidence", at(-1.0), at(1.0))
    });
    let known = score.known_perplexity.filter(|_| score.unknown_tokens > 0);
    let known = known.map_or_else(String::new, |known| {
        format!("; perplexity of the known tokens alone: {}", perplexity(known))
    });
    let unknown =
        format!("{} ({}){known}", count(score.unknown_tokens), percent(score.unknown_tokens, score.tokens));
    let bytes_of_text = score.bytes.max(1) as f64;
    let part = |bits: f64, of: &str| {
        // Not what four decimals do not show.
        let share = bits / bytes_of_text;
        if share >= 0.00005 { format!(", {share:.4} of it {of}") } else { String::new() }
    };
    let parts = part(score.spelling_bits, "for the spelling of unknown words")
        + &part(score.spacing_bits, "for white space");
    let cleaned = match score.changed_documents {
        0 => String::new(),
        changed => format!(
            "; cleaning changed {} of the documents, so the figure compares only with models of the same cleaning",
            percent(changed, score.documents)
        ),
    };
    vec![
        ("text", format!("{} documents, {}", count(score.documents), bytes(score.bytes))),
        ("tokens", format!("{}, the end of each document counted as one", count(score.tokens))),
        ("unknown", unknown),
        ("loss", format!("{:.5} nats per token{error}", score.loss)),
        ("perplexity", format!("{}{range}", perplexity(score.perplexity))),
        ("bits per token", format!("{:.4}", score.bits_per_token)),
        ("bits per byte", format!("{:.4}{parts}{cleaned}", score.bits_per_byte)),
    ]
}

/// Said where unknown words are marked.
const MARKED: &str = "  Words in \u{2039} \u{203a} are not in the vocabulary.";

/// A text with what a model makes of it.
struct Whole<'w> {
    documents: &'w Documents,
    found: &'w TextScore,
    vocabulary: &'w Vocabulary,
}

impl Whole<'_> {
    fn extremes(&self, args: &ScoreArgs) -> Listed {
        if args.worst == 0 {
            return Listed::default();
        }
        let mut sorted = match args.by {
            Some(PassageChoice::Sentence) => sentences(self.found, self.vocabulary),
            _ => self.found.judgement.documents.clone(),
        };
        if args.by == Some(PassageChoice::Sentence) {
            sorted.retain(|sentence| sentence.tokens >= SHORTEST_SENTENCE);
        }
        sorted.sort_by(|a, b| b.loss.total_cmp(&a.loss).then(a.start.cmp(&b.start)));
        Listed {
            worst: sorted.iter().take(args.worst).map(|passage| self.listed(passage)).collect(),
            best: sorted.iter().rev().take(args.worst).map(|passage| self.listed(passage)).collect(),
        }
    }

    /// A passage with its text, in which unknown tokens are marked.
    fn listed(&self, passage: &PassageScore) -> ListedPassage {
        let document = &self.documents.list[passage.document as usize];
        let located = self.vocabulary.locate(&document.text);
        let start = self.found.judgement.documents[passage.document as usize].start;
        let from = (passage.start - start) as usize;
        let tokens = located.tokens.iter().skip(from).take(passage.tokens as usize);
        let (mut text, mut end) = (Vec::new(), None);
        for (range, index) in tokens {
            let bytes = located.text.as_bytes();
            let gap = end.map_or(&[][..], |end| &bytes[end..range.start]);
            text.extend_from_slice(gap);
            let unknown = *index == Reserved::UNKNOWN;
            text.extend_from_slice(if unknown { "\u{2039}".as_bytes() } else { &[] });
            text.extend_from_slice(&bytes[range.clone()]);
            text.extend_from_slice(if unknown { "\u{203a}".as_bytes() } else { &[] });
            end = Some(range.end);
        }
        let lines_before = located.tokens.get(from).map_or(0, |(range, _)| {
            located.text.as_bytes()[..range.start].iter().filter(|byte| **byte == b'\n').count() as u64
        });
        ListedPassage {
            score: *passage,
            path: document.path.clone(),
            line: document.line + lines_before,
            perplexity: passage.loss.exp(),
            text: String::from_utf8_lossy(&text).trim().to_owned(),
        }
    }

    /// Every token as it stands in the text, with the white space before it and the bits of its surprise.
    fn surprises(&self) -> Vec<TokenSurprise> {
        let mut all = Vec::with_capacity(self.found.judgement.token_losses.len());
        let mut bits = self.found.judgement.token_losses.iter().map(|loss| loss / std::f64::consts::LN_2);
        for document in &self.documents.list {
            let located = self.vocabulary.locate(&document.text);
            let mut end = 0;
            for (range, index) in &located.tokens {
                let bytes = located.text.as_bytes();
                let text =
                    |range: std::ops::Range<usize>| String::from_utf8_lossy(&bytes[range]).into_owned();
                all.push(TokenSurprise {
                    before: text(end..range.start),
                    token: text(range.clone()),
                    index: *index,
                    surprise_bits: bits.next().unwrap_or(f64::NAN),
                });
                end = range.end;
            }
            all.push(TokenSurprise {
                before: String::new(),
                token: self.vocabulary.reserved().end.clone(),
                index: Reserved::END,
                surprise_bits: bits.next().unwrap_or(f64::NAN),
            });
        }
        all
    }
}

/// Writes the page of surprise.
fn write_page(
    path: &Path,
    args: &ScoreArgs,
    file: &ModelFile,
    whole: &Whole<'_>,
    screen: &Screen,
) -> Result<(), Failure> {
    let mut progress = Progress::new(screen, "finding what was expected", Measure::Steps, 100);
    let resets = args.state.map(|state| state == StateChoice::Anew);
    let ready = Arc::new(ReadyModel::new(file.clone()));
    let expected = expected(ready, &whole.found.text, SHOWN_ON_PAGE, resets, &mut |share| {
        progress.at((100.0 * share) as u64, "");
        !interrupt::asked()
    });
    let expected = expected.ok_or(LabError::from(TextError::Stopped))?;
    progress.finish();
    let name = |index: u32| match index {
        Reserved::END => "\u{23ce}".to_owned(),
        _ => visible(&whole.vocabulary.shown(index).unwrap_or_default()),
    };
    let mut surprises = whole.surprises();
    let tokens = surprises.len();
    surprises.truncate(SHOWN_ON_PAGE);
    let shown: Vec<SurpriseToken> = surprises
        .into_iter()
        .zip(expected)
        .map(|(surprise, expected)| SurpriseToken {
            ends_document: surprise.index == Reserved::END,
            unknown: surprise.index == Reserved::UNKNOWN,
            before: surprise.before,
            text: surprise.token,
            bits: surprise.surprise_bits,
            rank: expected.rank,
            likeliest: expected.likeliest.map(|next| (name(next.index), next.probability)),
        })
        .collect();
    let places: Vec<(String, u64)> = whole
        .documents
        .list
        .iter()
        .map(|document| (document.path.display().to_string(), document.line))
        .collect();
    let facts = rows(&whole.found.judgement);
    let page = surprise_page(&args.model.display().to_string(), &facts, &shown, &places, tokens);
    let existing = Existing::replaced_if(args.force);
    files::write(path, page.as_bytes(), existing)?;
    screen.note(&format!("written to {}", path.display()));
    Ok(())
}

/// The text with every token in the colour of its surprise; from 4 bits on the figure stands after it.
fn show_surprise(whole: &Whole<'_>, screen: &Screen) -> String {
    let mut lines = vec![screen.heading(
        "Surprise, in bits: what comes as expected is grey, 4 bits and more are told, from 8 on in bold",
    )];
    let (mut line, mut unknown) = (String::new(), false);
    for surprise in whole.surprises().iter().take(SHOWN) {
        let bits = surprise.surprise_bits;
        let text = match surprise.index {
            Reserved::END => "\u{23ce}".to_owned(),
            Reserved::UNKNOWN => format!("\u{2039}{}\u{203a}", surprise.token),
            _ => surprise.token.clone(),
        };
        unknown |= surprise.index == Reserved::UNKNOWN;
        let told = if bits >= 4.0 { format!("{text}[{bits:.0}]") } else { text };
        let style = match bits {
            b if b >= 8.0 => BRICK.style().bold(),
            b if b >= 4.0 => BRICK.style(),
            b if b >= 1.0 => HONEY.style(),
            _ => SLATE.style(),
        };
        line.push_str(&surprise.before);
        line.push_str(&screen.styled(style, &told));
        if surprise.index == Reserved::END {
            lines.push(indented(&line, screen.width()));
            line.clear();
        }
    }
    if !line.is_empty() {
        lines.push(indented(&line, screen.width()));
    }
    if unknown {
        lines.push(MARKED.to_owned());
    }
    let tokens = whole.found.judgement.token_losses.len();
    if tokens > SHOWN {
        lines.push(format!(
            "  and {} tokens more; --page shows more of them, and --json has all",
            count((tokens - SHOWN) as u64)
        ));
    }
    lines.join("\n")
}

/// Several models on one text.
fn side_by_side(models: &[(String, Judgement)], alike: &[bool], screen: &Screen) -> String {
    let first = models.first().map(|(_, judgement)| judgement);
    let above = |judgement: &Judgement, at: usize| -> [String; 2] {
        let found = first.filter(|_| at > 0).map(|first| difference(judgement, first, alike[at]));
        match found {
            None => Default::default(),
            Some(None) => ["not comparable".to_owned(), String::new()],
            Some(Some(found)) => {
                let range = found
                    .interval()
                    .map(|(low, high)| format!("{low:+.4} to {high:+.4}"))
                    .unwrap_or_default();
                [format!("{:+.4}", found.bits_per_byte), range]
            }
        }
    };
    let rows: Vec<Vec<String>> = models
        .iter()
        .enumerate()
        .map(|(at, (model, judgement))| {
            let score = &judgement.score;
            let [difference, range] = above(judgement, at);
            vec![
                model.clone(),
                format!("{:.4}", score.bits_per_byte),
                difference,
                range,
                perplexity(score.perplexity),
                count(score.tokens),
                percent(score.unknown_tokens, score.tokens),
            ]
        })
        .collect();
    let heads = ["model", "bits per byte", "difference", "95 % range", "perplexity", "tokens", "unknown"];
    let mut columns = vec![Column::Number; heads.len()];
    columns[0] = Column::Text;
    let scores = models.iter().map(|(_, judgement)| &judgement.score);
    let documents = first.map_or(0, |first| first.score.documents);
    let mut notes = vec![
        "Bits per byte charge for the spelling of unknown words and for white space: they compare models of any unit and \
         vocabulary. Perplexities compare models with the same tokens."
            .to_owned(),
    ];
    if documents > 1 {
        notes.push(format!(
            "The difference is to the first model, and its range holds with 95 % confidence, over the same {} documents for all.",
            count(documents)
        ));
    }
    if alike.contains(&false) && scores.into_iter().any(|score| score.changed_documents > 0) {
        notes.push("Models whose cleaning makes another text of it are not comparable.".to_owned());
    }
    let notes: Vec<String> = notes.iter().map(|note| indented(note, screen.width())).collect();
    format!(
        "{}\n{}\n{}",
        screen.heading("The text under several models"),
        table(screen, &heads, &columns, &rows),
        notes.join("\n")
    )
}
