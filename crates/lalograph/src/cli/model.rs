//! Training a model and using it.

use std::path::PathBuf;
use std::time::Duration;

use clap::builder::TypedValueParser;
use clap::{Args, ValueEnum};

use lalograph_lab::plan::{LossAt, Schedule, WindowKind};
use lalograph_lab::writing::decoding::UnknownTokens;
use lalograph_net::Cell;
use lalograph_net::heads::softmax::Softmax;
use lalograph_net::learning::optimiser::Rule;

use super::choice::{choice, minutes};
use super::corpus::{CorpusArgs, ReadingArgs, SharesArgs, TokenArgs};
use super::decoding::BeamArgs;

/// `train`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph train thornmere/diaries --document line --cell lstm --layers 2 --hidden 256\n  lalograph train thornmere/diaries --unit character --epochs 3 --temperatures 0.5,1.0\n  lalograph train --plan thornmere/runs/demo/plan.toml --set training.seed=2 --name second"
)]
pub(crate) struct TrainArgs {
    /// Files, folders or patterns such as 'letters/*.txt' (default: the paths of the plan).
    #[arg(value_name = "PATH", required_unless_present = "plan")]
    pub(crate) paths: Vec<PathBuf>,
    /// Plan file; flags override its settings.
    #[arg(long, value_name = "FILE")]
    pub(crate) plan: Option<PathBuf>,
    /// The run.
    #[command(flatten)]
    pub(crate) run: RunArgs,

    /// Options of reading files.
    #[command(flatten)]
    pub(crate) reading: ReadingArgs,
    /// Held-out parts.
    #[command(flatten)]
    pub(crate) shares: SharesArgs,
    /// Use this vocabulary instead of building one from the training text (default: none).
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

    /// The network.
    #[command(flatten)]
    pub(crate) model: ModelArgs,

    /// Training.
    #[command(flatten)]
    pub(crate) training: TrainingArgs,
    /// Samples.
    #[command(flatten)]
    pub(crate) samples: SamplesArgs,
}

/// The run of a training: its folder, its threads, its output.
#[derive(Debug, Args)]
pub(crate) struct RunArgs {
    /// Set any value of the plan; can be repeated.
    #[arg(long = "set", value_name = "SECTION.KEY=VALUE")]
    pub(crate) settings: Vec<String>,
    /// Name of the run and of its folder (default: the name of the corpus and the time).
    #[arg(long, value_name = "NAME")]
    pub(crate) name: Option<String>,
    /// Folder of the runs.
    #[arg(long, value_name = "DIR", default_value = "runs")]
    pub(crate) runs: PathBuf,
    /// Replace an existing run of that name.
    #[arg(long, requires = "name")]
    pub(crate) force: bool,
    /// Number of threads (default: all processors). Results do not depend on it.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) threads: Option<u16>,
    /// Print JSON Lines: metrics, checkpoints, hints and samples during training, then the outcome.
    #[arg(long)]
    pub(crate) json: bool,
}

/// How a language model is trained.
#[derive(Debug, Args)]
pub(crate) struct TrainingArgs {
    /// Random seed of initial weights, dropout, split and samples.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) seed: Option<u64>,
    /// Number of epochs (default: from the size of the training text).
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) epochs: Option<u64>,
    /// Number of optimiser steps, instead of epochs (default: by epochs).
    #[arg(long, value_name = "N", help_heading = "Training", conflicts_with = "epochs")]
    pub(crate) steps: Option<u64>,
    /// The size of a step.
    #[command(flatten)]
    pub(crate) step: StepArgs,
    /// Optimiser.
    #[arg(long, value_parser = choice::<Rule>(), value_name = "RULE", help_heading = "Training")]
    pub(crate) optimiser: Option<Rule>,
    /// Kind of windows.
    #[arg(long, value_parser = choice::<WindowKind>(), value_name = "KIND", help_heading = "Training")]
    pub(crate) windows: Option<WindowKind>,
    /// Tokens from the start of one independent window to the start of the next (default: the window).
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) stride: Option<usize>,
    /// Tokens of an independent window that are predicted.
    #[arg(long, value_parser = choice::<LossAt>(), value_name = "WHICH", help_heading = "Training")]
    pub(crate) loss_at: Option<LossAt>,
    /// Steps of linear warm-up (default: 200, or a quarter of the steps if fewer than 800).
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) warmup_steps: Option<u64>,
    /// Learning-rate schedule after the warm-up.
    #[arg(long, value_parser = choice::<Schedule>(), value_name = "SCHEDULE", help_heading = "Training")]
    pub(crate) schedule: Option<Schedule>,
    /// Peak learning rate.
    #[arg(long, value_name = "RATE", help_heading = "Training")]
    pub(crate) learning_rate: Option<f64>,
    /// Clip the gradient to this norm (0 = no clipping).
    #[arg(long, value_name = "NORM", help_heading = "Training")]
    pub(crate) clip_norm: Option<f64>,
    /// Dropout of token vectors, between layers and before the output (default: from the size of the training text).
    #[arg(long, value_name = "SHARE", help_heading = "Training")]
    pub(crate) dropout: Option<f64>,
    /// Measure how far back in time gradients reach, every N steps (0 = never).
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) flow_every: Option<u64>,
    /// Validate every N steps (0 = not by steps), and at the end.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) validate_every: Option<u64>,
    /// Validate every N epochs, such as 1 or 0.5; by steps too if --validate-every is given (default: by steps only).
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) validate_every_epochs: Option<f64>,
    /// Share of the validation text to use during training, from its start.
    #[arg(long, value_name = "SHARE", help_heading = "Training")]
    pub(crate) validate_share: Option<f64>,
    /// Stop after N minutes of training (default: no limit). `resume` continues exactly where training stopped; the learning rate follows the
    /// schedule of all steps.
    #[arg(long, value_name = "N", help_heading = "Training", value_parser = minutes)]
    pub(crate) minutes: Option<Duration>,
    /// Stop early after N validations without improvement (0 = never).
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) patience: Option<u64>,
    /// Write a checkpoint every N steps too (default: every 5 minutes and at the end only).
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) checkpoints_every: Option<u64>,
}

