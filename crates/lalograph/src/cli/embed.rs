//! Word vectors.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};

use super::corpus::{ReadingArgs, TokenArgs};

/// `embed` and what it can do.
#[derive(Debug, Subcommand)]
pub(crate) enum EmbedCommand {
    /// Learn word vectors from a corpus, with the neighbours of chosen words as it goes.
    Train(Box<EmbedTrainArgs>),
    /// Bring in vectors from elsewhere, for the words of a vocabulary or all of them.
    Import(EmbedImportArgs),
    /// Show the words nearest to words, to sums of words, or to a text; or how far texts are apart.
    Near(EmbedNearArgs),
    /// Answer "A is to B as C is to what?".
    Relate(EmbedRelateArgs),
    /// Judge vectors by files of word pairs and of analogies.
    Judge(EmbedJudgeArgs),
    /// Lay words out in a plane, as a picture and as a page.
    Map(EmbedMapArgs),
}

/// `embed train`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph embed train thornmere/diaries --document line --output words.safetensors\n  lalograph embed train thornmere/diaries --document line --pieces 3-5 --epochs 2 --output pieces.safetensors\n  lalograph embed train thornmere/diaries --document line --factorise --output counted.safetensors"
)]
pub(crate) struct EmbedTrainArgs {
    /// Files, folders, or patterns such as 'letters/*.txt'. Gzip and Zstandard are unpacked.
    #[arg(value_name = "PATH", required = true)]
    pub(crate) paths: Vec<PathBuf>,
    /// Where to write the vectors, as safetensors.
    #[arg(long, short, value_name = "FILE", default_value = "vectors.safetensors")]
    pub(crate) output: PathBuf,
    /// Write them as text, too: a word and its numbers on a line.
    #[arg(long, value_name = "FILE")]
    pub(crate) text_output: Option<PathBuf>,
    /// Replace files that are there.
    #[arg(long)]
    pub(crate) force: bool,
    /// Print JSON Lines: what happens, and the outcome.
    #[arg(long)]
    pub(crate) json: bool,

    /// The folder of runs, in which encoded corpora are kept for the next time.
    #[arg(long, value_name = "DIR", default_value = "runs")]
    pub(crate) runs: PathBuf,

    /// How files become documents.
    #[command(flatten)]
    pub(crate) reading: ReadingArgs,
    /// Use this vocabulary file instead of counting one.
    #[arg(
        long = "vocab",
        value_name = "FILE",
        help_heading = "Corpus",
        conflicts_with_all = ["unit", "vocab_size", "min_count", "clean", "include", "include_from", "exclude", "exclude_from", "reserved"]
    )]
    pub(crate) vocabulary: Option<PathBuf>,
    /// How text is cleaned and cut.
    #[command(flatten, next_help_heading = "Corpus")]
    pub(crate) tokens: TokenArgs,

    /// Which predicts which.
    #[arg(
        long,
        value_enum,
        value_name = "WHICH",
        default_value = "word-to-context",
        help_heading = "Learning"
    )]
    pub(crate) direction: DirectionChoice,
    /// Numbers of a vector.
    #[arg(long, value_name = "N", default_value_t = 100, help_heading = "Learning")]
    pub(crate) dimensions: usize,
    /// Words to either side that are the context, at most; for each word the reach is drawn from 1 to that.
    #[arg(long, value_name = "N", default_value_t = 5, help_heading = "Learning")]
    pub(crate) window: usize,
    /// The context always reaches as far as it may.
    #[arg(long, help_heading = "Learning", conflicts_with = "factorise")]
    pub(crate) fixed_window: bool,
    /// Noise words that each prediction is told from; 0 for a softmax over the whole vocabulary.
    #[arg(long, value_name = "N", default_value_t = 5, help_heading = "Learning")]
    pub(crate) noise: usize,
    /// Leave words out now and then whose share of the text is above this; 0 for never.
    #[arg(
        long,
        value_name = "SHARE",
        default_value_t = 1e-3,
        help_heading = "Learning",
        conflicts_with = "factorise"
    )]
    pub(crate) subsample: f64,
    /// Learning rate at the beginning; it falls to almost nothing along a line. Without it 0.05, or 0.25 from context to word.
    #[arg(long, value_name = "RATE", help_heading = "Learning", conflicts_with = "factorise")]
    pub(crate) learning_rate: Option<f64>,
    /// Passes over the text.
    #[arg(
        long,
        value_name = "N",
        default_value_t = 5,
        help_heading = "Learning",
        conflicts_with = "factorise"
    )]
    pub(crate) epochs: u64,
    /// Learn vectors of pieces of words too, of so many characters, so that unseen words have vectors.
    #[arg(long, value_name = "MIN-MAX", value_parser = parse_range, help_heading = "Learning", conflicts_with = "factorise")]
    pub(crate) pieces: Option<(usize, usize)>,
    /// Rows that all pieces share.
    #[arg(long, value_name = "N", default_value_t = 100_000, requires = "pieces", help_heading = "Learning")]
    pub(crate) piece_rows: u32,
    /// Count which words stand together and factorise that, instead of predicting. --noise is then the shift.
    #[arg(long, help_heading = "Learning")]
    pub(crate) factorise: bool,
    /// Seed of everything that is left to chance.
    #[arg(long, value_name = "N", default_value_t = 1, help_heading = "Learning")]
    pub(crate) seed: u64,
    /// Threads do not wait for each other: faster on many of them, and never twice the same.
    #[arg(long, help_heading = "Learning", conflicts_with_all = ["factorise", "lanes"])]
    pub(crate) fast: bool,
    /// Parts of the text that are learnt from side by side; results depend on it, and not on the threads.
    #[arg(
        long,
        value_name = "N",
        default_value_t = 2,
        help_heading = "Learning",
        conflicts_with = "factorise"
    )]
    pub(crate) lanes: usize,
    /// Threads; without it all processors.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..), help_heading = "Learning")]
    pub(crate) threads: Option<u16>,
    /// Show the neighbours of this word as learning goes; may be given again and again. Without it four frequent ones.
    #[arg(long, value_name = "WORD", help_heading = "Learning")]
    pub(crate) probe: Vec<String>,
}

