//! A corpus, its cleaning and its tokens on the command line.

use std::path::PathBuf;

use clap::{Args, ValueEnum};
use lalograph_text::{Division, Form, Part, Reserved, Unit};

use crate::output::number::parse_bytes;

/// A corpus on the command line.
#[derive(Debug, Args)]
pub(crate) struct CorpusArgs {
    /// Files, folders, patterns such as 'letters/*.txt', or - for standard input. Gzip and Zstandard are decompressed.
    #[arg(value_name = "PATH", required = true)]
    pub(crate) paths: Vec<PathBuf>,
    /// Options of reading.
    #[command(flatten)]
    pub(crate) reading: ReadingArgs,
    /// Which documents of them.
    #[command(flatten)]
    pub(crate) part: PartArgs,
}

/// Options of reading files into documents.
#[derive(Debug, Default, Args)]
pub(crate) struct ReadingArgs {
    /// One document in a text file (default: file). In a table, each row is one document.
    #[arg(long, value_enum, value_name = "WHAT", help_heading = "Corpus")]
    pub(crate) document: Option<DocumentChoice>,
    /// Read the first N documents only (default: all).
    #[arg(long, value_name = "N", help_heading = "Corpus")]
    pub(crate) first: Option<u64>,
    /// Read subfolders too.
    #[arg(long, help_heading = "Corpus")]
    pub(crate) recursive: bool,
    /// File format (default: from the extension). In folders, only files with the extension of that format are read.
    #[arg(long, value_enum, value_name = "FORM", help_heading = "Corpus")]
    pub(crate) form: Option<FormChoice>,
    /// Column (name or number) or field path (visit.notes.0) of the text; several are joined by line ends (default: text).
    #[arg(long, value_name = "COLUMN", help_heading = "Corpus")]
    pub(crate) text: Vec<String>,
    /// Column or field path of the class label (default: no labels).
    #[arg(long, value_name = "COLUMN", conflicts_with = "folder_labels", help_heading = "Corpus")]
    pub(crate) label: Option<String>,
    /// Use the name of the folder directly below PATH as the class label; of a file that is named itself, the name of its folder.
    #[arg(long, help_heading = "Corpus")]
    pub(crate) folder_labels: bool,
    /// Column or field path of a group: the rows of a file with the same value there are one document (default: each row is one).
    #[arg(long, value_name = "COLUMN", help_heading = "Corpus")]
    pub(crate) group: Option<String>,
    /// Column or field path that orders the rows of a group (default: the order of the file).
    #[arg(long, value_name = "COLUMN", requires = "group", help_heading = "Corpus")]
    pub(crate) group_order: Option<String>,
    /// Character between the fields of a table (default: comma in CSV, tab in TSV).
    #[arg(long, value_name = "CHARACTER", help_heading = "Corpus")]
    pub(crate) delimiter: Option<char>,
    /// Whether fields of a table can be quoted (default: yes in CSV, no in TSV).
    #[arg(long, value_enum, value_name = "WHETHER", help_heading = "Corpus")]
    pub(crate) quoted: Option<YesNo>,
    /// Read a table without a header row; columns are numbered from 1.
    #[arg(long, help_heading = "Corpus")]
    pub(crate) no_head: bool,
    /// Encoding of all files, such as latin1 or utf-16le (default: detected for each file).
    #[arg(long, value_name = "NAME", help_heading = "Corpus")]
    pub(crate) encoding: Option<String>,
    /// Leave out documents longer than SIZE (default: 256MB).
    #[arg(long, value_name = "SIZE", value_parser = parse_bytes, help_heading = "Corpus")]
    pub(crate) longest_bytes: Option<u64>,
    /// Maximum decompression ratio.
    #[arg(long, value_name = "TIMES", help_heading = "Corpus")]
    pub(crate) expansion: Option<u64>,
    /// Stop with an error at the first file or row that cannot be used.
    #[arg(long, help_heading = "Corpus")]
    pub(crate) strict: bool,
    /// List every file and row that was left out in FILE, as JSON Lines.
    #[arg(long, value_name = "FILE", help_heading = "Corpus")]
    pub(crate) left_out: Option<PathBuf>,
}

/// The held-out parts of a corpus.
#[derive(Debug, Default, Args)]
pub(crate) struct SharesArgs {
    /// Share of documents in the validation part; if they have classes, every class has this share.
    #[arg(long, value_name = "SHARE", help_heading = "Corpus")]
    pub(crate) validation_share: Option<f64>,
    /// Share of documents in the test part, which is scored once, at the end.
    #[arg(long, value_name = "SHARE", help_heading = "Corpus")]
    pub(crate) test_share: Option<f64>,
    /// Use the parts of this split file instead of shares (default: none).
    #[arg(long, value_name = "FILE", help_heading = "Corpus", conflicts_with_all = ["validation_share", "test_share"])]
    pub(crate) split: Option<PathBuf>,
}

