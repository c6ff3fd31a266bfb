//! Vocabularies.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};

use super::corpus::{CorpusArgs, TokenArgs};

/// `vocab` and what it can do.
#[derive(Debug, Subcommand)]
pub(crate) enum VocabCommand {
    /// Build a vocabulary from a corpus.
    Build(VocabBuildArgs),
    /// Show a vocabulary: size, cleaning, tokens with counts.
    Show(VocabShowArgs),
    /// Show the tokens and indices of a text.
    Encode(VocabEncodeArgs),
    /// Turn indices back into text.
    Decode(VocabDecodeArgs),
    /// Measure unknown tokens and text length on held-out text, by vocabulary size.
    Coverage(VocabCoverageArgs),
    /// Merge two vocabularies and add their counts.
    Merge(VocabMergeArgs),
    /// Add the words of a new corpus to a vocabulary; existing indices do not change.
    Extend(VocabExtendArgs),
    /// Compare two vocabularies.
    Compare(VocabCompareArgs),
}

/// `vocab build`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph vocab build thornmere/diaries --document line --output words.json\n  lalograph vocab build thornmere/diaries --unit character --output characters.json\n  lalograph vocab build thornmere/diaries --unit byte-pair --vocabulary-size 600 -o merged.json"
)]
pub(crate) struct VocabBuildArgs {
    /// The corpus.
    #[command(flatten)]
    pub(crate) corpus: CorpusArgs,
    /// Options of cleaning and tokenising.
    #[command(flatten)]
    pub(crate) tokens: TokenArgs,
    /// Write the vocabulary to FILE.
    #[arg(long, short, value_name = "FILE", default_value = "vocabulary.json")]
    pub(crate) output: PathBuf,
    /// Replace an existing file.
    #[arg(long)]
    pub(crate) force: bool,
}

/// `vocab show`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph vocab show thornmere/vocabulary.json\n  lalograph vocab show thornmere/vocabulary.json --find queen\n  lalograph vocab show thornmere/vocabulary.json --top 100 --json"
)]
pub(crate) struct VocabShowArgs {
    /// Vocabulary file, model file or run.
    pub(crate) file: PathBuf,
    /// List N tokens.
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub(crate) top: usize,
    /// List tokens that contain TEXT.
    #[arg(long, value_name = "TEXT")]
    pub(crate) find: Option<String>,
    /// Order of the list.
    #[arg(long, value_enum, value_name = "ORDER", default_value = "index")]
    pub(crate) order: TokenOrder,
    /// List the tokens with these indices.
    #[arg(long, value_name = "N,N,...", value_delimiter = ',', conflicts_with_all = ["find", "order"])]
    pub(crate) at: Vec<u32>,
    /// List this token, or report that it has no index; can be repeated.
    #[arg(long, value_name = "TOKEN", conflicts_with_all = ["find", "order", "at"])]
    pub(crate) token: Vec<String>,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

/// Which tokens are listed first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum TokenOrder {
    /// By index.
    Index,
    /// By count, the most frequent first.
    Count,
    /// By token, in the order of code points.
    Token,
    /// Longest first.
    Longest,
    /// By count, the rarest first.
    Rarest,
}