/// Which predicts which.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum DirectionChoice {
    /// The mean of the words around predicts the word in the middle.
    ContextToWord,
    /// A word predicts each of the words around it.
    WordToContext,
}

fn parse_range(text: &str) -> Result<(usize, usize), String> {
    let (shortest, longest) = text.split_once('-').unwrap_or((text, text));
    match (shortest.trim().parse(), longest.trim().parse()) {
        (Ok(shortest), Ok(longest)) => Ok((shortest, longest)),
        _ => Err("two numbers of characters are wanted, such as 3-6".into()),
    }
}

/// `embed import`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph embed import thornmere/vectors.txt --output all.safetensors\n  lalograph embed import thornmere/vectors.txt --vocab thornmere/vocabulary.json --output known.safetensors"
)]
pub(crate) struct EmbedImportArgs {
    /// A file of vectors: text (a word and its numbers on a line, with or without a first line of counts), or safetensors.
    pub(crate) file: PathBuf,
    /// Keep the words of this vocabulary, model or run only.
    #[arg(long = "vocab", value_name = "FILE")]
    pub(crate) vocabulary: Option<PathBuf>,
    /// Of safetensors that are not ours: the words of the rows, one on a line.
    #[arg(long, value_name = "FILE", requires = "tensor")]
    pub(crate) words: Option<PathBuf>,
    /// The tensor that the rows are in.
    #[arg(long, value_name = "NAME", requires = "words")]
    pub(crate) tensor: Option<String>,
    /// Where to write the vectors.
    #[arg(long, short, value_name = "FILE", default_value = "vectors.safetensors")]
    pub(crate) output: PathBuf,
    /// Replace the file if it is there.
    #[arg(long)]
    pub(crate) force: bool,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

/// `embed near`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph embed near thornmere/vectors.txt Hesper Foxgate\n  lalograph embed near thornmere/vectors.txt yawned --minus Hesper --plus Maudry\n  lalograph embed near thornmere/vectors.txt --text 'Dead bees beneath the door' --text 'A cloud of bees' --distances"
)]
pub(crate) struct EmbedNearArgs {
    /// A file of vectors, as safetensors or as text.
    pub(crate) vectors: PathBuf,
    /// Words; each by itself, unless --plus or --minus make a sum of them.
    pub(crate) words: Vec<String>,
    /// Words of a file, one on a line, each by itself.
    #[arg(long, value_name = "FILE")]
    pub(crate) words_from: Option<PathBuf>,
    /// Add this word's vector; may be given again and again.
    #[arg(long, value_name = "WORD")]
    pub(crate) plus: Vec<String>,
    /// Take this word's vector off; may be given again and again.
    #[arg(long, value_name = "WORD")]
    pub(crate) minus: Vec<String>,
    /// The words nearest to a text; may be given again and again.
    #[arg(long, value_name = "TEXT")]
    pub(crate) text: Vec<String>,
    /// How far the texts are apart from each other, as a table.
    #[arg(long, requires = "text")]
    pub(crate) distances: bool,
    /// How the vectors of a text's words become one: all alike, or frequent ones less. Without it by frequency where counts are known.
    #[arg(long, value_enum, value_name = "HOW", requires = "text")]
    pub(crate) weigh: Option<WeighChoice>,
    /// Neighbours to show.
    #[arg(long, short = 'n', value_name = "N", default_value_t = 8)]
    pub(crate) count: usize,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

/// How the vectors of a text's words become one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum WeighChoice {
    /// All alike.
    Mean,
    /// Frequent words less.
    Frequency,
}

