//! `embed near` and `embed relate`: what is near what.

use lalograph_vectors::VectorError;
use lalograph_vectors::judge::{Method, Question, relate};
use lalograph_vectors::sentence::{Weighing, distances, sentence};
use lalograph_vectors::table::Neighbour;
use serde::Serialize;

use super::words::{NearWord, load, words_of};
use crate::cli::{EmbedNearArgs, EmbedRelateArgs, MethodChoice, WeighChoice};
use crate::failure::Failure;
use crate::output::palette::TEAL;
use crate::output::screen::Screen;
use crate::output::table::{Column, coloured_bars, table};
use crate::output::wrap::indented;

/// The weight of frequent words in a text: a share of this much halves it.
const HALVING: f64 = 1e-3;

/// Columns of a bar.
const BAR: usize = 30;

/// JSON output of `embed near`.
#[derive(Serialize)]
struct NearDocument<'a> {
    queries: Vec<QueryFound<'a>>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    distances: Vec<Vec<f64>>,
}

/// One query and what is near it.
#[derive(Serialize)]
struct QueryFound<'a> {
    query: String,
    neighbours: Vec<NearWord<'a>>,
}

/// A vector to look from.
struct Query {
    name: String,
    vector: Vec<f32>,
    without: Vec<u32>,
}

/// `embed near`.
pub(super) fn near(args: &EmbedNearArgs, screen: &Screen) -> Result<(), Failure> {
    let file = load(&args.vectors, screen)?;
    let words = words_of(&args.words, args.words_from.as_ref())?;
    let sum = !args.plus.is_empty() || !args.minus.is_empty();
    let mut queries = Vec::new();
    if sum {
        let mut terms: Vec<(f32, &String)> = words.iter().chain(&args.plus).map(|word| (1.0, word)).collect();
        terms.extend(args.minus.iter().map(|word| (-1.0, word)));
        let mut vector = vec![0.0; file.table.dimensions()];
        let (mut name, mut without) = (String::new(), Vec::new());
        for (sign, word) in terms {
            file.table.add_direction(word, sign, &mut vector)?;
            without.extend(file.table.row(word));
            let gap = if name.is_empty() { "" } else { " " };
            let mark = if sign < 0.0 {
                "- "
            } else if name.is_empty() {
                ""
            } else {
                "+ "
            };
            name.push_str(&format!("{gap}{mark}{word}"));
        }
        queries.push(Query { name, vector, without });
    } else {
        for word in &words {
            let vector = file.table.vector(word)?;
            queries.push(Query {
                name: word.clone(),
                vector,
                without: file.table.row(word).into_iter().collect(),
            });
        }
    }
    let shares = file.shares();
    let weighing = match args.weigh {
        Some(WeighChoice::Mean) => Weighing::Mean,
        Some(WeighChoice::Frequency) if shares.is_none() => {
            return Err(Failure::Usage(
                "--weigh frequency needs the counts of words, which this file does not have".into(),
            ));
        }
        _ => Weighing::Frequency { a: HALVING },
    };
    let mut texts = Vec::new();
    for text in &args.sentence {
        let vector =
            sentence(&file.table, &file.words_of(text), weighing, shares.as_deref()).map_err(|error| {
                match error {
                    VectorError::NothingKnown(_) => VectorError::NothingKnown(text.clone()),
                    other => other,
                }
            })?;
        texts.push(vector.clone());
        queries.push(Query { name: text.clone(), vector, without: Vec::new() });
    }
    if queries.is_empty() {
        return Err(Failure::Usage("no words given; use words, --words-from or --sentence".into()));
    }
    let apart = if args.distances { distances(&texts) } else { Vec::new() };
    let vectors: Vec<f32> = queries.iter().flat_map(|query| query.vector.clone()).collect();
    let without: Vec<&[u32]> = queries.iter().map(|query| &query.without[..]).collect();
    let found = file.table.nearest_of_all(&vectors, args.count, &without);
    if args.json {
        let found = queries.into_iter().zip(&found).map(|(query, found)| QueryFound {
            query: query.name,
            neighbours: NearWord::all(&file.table, found),
        });
        return screen.json(&NearDocument { queries: found.collect(), distances: apart });
    }
    if !args.distances {
        for (number, (query, found)) in queries.iter().zip(&found).enumerate() {
            let gap = if number > 0 { "\n" } else { "" };
            screen.line(&format!("{gap}{}", screen.heading(&format!("Near {}", query.name))))?;
            screen.line(&render(&NearWord::all(&file.table, found), screen))?;
        }
        return Ok(());
    }
    let letters = |at: usize| format!("{}", at + 1);
    let rows: Vec<Vec<String>> = apart
        .iter()
        .enumerate()
        .map(|(at, row)| {
            let figures = row.iter().map(|x| format!("{:.3}", x.max(0.0)));
            std::iter::once(letters(at)).chain(figures).collect()
        })
        .collect();
    let heads: Vec<String> =
        std::iter::once("text".to_owned()).chain((0..apart.len()).map(letters)).collect();
    let heads: Vec<&str> = heads.iter().map(String::as_str).collect();
    let columns: Vec<Column> =
        (0..heads.len()).map(|at| if at == 0 { Column::Text } else { Column::Number }).collect();
    let mut lines = vec![
        screen.heading("Distances between the texts (1 minus the cosine)"),
        table(screen, &heads, &columns, &rows),
        String::new(),
    ];
    lines.extend(
        args.sentence
            .iter()
            .enumerate()
            .map(|(at, text)| indented(&format!("{} {text}", letters(at)), screen.width())),
    );
    screen.line(&lines.join("\n"))
}

/// `embed relate`.
pub(super) fn relate_words(args: &EmbedRelateArgs, screen: &Screen) -> Result<(), Failure> {
    let file = load(&args.vectors, screen)?;
    let row = |word: &String| file.table.row(word).ok_or_else(|| file.table.unknown(word));
    let question = Question { rows: [row(&args.a)?, row(&args.b)?, row(&args.c)?] };
    let found: Vec<Neighbour> =
        relate(&file.table, &[question], method(args.method), args.count).into_iter().flatten().collect();
    let answers = NearWord::all(&file.table, &found);
    let name = format!("{} is to {} as {} is to", args.a, args.b, args.c);
    if args.json {
        return screen.json(&QueryFound { query: name, neighbours: answers });
    }
    screen.line(&screen.heading(&format!("{name} ...")))?;
    screen.line(&render(&answers, screen))
}

pub(super) fn method(choice: MethodChoice) -> Method {
    match choice {
        MethodChoice::Additive => Method::Additive,
        MethodChoice::Multiplicative => Method::Multiplicative,
    }
}

/// Words with their cosine as figures and bars.
fn render(words: &[NearWord<'_>], screen: &Screen) -> String {
    let rows: Vec<Vec<String>> = words
        .iter()
        .map(|near| {
            let length = (near.cosine.clamp(0.0, 1.0) * BAR as f64).round() as usize;
            vec![near.word.to_owned(), format!("{:.3}", near.cosine), "\u{2588}".repeat(length)]
        })
        .collect();
    let drawn = table(screen, &[], &[Column::Text, Column::Number, Column::Text], &rows);
    coloured_bars(&drawn, TEAL, screen)
}