/// `vocab coverage`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph vocab coverage thornmere/diaries --document line\n  lalograph vocab coverage thornmere/diaries --document line --unit byte-pair --vocabulary-size 800\n  lalograph vocab coverage thornmere/diaries.csv --sizes 50,100,200 --pictures covered"
)]
pub(crate) struct VocabCoverageArgs {
    /// The corpus.
    #[command(flatten)]
    pub(crate) corpus: CorpusArgs,
    /// Options of cleaning and tokenising.
    #[command(flatten)]
    pub(crate) tokens: TokenArgs,
    /// Vocabulary sizes to measure besides the largest (default: steps up to the largest).
    #[arg(long, value_name = "N,N,...", value_delimiter = ',')]
    pub(crate) sizes: Vec<usize>,
    /// Share of documents to hold out.
    #[arg(long, value_name = "SHARE", default_value_t = 0.1)]
    pub(crate) held_out: f64,
    /// Random seed of the held-out documents.
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub(crate) seed: u64,
    /// Build on the training part of this split file and measure on its validation part.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["held_out", "seed"])]
    pub(crate) held_out_by: Option<PathBuf>,
    /// Write the chart to DIR, as SVG and PNG.
    #[arg(long, value_name = "DIR")]
    pub(crate) pictures: Option<PathBuf>,
    /// Replace an existing chart.
    #[arg(long)]
    pub(crate) force: bool,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

/// `vocab merge`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph vocab merge thornmere/vocabulary.json thornmere/vocabulary.json -o both.json"
)]
pub(crate) struct VocabMergeArgs {
    /// First vocabulary file, model file or run.
    pub(crate) first: PathBuf,
    /// Second one, with the same unit and cleaning.
    pub(crate) second: PathBuf,
    /// Write the vocabulary to FILE.
    #[arg(long, short, value_name = "FILE")]
    pub(crate) output: PathBuf,
    /// Replace an existing file.
    #[arg(long)]
    pub(crate) force: bool,
}

/// `vocab extend`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph vocab extend thornmere/vocabulary.json thornmere/diaries.csv -o longer.json"
)]
pub(crate) struct VocabExtendArgs {
    /// Vocabulary file, model file or run to extend.
    pub(crate) file: PathBuf,
    /// New corpus; unit and cleaning are those of the vocabulary.
    #[command(flatten)]
    pub(crate) corpus: CorpusArgs,
    /// Add the N most frequent new tokens (default: all).
    #[arg(long, value_name = "N")]
    pub(crate) add: Option<usize>,
    /// Add tokens with at least N occurrences in the new corpus.
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub(crate) minimum_count: u64,
    /// Write the vocabulary to FILE.
    #[arg(long, short, value_name = "FILE")]
    pub(crate) output: PathBuf,
    /// Replace an existing file.
    #[arg(long)]
    pub(crate) force: bool,
}

/// `vocab compare`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph vocab compare thornmere/vocabulary.json thornmere/runs/demo\n  lalograph vocab compare thornmere/vocabulary.json thornmere/runs/demo --json"
)]
pub(crate) struct VocabCompareArgs {
    /// First vocabulary file, model file or run.
    pub(crate) first: PathBuf,
    /// Second one.
    pub(crate) second: PathBuf,
    /// List the N most frequent tokens that only one of them has.
    #[arg(long, value_name = "N", default_value_t = 10)]
    pub(crate) top: usize,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

/// `vocab encode`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph vocab encode thornmere/vocabulary.json 'The blue queen raced home.'\n  lalograph vocab encode thornmere/vocabulary.json --length 8 'The blue queen raced home.'\n  lalograph vocab encode thornmere/vocabulary.json --indices - < entry.txt"
)]
pub(crate) struct VocabEncodeArgs {
    /// Vocabulary file, model file or run.
    pub(crate) file: PathBuf,
    /// Text, or - for standard input.
    pub(crate) text: String,
    /// Cut or pad to N indices (default: neither).
    #[arg(long, value_name = "N")]
    pub(crate) length: Option<usize>,
    /// Print the indices only, on one line.
    #[arg(long, conflicts_with = "json")]
    pub(crate) indices: bool,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

/// `vocab decode`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph vocab decode thornmere/vocabulary.json 12 7 30 4\n  echo 12 7 30 4 | lalograph vocab decode thornmere/vocabulary.json -"
)]
pub(crate) struct VocabDecodeArgs {
    /// Vocabulary file, model file or run.
    pub(crate) file: PathBuf,
    /// Token indices, or - for standard input.
    #[arg(required = true, value_name = "INDEX")]
    pub(crate) indices: Vec<String>,
}
