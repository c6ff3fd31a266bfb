//! The command line: what may be typed. What it means is settled in `commands`.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};
use lalograph_text::partition::Amount;
use lalograph_text::{Division, Form, Part, Reserved, Unit};
use regex::Regex;

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
    /// Divide a corpus into training, validation and test parts, by document.
    Split(SplitArgs),
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
    /// Files, folders, patterns such as 'letters/*.txt', or - for standard input. Gzip and Zstandard are unpacked.
    #[arg(value_name = "PATH", required = true)]
    pub(crate) paths: Vec<PathBuf>,
    /// How they are read.
    #[command(flatten)]
    pub(crate) reading: ReadingArgs,
    /// Which documents of them.
    #[command(flatten)]
    pub(crate) part: PartArgs,
}

/// How files become documents.
#[derive(Debug, Default, Args)]
#[command(next_help_heading = "Corpus")]
pub(crate) struct ReadingArgs {
    /// What one document of a text is; without it a whole file. A row of a table is a document.
    #[arg(long, value_enum, value_name = "WHAT")]
    pub(crate) document: Option<DocumentChoice>,
    /// Only the first N documents.
    #[arg(long, value_name = "N")]
    pub(crate) first: Option<u64>,
    /// Read folders inside folders too.
    #[arg(long)]
    pub(crate) recursive: bool,
    /// What the files hold; without it what their names say. Folders give the files whose names end so.
    #[arg(long, value_enum, value_name = "FORM")]
    pub(crate) form: Option<FormChoice>,
    /// Column (name or number) or field path (visit.notes.0) of the text; several are joined by line ends. Without it `text`.
    #[arg(long, value_name = "COLUMN")]
    pub(crate) text: Vec<String>,
    /// Column or field path of the class.
    #[arg(long, value_name = "COLUMN", conflicts_with = "folder_labels")]
    pub(crate) label: Option<String>,
    /// The folder just below the one that is named is the class.
    #[arg(long)]
    pub(crate) folder_labels: bool,
    /// Character between the fields of a table.
    #[arg(long, value_name = "CHARACTER")]
    pub(crate) delimiter: Option<char>,
    /// Whether fields of a table may stand in quotation marks; without it yes in CSV, no in TSV.
    #[arg(long, value_enum, value_name = "WHETHER")]
    pub(crate) quoted: Option<YesNo>,
    /// The table's first row is a row like the others; columns are called by number.
    #[arg(long)]
    pub(crate) no_head: bool,
    /// Encoding of all files, such as latin1 or utf-16le; without it found out for each.
    #[arg(long, value_name = "NAME")]
    pub(crate) encoding: Option<String>,
    /// Longest document; longer ones are left out. Without it 256MB.
    #[arg(long, value_name = "SIZE", value_parser = parse_bytes)]
    pub(crate) longest: Option<u64>,
    /// How many times their size compressed files may grow to. Without it 500.
    #[arg(long, value_name = "TIMES")]
    pub(crate) expansion: Option<u64>,
    /// Stop at the first file or row that would be left out.
    #[arg(long)]
    pub(crate) strict: bool,
    /// Write every file and row that is left out to this file, as JSON Lines.
    #[arg(long, value_name = "FILE")]
    pub(crate) left_out: Option<PathBuf>,
}

/// One part of a split.
#[derive(Debug, Default, Args)]
#[command(next_help_heading = "Corpus")]
pub(crate) struct PartArgs {
    /// A split file; only the documents of one of its parts are read.
    #[arg(long, value_name = "FILE", requires = "part")]
    pub(crate) split: Option<PathBuf>,
    /// The part of the split.
    #[arg(long, value_enum, value_name = "PART", requires = "split")]
    pub(crate) part: Option<PartChoice>,
}

/// Yes or no.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum YesNo {
    /// They may.
    Yes,
    /// Quotation marks are text.
    No,
}

/// What files hold.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum FormChoice {
    /// Text.
    Text,
    /// Comma-separated values.
    Csv,
    /// Tab-separated values.
    Tsv,
    /// One JSON object a line.
    JsonLines,
}

impl From<FormChoice> for Form {
    fn from(choice: FormChoice) -> Self {
        match choice {
            FormChoice::Text => Self::Text,
            FormChoice::Csv => Self::Csv,
            FormChoice::Tsv => Self::Tsv,
            FormChoice::JsonLines => Self::JsonLines,
        }
    }
}

/// A part of a split.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum PartChoice {
    /// What is learnt from.
    Training,
    /// What is judged by while training.
    Validation,
    /// What is judged by at the end.
    Test,
    /// What is used for neither.
    SetAside,
}

impl From<PartChoice> for Part {
    fn from(choice: PartChoice) -> Self {
        match choice {
            PartChoice::Training => Self::Training,
            PartChoice::Validation => Self::Validation,
            PartChoice::Test => Self::Test,
            PartChoice::SetAside => Self::SetAside,
        }
    }
}