/// Samples during training.
#[derive(Debug, Args)]
pub(crate) struct SamplesArgs {
    /// Sampling temperatures, one sample for each.
    #[arg(long, value_name = "T,T,...", value_delimiter = ',', help_heading = "Samples")]
    pub(crate) temperatures: Option<Vec<f64>>,
    /// Write samples every N steps (0 = not by steps), and at the end.
    #[arg(long, value_name = "N", help_heading = "Samples")]
    pub(crate) samples_every: Option<u64>,
    /// Write samples every N epochs, such as 1 or 0.5; by steps too if --samples-every is given (default: by steps only).
    #[arg(long, value_name = "N", help_heading = "Samples")]
    pub(crate) samples_every_epochs: Option<f64>,
    /// Maximum number of tokens of a sample.
    #[arg(long, value_name = "N", help_heading = "Samples")]
    pub(crate) samples_tokens: Option<usize>,
    /// Seed text that samples continue (default: the start of a document); can be repeated.
    #[arg(long, value_name = "TEXT", help_heading = "Samples")]
    pub(crate) from: Vec<String>,
}

/// The network.
#[derive(Debug, Args)]
pub(crate) struct ModelArgs {
    /// Cell of the recurrent layers.
    #[arg(long, value_parser = choice::<Cell>(), value_name = "CELL", help_heading = "Model")]
    pub(crate) cell: Option<Cell>,
    /// Width of the token vectors (default: from the size of the training text).
    #[arg(long, value_name = "N", help_heading = "Model")]
    pub(crate) embedding: Option<usize>,
    /// Initialise the token vectors from this file of word vectors (default: random). Their width is that of the file; to freeze them: --set
    /// groups.embedding_rate=0.
    #[arg(long, value_name = "FILE", help_heading = "Model")]
    pub(crate) vectors: Option<PathBuf>,
    /// Initialise all weights from this model file or run, tensor by tensor (default: random). The vocabularies must be equal.
    #[arg(long, value_name = "MODEL", help_heading = "Model")]
    pub(crate) start_model: Option<PathBuf>,
    /// Width of each recurrent layer (default: from the size of the training text).
    #[arg(long, value_name = "N", help_heading = "Model")]
    pub(crate) hidden: Option<usize>,
    /// Number of recurrent layers.
    #[arg(long, value_name = "N", help_heading = "Model")]
    pub(crate) layers: Option<usize>,
    /// Whether input and output share one table of vectors (default: true for words and subwords, unless the softmax is clustered or --vectors is given).
    #[arg(long, value_name = "BOOL", help_heading = "Model")]
    pub(crate) shared_vectors: Option<bool>,
    /// Kind of softmax over the vocabulary (default: sampled for 5,000 tokens and more, and full for fewer). Perplexity is exact with all three.
    #[arg(long, value_parser = choice::<Softmax>(), value_name = "KIND", help_heading = "Model")]
    pub(crate) softmax: Option<Softmax>,
}

/// The size of a step.
#[derive(Debug, Args)]
pub(crate) struct StepArgs {
    /// Batch size: streams of text in parallel.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) batch: Option<usize>,
    /// Window of truncated backpropagation: tokens of each stream in one step.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) window: Option<usize>,
}

