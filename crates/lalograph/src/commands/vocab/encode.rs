//! `vocab encode` and `vocab decode`: what a model will see of a text, and back.

use lalograph_text::Reserved;
use serde::Serialize;

use super::super::input::text_or_input;
use super::vocabularies::load;
use crate::cli::{VocabDecodeArgs, VocabEncodeArgs};
use crate::failure::Failure;
use crate::output::number::{count, counted, visible};
use crate::output::palette::{ASH, BRICK};
use crate::output::screen::Screen;
use crate::output::table::{Column, table};
use crate::room;

/// One place of an encoded text.
#[derive(Serialize)]
struct EncodedToken {
    token: String,
    index: u32,
    unknown: bool,
}

/// `vocab encode --json`.
#[derive(Serialize)]
struct Encoded<'t> {
    text: &'t str,
    cleaned: &'t str,
    tokens: Vec<EncodedToken>,
    unknown_tokens: u64,
    tokens_cut: u64,
    tokens_padded: u64,
}

/// Runs `vocab encode`.
pub(super) fn encode(args: &VocabEncodeArgs, screen: &Screen) -> Result<(), Failure> {
    let vocabulary = load(&args.file)?;
    let text = text_or_input(&args.text)?;
    let mut pairs = vocabulary.encode(&text);
    let length = args.length.unwrap_or(pairs.len());
    // A token, its index and its place in a table.
    room::check(length as u64 * 128, "a text of that length", "lower --length")?;
    let tokens_cut = pairs.len().saturating_sub(length) as u64;
    let tokens_padded = length.saturating_sub(pairs.len()) as u64;
    pairs.resize_with(length, || (vocabulary.reserved().padding.clone(), Reserved::PADDING));
    let unknown_tokens = pairs.iter().filter(|(_, index)| *index == Reserved::UNKNOWN).count() as u64;
    if args.indices {
        let indices: Vec<String> = pairs.iter().map(|(_, index)| index.to_string()).collect();
        return screen.line(&indices.join(" "));
    }
    let cleaned = vocabulary.cleaning().apply(&text);
    if args.json {
        let tokens = pairs
            .into_iter()
            .map(|(token, index)| EncodedToken { token, index, unknown: index == Reserved::UNKNOWN })
            .collect();
        return screen.json(&Encoded {
            text: &text,
            cleaned: &cleaned,
            tokens,
            unknown_tokens,
            tokens_cut,
            tokens_padded,
        });
    }
    let rows: Vec<Vec<String>> = pairs
        .iter()
        .enumerate()
        .map(|(position, (token, index))| {
            let mark = match *index {
                Reserved::UNKNOWN => "unknown",
                Reserved::PADDING => "padding",
                index if vocabulary.is_fragment(index) => "part of a character",
                _ => "",
            };
            vec![(position + 1).to_string(), visible(token), index.to_string(), mark.to_owned()]
        })
        .collect();
    let columns = [Column::Number, Column::Text, Column::Number, Column::Text];
    let drawn = table(screen, &["place", "token", "index", ""], &columns, &rows)
        .replace(" unknown", &format!(" {}", screen.styled(BRICK.style().bold(), "unknown")))
        .replace(" part of a character", &format!(" {}", screen.styled(ASH.style(), "part of a character")));
    let mut closing =
        format!("{}, {} unknown", counted(rows.len() as u64, "token", "tokens"), count(unknown_tokens));
    if tokens_cut > 0 {
        closing.push_str(&format!(", {} cut off", count(tokens_cut)));
    }
    if tokens_padded > 0 {
        closing.push_str(&format!(", {} of them padding", count(tokens_padded)));
    }
    let shown = if cleaned == text.as_str() { String::new() } else { format!("  cleaned: {cleaned}\n") };
    screen.line(&format!("{shown}{drawn}\n  {closing}"))
}

/// Runs `vocab decode`.
pub(super) fn decode(args: &VocabDecodeArgs, screen: &Screen) -> Result<(), Failure> {
    let vocabulary = load(&args.file)?;
    let words = match args.indices.as_slice() {
        [only] if only == "-" => text_or_input("-")?,
        given => given.join(" "),
    };
    let indices = words
        .split(|c: char| c.is_whitespace() || c == ',')
        .filter(|word| !word.is_empty())
        .map(|word| word.parse::<u32>().map_err(|_| Failure::Usage(format!("`{word}` is not an index"))))
        .collect::<Result<Vec<u32>, Failure>>()?;
    // The bytes as they are: a text that was cut off may end inside a character.
    let mut bytes = vocabulary.decode(&indices)?;
    bytes.push(b'\n');
    screen.bytes(&bytes)
}
