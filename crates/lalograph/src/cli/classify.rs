//! Classifiers on the command line.

use std::path::PathBuf;
use std::time::Duration;

use clap::{Args, Subcommand, ValueEnum};
use lalograph_lab::plan::{
    ClassWeights, Criterion, Directions, DocumentLength, Keep, NetworkKind, NumberOrder, Schedule,
    TermChoice, TermValues,
};
use lalograph_net::Cell;
use lalograph_net::blocks::dense::Activation;
use lalograph_net::blocks::pooling::Pooling;
use lalograph_net::learning::optimiser::Rule;
use lalograph_net::linear::Penalty;

use super::choice::{choice, minutes};
use super::corpus::{CorpusArgs, PartArgs, ReadingArgs, SharesArgs, TokenArgs};
use super::model::RunArgs;
use super::survey::parse_resemblance;

/// The commands for classifiers.
#[derive(Debug, Subcommand)]
pub(crate) enum ClassifyCommand {
    /// Train a classifier on documents with class labels.
    Train(Box<ClassifyTrainArgs>),
    /// Predict the class of documents.
    Predict(ClassifyPredictArgs),
    /// Score a classifier on documents with class labels: accuracy, confusion, figures by class, mistakes.
    Score(ClassifyScoreArgs),
    /// Explain decisions: how much each token of a document changes the odds of its class.
    Explain(ClassifyExplainArgs),
}

/// `classify train`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph classify train thornmere/diaries.csv --label outcome --name outcome\n  lalograph classify train thornmere/diaries.csv --label keeper --network pooled --name keeper\n  lalograph classify train thornmere/diaries.jsonl --label season --cell gru --directions both"
)]
pub(crate) struct ClassifyTrainArgs {
    /// Files, folders or patterns such as 'letters/*.csv' (default: the paths of the plan).
    #[arg(value_name = "PATH", required_unless_present = "plan")]
    pub(crate) paths: Vec<PathBuf>,
    /// Plan file with a [classifier] section; flags override its settings.
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
    /// Set documents with this label aside, in no part; can be repeated.
    #[arg(long, value_name = "LABEL", help_heading = "Corpus")]
    pub(crate) set_aside: Vec<String>,
    /// Keep near duplicates in one part: documents that share at least this part of their five-word sequences (default: off; 0.8 without a value).
    #[arg(long, value_name = "SHARE", num_args = 0..=1, default_missing_value = "0.8", value_parser = parse_resemblance, require_equals = true, conflicts_with = "split", help_heading = "Corpus")]
    pub(crate) near: Option<f64>,
    /// Use this vocabulary instead of building one from the training documents (default: none).
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
    /// Longest document in tokens: a number, `most` (95 % of the training documents are whole) or `whole` (every document is read to its end).
    #[arg(long, value_name = "LENGTH", help_heading = "Corpus")]
    pub(crate) length: Option<DocumentLength>,
    /// Part of a longer document to keep.
    #[arg(long, value_parser = choice::<Keep>(), value_name = "PART", help_heading = "Corpus")]
    pub(crate) keep_part: Option<Keep>,

    /// Read rows of numbers instead of text: the number of features at each step (default: text). The columns are those of --text, such as 'hour*', or
    /// all but the label. With --group each row is a step, and a group has any number of rows.
    #[arg(long, value_name = "N", help_heading = "Rows of numbers")]
    pub(crate) features: Option<usize>,
    /// Number of steps of a row (default: the number of columns over --features), or of a group (default: any number).
    #[arg(long, value_name = "N", help_heading = "Rows of numbers")]
    pub(crate) time_steps: Option<usize>,
    /// Order of the columns of numbers.
    #[arg(long, value_parser = choice::<NumberOrder>(), value_name = "ORDER", help_heading = "Rows of numbers")]
    pub(crate) order: Option<NumberOrder>,

