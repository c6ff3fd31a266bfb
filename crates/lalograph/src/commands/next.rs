//! `next`: what a model expects after a text.

use std::sync::Arc;

use lalograph_lab::ReadyModel;
use lalograph_lab::writing::generator::{Generator, NextToken};
use lalograph_text::{Reserved, Vocabulary};
use serde::Serialize;

use super::input::{say_unknown_words, text_or_input};
use super::lookup::load_model;
use crate::cli::NextArgs;
use crate::failure::Failure;
use crate::output::number::{count, visible};
use crate::output::palette::TEAL;
use crate::output::screen::Screen;
use crate::output::table::facts;

/// JSON output of `next`.
#[derive(Serialize)]
struct NextDocument {
    text: String,
    entropy_bits: f64,
    /// Two to the power of the entropy: among how many equally likely tokens the choice is as hard.
    perplexity: f64,
    candidates: Vec<Candidate>,
    asked: Vec<Candidate>,
    /// The probability of the unknown token, which `sample` leaves out unless --unknown says otherwise.
    unknown_probability: f64,
}

/// A token that may come next.
#[derive(Serialize)]
struct Candidate {
    token: String,
    index: u32,
    probability: f64,
    /// From 1.
    rank: usize,
}

/// Runs the command.
pub(crate) fn run(args: &NextArgs, screen: &Screen) -> Result<(), Failure> {
    let ready = Arc::new(ReadyModel::new(load_model(&args.model)?));
    let vocabulary = ready.vocabulary();
    let text = text_or_input(&args.text)?;
    let text = text.trim_end_matches(['\n', '\r']);
    let mut generator = Generator::new(Arc::clone(&ready));
    say_unknown_words(&generator.unknown_tokens(text), screen);
    let all = generator.next(text)?;
    let candidate = |rank: usize, next: &NextToken| Candidate {
        token: name(vocabulary, next.index),
        index: next.index,
        probability: next.probability,
        rank: rank + 1,
    };
    let mut asked = Vec::new();
    for token in &args.token {
        let index = index_of(vocabulary, token)?;
        let rank = all.iter().position(|next| next.index == index).unwrap_or(0);
        asked.push(candidate(rank, &all[rank]));
    }
    let entropy_bits: f64 = all
        .iter()
        .filter(|next| next.probability > 0.0)
        .map(|next| -next.probability * next.probability.log2())
        .sum();
    let document = NextDocument {
        text: text.to_owned(),
        entropy_bits,
        perplexity: entropy_bits.exp2(),
        candidates: all
            .iter()
            .take(args.count)
            .enumerate()
            .map(|(rank, next)| candidate(rank, next))
            .collect(),
        asked,
        unknown_probability: all
            .iter()
            .find(|next| next.index == Reserved::UNKNOWN)
            .map_or(0.0, |next| next.probability),
    };
    if args.json { screen.json(&document) } else { screen.line(&render(&document, all.len(), screen)) }
}

/// A token as shown.
fn name(vocabulary: &Vocabulary, index: u32) -> String {
    let token = vocabulary.token(index).unwrap_or_default();
    match index {
        Reserved::END => "(end of document)".to_owned(),
        Reserved::UNKNOWN => "(unknown)".to_owned(),
        _ => visible(&String::from_utf8_lossy(token)),
    }
}

/// The index of a token that was named.
fn index_of(vocabulary: &Vocabulary, token: &str) -> Result<u32, Failure> {
    let indices: Vec<u32> = vocabulary.encode(token).into_iter().map(|(_, index)| index).collect();
    match indices[..] {
        [index] if index != Reserved::UNKNOWN => Ok(index),
        [_] => Err(Failure::with_remedy(
            format!("`{token}` is not in the model's vocabulary"),
            "`lalograph vocab show` lists its tokens",
        )),
        _ => Err(Failure::Usage(format!("`{token}` is {} tokens; give one token", indices.len()))),
    }
}

fn render(document: &NextDocument, indices: usize, screen: &Screen) -> String {
    let shown: Vec<&Candidate> = document.candidates.iter().chain(&document.asked).collect();
    let width = shown
        .iter()
        .map(|c| unicode_width::UnicodeWidthStr::width(c.token.as_str()))
        .max()
        .unwrap_or(0)
        .min(30);
    let bar_width = screen.width().saturating_sub(width + 26).clamp(10, 60);
    let greatest = document.candidates.first().map_or(1.0, |c| c.probability).max(1e-12);
    let line = |candidate: &Candidate| {
        let eighths = (candidate.probability / greatest * bar_width as f64 * 8.0).round() as usize;
        let mut bar = "\u{2588}".repeat(eighths / 8);
        bar.extend(char::from_u32(0x2590 - (eighths % 8) as u32).filter(|_| !eighths.is_multiple_of(8)));
        let gap =
            " ".repeat(width.saturating_sub(unicode_width::UnicodeWidthStr::width(candidate.token.as_str())));
        let figures = format!("{:>7}", percent(candidate.probability));
        format!(
            "  {:>6}  {}{gap}  {figures}  {}",
            count(candidate.rank as u64),
            candidate.token,
            screen.styled(TEAL.style(), &bar)
        )
    };
    let mut lines = vec![screen.heading("Next token")];
    lines.extend(document.candidates.iter().map(line));
    if !document.asked.is_empty() {
        lines.push(screen.heading("The tokens of --token"));
        lines.extend(document.asked.iter().map(line));
    }
    let covered: f64 = document.candidates.iter().map(|c| c.probability).sum();
    let rows = [
        (
            "entropy",
            format!(
                "{:.3} bits, as for {:.2} equally probable tokens",
                document.entropy_bits, document.perplexity
            ),
        ),
        (
            "shown",
            format!(
                "{} of {} tokens, {} of the distribution",
                document.candidates.len(),
                count(indices as u64),
                percent(covered)
            ),
        ),
        (
            "unknown",
            format!(
                "{}: any token that is not in the vocabulary; `sample` leaves it out (see --unknown)",
                percent(document.unknown_probability)
            ),
        ),
    ];
    let rows = &rows[..if document.unknown_probability > 0.0 { 3 } else { 2 }];
    format!("{}\n{}", lines.join("\n"), facts(screen, rows))
}

/// A probability in percent, with as many digits as are significant.
fn percent(probability: f64) -> String {
    match probability * 100.0 {
        p if p >= 0.01 => format!("{p:.2} %"),
        0.0 => "0 %".to_owned(),
        // As many places as the first figure needs.
        p => format!("{p:.places$} %", places = (-p.log10()).ceil() as usize),
    }
}
