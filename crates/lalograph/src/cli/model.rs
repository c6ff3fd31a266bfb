//! Training a model and using it.

use std::path::PathBuf;
use std::time::Duration;

use clap::builder::TypedValueParser;
use clap::{Args, ValueEnum};

use lalograph_lab::plan::Schedule;
use lalograph_lab::writing::decoding::UnknownTokens;
use lalograph_net::Cell;
use lalograph_net::heads::softmax::Softmax;
use lalograph_net::learning::optimiser::Rule;

use super::choice::{choice, minutes};
use super::corpus::{CorpusArgs, ReadingArgs, TokenArgs};

/// `train`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph train thornmere/diaries --document line --cell lstm --layers 2 --hidden 256\n  lalograph train thornmere/diaries --unit character --epochs 3 --temperatures 0.5,1.0\n  lalograph train --plan thornmere/runs/demo/plan.toml --set training.seed=2 --name second"
)]
pub(crate) struct TrainArgs {
    /// Files, folders, patterns such as 'letters/*.txt'; without any, those of the plan.
    #[arg(value_name = "PATH", required_unless_present = "plan")]
    pub(crate) paths: Vec<PathBuf>,
    /// A plan file; flags win over it.
    #[arg(long, value_name = "FILE")]
    pub(crate) plan: Option<PathBuf>,
    /// Set any value of the plan; may be given again and again.
    #[arg(long = "set", value_name = "SECTION.KEY=VALUE")]
    pub(crate) settings: Vec<String>,
    /// Name of the run, and of its folder; without it the corpus and the time.
    #[arg(long, value_name = "NAME")]
    pub(crate) name: Option<String>,
    /// The folder that runs are kept in.
    #[arg(long, value_name = "DIR", default_value = "runs")]
    pub(crate) runs: PathBuf,
    /// Replace an older run of that name.
    #[arg(long, requires = "name")]
    pub(crate) force: bool,
    /// Threads; without it all processors. Results do not depend on it.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) threads: Option<u16>,
    /// Print JSON Lines: metrics, samples, checkpoints and hints as they come, the outcome last.
    #[arg(long)]
    pub(crate) json: bool,

    /// How they are read.
    #[command(flatten)]
    pub(crate) reading: ReadingArgs,
    /// Share of documents held out to judge by.
    #[arg(long, value_name = "SHARE", help_heading = "Corpus")]
    pub(crate) validation_share: Option<f64>,
    /// Share of documents held out to be judged once, at the end.
    #[arg(long, value_name = "SHARE", help_heading = "Corpus")]
    pub(crate) test_share: Option<f64>,
    /// A split file that says what is learnt from and what is held out, instead of the shares.
    #[arg(long, value_name = "FILE", help_heading = "Corpus", conflicts_with_all = ["validation_share", "test_share"])]
    pub(crate) split: Option<PathBuf>,
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

    /// The network.
    #[command(flatten)]
    pub(crate) model: ModelArgs,

    /// Seed of everything that is left to chance.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) seed: Option<u64>,
    /// Passes over the training text.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) epochs: Option<u64>,
    /// Optimiser steps, instead of epochs.
    #[arg(long, value_name = "N", help_heading = "Training", conflicts_with = "epochs")]
    pub(crate) steps: Option<u64>,
    /// The size of a step.
    #[command(flatten)]
    pub(crate) step: StepArgs,
    /// How weights are moved.
    #[arg(long, value_parser = choice::<Rule>(), value_name = "RULE", help_heading = "Training")]
    pub(crate) optimiser: Option<Rule>,
    /// How the learning rate moves after its warm-up.
    #[arg(long, value_parser = choice::<Schedule>(), value_name = "SCHEDULE", help_heading = "Training")]
    pub(crate) schedule: Option<Schedule>,
    /// Highest learning rate.
    #[arg(long, value_name = "RATE", help_heading = "Training")]
    pub(crate) learning_rate: Option<f64>,
    /// Bring the gradient's norm down to this; 0 for no clipping.
    #[arg(long, value_name = "NORM", help_heading = "Training")]
    pub(crate) clip_norm: Option<f64>,
    /// Share of numbers dropped between layers while training.
    #[arg(long, value_name = "SHARE", help_heading = "Training")]
    pub(crate) dropout: Option<f64>,
    /// Measure how far back in time gradients reach every N steps; 0 for never.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) flow_every: Option<u64>,
    /// Validate every N steps (default: 200; 0 = never by steps). There is always a validation at the end.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) validate_every: Option<u64>,
    /// Validate every N epochs, such as 1 or 0.5, and by steps only if --validate-every is given too.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) validate_every_epochs: Option<f64>,
    /// Stop after N minutes of this command. The run counts as interrupted, and `resume` goes on exactly where training stopped; the learning
    /// rate follows the schedule of all steps.
    #[arg(long, value_name = "N", help_heading = "Training", value_parser = minutes)]
    pub(crate) minutes: Option<Duration>,
    /// Stop after N validations without a gain; 0 for never.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) patience: Option<u64>,
    /// Write a checkpoint every N steps; without it every five minutes. There is always one at the end.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) checkpoint_every: Option<u64>,

