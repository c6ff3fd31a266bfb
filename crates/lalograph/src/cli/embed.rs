//! Word vectors.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use lalograph_vectors::train::Direction;

use super::choice::choice;
use super::corpus::{ReadingArgs, TokenArgs};

/// `embed` and what it can do.
#[derive(Debug, Subcommand)]
pub(crate) enum EmbedCommand {
    /// Train word vectors on a corpus, showing the neighbours of chosen words during training.
    Train(Box<EmbedTrainArgs>),
    /// Import vectors from another file, for the words of a vocabulary or all words.
    Import(EmbedImportArgs),
    /// Show the nearest neighbours of words, sums of words or sentences, or distances between sentences.
    Near(EmbedNearArgs),
    /// Solve the analogy "A is to B as C is to ?".
    Relate(EmbedRelateArgs),
    /// Evaluate vectors on files of word similarity and of analogies.
    Judge(EmbedJudgeArgs),
    /// Draw words on a plane, as a picture and an HTML page.
    Map(EmbedMapArgs),
}

/// `embed train`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph embed train thornmere/diaries --document line --output words.safetensors\n  lalograph embed train thornmere/diaries --document line --pieces 2-5 --epochs 2 --output pieces.safetensors\n  lalograph embed train thornmere/diaries --document line --factorise --output counted.safetensors"
)]
pub(crate) struct EmbedTrainArgs {
    /// Files, folders or patterns such as 'letters/*.txt' (default: the paths of the plan). Gzip and Zstandard are decompressed.
    #[arg(value_name = "PATH", required_unless_present = "plan")]
    pub(crate) paths: Vec<PathBuf>,
    /// Plan file; flags override its settings.
    #[arg(long, value_name = "FILE")]
    pub(crate) plan: Option<PathBuf>,
    /// Set any value of the plan; can be repeated.
    #[arg(long = "set", value_name = "SECTION.KEY=VALUE")]
    pub(crate) settings: Vec<String>,
    /// Write the vectors to FILE, as safetensors.
    #[arg(long, short, value_name = "FILE", default_value = "vectors.safetensors")]
    pub(crate) output: PathBuf,
    /// Write the vectors as text too, one word and its numbers per line (default: none).
    #[arg(long, value_name = "FILE")]
    pub(crate) text_output: Option<PathBuf>,
    /// Replace existing files.
    #[arg(long)]
    pub(crate) force: bool,
    /// Print JSON Lines: progress, neighbours, then the outcome.
    #[arg(long)]
    pub(crate) json: bool,

    /// Folder of the runs, where encoded corpora are kept.
    #[arg(long, value_name = "DIR", default_value = "runs")]
    pub(crate) runs: PathBuf,

    /// Options of reading files.
    #[command(flatten)]
    pub(crate) reading: ReadingArgs,
    /// Use this vocabulary instead of building one from the corpus (default: none).
    #[arg(
        long,
        value_name = "FILE",
        help_heading = "Corpus",
        conflicts_with_all = ["unit", "vocabulary_size", "minimum_count", "cleaning", "include", "include_from", "exclude", "exclude_from", "reserved"]
    )]
    pub(crate) vocabulary_file: Option<PathBuf>,
    /// Options of cleaning and tokenising.
    #[command(flatten, next_help_heading = "Corpus")]
    pub(crate) tokens: TokenArgs,

    /// Direction of prediction.
    #[arg(long, value_parser = choice::<Direction>(), value_name = "WHICH", help_heading = "Training")]
    pub(crate) direction: Option<Direction>,
    /// Dimensions of a vector.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) dimensions: Option<usize>,
    /// Context window: at most N words on each side; the size is drawn between 1 and N for each word.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) window: Option<usize>,
    /// Always use the whole context window.
    #[arg(long, help_heading = "Training", conflicts_with = "factorise")]
    pub(crate) fixed_window: bool,
    /// Negative samples for each prediction (0 = full softmax).
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) negative_samples: Option<usize>,
    /// Randomly skip words more frequent than this share (0 = never).
    #[arg(long, value_name = "SHARE", help_heading = "Training", conflicts_with = "factorise")]
    pub(crate) subsample: Option<f64>,
    /// Initial learning rate, with linear decay to almost 0 (default: 0.06, or 0.25 for context-to-word).
    #[arg(long, value_name = "RATE", help_heading = "Training", conflicts_with = "factorise")]
    pub(crate) learning_rate: Option<f64>,
    /// Number of epochs.
    #[arg(long, value_name = "N", help_heading = "Training", conflicts_with = "factorise")]
    pub(crate) epochs: Option<u64>,
    /// Train vectors of word pieces of MIN to MAX characters too, so that unseen words have vectors (default: off).
    #[arg(long, value_name = "MIN-MAX", value_parser = parse_range, help_heading = "Training", conflicts_with = "factorise")]
    pub(crate) pieces: Option<(usize, usize)>,
    /// Number of rows that all pieces are hashed to.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) piece_rows: Option<u32>,
    /// Count co-occurrences and factorise the matrix of shifted positive pointwise mutual information instead of predicting; --negative-samples is the
    /// shift.
    #[arg(long, help_heading = "Training")]
    pub(crate) factorise: bool,
    /// Random seed of initial weights and draws.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) seed: Option<u64>,
    /// Do not synchronise threads: faster with many threads, but results are not repeatable.
    #[arg(long, help_heading = "Training", conflicts_with_all = ["factorise", "lanes"])]
    pub(crate) fast: bool,
    /// Number of parts of the text to train on in parallel. Results depend on it, but not on the number of threads.
    #[arg(long, value_name = "N", help_heading = "Training", conflicts_with = "factorise")]
    pub(crate) lanes: Option<usize>,
    /// Number of threads (default: all processors).
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..), help_heading = "Training")]
    pub(crate) threads: Option<u16>,
    /// Show the neighbours of this word during training; can be repeated (default: four frequent words).
    #[arg(long, value_name = "WORD", help_heading = "Training")]
    pub(crate) probe: Vec<String>,
}