/// Cleaning on the command line.
#[derive(Debug, Default, Args)]
pub(crate) struct CleaningArgs {
    /// Cleaning steps, in order, with commas between them: strip_html, normal_form_c, lower_case, split_punctuation,
    /// drop_punctuation, fold_digits, plain_line_ends, collapse_space and others, or one replace:PATTERN=>WITH. Normal form C
    /// is done first, unless the first step is `none`.
    #[arg(long, value_name = "STEPS", allow_hyphen_values = true)]
    pub(crate) clean: Vec<String>,
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
    /// What a reader takes for one character.
    Grapheme,
    /// Bytes; nothing is unknown.
    Byte,
    /// Subwords by byte-pair merging; nothing is unknown.
    BytePair,
    /// Subwords of a unigram language model; nothing is unknown.
    Unigram,
}

impl From<UnitChoice> for Unit {
    fn from(choice: UnitChoice) -> Self {
        match choice {
            UnitChoice::Word => Self::Word,
            UnitChoice::Character => Self::Character,
            UnitChoice::Grapheme => Self::Grapheme,
            UnitChoice::Byte => Self::Byte,
            UnitChoice::BytePair => Self::BytePair,
            UnitChoice::Unigram => Self::Unigram,
        }
    }
}

/// `survey`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph survey thornmere/diaries --document line\n  lalograph survey thornmere/diaries.csv --label outcome --match 'queen|brood' --pictures looks\n  lalograph survey thornmere/diaries --document line --clean lower_case --show-cleaning 3"
)]
pub(crate) struct SurveyArgs {
    /// The corpus.
    #[command(flatten)]
    pub(crate) corpus: CorpusArgs,
    /// What is done to each document before it is looked at; nothing, if this is not given.
    #[command(flatten)]
    pub(crate) cleaning: CleaningArgs,
    /// How many of the commonest words and characters to list.
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub(crate) top: usize,
    /// How many of the first documents to show.
    #[arg(long, value_name = "N", default_value_t = 3)]
    pub(crate) rows: usize,
    /// Count the documents that this regular expression matches, and show some.
    #[arg(long = "match", value_name = "PATTERN")]
    pub(crate) pattern: Option<Regex>,
    /// Look for nearly equal documents too: those that have this share of their five-word runs in common.
    #[arg(long, value_name = "SHARE", num_args = 0..=1, default_missing_value = "0.8", value_parser = parse_resemblance, require_equals = true)]
    pub(crate) near: Option<f64>,
    /// How many examples to show of matches and duplicates.
    #[arg(long, value_name = "N", default_value_t = 3)]
    pub(crate) examples: usize,
    /// Show the first N documents before and after the cleaning, differences marked, and nothing else.
    #[arg(long, value_name = "N", requires = "clean", conflicts_with_all = ["json", "counts"])]
    pub(crate) show_cleaning: Option<u64>,
    /// Count documents, bytes and words, and nothing else.
    #[arg(long, conflicts_with_all = ["clean", "pattern", "near", "pictures"])]
    pub(crate) counts: bool,
    /// Draw lengths, classes and ranks into this folder, as SVG and PNG.
    #[arg(long, value_name = "DIR")]
    pub(crate) pictures: Option<PathBuf>,
    /// Replace pictures that are there, and the file of what is left out.
    #[arg(long)]
    pub(crate) force: bool,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

fn parse_resemblance(text: &str) -> Result<f64, String> {
    match text.parse::<f64>() {
        Ok(share) if share > 0.0 && share <= 1.0 => Ok(share),
        _ => Err("a resemblance is above 0 and at most 1, such as 0.8".into()),
    }
}

/// `split`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph split thornmere/diaries --document line --validation 0.1 --test 0.1\n  lalograph split thornmere/diaries.csv --label outcome --test 50 --set-aside restless -o by.json\n  lalograph split thornmere/diaries.jsonl --near --files parts --output near.split.json"
)]
pub(crate) struct SplitArgs {
    /// The corpus.
    #[command(flatten)]
    pub(crate) corpus: CorpusArgs,
    /// Held out to judge by while training: a share below 1, or a number of documents.
    #[arg(long, value_name = "AMOUNT", default_value = "0.1", value_parser = parse_amount)]
    pub(crate) validation: Amount,
    /// Held out to judge by at the end: a share below 1, or a number of documents.
    #[arg(long, value_name = "AMOUNT", default_value = "0.1", value_parser = parse_amount)]
    pub(crate) test: Amount,
    /// Seed of the choice.
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub(crate) seed: u64,
    /// Set documents with this label aside; may be given again and again.
    #[arg(long, value_name = "LABEL")]
    pub(crate) set_aside: Vec<String>,
    /// Keep nearly equal documents in one part: those that have this share of their five-word runs in common.
    #[arg(long, value_name = "SHARE", num_args = 0..=1, default_missing_value = "0.8", value_parser = parse_resemblance, require_equals = true)]
    pub(crate) near: Option<f64>,
    /// Apply a split file that is there already, instead of making one.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["validation", "test", "seed", "set_aside", "near", "output"])]
    pub(crate) by: Option<PathBuf>,
    /// Where to write the split file, which `train`, `survey`, `vocab build` and `score` read with --split.
    #[arg(long, short, value_name = "FILE", default_value = "split.json")]
    pub(crate) output: PathBuf,
    /// Write the parts into this folder too, each a file: one document a line if they are lines without labels, else JSON Lines.
    #[arg(long, value_name = "DIR")]
    pub(crate) files: Option<PathBuf>,
    /// Further columns or field paths to write into the parts' files; may be given again and again.
    #[arg(long, value_name = "COLUMN", requires = "files")]
    pub(crate) keep: Vec<String>,
    /// Replace files that are there.
    #[arg(long)]
    pub(crate) force: bool,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

fn parse_amount(text: &str) -> Result<Amount, String> {
    match text.parse::<f64>() {
        Ok(share) if (0.0..1.0).contains(&share) => Ok(Amount::Share(share)),
        Ok(count) if count >= 1.0 && count.fract() == 0.0 && count < 1e15 => {
            Ok(Amount::Documents(count as u64))
        }
        _ => Err("an amount is a share below 1, such as 0.1, or a number of documents, such as 500".into()),
    }
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
    /// Show what a vocabulary's size costs and brings on text that it was not counted on.
    Coverage(VocabCoverageArgs),
    /// Put the tokens of two vocabularies together, counts added.
    Merge(VocabMergeArgs),
    /// Add the words of a new corpus to a vocabulary; every old index stays.
    Extend(VocabExtendArgs),
    /// Show what two vocabularies share and what only one of them has.
    Compare(VocabCompareArgs),
}

/// How text is cleaned and cut.
#[derive(Debug, Args)]
pub(crate) struct TokenArgs {
    /// What a token is.
    #[arg(long, value_enum, value_name = "UNIT")]
    pub(crate) unit: Option<UnitChoice>,
    /// Keep the N commonest tokens, reserved ones not counted; subwords have the 256 bytes among them.
    #[arg(long = "vocab-size", value_name = "N")]
    pub(crate) vocab_size: Option<usize>,
    /// Keep tokens that occur at least N times; where subwords are merged, pairs.
    #[arg(long, value_name = "N")]
    pub(crate) min_count: Option<u64>,
    /// Give this word or character an index however rare it is; may be given again and again.
    #[arg(long, value_name = "TOKEN", allow_hyphen_values = true)]
    pub(crate) include: Vec<String>,
    /// The same for every line of a file.
    #[arg(long, value_name = "FILE")]
    pub(crate) include_from: Option<PathBuf>,
    /// Give this word or character no index however common it is; may be given again and again.
    #[arg(long, value_name = "TOKEN", allow_hyphen_values = true)]
    pub(crate) exclude: Vec<String>,
    /// The same for every line of a file.
    #[arg(long, value_name = "FILE")]
    pub(crate) exclude_from: Option<PathBuf>,
    /// How the reserved tokens are spelt: padding, unknown, start and end, with commas between them.
    #[arg(long, value_name = "P,U,S,E", value_parser = parse_reserved)]
    pub(crate) reserved: Option<Reserved>,
    /// What is done to the text first.
    #[command(flatten)]
    pub(crate) cleaning: CleaningArgs,
}

fn parse_reserved(text: &str) -> Result<Reserved, String> {
    match text.split(',').collect::<Vec<_>>().as_slice() {
        [padding, unknown, start, end] => Ok(Reserved {
            padding: (*padding).into(),
            unknown: (*unknown).into(),
            start: (*start).into(),
            end: (*end).into(),
        }),
        _ => Err("four spellings are wanted: padding, unknown, start and end".into()),
    }
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
    /// List the longest tokens, or the rarest, instead of those with the lowest indices.
    #[arg(long, value_enum, value_name = "ORDER")]
    pub(crate) order: Option<TokenOrder>,
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
    /// Print JSON Lines: metrics and samples as they come, the outcome last.
    #[arg(long)]
    pub(crate) json: bool,

    /// How they are read.
    #[command(flatten)]
    pub(crate) reading: ReadingArgs,
    /// Share of documents held out to judge by.
    #[arg(long, value_name = "SHARE", help_heading = "Corpus")]
    pub(crate) validation_share: Option<f64>,
    /// A split file that says what is learnt from and what is held out, instead of the share.
    #[arg(long, value_name = "FILE", help_heading = "Corpus", conflicts_with = "validation_share")]
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
    /// The text; what is not said of it is as it was when the model was trained.
    #[command(flatten)]
    pub(crate) corpus: CorpusArgs,
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