/// `sample`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph sample thornmere/runs/demo --temperatures 0.3,0.7,1.0 --from 'Hesper'\n  lalograph sample thornmere/runs/demo --top-p 0.9 --count 100 --output texts.jsonl --json\n  lalograph sample thornmere/runs/demo --beam 8 --best 3 --from 'Maudry walked to Foxgate'\n  lalograph sample thornmere/runs/demo --measure --count 10"
)]
pub(crate) struct SampleArgs {
    /// Model file or run.
    pub(crate) model: PathBuf,
    /// Seed text to continue, or - for standard input (default: the start of a document).
    #[arg(long, value_name = "TEXT", default_value = "", hide_default_value = true)]
    pub(crate) from: String,
    /// Read the seed text from FILE.
    #[arg(long, value_name = "FILE", conflicts_with = "from")]
    pub(crate) from_file: Option<PathBuf>,
    /// Number of samples for each decoding (default: 1, or 50 with --measure).
    #[arg(long, short = 'n', value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    pub(crate) count: Option<u64>,
    /// Maximum number of tokens of a sample; a sample also stops at the end of a document.
    #[arg(long, value_name = "N", default_value_t = 200, value_parser = clap::value_parser!(u64).range(1..))]
    pub(crate) tokens: u64,
    /// Stop after the first sentence.
    #[arg(long)]
    pub(crate) until_sentence: bool,
    /// Stop at the end of the line.
    #[arg(long)]
    pub(crate) until_line: bool,
    /// Stop before TEXT; can be repeated.
    #[arg(long, value_name = "TEXT")]
    pub(crate) until: Vec<String>,
    /// Continue with another document at the end of a document.
    #[arg(long, conflicts_with = "beam")]
    pub(crate) past_end: bool,
    /// Print samples without the seed text.
    #[arg(long)]
    pub(crate) without_seed_text: bool,
    /// Random seed.
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub(crate) seed: u64,
    /// Write to FILE (default: standard output).
    #[arg(long, short, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    /// Replace existing files.
    #[arg(long)]
    pub(crate) force: bool,
    /// Print JSON Lines, one sample per line, with the log-probability of each token; with --measure, one JSON document.
    #[arg(long)]
    pub(crate) json: bool,

    /// Greedy decoding: always take the most probable token.
    #[arg(long, conflicts_with_all = ["temperatures", "top_k", "top_p", "beam"], help_heading = "Decoding")]
    pub(crate) greedy: bool,
    /// Sampling temperature, above 0; several are shown side by side (default: 0.8).
    #[arg(
        long,
        value_name = "T,T,...",
        value_delimiter = ',',
        allow_negative_numbers = true,
        help_heading = "Decoding"
    )]
    pub(crate) temperatures: Vec<f64>,
    /// Sample from the K most probable tokens only (default: all).
    #[arg(long, value_name = "K,K,...", value_delimiter = ',', help_heading = "Decoding")]
    pub(crate) top_k: Vec<usize>,
    /// Sample from the smallest set of tokens that covers this share of the distribution (default: all).
    #[arg(
        long,
        value_name = "P,P,...",
        value_delimiter = ',',
        allow_negative_numbers = true,
        help_heading = "Decoding"
    )]
    pub(crate) top_p: Vec<f64>,
    /// Raise the probability of every token that is already in the text to this power, 1 or above (1 = off).
    #[arg(
        long,
        value_name = "POWER",
        default_value_t = 1.0,
        allow_negative_numbers = true,
        help_heading = "Decoding"
    )]
    pub(crate) repeat_power: f64,
    /// Treatment of the unknown token (default: leave-out). Beam search always leaves it out.
    #[arg(
        long,
        value_parser = choice::<UnknownTokens>(),
        value_name = "HOW",
        help_heading = "Decoding"
    )]
    pub(crate) unknown: Option<UnknownTokens>,
    /// Beam search.
    #[command(flatten)]
    pub(crate) beam: BeamArgs,
    /// Print the N best texts of the beam, the best first (default: 1).
    #[arg(long, value_name = "N", requires = "beam", help_heading = "Decoding")]
    pub(crate) best: Option<usize>,

    /// Report how much of each sample is copied from the training text and how much it repeats itself, beside held-out text.
    #[arg(long, help_heading = "Evaluation")]
    pub(crate) copying: bool,
    /// Compare decodings by many samples instead of printing samples: each temperature alone, with each top-k, and with each top-p.
    #[arg(
        long,
        conflicts_with_all = ["copying", "output", "best", "random_beam", "without_seed_text"],
        help_heading = "Evaluation"
    )]
    pub(crate) measure: bool,
    /// Minimum length of a copied sequence, in tokens (default: 10).
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..), help_heading = "Evaluation")]
    pub(crate) copied_run: Option<u16>,
    /// Write the charts of --measure to DIR, as decoding-*.svg and .png.
    #[arg(long, value_name = "DIR", requires = "measure", help_heading = "Evaluation")]
    pub(crate) pictures: Option<PathBuf>,
}

