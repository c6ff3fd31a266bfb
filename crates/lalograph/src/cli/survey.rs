//! Looking at a corpus and dividing it.

use std::path::PathBuf;

use clap::Args;
use lalograph_text::partition::Amount;
use regex::Regex;

use super::corpus::{CleaningArgs, CorpusArgs};

/// `survey`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph survey thornmere/diaries --document line\n  lalograph survey thornmere/diaries.csv --label outcome --match 'queen|brood' --pictures looks\n  lalograph survey thornmere/diaries --document line --clean lower_case --show-cleaning 3"
)]
pub(crate) struct SurveyArgs {
    /// The corpus.
    #[command(flatten)]
    pub(crate) corpus: CorpusArgs,
    /// What is done to each document before it is looked at; nothing, if this is not given.
    #[command(flatten)]
    pub(crate) cleaning: CleaningArgs,
    /// How many of the commonest words and characters to list.
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub(crate) top: usize,
    /// How many of the first documents to show.
    #[arg(long, value_name = "N", default_value_t = 3)]
    pub(crate) rows: usize,
    /// Count the documents that this regular expression matches, and show some.
    #[arg(long = "match", value_name = "PATTERN")]
    pub(crate) pattern: Option<Regex>,
    /// Look for nearly equal documents too: those that have this share of their five-word runs in common.
    #[arg(long, value_name = "SHARE", num_args = 0..=1, default_missing_value = "0.8", value_parser = parse_resemblance, require_equals = true)]
    pub(crate) near: Option<f64>,
    /// How many examples to show of matches and duplicates.
    #[arg(long, value_name = "N", default_value_t = 3)]
    pub(crate) examples: usize,
    /// Show the first N documents before and after the cleaning, differences marked, and nothing else.
    #[arg(long, value_name = "N", requires = "clean", conflicts_with_all = ["json", "counts"])]
    pub(crate) show_cleaning: Option<u64>,
    /// Count documents, bytes and words, and nothing else.
    #[arg(long, conflicts_with_all = ["clean", "pattern", "near", "pictures"])]
    pub(crate) counts: bool,
    /// Draw lengths, classes and ranks into this folder, as SVG and PNG.
    #[arg(long, value_name = "DIR")]
    pub(crate) pictures: Option<PathBuf>,
    /// Replace pictures that are there, and the file of what is left out.
    #[arg(long)]
    pub(crate) force: bool,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

fn parse_resemblance(text: &str) -> Result<f64, String> {
    match text.parse::<f64>() {
        Ok(share) if share > 0.0 && share <= 1.0 => Ok(share),
        _ => Err("a resemblance is above 0 and at most 1, such as 0.8".into()),
    }
}

/// `split`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph split thornmere/diaries --document line --validation 0.1 --test 0.1\n  lalograph split thornmere/diaries.csv --label outcome --test 50 --set-aside restless -o by.json\n  lalograph split thornmere/diaries.jsonl --near --files parts --output near.split.json"
)]
pub(crate) struct SplitArgs {
    /// The corpus.
    #[command(flatten)]
    pub(crate) corpus: CorpusArgs,
    /// Held out to judge by while training: a share below 1, or a number of documents.
    #[arg(long, value_name = "AMOUNT", default_value = "0.1", value_parser = parse_amount)]
    pub(crate) validation: Amount,
    /// Held out to judge by at the end: a share below 1, or a number of documents.
    #[arg(long, value_name = "AMOUNT", default_value = "0.1", value_parser = parse_amount)]
    pub(crate) test: Amount,
    /// Seed of the choice.
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub(crate) seed: u64,
    /// Set documents with this label aside; may be given again and again.
    #[arg(long, value_name = "LABEL")]
    pub(crate) set_aside: Vec<String>,
    /// Keep nearly equal documents in one part: those that have this share of their five-word runs in common.
    #[arg(long, value_name = "SHARE", num_args = 0..=1, default_missing_value = "0.8", value_parser = parse_resemblance, require_equals = true)]
    pub(crate) near: Option<f64>,
    /// Apply a split file that is there already, instead of making one.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["validation", "test", "seed", "set_aside", "near", "output"])]
    pub(crate) by: Option<PathBuf>,
    /// Where to write the split file, which `train`, `survey`, `vocab build` and `score` read with --split.
    #[arg(long, short, value_name = "FILE", default_value = "split.json")]
    pub(crate) output: PathBuf,
    /// Write the parts into this folder too, each a file: one document a line if they are lines without labels, else JSON Lines.
    #[arg(long, value_name = "DIR")]
    pub(crate) files: Option<PathBuf>,
    /// Further columns or field paths to write into the parts' files; may be given again and again.
    #[arg(long, value_name = "COLUMN", requires = "files")]
    pub(crate) keep: Vec<String>,
    /// Replace files that are there.
    #[arg(long)]
    pub(crate) force: bool,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

fn parse_amount(text: &str) -> Result<Amount, String> {
    match text.parse::<f64>() {
        Ok(share) if (0.0..1.0).contains(&share) => Ok(Amount::Share(share)),
        Ok(count) if count >= 1.0 && count.fract() == 0.0 && count < 1e15 => {
            Ok(Amount::Documents(count as u64))
        }
        _ => Err("an amount is a share below 1, such as 0.1, or a number of documents, such as 500".into()),
    }
}