    /// Network.
    #[arg(long, value_parser = choice::<NetworkKind>(), value_name = "NETWORK", help_heading = "Model")]
    pub(crate) network: Option<NetworkKind>,
    /// Width of the token vectors.
    #[arg(long, value_name = "N", help_heading = "Model")]
    pub(crate) embedding: Option<usize>,
    /// Initialise the token vectors from this file of word vectors (default: random). Their width is that of the file; to freeze them: --set
    /// groups.embedding_rate=0.
    #[arg(long, value_name = "FILE", help_heading = "Model")]
    pub(crate) vectors: Option<PathBuf>,
    /// Initialise weights from this model file or run, tensor by tensor by name (default: random). The vocabularies must be equal.
    #[arg(long, value_name = "MODEL", help_heading = "Model")]
    pub(crate) start_model: Option<PathBuf>,
    /// Cell of the layers of a recurrent network.
    #[arg(long, value_parser = choice::<Cell>(), value_name = "CELL", help_heading = "Model")]
    pub(crate) cell: Option<Cell>,
    /// Width of each recurrent layer, in each direction.
    #[arg(long, value_name = "N", help_heading = "Model")]
    pub(crate) hidden: Option<usize>,
    /// Number of recurrent layers.
    #[arg(long, value_name = "N", help_heading = "Model")]
    pub(crate) layers: Option<usize>,
    /// Directions in which recurrent layers read.
    #[arg(long, value_parser = choice::<Directions>(), value_name = "WHICH", help_heading = "Model")]
    pub(crate) directions: Option<Directions>,
    /// Pooling over the tokens of a document.
    #[arg(long, value_parser = choice::<Pooling>(), value_name = "POOLING", help_heading = "Model")]
    pub(crate) pooling: Option<Pooling>,
    /// Widths of the filters of a convolution, in tokens.
    #[arg(long, value_name = "N,N,...", value_delimiter = ',', help_heading = "Model")]
    pub(crate) filter_widths: Option<Vec<usize>>,
    /// Number of filters of each width.
    #[arg(long, value_name = "N", help_heading = "Model")]
    pub(crate) filters: Option<usize>,
    /// Widths of dense layers between pooling and output (default: none).
    #[arg(long, value_name = "N,N,...", value_delimiter = ',', help_heading = "Model")]
    pub(crate) dense: Option<Vec<usize>>,
    /// Activation of filters and dense layers.
    #[arg(long, value_parser = choice::<Activation>(), value_name = "ACTIVATION", help_heading = "Model")]
    pub(crate) activation: Option<Activation>,

    /// Terms that a linear network has weights for (`listed` if a list is given).
    #[arg(long, value_parser = choice::<TermChoice>(), value_name = "CHOICE", help_heading = "Linear network")]
    pub(crate) term_choice: Option<TermChoice>,
    /// Number of terms, for most-frequent and mutual-information.
    #[arg(long, value_name = "N", help_heading = "Linear network")]
    pub(crate) terms: Option<usize>,
    /// Use these terms only (default: by --term-choice).
    #[arg(long, value_name = "TERM,TERM,...", value_delimiter = ',', help_heading = "Linear network")]
    pub(crate) term_list: Vec<String>,
    /// Use the terms of FILE only, one per line (default: by --term-choice).
    #[arg(long, value_name = "FILE", help_heading = "Linear network")]
    pub(crate) term_list_from: Option<PathBuf>,
    /// Value of a term in a document.
    #[arg(long, value_parser = choice::<TermValues>(), value_name = "VALUES", help_heading = "Linear network")]
    pub(crate) term_values: Option<TermValues>,
    /// Add the products of each two of the first N terms.
    #[arg(long, value_name = "N", help_heading = "Linear network")]
    pub(crate) term_pairs: Option<usize>,
    /// Penalty on the weights.
    #[arg(long, value_parser = choice::<Penalty>(), value_name = "PENALTY", help_heading = "Linear network")]
    pub(crate) penalty: Option<Penalty>,
    /// Strengths of the penalty, in falling order; the one with the best validation is kept (default: ten that suit the penalty).
    #[arg(long, value_name = "S,S,...", value_delimiter = ',', help_heading = "Linear network")]
    pub(crate) strengths: Option<Vec<f64>>,
    /// Solve until the norm of the gradient is this share of the norm at zero weights.
    #[arg(long, value_name = "SHARE", help_heading = "Linear network")]
    pub(crate) tolerance: Option<f64>,
    /// Iterations for each strength, at most.
    #[arg(long, value_name = "N", help_heading = "Linear network")]
    pub(crate) iterations: Option<u64>,

