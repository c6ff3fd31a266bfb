//! The command line: what may be typed. What it means is settled in `commands`.

mod choice;
mod classify;
mod converse;
mod corpus;
mod decoding;
mod embed;
mod export;
mod help;
mod model;
mod plan;
mod refusal;
mod runs;
mod serve;
mod survey;
mod sweep;
mod tune;
mod vocab;

use std::path::PathBuf;

use clap::{Args, CommandFactory, Parser, Subcommand, ValueEnum};

pub(crate) use classify::{
    AimChoice, ClassifyCommand, ClassifyExplainArgs, ClassifyPredictArgs, ClassifyScoreArgs,
    ClassifyTrainArgs,
};
pub(crate) use converse::ConverseArgs;
pub(crate) use corpus::{
    CleaningArgs, CorpusArgs, FormChoice, PairArgs, PartArgs, ReadingArgs, SharesArgs, TokenArgs, YesNo,
};
pub(crate) use embed::{
    EmbedCommand, EmbedImportArgs, EmbedJudgeArgs, EmbedMapArgs, EmbedNearArgs, EmbedRelateArgs,
    EmbedTrainArgs, LayoutChoice, MethodChoice, WeighChoice,
};
pub(crate) use export::{ExportArgs, ExportForm, ImportArgs};
pub(crate) use model::{
    FlowArgs, ModelArgs, NextArgs, PassageChoice, SampleArgs, SamplesArgs, ScoreArgs, StateChoice, StepArgs,
    TrainArgs, TrainingArgs,
};
pub(crate) use plan::{GaugeArgs, PlanArgs, PlanCheckArgs, PlanCommand, PlanCostArgs, PlanNewArgs};
pub(crate) use refusal::refusal;
pub(crate) use runs::{
    CompareArgs, ExportRunsArgs, ImportRunArgs, ListArgs, RemoveArgs, ReportArgs, ResumeArgs, RunsCommand,
    ShowArgs,
};
pub(crate) use serve::{LogForm, ServeArgs};
pub(crate) use survey::{SplitArgs, SurveyArgs};
pub(crate) use sweep::{SweepArgs, SweepCommand, SweepShowArgs};
pub(crate) use tune::{TuneArgs, TuneCommand, TuneCompareArgs};
pub(crate) use vocab::{
    TokenOrder, VocabBuildArgs, VocabCommand, VocabCompareArgs, VocabCoverageArgs, VocabDecodeArgs,
    VocabEncodeArgs, VocabExtendArgs, VocabMergeArgs, VocabShowArgs,
};

use crate::output::number::parse_bytes;

/// All commands as people see them.
pub(crate) fn definition() -> clap::Command {
    help::explained(Cli::command())
}

/// Train recurrent language models on your own text: vocabularies, word vectors, training, sampling, scoring.
#[derive(Debug, Parser)]
#[command(name = "lalograph", version, help_expected = true, arg_required_else_help = true)]
#[command(
    after_help = "Examples:\n  lalograph demo\n  lalograph survey thornmere/diaries --document line\n  lalograph train thornmere/diaries --document line --cell lstm --layers 2 --hidden 256"
)]
pub(crate) struct Cli {
    /// Options that every command takes.
    #[command(flatten)]
    pub(crate) general: General,
    /// The command.
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// Options that every command takes.
#[derive(Debug, Args)]
pub(crate) struct General {
    /// When to use colour. With `auto`, NO_COLOR in the environment turns colour off.
    #[arg(long, value_enum, value_name = "WHEN", default_value = "auto", global = true)]
    pub(crate) color: ColourChoice,
    /// Print results and errors only.
    #[arg(long, short, global = true)]
    pub(crate) quiet: bool,
}

/// When to use colour.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum ColourChoice {
    /// On a terminal.
    Auto,
    /// Always.
    Always,
    /// Never.
    Never,
}

