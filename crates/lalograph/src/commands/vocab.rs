//! `vocab`: build, show, encode, decode.

use std::path::Path;

use lalograph_lab::ModelFile;
use lalograph_lab::files::{Existing, read_vocabulary, write_whole};
use lalograph_lab::plan::{CorpusPlan, VocabularyPlan};
use lalograph_text::vocabulary::Admission;
use lalograph_text::{Cleaning, Reserved, Unit, Vocabulary, VocabularyBuilder};
use serde::Serialize;

use super::reading::{cleaning_steps, find_corpus, watched};
use super::{model_path, text_or_input, threads};
use crate::cli::{TokenArgs, VocabBuildArgs, VocabCommand, VocabDecodeArgs, VocabEncodeArgs, VocabShowArgs};
use crate::failure::Failure;
use crate::interrupt;
use crate::output::number::{count, percent, visible};
use crate::output::palette::BRICK;
use crate::output::screen::Screen;
use crate::output::table::{Column, facts, table};

/// Runs the command.
pub(crate) fn run(command: &VocabCommand, screen: &Screen) -> Result<(), Failure> {
    match command {
        VocabCommand::Build(args) => build(args, screen),
        VocabCommand::Show(args) => show(args, screen),
        VocabCommand::Encode(args) => encode(args, screen),
        VocabCommand::Decode(args) => decode(args, screen),
    }
}

/// Lays the flags over a vocabulary plan.
pub(crate) fn apply_token_args(args: &TokenArgs, plan: &mut VocabularyPlan) -> Result<(), Failure> {
    if let Some(unit) = args.unit {
        plan.unit = unit.into();
    }
    if let Some(size) = args.vocab_size {
        plan.size = Some(size);
    }
    if let Some(minimum_count) = args.min_count {
        plan.minimum_count = minimum_count;
    }
    if let Some(steps) = cleaning_steps(&args.cleaning)? {
        plan.cleaning = steps;
    }
    Ok(())
}

fn build(args: &VocabBuildArgs, screen: &Screen) -> Result<(), Failure> {
    interrupt::listen();
    let existing = if args.force { Existing::Replace } else { Existing::Keep };
    // Better said before the work than after it.
    if existing == Existing::Keep && args.output.exists() {
        return Err(lalograph_lab::LabError::Exists(args.output.clone()).into());
    }
    let mut plan = VocabularyPlan::default();
    apply_token_args(&args.tokens, &mut plan)?;
    let corpus = find_corpus(&args.corpus, &CorpusPlan::default(), &[])?;
    let left_out = (args.corpus.reading.left_out.as_deref(), existing);
    let cleaning = Cleaning { steps: plan.cleaning.clone() };
    let builder = watched(&corpus, "counting", left_out, screen, |observer| {
        Ok(VocabularyBuilder::count(plan.unit, &cleaning, &corpus, threads(None), observer, |_| true)?)
    })?;
    let vocabulary = builder.finish(Admission { size: plan.size, minimum_count: plan.minimum_count })?;
    write_whole(&args.output, vocabulary.to_json().as_bytes(), existing)?;
    screen.line(&format!("{}\n  written to {}", render_size(&vocabulary, screen), args.output.display()))
}

/// Its size, stated exactly, and what was done to the text.
pub(crate) fn render_size(vocabulary: &Vocabulary, screen: &Screen) -> String {
    let counted = vocabulary.counted();
    let unit = vocabulary.unit();
    let own = vocabulary.tokens().len() as u64;
    let steps: Vec<&str> = vocabulary.cleaning().steps.iter().map(|step| step.name()).collect();
    let noun = if own == 1 { unit.name() } else { unit.plural() };
    let rows = [
        (
            "indices",
            format!(
                "{} = {} {noun} + {} reserved",
                count(vocabulary.len() as u64),
                count(own),
                Reserved::COUNT
            ),
        ),
        ("cleaning", if steps.is_empty() { "none".to_owned() } else { steps.join(", then ") }),
        (
            "counted on",
            format!(
                "{} {} in {} documents, {} different ones",
                count(counted.tokens),
                unit.plural(),
                count(counted.documents),
                count(counted.distinct_tokens)
            ),
        ),
        ("covers", format!("{} of them", percent(counted.tokens_covered, counted.tokens))),
    ];
    format!("{}\n{}", screen.heading("The vocabulary"), facts(screen, &rows))
}