fn parse_range(text: &str) -> Result<(usize, usize), String> {
    let (shortest, longest) = text.split_once('-').unwrap_or((text, text));
    match (shortest.trim().parse(), longest.trim().parse()) {
        (Ok(shortest), Ok(longest)) => Ok((shortest, longest)),
        _ => Err("two numbers of characters are wanted, such as 2-5".into()),
    }
}

/// `embed import`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph embed import thornmere/vectors.txt --output all.safetensors\n  lalograph embed import thornmere/vectors.txt --vocabulary-file thornmere/vocabulary.json --output known.safetensors"
)]
pub(crate) struct EmbedImportArgs {
    /// File of vectors: text (one word and its numbers per line, with or without a first line of counts), or safetensors.
    pub(crate) file: PathBuf,
    /// Keep only the words of this vocabulary file, model file or run (default: all words).
    #[arg(long, value_name = "FILE")]
    pub(crate) vocabulary_file: Option<PathBuf>,
    /// Words of the rows of a foreign safetensors file, one per line.
    #[arg(long, value_name = "FILE", requires = "tensor")]
    pub(crate) words: Option<PathBuf>,
    /// Tensor with the rows.
    #[arg(long, value_name = "NAME", requires = "words")]
    pub(crate) tensor: Option<String>,
    /// Write the vectors to FILE.
    #[arg(long, short, value_name = "FILE", default_value = "vectors.safetensors")]
    pub(crate) output: PathBuf,
    /// Replace an existing file.
    #[arg(long)]
    pub(crate) force: bool,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

/// `embed near`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph embed near thornmere/vectors.txt Hesper Foxgate\n  lalograph embed near thornmere/vectors.txt yawned --minus Hesper --plus Maudry\n  lalograph embed near thornmere/vectors.txt --sentence 'Dead bees beneath the door' --sentence 'A cloud of bees' --distances"
)]
pub(crate) struct EmbedNearArgs {
    /// File of vectors, as safetensors or text.
    pub(crate) vectors: PathBuf,
    /// Words to search for, each by itself, or as a sum with --plus or --minus.
    pub(crate) words: Vec<String>,
    /// Search for the words of FILE too, one per line.
    #[arg(long, value_name = "FILE")]
    pub(crate) words_from: Option<PathBuf>,
    /// Add the vector of this word; can be repeated.
    #[arg(long, value_name = "WORD")]
    pub(crate) plus: Vec<String>,
    /// Subtract the vector of this word; can be repeated.
    #[arg(long, value_name = "WORD")]
    pub(crate) minus: Vec<String>,
    /// Search for this sentence; can be repeated.
    #[arg(long, value_name = "TEXT")]
    pub(crate) sentence: Vec<String>,
    /// Show a table of the distances between the sentences.
    #[arg(long, requires = "sentence")]
    pub(crate) distances: bool,
    /// Weights of the words of a sentence (default: frequency if counts are known, else mean).
    #[arg(long, value_enum, value_name = "HOW", requires = "sentence")]
    pub(crate) weigh: Option<WeighChoice>,
    /// Show N neighbours.
    #[arg(long, short = 'n', value_name = "N", default_value_t = 8)]
    pub(crate) count: usize,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

/// Weights of a text's words in its vector.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum WeighChoice {
    /// Equal weights.
    Mean,
    /// Lower weights for frequent words.
    Frequency,
}

