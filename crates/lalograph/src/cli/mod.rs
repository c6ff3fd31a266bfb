//! The command line: what may be typed. What it means is settled in `commands`.

mod choice;
mod corpus;
mod embed;
mod model;
mod plan;
mod runs;
mod survey;
mod vocab;

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};

pub(crate) use corpus::{CleaningArgs, CorpusArgs, ReadingArgs, TokenArgs, YesNo};
pub(crate) use embed::{
    DirectionChoice, EmbedCommand, EmbedImportArgs, EmbedJudgeArgs, EmbedMapArgs, EmbedNearArgs,
    EmbedRelateArgs, EmbedTrainArgs, LayoutChoice, MethodChoice, WeighChoice,
};
pub(crate) use model::{
    FlowArgs, ModelArgs, NextArgs, PassageChoice, SampleArgs, ScoreArgs, StateChoice, StepArgs, TrainArgs,
};
pub(crate) use plan::{GaugeArgs, PlanArgs, PlanCheckArgs, PlanCommand, PlanCostArgs, PlanNewArgs};
pub(crate) use runs::{CompareArgs, ListArgs, RemoveArgs, ReportArgs, ResumeArgs, RunsCommand, ShowArgs};
pub(crate) use survey::{SplitArgs, SurveyArgs};
pub(crate) use vocab::{
    TokenOrder, VocabBuildArgs, VocabCommand, VocabCompareArgs, VocabCoverageArgs, VocabDecodeArgs,
    VocabEncodeArgs, VocabExtendArgs, VocabMergeArgs, VocabShowArgs,
};

use crate::output::number::parse_bytes;

/// Trains recurrent language models on your text: vocabulary, perplexity, samples as it learns.
#[derive(Debug, Parser)]
#[command(name = "lalograph", version, help_expected = true, arg_required_else_help = true)]
#[command(
    after_help = "Examples:\n  lalograph demo\n  lalograph survey thornmere/diaries --document line\n  lalograph train thornmere/diaries --document line --cell lstm --layers 2 --hidden 256"
)]
pub(crate) struct Cli {
    /// Options that every command takes.
    #[command(flatten)]
    pub(crate) general: General,
    /// What to do.
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// Options that every command takes.
#[derive(Debug, Args)]
pub(crate) struct General {
    /// When to use colour; NO_COLOR in the environment turns `auto` off.
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
    /// Write a made-up corpus and do the whole job on it: survey, vocabulary, training, samples, report.
    Demo(DemoArgs),
    /// Look at a corpus before training on it: counts, classes, lengths, words, duplicates, what cleaning does.
    Survey(SurveyArgs),
    /// Divide a corpus into training, validation and test parts, by document.
    Split(SplitArgs),
    /// Build vocabularies, look into them, and turn text into indices and back.
    Vocab {
        /// What to do with it.
        #[command(subcommand)]
        command: VocabCommand,
    },
    /// Learn word vectors, bring them in, look for neighbours, judge them, map them.
    Embed {
        /// What to do with them.
        #[command(subcommand)]
        command: EmbedCommand,
    },
    /// Look at a plan before it is carried out.
    Plan {
        /// What to say of it.
        #[command(subcommand)]
        command: PlanCommand,
    },
    /// Train a language model on a corpus, from flags or from a plan, with samples as it goes.
    Train(Box<TrainArgs>),
    /// Go on with a run that was interrupted or died, exactly; or give a finished one more.
    Resume(ResumeArgs),
    /// Write text with a trained model. The unknown token is never written.
    Sample(SampleArgs),
    /// Show what a model expects after a text: the likeliest tokens with their probabilities.
    Next(NextArgs),
    /// Judge a text with a trained model: perplexity and bits per byte.
    Score(ScoreArgs),
    /// Follow the gradient of a model back through a text: by layer and by distance in time.
    Flow(FlowArgs),
    /// List, show, compare, report and remove runs.
    Runs {
        /// What to do with them.
        #[command(subcommand)]
        command: RunsCommand,
    },
    /// Measure this machine: matrix products, and training and sampling by a plan.
    Gauge(GaugeArgs),
    /// Print the completions of a shell, to be stored where it looks for them.
    #[command(
        after_help = "Examples:\n  lalograph completions bash > lalograph.bash\n  lalograph completions fish > lalograph.fish"
    )]
    Completions {
        /// The shell.
        #[arg(value_enum)]
        shell: clap_complete::Shell,
    },
    /// Write the manual pages of all commands into a folder.
    #[command(after_help = "Examples:\n  lalograph manual man1\n  man -l man1/lalograph-train.1")]
    Manual {
        /// The folder; it is made if it is not there.
        folder: PathBuf,
        /// Replace pages that are there.
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
    /// Where to write; without it `thornmere`, or `thornmere-2` and so on where that is taken.
    #[arg(long, value_name = "DIR")]
    pub(crate) dir: Option<PathBuf>,
    /// Bytes of diary text, from 50kB up; without it 1MB, or 150kB with --quick.
    #[arg(long, value_name = "SIZE", value_parser = parse_bytes)]
    pub(crate) size: Option<u64>,
    /// Seed of the corpus and of the training.
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub(crate) seed: u64,
    /// A smaller corpus and model: under twenty seconds, and the text is the worse for it.
    #[arg(long)]
    pub(crate) quick: bool,
    /// Write the corpus and stop there.
    #[arg(long, conflicts_with_all = ["quick", "threads"])]
    pub(crate) corpus_only: bool,
    /// Write the folder of text files only, without the CSV and JSON Lines files of the same entries.
    #[arg(long)]
    pub(crate) no_tables: bool,
    /// Threads to train with; without it all processors. Results do not depend on it.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) threads: Option<u16>,
    /// Replace an older demo in that folder.
    #[arg(long, requires = "dir")]
    pub(crate) force: bool,
}
#[cfg(test)]
mod tests {
    use super::Cli;
    use clap::CommandFactory;

    #[test]
    fn every_argument_is_sound_and_explained_and_every_command_has_examples() {
        Cli::command().debug_assert();
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
        check(&Cli::command());
    }
}