/// `next`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph next thornmere/runs/demo 'Hesper pottered to'\n  lalograph next thornmere/runs/demo 'The blue queen' --token was --count 5\n  lalograph next thornmere/runs/demo '' --json"
)]
pub(crate) struct NextArgs {
    /// Model file or run.
    pub(crate) model: PathBuf,
    /// Text before the next token, or - for standard input; empty for the start of a document.
    pub(crate) text: String,
    /// Show the N most probable tokens.
    #[arg(long, short = 'n', value_name = "N", default_value_t = 12)]
    pub(crate) count: usize,
    /// Show probability and rank of this token too; can be repeated.
    #[arg(long, value_name = "TOKEN")]
    pub(crate) token: Vec<String>,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

/// `score`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph score thornmere/runs/demo thornmere/diaries/volume-00001.txt\n  lalograph score thornmere/runs/demo thornmere/diaries --first 100 --worst 3 --json\n  lalograph score thornmere/runs/demo thornmere/diaries --first 100 --baselines 5\n  lalograph score thornmere/runs/demo thornmere/diaries --first 100 --beside thornmere/runs/demo --average\n  lalograph score thornmere/runs/demo thornmere/diaries --first 100 --cache\n  echo 'Hesper pottered to Foxgate.' | lalograph score thornmere/runs/demo - --surprise"
)]
pub(crate) struct ScoreArgs {
    /// Model file or run.
    pub(crate) model: PathBuf,
    /// Text to score. Options that are not given keep the values used in training.
    #[command(flatten)]
    pub(crate) corpus: CorpusArgs,
    /// Compare with this model on the same documents; can be repeated.
    #[arg(long, value_name = "MODEL")]
    pub(crate) beside: Vec<PathBuf>,
    /// Score the mean of the probabilities of all models too, which must have the same vocabulary.
    #[arg(long, requires = "beside")]
    pub(crate) average: bool,
    /// Score every model with a cache of the recent tokens of the document too, which adapts to the text while it is read. Its figures are labelled and
    /// are no figures of the model alone.
    #[arg(long)]
    pub(crate) cache: bool,
    /// Compare with uniform, unigram and n-gram models of the training text; n-grams of up to ORDER tokens, interpolated modified Kneser-Ney
    /// (default: no baselines).
    #[arg(long, value_name = "ORDER", value_parser = clap::value_parser!(u8).range(1..=32))]
    pub(crate) baselines: Option<u8>,
    /// Show the N passages with the highest and the N with the lowest perplexity.
    #[arg(long, value_name = "N", default_value_t = 0, conflicts_with = "beside")]
    pub(crate) worst: usize,
    /// Unit of a passage (default: document).
    #[arg(long, value_enum, value_name = "WHAT", requires = "worst")]
    pub(crate) by: Option<PassageChoice>,
    /// Show the text with every token coloured by its surprise; high surprise is marked with figures too.
    #[arg(long, conflicts_with = "beside")]
    pub(crate) surprise: bool,
    /// Write the text with its surprise to FILE, an HTML page that needs no network.
    #[arg(long, value_name = "FILE", conflicts_with = "beside")]
    pub(crate) page: Option<PathBuf>,
    /// Replace an existing page.
    #[arg(long, requires = "page")]
    pub(crate) force: bool,
    /// Reset the state at every document, or carry it on (default: as in training).
    #[arg(long, value_enum, value_name = "HOW")]
    pub(crate) state: Option<StateChoice>,
    /// Tokens read at once. Results do not depend on it.
    #[arg(long, value_name = "N", default_value_t = 64, value_parser = clap::value_parser!(u32).range(1..=65536))]
    pub(crate) window: u32,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

/// Unit of a passage.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum PassageChoice {
    /// A sentence of three tokens or more.
    Sentence,
    /// A document.
    Document,
}

/// The state after the end of a document.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum StateChoice {
    /// Reset at every document.
    Reset,
    /// Carried from document to document.
    Carried,
}

/// `flow`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph flow thornmere/runs/demo thornmere/diaries --first 200\n  lalograph flow thornmere/runs/demo thornmere/diaries --window 100 --pictures flow\n  lalograph flow thornmere/runs/demo thornmere/diaries/volume-00001.txt --json"
)]
pub(crate) struct FlowArgs {
    /// Model file or run.
    pub(crate) model: PathBuf,
    /// Text to measure on. Options that are not given keep the values used in training.
    #[command(flatten)]
    pub(crate) corpus: CorpusArgs,
    /// Tokens to go back (default: the window used in training).
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..).map(usize::from))]
    pub(crate) window: Option<usize>,
    /// Write the chart to DIR, as gradient-flow.svg and gradient-flow.png.
    #[arg(long, value_name = "DIR")]
    pub(crate) pictures: Option<PathBuf>,
    /// Replace existing charts.
    #[arg(long, requires = "pictures")]
    pub(crate) force: bool,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}