/// Prompts and answers.
#[derive(Debug, Default, Args)]
pub(crate) struct PairArgs {
    /// Column or field path of the prompts of prompt-and-answer pairs, with --answer (default: documents are no pairs).
    #[arg(long, value_name = "COLUMN", requires = "answer", conflicts_with_all = ["text", "group"], help_heading = "Corpus")]
    pub(crate) prompt: Option<String>,
    /// Column or field path of the answers, with --prompt (default: documents are no pairs).
    #[arg(long, value_name = "COLUMN", requires = "prompt", help_heading = "Corpus")]
    pub(crate) answer: Option<String>,
}

/// One part of a split.
#[derive(Debug, Default, Args)]
pub(crate) struct PartArgs {
    /// Read one part of this split file only.
    #[arg(long, value_name = "FILE", requires = "part", help_heading = "Corpus")]
    pub(crate) split: Option<PathBuf>,
    /// Part of the split to read.
    #[arg(long, value_enum, value_name = "PART", requires = "split", help_heading = "Corpus")]
    pub(crate) part: Option<PartChoice>,
}

/// Yes or no.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum YesNo {
    /// Fields can be quoted.
    Yes,
    /// Quotation marks are part of the text.
    No,
}

/// File format.
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
    /// Messages and mailboxes; in folders all files.
    Mail,
}

impl From<FormChoice> for Form {
    fn from(choice: FormChoice) -> Self {
        match choice {
            FormChoice::Text => Self::Text,
            FormChoice::Csv => Self::Csv,
            FormChoice::Tsv => Self::Tsv,
            FormChoice::JsonLines => Self::JsonLines,
            FormChoice::Mail => Self::Mail,
        }
    }
}

/// A part of a split.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum PartChoice {
    /// Training part.
    Training,
    /// Validation part.
    Validation,
    /// Test part.
    Test,
    /// Documents that were set aside.
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
    /// Cleaning steps in order, separated by commas: mail_text, mail_text_with_subject, mail_text_with_headers, strip_html, normal_form_c,
    /// lower_case, split_punctuation, drop_punctuation, fold_digits, plain_line_ends, collapse_space and others, or one replace:PATTERN=>WITH.
    /// Normal form C comes first or after mail_text, unless the first step is `none`.
    #[arg(long, value_name = "STEPS", allow_hyphen_values = true)]
    pub(crate) cleaning: Vec<String>,
}

/// Unit of a document.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum DocumentChoice {
    /// The whole file.
    File,
    /// Each line that is not blank.
    Line,
    /// Lines up to the next blank line.
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

/// Unit of a token.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum UnitChoice {
    /// Words; each punctuation mark is a token.
    Word,
    /// Unicode code points.
    Character,
    /// User-perceived characters (grapheme clusters).
    Grapheme,
    /// Bytes; never produces unknown tokens.
    Byte,
    /// Subwords by byte-pair merging; never produces unknown tokens.
    BytePair,
    /// Subwords of a unigram model; never produces unknown tokens.
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

/// Options of cleaning and tokenising.
#[derive(Debug, Args)]
pub(crate) struct TokenArgs {
    /// Unit of a token.
    #[arg(long, value_enum, value_name = "UNIT")]
    pub(crate) unit: Option<UnitChoice>,
    /// Keep the N most frequent tokens, reserved tokens not counted; for subwords, the 256 bytes are counted.
    #[arg(long, value_name = "N")]
    pub(crate) vocabulary_size: Option<usize>,
    /// Keep tokens with at least N occurrences; for byte-pair merging, pairs (default: 2 for words, 1 for
    /// other units).
    #[arg(long, value_name = "N")]
    pub(crate) minimum_count: Option<u64>,
    /// Always give this word or character an index; can be repeated.
    #[arg(long, value_name = "TOKEN", allow_hyphen_values = true)]
    pub(crate) include: Vec<String>,
    /// Always give each line of FILE an index.
    #[arg(long, value_name = "FILE")]
    pub(crate) include_from: Option<PathBuf>,
    /// Never give this word or character an index; can be repeated.
    #[arg(long, value_name = "TOKEN", allow_hyphen_values = true)]
    pub(crate) exclude: Vec<String>,
    /// Never give any line of FILE an index.
    #[arg(long, value_name = "FILE")]
    pub(crate) exclude_from: Option<PathBuf>,
    /// Spellings of the reserved tokens padding, unknown, start and end, separated by commas (default:
    /// ‹padding›,‹unknown›,‹start›,‹end›).
    #[arg(long, value_name = "P,U,S,E", value_parser = parse_reserved)]
    pub(crate) reserved: Option<Reserved>,
    /// Cleaning steps.
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
