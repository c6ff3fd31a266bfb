//! `score`: judge a text with trained models.

use std::path::Path;

use lalograph_lab::ModelFile;
use lalograph_lab::files::Existing;
use lalograph_lab::score::{DocumentScore, Score, Scoring, TextScore, score};
use lalograph_text::{Reserved, Vocabulary};
use serde::Serialize;

use super::reading::{find_corpus, say_unknown, watched};
use super::{load_model, threads};
use crate::cli::{ScoreArgs, StateChoice};
use crate::failure::Failure;
use crate::interrupt;
use crate::output::number::{bytes, count, percent, perplexity};
use crate::output::palette::{BRICK, HONEY, SLATE};
use crate::output::screen::Screen;
use crate::output::survey_text::indented;
use crate::output::table::{Column, facts, table};

/// Tokens that are shown one by one, at most.
const SHOWN: usize = 2000;

/// What `score --json` prints.
#[derive(Serialize)]
struct ScoreDocument<'a> {
    #[serde(flatten)]
    score: &'a Score,
    loss_standard_error: Option<f64>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    worst_documents: Vec<ListedDocument>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    best_documents: Vec<ListedDocument>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    tokens_by_surprise: Vec<TokenSurprise>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    models: Vec<ModelScore<'a>>,
}

/// A document with its text.
#[derive(Serialize)]
struct ListedDocument {
    #[serde(flatten)]
    score: DocumentScore,
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
    model: &'a Path,
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
    let models: Vec<&Path> = std::iter::once(&args.model).chain(&args.beside).map(AsRef::as_ref).collect();
    let mut scored = Vec::new();
    for model in &models {
        let file = load_model(model)?;
        let found = score_one(args, &file, screen)?;
        say_unknown(found.score.unknown_tokens, found.score.tokens, screen);
        scored.push((file, found));
    }
    let Some((file, found)) = scored.first() else {
        return Ok(());
    };
    let (worst, best) = extremes(found, &file.vocabulary, args.worst)?;
    if args.json {
        let tokens_by_surprise = if args.surprise { surprises(found, &file.vocabulary) } else { Vec::new() };
        let several = if scored.len() > 1 { &scored[..] } else { &[] };
        let models = several.iter().zip(&models).map(|((_, found), model)| ModelScore {
            model,
            score: &found.score,
            loss_standard_error: found.loss_standard_error,
        });
        return screen.json(&ScoreDocument {
            score: &found.score,
            loss_standard_error: found.loss_standard_error,
            worst_documents: worst,
            best_documents: best,
            tokens_by_surprise,
            models: models.collect(),
        });
    }
    if scored.len() > 1 {
        let scores: Vec<&TextScore> = scored.iter().map(|(_, found)| found).collect();
        return screen.line(&side_by_side(&models, &scores, screen));
    }
    screen.line(&format!(
        "{}\n{}",
        screen.heading("The text under the model"),
        facts(screen, &rows(found))
    ))?;
    for (heading, documents) in [("Most surprising documents", &worst), ("Least surprising documents", &best)]
    {
        if !documents.is_empty() {
            screen.line(&format!("\n{}", screen.heading(heading)))?;
        }
        for document in documents {
            let head = format!(
                "  document {}, perplexity {} over {} tokens",
                count(document.score.document + 1),
                perplexity(document.perplexity),
                count(document.score.tokens)
            );
            screen.line(&screen.styled(SLATE.style().bold(), &head))?;
            screen.line(&indented(&document.text, screen.width()))?;
        }
    }
    if args.surprise {
        screen.line(&format!("\n{}", show_surprise(found, &file.vocabulary, screen)))?;
    }
    Ok(())
}

fn score_one(args: &ScoreArgs, file: &ModelFile, screen: &Screen) -> Result<TextScore, Failure> {
    let corpus = find_corpus(&args.corpus, &file.plan.corpus, &[])?;
    let left_out = (args.corpus.reading.left_out.as_deref(), Existing::Keep);
    let scoring = Scoring {
        window: args.window as usize,
        anew: args.state.map(|state| state == StateChoice::Anew),
        tokens: args.surprise,
    };
    watched(&corpus, "scoring", left_out, screen, |observer| {
        let found = score(file, &corpus, threads(None), scoring, observer)?;
        let reading = found.reading.clone();
        Ok((found, reading))
    })
}

fn rows(found: &TextScore) -> Vec<(&'static str, String)> {
    let TextScore { score, loss_standard_error, .. } = found;
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

/// The documents with the highest losses per token, and those with the lowest.
fn extremes(
    found: &TextScore,
    vocabulary: &Vocabulary,
    wanted: usize,
) -> Result<(Vec<ListedDocument>, Vec<ListedDocument>), Failure> {
    let mut sorted: Vec<&DocumentScore> = found.documents.iter().collect();
    sorted.sort_by(|a, b| b.loss.total_cmp(&a.loss).then(a.document.cmp(&b.document)));
    let listed = |document: &DocumentScore| -> Result<ListedDocument, Failure> {
        let mut decoder = vocabulary.decoder();
        let mut text = String::new();
        for at in document.start..document.start + document.tokens {
            let index = found.text.index(at as usize);
            if index != Reserved::END {
                decoder.push(index, &mut text)?;
            }
        }
        decoder.finish(&mut text);
        Ok(ListedDocument { score: *document, perplexity: document.loss.exp(), text })
    };
    let worst = sorted.iter().take(wanted).map(|document| listed(document)).collect::<Result<_, _>>()?;
    let best = sorted.iter().rev().take(wanted).map(|document| listed(document)).collect::<Result<_, _>>()?;
    Ok((worst, best))
}

fn surprises(found: &TextScore, vocabulary: &Vocabulary) -> Vec<TokenSurprise> {
    let token = |at: usize| {
        let index = found.text.index(at);
        (index, String::from_utf8_lossy(vocabulary.token(index).unwrap_or_default()).into_owned())
    };
    let bits = found.token_losses.iter().map(|loss| loss / std::f64::consts::LN_2);
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
        let gap = if vocabulary.unit() == lalograph_text::Unit::Word && !line.is_empty() { " " } else { "" };
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
    if found.token_losses.len() > SHOWN {
        lines.push(format!(
            "  and {} tokens more; --json has them all",
            count((found.token_losses.len() - SHOWN) as u64)
        ));
    }
    lines.join("\n")
}

/// Several models on one text.
fn side_by_side(models: &[&Path], scores: &[&TextScore], screen: &Screen) -> String {
    let rows: Vec<Vec<String>> = models
        .iter()
        .zip(scores)
        .map(|(model, found)| {
            let score = &found.score;
            vec![
                model.display().to_string(),
                format!("{:.4}", score.bits_per_byte),
                perplexity(score.perplexity),
                found.loss_standard_error.map_or_else(|| "-".to_owned(), |error| format!("{error:.4}")),
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
        screen.heading("The text under the models"),
        table(screen, &heads, &columns, &rows)
    )
}
