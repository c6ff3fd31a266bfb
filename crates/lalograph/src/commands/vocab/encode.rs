//! `vocab encode` and `vocab decode`: what a model will see of a text, and back.

use std::borrow::Cow;
use std::io::{Read, Write};

use lalograph_text::vocabulary::{Encoder, Located, TextParts, shown};
use lalograph_text::{Reserved, Vocabulary};
use rayon::prelude::{IndexedParallelIterator, IntoParallelRefMutIterator, ParallelIterator};
use serde::{Serialize, Serializer};

use super::super::input::text_or_input;
use super::vocabularies::load;
use crate::cli::{VocabDecodeArgs, VocabEncodeArgs};
use crate::failure::Failure;
use crate::output::number::{count, counted, visible};
use crate::output::palette::{ASH, BRICK};
use crate::output::screen::Screen;
use crate::output::table::{Column, table};
use crate::room;

/// Bytes that a thread encodes at once, where only indices are asked for.
const PART: usize = 1 << 20;

/// One place of an encoded text.
#[derive(Serialize)]
struct EncodedToken<'t> {
    token: Cow<'t, str>,
    index: u32,
    unknown: bool,
}

/// `vocab encode --json`.
#[derive(Serialize)]
struct Encoded<'t> {
    text: &'t str,
    cleaned: &'t str,
    tokens: &'t Places<'t>,
    unknown_tokens: u64,
    tokens_cut: u64,
    tokens_padded: u64,
}

/// A text in its places: its tokens, cut or filled up to a length.
struct Places<'t> {
    vocabulary: &'t Vocabulary,
    located: &'t Located,
    length: usize,
}

impl Places<'_> {
    fn iter(&self) -> impl Iterator<Item = EncodedToken<'_>> {
        let bytes = self.located.text.as_bytes();
        let tokens = self.located.tokens.iter().map(|(place, index)| (shown(&bytes[place.clone()]), *index));
        let padding = Cow::Borrowed(self.vocabulary.reserved().padding.as_str());
        let padded = tokens.chain(std::iter::repeat((padding, Reserved::PADDING)));
        padded.take(self.length).map(|(token, index)| EncodedToken {
            token,
            index,
            unknown: index == Reserved::UNKNOWN,
        })
    }
}

impl Serialize for Places<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_seq(self.iter())
    }
}

/// Runs `vocab encode`.
pub(super) fn encode(args: &VocabEncodeArgs, screen: &Screen) -> Result<(), Failure> {
    let vocabulary = load(&args.file)?;
    // A token, its index and its place in a table.
    room::check(args.length.unwrap_or(0) as u64 * 128, "a text of that length", "lower --length")?;
    if args.indices {
        return match args.text.as_str() {
            "-" => print_indices(std::io::stdin().lock(), &vocabulary, args.length, screen),
            text => print_indices(text.as_bytes(), &vocabulary, args.length, screen),
        };
    }
    let text = text_or_input(&args.text)?;
    let located = vocabulary.locate(&text);
    let found = located.tokens.len();
    let length = args.length.unwrap_or(found);
    let tokens_cut = found.saturating_sub(length) as u64;
    let tokens_padded = length.saturating_sub(found) as u64;
    let places = Places { vocabulary: &vocabulary, located: &located, length };
    let unknown_tokens = places.iter().filter(|place| place.unknown).count() as u64;
    let cleaned = located.text.as_str();
    if args.json {
        return screen.json(&Encoded {
            text: &text,
            cleaned,
            tokens: &places,
            unknown_tokens,
            tokens_cut,
            tokens_padded,
        });
    }
    let rows: Vec<Vec<String>> = places
        .iter()
        .enumerate()
        .map(|(position, EncodedToken { token, index, .. })| {
            let mark = match index {
                Reserved::UNKNOWN => "unknown",
                Reserved::PADDING => "padding",
                index if vocabulary.is_fragment(index) => "part of a character",
                _ => "",
            };
            vec![(position + 1).to_string(), visible(&token), index.to_string(), mark.to_owned()]
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
    let shown = if cleaned == text { String::new() } else { format!("  cleaned: {cleaned}\n") };
    screen.line(&format!("{shown}{drawn}\n  {closing}"))
}

/// Prints the indices of a text of any length on one line, in memory that does not grow with it.
fn print_indices(
    source: impl Read,
    vocabulary: &Vocabulary,
    length: Option<usize>,
    screen: &Screen,
) -> Result<(), Failure> {
    struct Worker<'v> {
        encoder: Encoder<'v>,
        indices: Vec<u32>,
        written: Vec<u8>,
    }
    let mut workers: Vec<Worker<'_>> = (0..rayon::current_num_threads())
        .map(|_| Worker { encoder: vocabulary.encoder(), indices: Vec::new(), written: Vec::new() })
        .collect();
    let mut parts = TextParts::new(source, vocabulary, PART);
    let mut left = length.unwrap_or(usize::MAX);
    let mut printed = false;
    let mut print = |workers: &mut [Worker<'_>]| {
        workers.par_iter_mut().for_each(|Worker { indices, written, .. }| {
            written.clear();
            // Writing to a vector cannot fail.
            indices.iter().for_each(|index| drop(write!(written, " {index}")));
        });
        workers.iter().filter(|worker| !worker.written.is_empty()).try_for_each(|worker| {
            let from = usize::from(!std::mem::replace(&mut printed, true));
            screen.bytes(&worker.written[from..])
        })
    };
    while left > 0 {
        let batch = parts.by_ref().take(workers.len()).collect::<std::io::Result<Vec<String>>>();
        let batch = batch.map_err(|error| Failure::work(format!("standard input: {error}")))?;
        if batch.is_empty() {
            break;
        }
        let working = &mut workers[..batch.len()];
        working.par_iter_mut().zip(&batch).for_each(|(worker, text)| {
            worker.indices.clear();
            worker.encoder.encode_into(text, &mut worker.indices);
        });
        for Worker { indices, .. } in &mut *working {
            indices.truncate(left);
            left -= indices.len();
        }
        print(working)?;
    }
    if length.is_some() && left > 0 {
        workers[0].indices = vec![Reserved::PADDING; left];
        print(&mut workers[..1])?;
    }
    screen.line("")
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
