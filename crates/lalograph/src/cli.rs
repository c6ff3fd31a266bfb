//! The command line: what may be typed. What it means is settled in `commands`.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};
use lalograph_text::{Division, Unit};

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
    /// Look at a corpus before training on it: documents, words, lengths, commonest words, first rows.
    Survey(SurveyArgs),
    /// Build vocabularies, look into them, and turn text into indices and back.
    Vocab {
        /// What to do with it.
        #[command(subcommand)]
        command: VocabCommand,
    },
    /// Train a language model on a corpus, from flags or from a plan, with samples as it goes.
    Train(Box<TrainArgs>),
    /// Write text with a trained model.
    Sample(SampleArgs),
    /// Judge a text with a trained model: perplexity and bits per byte.
    Score(ScoreArgs),
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

/// A corpus on the command line.
#[derive(Debug, Args)]
pub(crate) struct CorpusArgs {
    /// Files, folders of .txt files, or - for standard input.
    #[arg(value_name = "PATH", required = true)]
    pub(crate) paths: Vec<PathBuf>,
    /// What one document is.
    #[arg(long, value_enum, value_name = "WHAT", default_value = "file")]
    pub(crate) document: DocumentChoice,
    /// Only the first N documents.
    #[arg(long, value_name = "N")]
    pub(crate) first: Option<u64>,
}

/// What one document is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum DocumentChoice {
    /// A whole file.
    File,
    /// A line that is not blank.
    Line,
    /// Lines up to a blank one.
    Paragraph,
}

impl From<DocumentChoice> for Division {
    fn from(choice: DocumentChoice) -> Self {
        match choice {
            DocumentChoice::File => Self::File,
            DocumentChoice::Line => Self::Line,
            DocumentChoice::Paragraph => Self::Paragraph,
        }
    }
}

/// What a token is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum UnitChoice {
    /// Words, punctuation marks by themselves.
    Word,
    /// Unicode code points.
    Character,
}

impl From<UnitChoice> for Unit {
    fn from(choice: UnitChoice) -> Self {
        match choice {
            UnitChoice::Word => Self::Word,
            UnitChoice::Character => Self::Character,
        }
    }
}

/// `survey`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph survey thornmere/diaries --document line\n  lalograph survey thornmere/diaries --document line --first 500 --top 40\n  lalograph survey thornmere/diaries --json"
)]
pub(crate) struct SurveyArgs {
    /// The corpus.
    #[command(flatten)]
    pub(crate) corpus: CorpusArgs,
    /// How many of the commonest words to list.
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub(crate) top: usize,
    /// How many of the first documents to show.
    #[arg(long, value_name = "N", default_value_t = 3)]
    pub(crate) rows: usize,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

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
}

/// How text is cleaned and cut.
#[derive(Debug, Args)]
pub(crate) struct TokenArgs {
    /// What a token is.
    #[arg(long, value_enum, value_name = "UNIT")]
    pub(crate) unit: Option<UnitChoice>,
    /// Keep the N commonest tokens, reserved ones not counted.
    #[arg(long = "vocab-size", value_name = "N")]
    pub(crate) vocab_size: Option<usize>,
    /// Keep tokens that occur at least N times.
    #[arg(long, value_name = "N")]
    pub(crate) min_count: Option<u64>,
    /// Turn everything to lower case first.
    #[arg(long)]
    pub(crate) lower_case: bool,
    /// Turn every run of white space into one space first.
    #[arg(long)]
    pub(crate) collapse_space: bool,
}

/// `vocab build`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph vocab build thornmere/diaries --document line --output words.json\n  lalograph vocab build thornmere/diaries --unit character --output characters.json\n  lalograph vocab build thornmere/diaries --vocab-size 300 --output small.json"
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

/// `train`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph train thornmere/diaries --document line --cell lstm --layers 2 --hidden 256\n  lalograph train thornmere/diaries --unit character --epochs 3 --temperatures 0.5,1.0\n  lalograph train --plan thornmere/runs/demo/plan.toml --set training.seed=2 --name second"
)]
pub(crate) struct TrainArgs {
    /// Files, folders of .txt files; without any, those of the plan.
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
    /// Print JSON Lines: metrics and samples as they come, the outcome last.
    #[arg(long)]
    pub(crate) json: bool,