/// The commands, in the order of the work.
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Write a made-up corpus and run a full example on it: survey, vocabulary, training, samples.
    Demo(DemoArgs),
    /// Look at a corpus before training: counts, classes, lengths, words, duplicates, the effect of cleaning.
    Survey(SurveyArgs),
    /// Split a corpus into training, validation and test parts, by document.
    Split(SplitArgs),
    /// Build and inspect vocabularies; turn text into token indices and back.
    #[command(
        after_help = "Examples:\n  lalograph vocab build thornmere/diaries --document line --output words-of-diaries.json\n  lalograph vocab encode thornmere/vocabulary.json 'The blue queen raced home.'\n  lalograph vocab coverage thornmere/diaries --document line"
    )]
    Vocab {
        /// The command for a vocabulary.
        #[command(subcommand)]
        command: VocabCommand,
    },
    /// Train, import, search, evaluate and map word vectors.
    #[command(
        after_help = "Examples:\n  lalograph embed train thornmere/diaries --document line --output words.safetensors\n  lalograph embed near thornmere/vectors.safetensors Hesper Foxgate\n  lalograph embed map thornmere/vectors.safetensors --output map"
    )]
    Embed {
        /// The command for word vectors.
        #[command(subcommand)]
        command: EmbedCommand,
    },
    /// Write, check and cost the settings file of a run.
    #[command(
        after_help = "Examples:\n  lalograph plan new thornmere/diaries --output plan.toml\n  lalograph plan check plan.toml\n  lalograph plan cost thornmere/diaries --document line --hidden 256"
    )]
    Plan {
        /// The command for a plan.
        #[command(subcommand)]
        command: PlanCommand,
    },
    /// Train a language model on a corpus, from flags or a plan, with samples during training.
    Train(Box<TrainArgs>),
    /// Train classifiers of documents; predict classes, score and explain predictions.
    #[command(
        after_help = "Examples:\n  lalograph classify train thornmere/diaries.csv --label outcome --name outcome\n  lalograph classify score runs/outcome\n  lalograph classify predict runs/outcome thornmere/diaries.csv --first 10"
    )]
    Classify {
        /// The command for a classifier.
        #[command(subcommand)]
        command: ClassifyCommand,
    },
    /// Continue from a trained model on another corpus, or on prompts and answers.
    Tune(Box<TuneArgs>),
    /// Train many settings of a plan, find the best, and show which settings mattered.
    Sweep(Box<SweepArgs>),
    /// Continue an interrupted run or sweep exactly where it stopped, or give a finished run more steps.
    Resume(ResumeArgs),
    /// Write text with a trained model.
    Sample(SampleArgs),
    /// Show the distribution of the next token after a text.
    Next(NextArgs),
    /// Talk with a model, or let two voices talk with each other.
    Converse(ConverseArgs),
    /// Serve models to other programs over HTTP, with a page on which people write with them.
    Serve(ServeArgs),
    /// Score a text with trained models: perplexity, bits per byte, surprise by token.
    Score(ScoreArgs),
    /// Measure how far back in time the gradient of a model reaches, by layer.
    Flow(FlowArgs),
    /// Export a model for other programs: as graphs of ONNX, the open exchange standard, or as plain tables.
    Export(ExportArgs),
    /// Build a model file from tensors that were made elsewhere, a plan and a vocabulary.
    Import(ImportArgs),
    /// List, show, compare, report, export, import and remove runs.
    #[command(
        after_help = "Examples:\n  lalograph runs list --runs thornmere/runs\n  lalograph runs show thornmere/runs/demo\n  lalograph runs report thornmere/runs/demo"
    )]
    Runs {
        /// The command for runs.
        #[command(subcommand)]
        command: RunsCommand,
    },
    /// Measure this machine: its limit by multiply-adds, and the speed of training and sampling for a plan.
    Gauge(GaugeArgs),
    /// Print the completion script of a shell.
    #[command(
        after_help = "Examples:\n  lalograph completions bash > lalograph.bash\n  lalograph completions fish > lalograph.fish"
    )]
    Completions {
        /// Shell to write completions for.
        #[arg(value_enum)]
        shell: clap_complete::Shell,
    },
    /// Write the manual pages of all commands to a folder.
    #[command(after_help = "Examples:\n  lalograph manual man1\n  man -l man1/lalograph-train.1")]
    Manual {
        /// Folder for the pages; created if missing.
        folder: PathBuf,
        /// Replace existing pages.
        #[arg(long)]
        force: bool,
    },
}

/// `demo`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph demo\n  lalograph demo --quick --dir small\n  lalograph demo --corpus-only --size 50MB --dir big"
)]
pub(crate) struct DemoArgs {
    /// Folder to write to (default: thornmere, or thornmere-2 and so on if that exists).
    #[arg(long, value_name = "DIR")]
    pub(crate) dir: Option<PathBuf>,
    /// Size of the diary text, at least 50kB (default: 1MB, or 150kB with --quick).
    #[arg(long, value_name = "SIZE", value_parser = parse_bytes)]
    pub(crate) size: Option<u64>,
    /// Random seed of the corpus and of training.
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub(crate) seed: u64,
    /// Use a smaller corpus and model: under twenty seconds, with worse samples.
    #[arg(long)]
    pub(crate) quick: bool,
    /// Write prompt-and-answer pairs too: pairs.csv, with their exact figures in pairs.truth.json.
    #[arg(long)]
    pub(crate) pairs: bool,
    /// Write the corpus and stop.
    #[arg(long, conflicts_with_all = ["quick", "threads"])]
    pub(crate) corpus_only: bool,
    /// Write the folder of text files only, without the CSV and JSON Lines files.
    #[arg(long)]
    pub(crate) no_tables: bool,
    /// Number of threads (default: all processors). Results do not depend on it.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) threads: Option<u16>,
    /// Replace an older demo in that folder.
    #[arg(long, requires = "dir")]
    pub(crate) force: bool,
}
#[cfg(test)]
mod tests {
    use super::definition;

    #[test]
    fn every_argument_is_sound_and_explained_and_every_command_has_examples() {
        definition().debug_assert();
        fn check(command: &clap::Command) {
            assert!(command.get_about().is_some(), "{}", command.get_name());
            for argument in command.get_arguments() {
                assert!(argument.get_help().is_some(), "{} {}", command.get_name(), argument.get_id());
            }
            if command.get_subcommands().next().is_none() {
                let after = command.get_after_help().map(ToString::to_string).unwrap_or_default();
                assert!(after.contains("lalograph "), "{} has no examples", command.get_name());
            }
            command.get_subcommands().for_each(check);
        }
        check(&definition());
    }
}