    /// Random seed of initial weights, dropout, split and order.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) seed: Option<u64>,
    /// Number of epochs (default: 10 or, if the documents are few, as many as make 300 steps, 1,000 for a pooled network).
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) epochs: Option<u64>,
    /// Number of optimiser steps, instead of epochs (default: by epochs).
    #[arg(long, value_name = "N", help_heading = "Training", conflicts_with = "epochs")]
    pub(crate) steps: Option<u64>,
    /// Batch size: documents of one step.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) batch: Option<usize>,
    /// Tokens that recurrent layers read at once. In a longer document the state is carried from window to window, and the gradient is cut between
    /// them.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) window: Option<usize>,
    /// Optimiser.
    #[arg(long, value_parser = choice::<Rule>(), value_name = "RULE", help_heading = "Training")]
    pub(crate) optimiser: Option<Rule>,
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
    /// Dropout of token vectors, between layers and before dense layers and output; the token vectors of a pooled network and rows of
    /// numbers stay whole.
    #[arg(long, value_name = "SHARE", help_heading = "Training")]
    pub(crate) dropout: Option<f64>,
    /// Weights of the classes in the loss.
    #[arg(long, value_parser = choice::<ClassWeights>(), value_name = "WEIGHTS", help_heading = "Training")]
    pub(crate) class_weights: Option<ClassWeights>,
    /// Validate every N steps, and at the end; by epochs too if --validate-every-epochs is given (default: by epochs only).
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) validate_every: Option<u64>,
    /// Validate every N epochs, such as 1 or 0.5, and at the end.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) validate_every_epochs: Option<f64>,
    /// Figure of the validation that decides which weights are kept and when training stops early.
    #[arg(long, value_parser = choice::<Criterion>(), value_name = "FIGURE", help_heading = "Training")]
    pub(crate) criterion: Option<Criterion>,
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

/// `classify predict`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph classify predict runs/outcome thornmere/diaries.csv --first 10\n  lalograph classify predict runs/outcome thornmere/diaries.csv --label outcome --output guesses.csv\n  echo 'The brood was patchy.' | lalograph classify predict runs/outcome - --json"
)]
pub(crate) struct ClassifyPredictArgs {
    /// Classifier: a model file or a run.
    pub(crate) model: PathBuf,
    /// The documents. Labels are optional: with --label or --folder-labels the actual class is shown beside the predicted one.
    #[command(flatten)]
    pub(crate) corpus: CorpusArgs,
    /// Number of threads (default: all processors). Results do not depend on it.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) threads: Option<u16>,
    /// For two classes: predict --positive where its probability is this or more (default: the more probable class).
    #[arg(long, value_name = "P")]
    pub(crate) threshold: Option<f64>,
    /// The class of --threshold (default: the second of the two).
    #[arg(long, value_name = "CLASS", requires = "threshold")]
    pub(crate) positive: Option<String>,
    /// Write predictions to FILE: CSV, or JSON Lines if its name ends with .jsonl (default: standard output).
    #[arg(long, short, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    /// Copy this column or field path to the output; can be repeated (default: all columns of CSV and TSV tables, no fields of JSON Lines).
    #[arg(long, value_name = "COLUMN", requires = "output")]
    pub(crate) keep: Vec<String>,
    /// Replace an existing file.
    #[arg(long)]
    pub(crate) force: bool,
    /// Print JSON Lines.
    #[arg(long, conflicts_with = "output")]
    pub(crate) json: bool,
}