    /// Temperatures to sample at.
    #[arg(long, value_name = "T,T,...", value_delimiter = ',', help_heading = "Samples")]
    pub(crate) temperatures: Option<Vec<f64>>,
    /// Write samples every N steps (default: 200; 0 = never by steps). There are always samples at the end.
    #[arg(long, value_name = "N", help_heading = "Samples")]
    pub(crate) sample_every: Option<u64>,
    /// Write samples every N epochs, such as 1 or 0.5, and by steps only if --sample-every is given too.
    #[arg(long, value_name = "N", help_heading = "Samples")]
    pub(crate) sample_every_epochs: Option<f64>,
    /// Tokens of a sample, at most.
    #[arg(long, value_name = "N", help_heading = "Samples")]
    pub(crate) sample_tokens: Option<usize>,
    /// What samples go on from; may be given again and again.
    #[arg(long, value_name = "TEXT", help_heading = "Samples")]
    pub(crate) seed_text: Vec<String>,
}

/// The network.
#[derive(Debug, Args)]
pub(crate) struct ModelArgs {
    /// Kind of the recurrent layers.
    #[arg(long, value_parser = choice::<Cell>(), value_name = "CELL", help_heading = "Model")]
    pub(crate) cell: Option<Cell>,
    /// Width of a token's vector.
    #[arg(long, value_name = "N", help_heading = "Model")]
    pub(crate) embedding: Option<usize>,
    /// A file of word vectors that fills the token vectors, whose width is that of the file unless --embedding is given; --set
    /// groups.embedding_rate=0 leaves them as they are.
    #[arg(long, value_name = "FILE", help_heading = "Model")]
    pub(crate) vectors: Option<PathBuf>,
    /// A model file, or the folder of a run, whose tensors fill those of the same name; its vocabulary must be the same.
    #[arg(long, value_name = "MODEL", help_heading = "Model")]
    pub(crate) start_model: Option<PathBuf>,
    /// Width of each recurrent layer.
    #[arg(long, value_name = "N", help_heading = "Model")]
    pub(crate) hidden: Option<usize>,
    /// Recurrent layers.
    #[arg(long, value_name = "N", help_heading = "Model")]
    pub(crate) layers: Option<usize>,
    /// Use the token vectors as the output's weights.
    #[arg(long, help_heading = "Model")]
    pub(crate) tied: bool,
    /// How the distribution over the vocabulary is computed; perplexity is exact with all three.
    #[arg(long, value_parser = choice::<Softmax>(), value_name = "KIND", help_heading = "Model")]
    pub(crate) softmax: Option<Softmax>,
}

/// The size of a step.
#[derive(Debug, Args)]
pub(crate) struct StepArgs {
    /// Streams of text read side by side.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) batch: Option<usize>,
    /// Tokens of each stream in one step.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) window: Option<usize>,
}