    /// What one document is.
    #[arg(long, value_enum, value_name = "WHAT", help_heading = "Corpus")]
    pub(crate) document: Option<DocumentChoice>,
    /// Only the first N documents.
    #[arg(long, value_name = "N", help_heading = "Corpus")]
    pub(crate) first: Option<u64>,
    /// Share of documents held out to judge by.
    #[arg(long, value_name = "SHARE", help_heading = "Corpus")]
    pub(crate) validation_share: Option<f64>,
    /// Use this vocabulary file instead of counting one.
    #[arg(
        long = "vocab",
        value_name = "FILE",
        help_heading = "Corpus",
        conflicts_with_all = ["unit", "vocab_size", "min_count", "lower_case", "collapse_space"]
    )]
    pub(crate) vocabulary: Option<PathBuf>,
    /// How text is cleaned and cut.
    #[command(flatten, next_help_heading = "Corpus")]
    pub(crate) tokens: TokenArgs,

    /// Kind of the recurrent layers.
    #[arg(long, value_enum, value_name = "CELL", help_heading = "Model")]
    pub(crate) cell: Option<CellChoice>,
    /// Width of a token's vector.
    #[arg(long, value_name = "N", help_heading = "Model")]
    pub(crate) embedding: Option<usize>,
    /// Width of each recurrent layer.
    #[arg(long, value_name = "N", help_heading = "Model")]
    pub(crate) hidden: Option<usize>,
    /// Recurrent layers.
    #[arg(long, value_name = "N", help_heading = "Model")]
    pub(crate) layers: Option<usize>,

    /// Seed of everything that is left to chance.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) seed: Option<u64>,
    /// Passes over the training text.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) epochs: Option<u64>,
    /// Optimiser steps, instead of epochs.
    #[arg(long, value_name = "N", help_heading = "Training", conflicts_with = "epochs")]
    pub(crate) steps: Option<u64>,
    /// Streams of text read side by side.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) batch: Option<usize>,
    /// Tokens of each stream in one step.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) window: Option<usize>,
    /// Highest learning rate.
    #[arg(long, value_name = "RATE", help_heading = "Training")]
    pub(crate) learning_rate: Option<f64>,
    /// Bring the gradient's norm down to this; 0 for no clipping.
    #[arg(long, value_name = "NORM", help_heading = "Training")]
    pub(crate) clip_norm: Option<f64>,
    /// Share of numbers dropped between layers while training.
    #[arg(long, value_name = "SHARE", help_heading = "Training")]
    pub(crate) dropout: Option<f64>,
    /// Judge the validation text every N steps; 0 for at the end only.
    #[arg(long, value_name = "N", help_heading = "Training")]
    pub(crate) validate_every: Option<u64>,

    /// Temperatures to sample at.
    #[arg(long, value_name = "T,T,...", value_delimiter = ',', help_heading = "Samples")]
    pub(crate) temperatures: Option<Vec<f64>>,
    /// Sample every N steps; 0 for at the end only.
    #[arg(long, value_name = "N", help_heading = "Samples")]
    pub(crate) sample_every: Option<u64>,
    /// Tokens of a sample, at most.
    #[arg(long, value_name = "N", help_heading = "Samples")]
    pub(crate) sample_tokens: Option<usize>,
    /// What every sample goes on from.
    #[arg(long, value_name = "TEXT", help_heading = "Samples")]
    pub(crate) seed_text: Option<String>,
}

/// Kind of the recurrent layers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum CellChoice {
    /// Long short-term memory.
    Lstm,
}

/// `sample`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph sample thornmere/runs/demo\n  lalograph sample thornmere/runs/demo --temperature 0.3,0.7,1.0 --from 'Hesper'\n  lalograph sample thornmere/runs/demo --greedy --from 'Maudry walked to Foxgate' --json"
)]
pub(crate) struct SampleArgs {
    /// A model file, or the folder of a run.
    pub(crate) model: PathBuf,
    /// The seed text to go on from, or - for standard input; without it a document begins.
    #[arg(long, value_name = "TEXT", default_value = "", hide_default_value = true)]
    pub(crate) from: String,
    /// Take the likeliest token every time.
    #[arg(long, conflicts_with = "temperature")]
    pub(crate) greedy: bool,
    /// Draw at this temperature, above 0; several give a sample of each.
    #[arg(
        long,
        value_name = "T,T,...",
        value_delimiter = ',',
        allow_negative_numbers = true,
        default_value = "0.8"
    )]
    pub(crate) temperature: Vec<f64>,
    /// Samples for each temperature.
    #[arg(long, short = 'n', value_name = "N", default_value_t = 1)]
    pub(crate) count: u64,
    /// Tokens of a sample, at most; it also stops where a document ends.
    #[arg(long, value_name = "N", default_value_t = 200)]
    pub(crate) tokens: usize,
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
    /// Replace the file if it is there.
    #[arg(long, requires = "output")]
    pub(crate) force: bool,
    /// Print JSON Lines, one sample a line.
    #[arg(long)]
    pub(crate) json: bool,
}

/// `score`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph score thornmere/runs/demo thornmere/diaries/volume-00001.txt\n  lalograph score thornmere/runs/demo thornmere/diaries --first 100 --json\n  echo 'Hesper pottered to Foxgate.' | lalograph score thornmere/runs/demo -"
)]
pub(crate) struct ScoreArgs {
    /// A model file, or the folder of a run.
    pub(crate) model: PathBuf,
    /// Files, folders of .txt files, or - for standard input.
    #[arg(value_name = "PATH", required = true)]
    pub(crate) paths: Vec<PathBuf>,
    /// What one document is; without it, what it was when the model was trained.
    #[arg(long, value_enum, value_name = "WHAT")]
    pub(crate) document: Option<DocumentChoice>,
    /// Only the first N documents.
    #[arg(long, value_name = "N")]
    pub(crate) first: Option<u64>,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
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