/// How an analogy is answered.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum MethodChoice {
    /// The word nearest to B - A + C.
    Additive,
    /// The word with the greatest product of likenesses to B and C over that to A.
    Multiplicative,
}

/// `embed relate`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph embed relate thornmere/vectors.txt Maudry whistled Hesper\n  lalograph embed relate thornmere/vectors.txt Maudry whistled Hesper --method multiplicative --json"
)]
pub(crate) struct EmbedRelateArgs {
    /// A file of vectors, as safetensors or as text.
    pub(crate) vectors: PathBuf,
    /// A.
    pub(crate) a: String,
    /// B, which A is to.
    pub(crate) b: String,
    /// C.
    pub(crate) c: String,
    /// How it is answered.
    #[arg(long, value_enum, value_name = "HOW", default_value = "additive")]
    pub(crate) method: MethodChoice,
    /// Answers to show.
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
    /// Files of vectors, as safetensors or as text; several stand side by side.
    #[arg(required = true)]
    pub(crate) vectors: Vec<PathBuf>,
    /// Word pairs with a likeness each: two words and a number on a line.
    #[arg(long, value_name = "FILE")]
    pub(crate) similarity: Option<PathBuf>,
    /// Analogies: four words on a line, under headings that begin with #.
    #[arg(long, value_name = "FILE")]
    pub(crate) analogies: Option<PathBuf>,
    /// How analogies are answered.
    #[arg(long, value_enum, value_name = "HOW", default_value = "additive", requires = "analogies")]
    pub(crate) method: MethodChoice,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

/// How words are laid out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum LayoutChoice {
    /// Along the two directions in which they differ most.
    Principal,
    /// So that neighbours stay neighbours (t-SNE).
    Neighbours,
}

/// `embed map`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph embed map thornmere/vectors.txt --output map --top 150\n  lalograph embed map thornmere/vectors.txt --output axes --layout principal --word Hesper --word Maudry --word whistled --word yawned"
)]
pub(crate) struct EmbedMapArgs {
    /// A file of vectors, as safetensors or as text.
    pub(crate) vectors: PathBuf,
    /// Write FILE.svg, FILE.png and FILE.html.
    #[arg(long, short, value_name = "FILE", default_value = "map")]
    pub(crate) output: PathBuf,
    /// Show the first N words of the file, which are the most frequent ones of a vocabulary, without function words of English and punctuation
    /// marks.
    #[arg(long, value_name = "N", default_value_t = 200, conflicts_with_all = ["word", "words_from"])]
    pub(crate) top: usize,
    /// Show function words and punctuation marks too.
    #[arg(long, conflicts_with_all = ["word", "words_from"])]
    pub(crate) function_words: bool,
    /// This word; may be given again and again.
    #[arg(long, value_name = "WORD")]
    pub(crate) word: Vec<String>,
    /// The words of a file, one on a line.
    #[arg(long, value_name = "FILE")]
    pub(crate) words_from: Option<PathBuf>,
    /// How they are laid out.
    #[arg(long, value_enum, value_name = "HOW", default_value = "neighbours")]
    pub(crate) layout: LayoutChoice,
    /// About how many neighbours each word has; without it a tenth of the words, at most 30.
    #[arg(long, value_name = "N")]
    pub(crate) perplexity: Option<f64>,
    /// Seed of the first places.
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub(crate) seed: u64,
    /// Replace files that are there.
    #[arg(long)]
    pub(crate) force: bool,
    /// Print one JSON document with the places.
    #[arg(long)]
    pub(crate) json: bool,
}