/// `sample`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph sample thornmere/runs/demo --temperature 0.3,0.7,1.0 --from 'Hesper'\n  lalograph sample thornmere/runs/demo --top-p 0.9 --count 100 --output texts.jsonl --json\n  lalograph sample thornmere/runs/demo --beam 8 --best 3 --from 'Maudry walked to Foxgate'\n  lalograph sample thornmere/runs/demo --measure --count 10"
)]
pub(crate) struct SampleArgs {
    /// A model file, or the folder of a run.
    pub(crate) model: PathBuf,
    /// The seed text to go on from, or - for standard input; without it a document begins.
    #[arg(long, value_name = "TEXT", default_value = "", hide_default_value = true)]
    pub(crate) from: String,
    /// Take the seed text from a file.
    #[arg(long, value_name = "FILE", conflicts_with = "from")]
    pub(crate) from_file: Option<PathBuf>,
    /// Samples for each way of choosing: 1, or 50 to measure by.
    #[arg(long, short = 'n', value_name = "N")]
    pub(crate) count: Option<u64>,
    /// Tokens of a sample, at most; it also stops where a document ends.
    #[arg(long, value_name = "N", default_value_t = 200)]
    pub(crate) tokens: usize,
    /// Stop after the first sentence.
    #[arg(long)]
    pub(crate) until_sentence: bool,
    /// Stop where the line ends.
    #[arg(long)]
    pub(crate) until_line: bool,
    /// Stop before this text; may be given again and again.
    #[arg(long, value_name = "TEXT")]
    pub(crate) until: Vec<String>,
    /// Go on with another document where one ends.
    #[arg(long)]
    pub(crate) past_end: bool,
    /// Print the sample without the seed text before it.
    #[arg(long)]
    pub(crate) without_seed_text: bool,
    /// Seed of the draws.
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub(crate) seed: u64,
    /// Write to this file instead of standard output.
    #[arg(long, short, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    /// Replace files that are there.
    #[arg(long)]
    pub(crate) force: bool,
    /// Print JSON Lines, one sample a line, with the log-probability of each token; of a measurement, one JSON document.
    #[arg(long)]
    pub(crate) json: bool,

    /// Take the likeliest token every time.
    #[arg(long, conflicts_with_all = ["temperature", "top_k", "top_p"], help_heading = "Choosing tokens")]
    pub(crate) greedy: bool,
    /// Draw at this temperature, above 0; 0.8 if none is given, and several stand beside each other.
    #[arg(
        long,
        value_name = "T,T,...",
        value_delimiter = ',',
        allow_negative_numbers = true,
        help_heading = "Choosing tokens"
    )]
    pub(crate) temperature: Vec<f64>,
    /// Draw among the K likeliest tokens only.
    #[arg(long, value_name = "K,K,...", value_delimiter = ',', help_heading = "Choosing tokens")]
    pub(crate) top_k: Vec<usize>,
    /// Draw among the likeliest tokens only that together cover this share of the distribution.
    #[arg(
        long,
        value_name = "P,P,...",
        value_delimiter = ',',
        allow_negative_numbers = true,
        help_heading = "Choosing tokens"
    )]
    pub(crate) top_p: Vec<f64>,
    /// Raise the probability of every token that stands in the text already to this power, 1 or above.
    #[arg(
        long,
        value_name = "POWER",
        default_value_t = 1.0,
        allow_negative_numbers = true,
        help_heading = "Choosing tokens"
    )]
    pub(crate) repetition_penalty: f64,
    /// What to do with the probability of the unknown token (default: leave-out). A beam always leaves it out.
    #[arg(
        long,
        value_parser = choice::<UnknownTokens>(),
        value_name = "HOW",
        help_heading = "Choosing tokens"
    )]
    pub(crate) unknown: Option<UnknownTokens>,
    /// Search for the likeliest texts with a beam of this width instead of drawing.
    #[arg(
        long,
        value_name = "WIDTH",
        conflicts_with_all = ["greedy", "past_end"],
        help_heading = "Choosing tokens"
    )]
    pub(crate) beam: Option<usize>,
    /// Print so many of the texts that the beam found, the best first.
    #[arg(long, value_name = "N", requires = "beam", help_heading = "Choosing tokens")]
    pub(crate) best: Option<usize>,
    /// Compare texts by their log-probability over their length to this power: 0 favours short ones, 1 is the mean per token.
    #[arg(
        long,
        value_name = "POWER",
        requires = "beam",
        allow_negative_numbers = true,
        help_heading = "Choosing tokens"
    )]
    pub(crate) length_power: Option<f64>,
    /// Draw the beam at random, without drawing any text twice.
    #[arg(long, requires = "beam", conflicts_with = "length_power", help_heading = "Choosing tokens")]
    pub(crate) random_beam: bool,

    /// Say of every sample what of it stands word for word in the training text, and what it repeats of itself, beside held-out text.
    #[arg(long, help_heading = "Judging samples")]
    pub(crate) copying: bool,
    /// Measure ways of choosing by many samples instead of printing them: each temperature by itself, with each top-k, and with each top-p.
    #[arg(
        long,
        conflicts_with_all = ["copying", "output", "best", "random_beam", "without_seed_text"],
        help_heading = "Judging samples"
    )]
    pub(crate) measure: bool,
    /// Tokens from which on a run that stands in the training text counts as copied; 10 if it is not given.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..), help_heading = "Judging samples")]
    pub(crate) copied_run: Option<u16>,
    /// Write the charts of a measurement here, as decoding-*.svg and .png.
    #[arg(long, value_name = "DIR", requires = "measure", help_heading = "Judging samples")]
    pub(crate) pictures: Option<PathBuf>,
}