/// `classify score`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph classify score runs/outcome --split runs/outcome/split.json --part test\n  lalograph classify score runs/outcome thornmere/diaries.csv --first 500 --mistakes 3\n  lalograph classify score runs/outcome --beside runs/other --json"
)]
pub(crate) struct ClassifyScoreArgs {
    /// Classifier: a model file or a run.
    pub(crate) model: PathBuf,
    /// Files, folders or patterns of labelled documents, or - for standard input (default: the corpus of the classifier).
    #[arg(value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Options of reading files; options that are not given keep the values used in training.
    #[command(flatten)]
    pub(crate) reading: ReadingArgs,
    /// Which documents of them.
    #[command(flatten)]
    pub(crate) part: PartArgs,
    /// Score this classifier on the same documents too, and compare it with the first; can be repeated.
    #[arg(long, value_name = "MODEL")]
    pub(crate) beside: Vec<PathBuf>,
    /// List the N most confident mistakes with their text.
    #[arg(long, value_name = "N", default_value_t = 5)]
    pub(crate) mistakes: usize,
    /// Fit one temperature to the validation part of the run, so that probabilities are as often right as they say, and keep it in the model file.
    #[arg(long)]
    pub(crate) calibrate: bool,
    /// For two classes: predict --positive where its probability is this or more (default: the more probable class).
    #[arg(long, value_name = "P")]
    pub(crate) threshold: Option<f64>,
    /// The class that a threshold is about (default: the second of the two).
    #[arg(long, value_name = "CLASS")]
    pub(crate) positive: Option<String>,
    /// Find the threshold that is best on these documents (default: none).
    #[arg(long, value_enum, value_name = "AIM")]
    pub(crate) threshold_aim: Option<AimChoice>,
    /// Costs of a missed document of the class and of a false alarm, for --threshold-aim cost (default: none).
    #[arg(long, value_name = "MISSED,FALSE-ALARM", value_delimiter = ',')]
    pub(crate) mistake_costs: Vec<f64>,
    /// Write charts to DIR: confusion, ROC, precision and recall, reliability, confidence.
    #[arg(long, value_name = "DIR")]
    pub(crate) pictures: Option<PathBuf>,
    /// Write the score to FILE, an HTML page that needs no network: figures, charts, mistakes, examples.
    #[arg(long, value_name = "FILE")]
    pub(crate) page: Option<PathBuf>,
    /// Replace existing charts and an existing page.
    #[arg(long)]
    pub(crate) force: bool,
    /// Number of threads (default: all processors). Results do not depend on it.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) threads: Option<u16>,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

/// Aim of a threshold.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum AimChoice {
    /// The highest F1 of the class.
    F1,
    /// The lowest mean cost.
    Cost,
}

/// `classify explain`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph classify explain runs/outcome\n  lalograph classify explain runs/outcome thornmere/diaries.csv --first 20 --class thriving\n  echo 'Thin clusters, wings frayed.' | lalograph classify explain runs/outcome -"
)]
pub(crate) struct ClassifyExplainArgs {
    /// Classifier: a model file or a run.
    pub(crate) model: PathBuf,
    /// Files, folders or patterns, or - for standard input (default: the test part of the run, or else its validation part).
    #[arg(value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Options of reading files; options that are not given keep the values used in training.
    #[command(flatten)]
    pub(crate) reading: ReadingArgs,
    /// Which documents of them.
    #[command(flatten)]
    pub(crate) part: PartArgs,
    /// Explain this class (default: the predicted class of each document).
    #[arg(long, value_name = "CLASS")]
    pub(crate) class: Option<String>,
    /// Print N documents token by token.
    #[arg(long, value_name = "N", default_value_t = 3)]
    pub(crate) documents: usize,
    /// List the N tokens with the greatest mean effect on each class; of a linear network those with the greatest weights.
    #[arg(long, value_name = "N", default_value_t = 8)]
    pub(crate) listed: usize,
    /// Write all documents with the effect of each token to FILE, an HTML page that needs no network.
    #[arg(long, value_name = "FILE")]
    pub(crate) page: Option<PathBuf>,
    /// Write a chart of the listed tokens to DIR.
    #[arg(long, value_name = "DIR")]
    pub(crate) pictures: Option<PathBuf>,
    /// Replace an existing page and an existing chart.
    #[arg(long)]
    pub(crate) force: bool,
    /// Number of threads (default: all processors). Results do not depend on it.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) threads: Option<u16>,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}
