//! Vocabularies.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};

use super::corpus::{CorpusArgs, TokenArgs};

/// `vocab` and what it can do.
#[derive(Debug, Subcommand)]
pub(crate) enum VocabCommand {
    /// Count the tokens of a corpus and keep the commonest.
    Build(VocabBuildArgs),
    /// Look into a vocabulary: its size, what was done to the text, tokens by rank.
    Show(VocabShowArgs),
    /// Show a text, its tokens and their indices side by side.
    Encode(VocabEncodeArgs),
    /// Turn indices back into text.
    Decode(VocabDecodeArgs),
    /// Show what a vocabulary's size costs and brings on text that it was not counted on.
    Coverage(VocabCoverageArgs),
    /// Put the tokens of two vocabularies together, counts added.
    Merge(VocabMergeArgs),
    /// Add the words of a new corpus to a vocabulary; every old index stays.
    Extend(VocabExtendArgs),
    /// Show what two vocabularies share and what only one of them has.
    Compare(VocabCompareArgs),
}

/// `vocab build`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph vocab build thornmere/diaries --document line --output words.json\n  lalograph vocab build thornmere/diaries --unit character --output characters.json\n  lalograph vocab build thornmere/diaries --unit byte-pair --vocab-size 600 --output merged.json"
)]
pub(crate) struct VocabBuildArgs {
    /// The corpus.
    #[command(flatten)]
    pub(crate) corpus: CorpusArgs,
    /// How text is cleaned and cut.
    #[command(flatten)]
    pub(crate) tokens: TokenArgs,
    /// Where to write the vocabulary.
    #[arg(long, short, value_name = "FILE", default_value = "vocabulary.json")]
    pub(crate) output: PathBuf,
    /// Replace the file if it is there.
    #[arg(long)]
    pub(crate) force: bool,
}

/// `vocab show`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph vocab show thornmere/vocabulary.json\n  lalograph vocab show thornmere/vocabulary.json --find queen\n  lalograph vocab show thornmere/vocabulary.json --top 100 --json"
)]
pub(crate) struct VocabShowArgs {
    /// A vocabulary or a model.
    pub(crate) file: PathBuf,
    /// How many tokens to list.
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub(crate) top: usize,
    /// List tokens that have this in them.
    #[arg(long, value_name = "TEXT")]
    pub(crate) find: Option<String>,
    /// Which tokens to list first.
    #[arg(long, value_enum, value_name = "ORDER", default_value = "index")]
    pub(crate) order: TokenOrder,
    /// List the tokens at these indices.
    #[arg(long, value_name = "N,N,...", value_delimiter = ',', conflicts_with_all = ["find", "order"])]
    pub(crate) at: Vec<u32>,
    /// List these tokens, or say that they have no index.
    #[arg(long, value_name = "TOKEN", conflicts_with_all = ["find", "order", "at"])]
    pub(crate) token: Vec<String>,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

/// Which tokens are listed first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum TokenOrder {
    /// By index, the reserved tokens first.
    Index,
    /// By count, the most frequent first.
    Count,
    /// By the token itself, in the order of its characters.
    Token,
    /// The longest.
    Longest,
    /// The rarest.
    Rarest,
}

/// `vocab coverage`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph vocab coverage thornmere/diaries --document line\n  lalograph vocab coverage thornmere/diaries --document line --unit byte-pair --vocab-size 800\n  lalograph vocab coverage thornmere/diaries.csv --sizes 50,100,200 --pictures covered"
)]
pub(crate) struct VocabCoverageArgs {
    /// The corpus.
    #[command(flatten)]
    pub(crate) corpus: CorpusArgs,
    /// How text is cleaned and cut.
    #[command(flatten)]
    pub(crate) tokens: TokenArgs,
    /// Sizes to try, besides the largest; without them, steps up to the largest.
    #[arg(long, value_name = "N,N,...", value_delimiter = ',')]
    pub(crate) sizes: Vec<usize>,
    /// Share of documents held out to try the vocabularies on.
    #[arg(long, value_name = "SHARE", default_value_t = 0.1)]
    pub(crate) held_out: f64,
    /// Seed of that choice.
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub(crate) seed: u64,
    /// A split file: count on its training part, try on its validation part.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["held_out", "seed"])]
    pub(crate) by: Option<PathBuf>,
    /// Draw the curve into this folder, as SVG and PNG.
    #[arg(long, value_name = "DIR")]
    pub(crate) pictures: Option<PathBuf>,
    /// Replace a picture that is there.
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
    /// A vocabulary or a model.
    pub(crate) first: PathBuf,
    /// Another, of the same unit and cleaning.
    pub(crate) second: PathBuf,
    /// Where to write the vocabulary.
    #[arg(long, short, value_name = "FILE")]
    pub(crate) output: PathBuf,
    /// Replace the file if it is there.
    #[arg(long)]
    pub(crate) force: bool,
}

/// `vocab extend`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph vocab extend thornmere/vocabulary.json thornmere/diaries.csv -o longer.json"
)]
pub(crate) struct VocabExtendArgs {
    /// The vocabulary, or a model.
    pub(crate) file: PathBuf,
    /// The new corpus; it is cleaned and cut as the vocabulary says.
    #[command(flatten)]
    pub(crate) corpus: CorpusArgs,
    /// Add at most N tokens, the commonest.
    #[arg(long, value_name = "N")]
    pub(crate) add: Option<usize>,
    /// Add tokens that occur at least N times in the new corpus.
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub(crate) min_count: u64,
    /// Where to write the vocabulary.
    #[arg(long, short, value_name = "FILE")]
    pub(crate) output: PathBuf,
    /// Replace the file if it is there.
    #[arg(long)]
    pub(crate) force: bool,
}

/// `vocab compare`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph vocab compare thornmere/vocabulary.json thornmere/runs/demo\n  lalograph vocab compare thornmere/vocabulary.json thornmere/runs/demo --json"
)]
pub(crate) struct VocabCompareArgs {
    /// A vocabulary or a model.
    pub(crate) first: PathBuf,
    /// Another.
    pub(crate) second: PathBuf,
    /// How many of the commonest tokens that only one has to list.
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
    /// A vocabulary or a model.
    pub(crate) file: PathBuf,
    /// The text, or - for standard input.
    pub(crate) text: String,
    /// Cut or pad to so many indices, as a fixed length would.
    #[arg(long, value_name = "N")]
    pub(crate) length: Option<usize>,
    /// Print the indices alone, on one line.
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
    /// A vocabulary or a model.
    pub(crate) file: PathBuf,
    /// Indices, or - to read them from standard input.
    #[arg(required = true, value_name = "INDEX")]
    pub(crate) indices: Vec<String>,
}