/// `next`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph next thornmere/runs/demo 'Hesper pottered to'\n  lalograph next thornmere/runs/demo 'The blue queen' --token was --count 5\n  lalograph next thornmere/runs/demo '' --json"
)]
pub(crate) struct NextArgs {
    /// A model file, or the folder of a run.
    pub(crate) model: PathBuf,
    /// The text before it, or - for standard input; an empty one is the start of a document.
    pub(crate) text: String,
    /// Candidates to show.
    #[arg(long, short = 'n', value_name = "N", default_value_t = 12)]
    pub(crate) count: usize,
    /// Say where this token stands among all; may be given again and again.
    #[arg(long, value_name = "TOKEN")]
    pub(crate) token: Vec<String>,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

/// `score`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph score thornmere/runs/demo thornmere/diaries/volume-00001.txt\n  lalograph score thornmere/runs/demo thornmere/diaries --first 100 --worst 3 --json\n  lalograph score thornmere/runs/demo thornmere/diaries --first 100 --baselines 5\n  echo 'Hesper pottered to Foxgate.' | lalograph score thornmere/runs/demo - --surprise"
)]
pub(crate) struct ScoreArgs {
    /// A model file, or the folder of a run.
    pub(crate) model: PathBuf,
    /// The text; what is not said of it is as it was when the model was trained.
    #[command(flatten)]
    pub(crate) corpus: CorpusArgs,
    /// Score it with this model too, and put them side by side; may be given again and again.
    #[arg(long, value_name = "MODEL")]
    pub(crate) beside: Vec<PathBuf>,
    /// Put models beside it that are no networks, made from the model's own training text: uniform, unigram, and n-grams of up to ORDER tokens
    /// (interpolated modified Kneser-Ney).
    #[arg(long, value_name = "ORDER", value_parser = clap::value_parser!(u8).range(1..=32))]
    pub(crate) baselines: Option<u8>,
    /// Show so many of the passages that surprise the model most, and least.
    #[arg(long, value_name = "N", default_value_t = 0, conflicts_with = "beside")]
    pub(crate) worst: usize,
    /// What a passage is: a document if it is not said.
    #[arg(long, value_enum, value_name = "WHAT", requires = "worst")]
    pub(crate) by: Option<PassageChoice>,
    /// Show the text token by token, coloured by surprise; what surprises most is marked without colour, too.
    #[arg(long, conflicts_with = "beside")]
    pub(crate) surprise: bool,
    /// Write the same as a page (HTML) that needs no network.
    #[arg(long, value_name = "FILE", conflicts_with = "beside")]
    pub(crate) page: Option<PathBuf>,
    /// Replace the page if it is there.
    #[arg(long, requires = "page")]
    pub(crate) force: bool,
    /// Begin anew with every document, or carry the state on; without it as in training.
    #[arg(long, value_enum, value_name = "HOW")]
    pub(crate) state: Option<StateChoice>,
    /// Tokens read at once; no result depends on it.
    #[arg(long, value_name = "N", default_value_t = 64, value_parser = clap::value_parser!(u32).range(1..=65536))]
    pub(crate) window: u32,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

/// What a passage is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum PassageChoice {
    /// A sentence of three tokens or more.
    Sentence,
    /// A document.
    Document,
}

/// What becomes of the state where a document ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum StateChoice {
    /// It begins anew.
    Anew,
    /// It is carried on.
    Carried,
}

/// `flow`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph flow thornmere/runs/demo thornmere/diaries --first 200\n  lalograph flow thornmere/runs/demo thornmere/diaries --window 100 --pictures flow\n  lalograph flow thornmere/runs/demo thornmere/diaries/volume-00001.txt --json"
)]
pub(crate) struct FlowArgs {
    /// A model file, or the folder of a run.
    pub(crate) model: PathBuf,
    /// The text; what is not said of it is as it was when the model was trained.
    #[command(flatten)]
    pub(crate) corpus: CorpusArgs,
    /// Tokens to go back; without it the window that the model was trained with.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..).map(usize::from))]
    pub(crate) window: Option<usize>,
    /// Write the chart here as gradient-flow.svg and gradient-flow.png.
    #[arg(long, value_name = "DIR")]
    pub(crate) pictures: Option<PathBuf>,
    /// Replace pictures that are there.
    #[arg(long, requires = "pictures")]
    pub(crate) force: bool,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}
