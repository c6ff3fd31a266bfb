//! `score`: judge a text with trained models.

use std::path::Path;

use lalograph_lab::measure::baseline::{NgramModel, Uniform, Unigram};
use lalograph_lab::measure::score::{
    Judgement, PassageScore, Score, Scoring, TextScore, score, score_baseline, sentences,
};
use lalograph_lab::{LabError, ModelFile};
use lalograph_storage::Existing;
use lalograph_text::tokens::TokenSequence;
use lalograph_text::{Reserved, Unit, Vocabulary};
use serde::Serialize;

use super::input::threads;
use super::lookup::load_model;
use super::reading::{find_corpus, say_unknown, watched};
use super::training_text::training_text;
use crate::cli::{PassageChoice, ScoreArgs, StateChoice};
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::number::{bytes, count, percent, perplexity};
use crate::output::page::{SurpriseToken, surprise_page};
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
    perplexity: f64,
    text: String,
}

/// One token of the text, in order.
#[derive(Serialize)]
struct TokenSurprise {
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
}

/// Runs the command.
pub(crate) fn run(args: &ScoreArgs, screen: &Screen) -> Result<(), Failure> {
    interrupt::listen();
    if !args.beside.is_empty() && args.corpus.paths.iter().any(|path| path.as_os_str() == "-") {
        return Err(Failure::Usage(
            "standard input can be read once: save the text to a file to score it with several models".into(),
        ));
    }
    if let Some(page) = args.page.as_ref().filter(|page| page.exists() && !args.force) {
        return Err(LabError::Exists(page.clone()).into());
    }
    let models: Vec<&Path> = std::iter::once(&args.model).chain(&args.beside).map(AsRef::as_ref).collect();
    let mut scored = Vec::new();
    for model in &models {
        let file = load_model(model)?;
        let found = score_one(args, &file, screen)?;
        say_unknown(found.judgement.score.unknown_tokens, found.judgement.score.tokens, screen);
        scored.push((file, found));
    }
    let Some((file, found)) = scored.first() else {
        return Ok(());
    };
    let baselines = match args.baselines {
        Some(order) => baselines(&args.model, order.into(), &found.text, screen)?,
        None => Vec::new(),
    };
    let names = models.iter().map(|model| model.display().to_string());
    let judgements = scored.iter().map(|(_, found)| found.judgement.clone());
    let several: Vec<(String, Judgement)> = names.zip(judgements).chain(baselines).collect();
    let several = if several.len() > 1 { &several[..] } else { &[] };
    let listed = extremes(found, &file.vocabulary, args)?;
    if let Some(path) = &args.page {
        write_page(path, args, (file, found), screen)?;
    }
    if args.json {
        let tokens_by_surprise = if args.surprise { surprises(found, &file.vocabulary) } else { Vec::new() };
        let models = several.iter().map(|(model, judgement)| ModelScore {
            model,
            score: &judgement.score,
            loss_standard_error: judgement.loss_standard_error,
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
        return screen.line(&side_by_side(several, screen));
    }
    screen.line(&format!(
        "{}\n{}",
        screen.heading("The text under the model"),
        facts(screen, &rows(&found.judgement))
    ))?;
    if !several.is_empty() {
        screen.line(&format!("\n{}", side_by_side(several, screen)))?;
    }
    let what = if args.by == Some(PassageChoice::Sentence) { "sentences" } else { "documents" };
    for (heading, passages) in [("Most surprising", &listed.worst), ("Least surprising", &listed.best)] {
        if !passages.is_empty() {
            screen.line(&format!("\n{}", screen.heading(&format!("{heading} {what}"))))?;
        }
        for passage in passages {
            let head = format!(
                "  document {}, perplexity {} over {} tokens",
                count(passage.score.document + 1),
                perplexity(passage.perplexity),
                count(passage.score.tokens)
            );
            screen.line(&screen.styled(SLATE.style().bold(), &head))?;
            screen.line(&indented(&passage.text, screen.width()))?;
        }
    }
    if args.surprise {
        screen.line(&format!("\n{}", show_surprise(found, &file.vocabulary, screen)))?;
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

fn score_one(args: &ScoreArgs, file: &ModelFile, screen: &Screen) -> Result<TextScore, Failure> {
    let corpus = find_corpus(&args.corpus, &file.plan.corpus, &[])?;
    let left_out = (args.corpus.reading.left_out.as_deref(), Existing::Keep);
    let scoring = Scoring {
        window: args.window as usize,
        resets: args.state.map(|state| state == StateChoice::Anew),
        tokens: args.surprise || args.page.is_some() || args.by == Some(PassageChoice::Sentence),
    };
    watched(&corpus, "scoring", left_out, screen, |observer| {
        let found = score(file, &corpus, threads(None), scoring, observer)?;
        let reading = found.reading.clone();
        Ok((found, reading))
    })
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
    vec![
        ("text", format!("{} documents, {}", count(score.documents), bytes(score.bytes))),
        ("tokens", format!("{}, the end of each document counted as one", count(score.tokens))),
        (
            "unknown",
            format!("{} ({})", count(score.unknown_tokens), percent(score.unknown_tokens, score.tokens)),
        ),
        ("loss", format!("{:.5} nats per token{error}", score.loss)),
        ("perplexity", format!("{}{range}", perplexity(score.perplexity))),
        ("bits per token", format!("{:.4}", score.bits_per_token)),
        ("bits per byte", format!("{:.4}", score.bits_per_byte)),
    ]
}

fn extremes(found: &TextScore, vocabulary: &Vocabulary, args: &ScoreArgs) -> Result<Listed, Failure> {
    if args.worst == 0 {
        return Ok(Listed::default());
    }
    let mut sorted = match args.by {
        Some(PassageChoice::Sentence) => sentences(found, vocabulary),
        _ => found.judgement.documents.clone(),
    };
    if args.by == Some(PassageChoice::Sentence) {
        sorted.retain(|sentence| sentence.tokens >= SHORTEST_SENTENCE);
    }
    sorted.sort_by(|a, b| b.loss.total_cmp(&a.loss).then(a.start.cmp(&b.start)));
    let listed = |passage: &PassageScore| -> Result<ListedPassage, Failure> {
        let text = passage_text(found, vocabulary, passage)?;
        Ok(ListedPassage { score: *passage, perplexity: passage.loss.exp(), text })
    };
    Ok(Listed {
        worst: sorted.iter().take(args.worst).map(listed).collect::<Result<_, _>>()?,
        best: sorted.iter().rev().take(args.worst).map(listed).collect::<Result<_, _>>()?,
    })
}

/// A passage as decoded.
fn passage_text(
    found: &TextScore,
    vocabulary: &Vocabulary,
    passage: &PassageScore,
) -> Result<String, Failure> {
    let mut decoder = vocabulary.decoder();
    let mut text = String::new();
    for at in passage.start..passage.start + passage.tokens {
        let index = found.text.index(at as usize);
        if index != Reserved::END {
            decoder.push(index, &mut text)?;
        }
    }
    decoder.finish(&mut text);
    Ok(text.trim().to_owned())
}

/// Writes the page of surprise.
fn write_page(
    path: &Path,
    args: &ScoreArgs,
    (file, found): (&ModelFile, &TextScore),
    screen: &Screen,
) -> Result<(), Failure> {
    let tokens: Vec<SurpriseToken> = surprises(found, &file.vocabulary)
        .into_iter()
        .map(|surprise| SurpriseToken {
            ends_document: surprise.index == Reserved::END,
            unknown: surprise.index == Reserved::UNKNOWN,
            text: surprise.token,
            bits: surprise.surprise_bits,
        })
        .collect();
    let spaced = file.vocabulary.unit() == Unit::Word;
    let facts = rows(&found.judgement);
    let page = surprise_page(&args.model.display().to_string(), &facts, &tokens, spaced);
    let existing = Existing::replaced_if(args.force);
    files::write(path, page.as_bytes(), existing)?;
    screen.note(&format!("written to {}", path.display()));
    Ok(())
}

fn surprises(found: &TextScore, vocabulary: &Vocabulary) -> Vec<TokenSurprise> {
    let token = |at: usize| {
        let index = found.text.index(at);
        (index, String::from_utf8_lossy(vocabulary.token(index).unwrap_or_default()).into_owned())
    };
    let bits = found.judgement.token_losses.iter().map(|loss| loss / std::f64::consts::LN_2);
    bits.enumerate()
        .map(|(at, surprise_bits)| {
            let (index, token) = token(at);
            TokenSurprise { token, index, surprise_bits }
        })
        .collect()
}

/// The text with every token in the colour of its surprise; from 4 bits on the figure stands after it.
fn show_surprise(found: &TextScore, vocabulary: &Vocabulary, screen: &Screen) -> String {
    let mut lines = vec![screen.heading(
        "Surprise, in bits: what comes as expected is grey, 4 bits and more are told, from 8 on in bold",
    )];
    let mut line = String::new();
    for surprise in surprises(found, vocabulary).iter().take(SHOWN) {
        let bits = surprise.surprise_bits;
        let text = if surprise.index == Reserved::END { "\u{23ce}" } else { surprise.token.as_str() };
        let told = if bits >= 4.0 { format!("{text}[{bits:.0}]") } else { text.to_owned() };
        let style = match bits {
            b if b >= 8.0 => BRICK.style().bold(),
            b if b >= 4.0 => BRICK.style(),
            b if b >= 1.0 => HONEY.style(),
            _ => SLATE.style(),
        };
        // Units other than words hold their own spaces.
        let gap = if vocabulary.unit() == Unit::Word && !line.is_empty() { " " } else { "" };
        line.push_str(gap);
        line.push_str(&screen.styled(style, &told));
        if surprise.index == Reserved::END {
            lines.push(indented(&line, screen.width()));
            line.clear();
        }
    }
    if !line.is_empty() {
        lines.push(indented(&line, screen.width()));
    }
    let tokens = found.judgement.token_losses.len();
    if tokens > SHOWN {
        lines.push(format!(
            "  and {} tokens more; --page shows more of them, and --json has all",
            count((tokens - SHOWN) as u64)
        ));
    }
    lines.join("\n")
}

/// Several models on one text.
fn side_by_side(models: &[(String, Judgement)], screen: &Screen) -> String {
    let rows: Vec<Vec<String>> = models
        .iter()
        .map(|(model, judgement)| {
            let score = &judgement.score;
            vec![
                model.clone(),
                format!("{:.4}", score.bits_per_byte),
                perplexity(score.perplexity),
                judgement.loss_standard_error.map_or_else(|| "-".to_owned(), |error| format!("{error:.4}")),
                count(score.tokens),
                percent(score.unknown_tokens, score.tokens),
            ]
        })
        .collect();
    let heads = ["model", "bits per byte", "perplexity", "error of loss", "tokens", "unknown"];
    let columns =
        [Column::Text, Column::Number, Column::Number, Column::Number, Column::Number, Column::Number];
    let note =
        "  Perplexities are per token, and compare models of one vocabulary; bits per byte compare all.";
    format!(
        "{}\n{}\n{note}",
        screen.heading("The text under several models"),
        table(screen, &heads, &columns, &rows)
    )
}