/// Formula that answers an analogy.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum MethodChoice {
    /// The word nearest to B - A + C.
    Additive,
    /// The word with the highest product of similarities to B and C, divided by the similarity to A.
    Multiplicative,
}

/// `embed relate`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph embed relate thornmere/vectors.txt Maudry whistled Hesper\n  lalograph embed relate thornmere/vectors.txt Maudry whistled Hesper --method multiplicative --json"
)]
pub(crate) struct EmbedRelateArgs {
    /// File of vectors, as safetensors or text.
    pub(crate) vectors: PathBuf,
    /// Word A.
    pub(crate) a: String,
    /// Word B.
    pub(crate) b: String,
    /// Word C.
    pub(crate) c: String,
    /// Method to solve the analogy.
    #[arg(long, value_enum, value_name = "HOW", default_value = "additive")]
    pub(crate) method: MethodChoice,
    /// Show N answers.
    #[arg(long, short = 'n', value_name = "N", default_value_t = 5)]
    pub(crate) count: usize,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

/// `embed judge`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph embed judge thornmere/vectors.txt --similarity thornmere/similarity.tsv\n  lalograph embed judge thornmere/vectors.txt --analogies thornmere/analogies.txt --method multiplicative"
)]
pub(crate) struct EmbedJudgeArgs {
    /// Files of vectors, as safetensors or text; several are compared side by side.
    #[arg(required = true)]
    pub(crate) vectors: Vec<PathBuf>,
    /// File of word similarity: two words and a number per line.
    #[arg(long, value_name = "FILE")]
    pub(crate) similarity: Option<PathBuf>,
    /// File of analogies: four words per line, under headings that begin with #.
    #[arg(long, value_name = "FILE")]
    pub(crate) analogies: Option<PathBuf>,
    /// Method to solve analogies.
    #[arg(long, value_enum, value_name = "HOW", default_value = "additive", requires = "analogies")]
    pub(crate) method: MethodChoice,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

/// Layout of the words.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum LayoutChoice {
    /// The first two principal components.
    Principal,
    /// t-SNE: neighbours stay neighbours.
    Neighbours,
}

/// `embed map`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph embed map thornmere/vectors.txt --output map --top 150\n  lalograph embed map thornmere/vectors.txt --output axes --layout principal --word Hesper --word Maudry --word whistled --word yawned"
)]
pub(crate) struct EmbedMapArgs {
    /// File of vectors, as safetensors or text.
    pub(crate) vectors: PathBuf,
    /// Write FILE.svg, FILE.png and FILE.html.
    #[arg(long, short, value_name = "FILE", default_value = "map")]
    pub(crate) output: PathBuf,
    /// Show the first N words of the file, which are the most frequent words of a vocabulary; English function words and punctuation marks are
    /// left out.
    #[arg(long, value_name = "N", default_value_t = 200, conflicts_with_all = ["word", "words_from"])]
    pub(crate) top: usize,
    /// Show function words and punctuation marks too.
    #[arg(long, conflicts_with_all = ["word", "words_from"])]
    pub(crate) function_words: bool,
    /// Show this word instead; can be repeated.
    #[arg(long, value_name = "WORD")]
    pub(crate) word: Vec<String>,
    /// Show the words of FILE instead, one per line.
    #[arg(long, value_name = "FILE")]
    pub(crate) words_from: Option<PathBuf>,
    /// Layout.
    #[arg(long, value_enum, value_name = "HOW", default_value = "neighbours")]
    pub(crate) layout: LayoutChoice,
    /// Perplexity of t-SNE: about the number of neighbours of each word (default: a tenth of the words, at most 30).
    #[arg(long, value_name = "N")]
    pub(crate) perplexity: Option<f64>,
    /// Random seed of the layout.
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub(crate) seed: u64,
    /// Replace existing files.
    #[arg(long)]
    pub(crate) force: bool,
    /// Print one JSON document with the coordinates.
    #[arg(long)]
    pub(crate) json: bool,
}