/// Reads a vocabulary from its own file, or from a model's.
fn load(path: &Path) -> Result<Vocabulary, Failure> {
    let path = model_path(path);
    if path.extension().is_some_and(|extension| extension == "safetensors") {
        return Ok(ModelFile::load(&path)?.vocabulary);
    }
    Ok(read_vocabulary(&path)?)
}

/// A row of `vocab show`.
#[derive(Serialize)]
struct ShownToken<'v> {
    index: u32,
    token: &'v str,
    count: u64,
}

/// `vocab show --json`.
#[derive(Serialize)]
struct Shown<'v> {
    unit: Unit,
    cleaning: &'v Cleaning,
    indices: u64,
    reserved: &'v Reserved,
    counted: lalograph_text::vocabulary::Counted,
    tokens: Vec<ShownToken<'v>>,
}

fn show(args: &VocabShowArgs, screen: &Screen) -> Result<(), Failure> {
    let vocabulary = load(&args.file)?;
    let wanted = |token: &str| args.find.as_deref().is_none_or(|part| token.contains(part));
    let tokens: Vec<ShownToken<'_>> = vocabulary
        .tokens()
        .iter()
        .zip(Reserved::COUNT..)
        .filter(|((token, _), _)| wanted(token))
        .take(args.top)
        .map(|((token, count), index)| ShownToken { index, token, count: *count })
        .collect();
    if args.json {
        return screen.json(&Shown {
            unit: vocabulary.unit(),
            cleaning: vocabulary.cleaning(),
            indices: vocabulary.len() as u64,
            reserved: vocabulary.reserved(),
            counted: vocabulary.counted(),
            tokens,
        });
    }
    let total = vocabulary.counted().tokens;
    let reserved = (0..Reserved::COUNT).filter(|_| args.find.is_none()).map(|index| {
        let name = vocabulary.token(index).unwrap_or_default().to_owned();
        vec![index.to_string(), String::new(), name, String::new(), String::new()]
    });
    let rows: Vec<Vec<String>> = reserved
        .chain(tokens.iter().map(|shown| {
            vec![
                shown.index.to_string(),
                (shown.index - Reserved::COUNT + 1).to_string(),
                visible(shown.token),
                count(shown.count),
                percent(shown.count, total),
            ]
        }))
        .collect();
    let heads = ["index", "rank", vocabulary.unit().name(), "count", "share"];
    let columns = [Column::Number, Column::Number, Column::Text, Column::Number, Column::Number];
    let list = if rows.is_empty() {
        format!("  no token has `{}` in it", args.find.as_deref().unwrap_or_default())
    } else {
        table(screen, &heads, &columns, &rows)
    };
    screen.line(&format!("{}\n{list}", render_size(&vocabulary, screen)))
}

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

fn encode(args: &VocabEncodeArgs, screen: &Screen) -> Result<(), Failure> {
    let vocabulary = load(&args.file)?;
    let text = text_or_input(&args.text)?;
    let mut pairs = vocabulary.encode(&text);
    let length = args.length.unwrap_or(pairs.len());
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
            let mark = if *index == Reserved::UNKNOWN { "unknown" } else { "" };
            vec![(position + 1).to_string(), visible(token), index.to_string(), mark.to_owned()]
        })
        .collect();
    let columns = [Column::Number, Column::Text, Column::Number, Column::Text];
    let drawn = table(screen, &["place", "token", "index", ""], &columns, &rows)
        .replace(" unknown", &format!(" {}", screen.styled(BRICK.style().bold(), "unknown")));
    let mut closing = format!("{} tokens, {} unknown", count(rows.len() as u64), count(unknown_tokens));
    if tokens_cut > 0 {
        closing.push_str(&format!(", {} cut off", count(tokens_cut)));
    }
    if tokens_padded > 0 {
        closing.push_str(&format!(", {} of them padding", count(tokens_padded)));
    }
    let shown = if cleaned == text.as_str() { String::new() } else { format!("  cleaned: {cleaned}\n") };
    screen.line(&format!("{shown}{drawn}\n  {closing}"))
}

fn decode(args: &VocabDecodeArgs, screen: &Screen) -> Result<(), Failure> {
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
    screen.line(&vocabulary.decode(&indices)?)
}
