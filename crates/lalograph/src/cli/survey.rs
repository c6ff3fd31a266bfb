//! Looking at a corpus and dividing it.

use std::path::PathBuf;

use clap::Args;
use lalograph_text::partition::Amount;
use regex::Regex;

use super::corpus::{CleaningArgs, CorpusArgs, PairArgs};

/// `survey`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph survey thornmere/diaries --document line\n  lalograph survey thornmere/diaries.csv --label outcome --match 'queen|brood' --pictures looks\n  lalograph survey thornmere/diaries --document line --cleaning lower_case --show-cleaning 3"
)]
pub(crate) struct SurveyArgs {
    /// The corpus.
    #[command(flatten)]
    pub(crate) corpus: CorpusArgs,
    /// Prompts and answers.
    #[command(flatten)]
    pub(crate) pair: PairArgs,
    /// Cleaning before counting (default: none).
    #[command(flatten)]
    pub(crate) cleaning: CleaningArgs,
    /// List the N most frequent words and characters.
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub(crate) top: usize,
    /// Show the first N documents.
    #[arg(long, value_name = "N", default_value_t = 3)]
    pub(crate) rows: usize,
    /// Count documents that match this regular expression, in all and by class, and show examples.
    #[arg(long = "match", value_name = "PATTERN")]
    pub(crate) pattern: Option<Regex>,
    /// Look for near duplicates: documents that share at least this part of their five-word sequences (default: off; 0.8 without a value).
    #[arg(long, value_name = "SHARE", num_args = 0..=1, default_missing_value = "0.8", value_parser = parse_resemblance, require_equals = true)]
    pub(crate) near: Option<f64>,
    /// Show N examples of matches and duplicates.
    #[arg(long, value_name = "N", default_value_t = 3)]
    pub(crate) examples: usize,
    /// Show the first N documents before and after cleaning, with differences marked, and stop.
    #[arg(long, value_name = "N", requires = "cleaning", conflicts_with_all = ["json", "counts"])]
    pub(crate) show_cleaning: Option<u64>,
    /// Count documents, bytes and words only.
    #[arg(long, conflicts_with_all = ["cleaning", "pattern", "near", "pictures"])]
    pub(crate) counts: bool,
    /// Write charts of lengths, classes and ranks to DIR, as SVG and PNG.
    #[arg(long, value_name = "DIR")]
    pub(crate) pictures: Option<PathBuf>,
    /// Replace existing charts and an existing list of what was left out.
    #[arg(long)]
    pub(crate) force: bool,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

pub(super) fn parse_resemblance(text: &str) -> Result<f64, String> {
    match text.parse::<f64>() {
        Ok(share) if share > 0.0 && share <= 1.0 => Ok(share),
        _ => Err("a resemblance is above 0 and at most 1, such as 0.8".into()),
    }
}

/// `split`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph split thornmere/diaries --document line --validation-share 0.1 --test-share 0.1\n  lalograph split thornmere/diaries.csv --label outcome --test-documents 50 -o by.json\n  lalograph split thornmere/diaries.csv --label outcome --set-aside restless -o aside.json\n  lalograph split thornmere/diaries.jsonl --near --files parts --output near.split.json"
)]
pub(crate) struct SplitArgs {
    /// The corpus.
    #[command(flatten)]
    pub(crate) corpus: CorpusArgs,
    /// Prompts and answers.
    #[command(flatten)]
    pub(crate) pair: PairArgs,
    /// Share of documents in the validation part, 0 to 0.9.
    #[arg(long, value_name = "SHARE", default_value_t = 0.1, value_parser = parse_share)]
    pub(crate) validation_share: f64,
    /// Share of documents in the test part, 0 to 0.9.
    #[arg(long, value_name = "SHARE", default_value_t = 0.1, value_parser = parse_share)]
    pub(crate) test_share: f64,
    /// Number of documents in the validation part (default: by --validation-share).
    #[arg(long, value_name = "N", conflicts_with = "validation_share")]
    pub(crate) validation_documents: Option<u64>,
    /// Number of documents in the test part (default: by --test-share).
    #[arg(long, value_name = "N", conflicts_with = "test_share")]
    pub(crate) test_documents: Option<u64>,
    /// Random seed of the split.
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub(crate) seed: u64,
    /// Set documents with this label aside, in no part; can be repeated.
    #[arg(long, value_name = "LABEL")]
    pub(crate) set_aside: Vec<String>,
    /// Keep near duplicates in one part: documents that share at least this part of their five-word sequences (default: off; 0.8 without a value).
    #[arg(long, value_name = "SHARE", num_args = 0..=1, default_missing_value = "0.8", value_parser = parse_resemblance, require_equals = true)]
    pub(crate) near: Option<f64>,
    /// Apply an existing split file to the corpus instead of making one.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["validation_share", "test_share", "validation_documents", "test_documents", "seed", "set_aside", "near", "output"])]
    pub(crate) apply: Option<PathBuf>,
    /// Write the split to FILE; `train`, `survey`, `vocab build` and `score` read it with --split.
    #[arg(long, short, value_name = "FILE", default_value = "split.json")]
    pub(crate) output: PathBuf,
    /// Write each part to a file in DIR too: one document per line if documents are lines without labels, otherwise JSON Lines.
    #[arg(long, value_name = "DIR")]
    pub(crate) files: Option<PathBuf>,
    /// Copy this column or field path to the files of the parts; can be repeated.
    #[arg(long, value_name = "COLUMN", requires = "files")]
    pub(crate) keep: Vec<String>,
    /// Replace existing files.
    #[arg(long)]
    pub(crate) force: bool,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

impl SplitArgs {
    /// The size of the validation part.
    pub(crate) fn validation(&self) -> Amount {
        self.validation_documents.map_or(Amount::Share(self.validation_share), Amount::Documents)
    }

    /// The size of the test part.
    pub(crate) fn test(&self) -> Amount {
        self.test_documents.map_or(Amount::Share(self.test_share), Amount::Documents)
    }
}

fn parse_share(text: &str) -> Result<f64, String> {
    match text.parse::<f64>() {
        Ok(share) if (0.0..=0.9).contains(&share) => Ok(share),
        _ => Err("a share is from 0 to 0.9, such as 0.1; a number of documents is set by --validation-documents or --test-documents".into()),
    }
}
