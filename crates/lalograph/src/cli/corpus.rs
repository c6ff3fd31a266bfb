//! A corpus, its cleaning and its tokens on the command line.

use std::path::PathBuf;

use clap::{Args, ValueEnum};
use lalograph_text::{Division, Form, Part, Reserved, Unit};

use crate::output::number::parse_bytes;

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
pub(crate) struct ReadingArgs {
    /// What one document of a text is; without it a whole file. A row of a table is a document.
    #[arg(long, value_enum, value_name = "WHAT", help_heading = "Corpus")]
    pub(crate) document: Option<DocumentChoice>,
    /// Only the first N documents.
    #[arg(long, value_name = "N", help_heading = "Corpus")]
    pub(crate) first: Option<u64>,
    /// Read folders inside folders too.
    #[arg(long, help_heading = "Corpus")]
    pub(crate) recursive: bool,
    /// What the files hold; without it what their names say. Folders give the files whose names end so.
    #[arg(long, value_enum, value_name = "FORM", help_heading = "Corpus")]
    pub(crate) form: Option<FormChoice>,
    /// Column (name or number) or field path (visit.notes.0) of the text; several are joined by line ends. Without it `text`.
    #[arg(long, value_name = "COLUMN", help_heading = "Corpus")]
    pub(crate) text: Vec<String>,
    /// Column or field path of the class.
    #[arg(long, value_name = "COLUMN", conflicts_with = "folder_labels", help_heading = "Corpus")]
    pub(crate) label: Option<String>,
    /// The folder just below the one that is named is the class.
    #[arg(long, help_heading = "Corpus")]
    pub(crate) folder_labels: bool,
    /// Character between the fields of a table.
    #[arg(long, value_name = "CHARACTER", help_heading = "Corpus")]
    pub(crate) delimiter: Option<char>,
    /// Whether fields of a table may stand in quotation marks; without it yes in CSV, no in TSV.
    #[arg(long, value_enum, value_name = "WHETHER", help_heading = "Corpus")]
    pub(crate) quoted: Option<YesNo>,
    /// The table's first row is a row like the others; columns are called by number.
    #[arg(long, help_heading = "Corpus")]
    pub(crate) no_head: bool,
    /// Encoding of all files, such as latin1 or utf-16le; without it found out for each.
    #[arg(long, value_name = "NAME", help_heading = "Corpus")]
    pub(crate) encoding: Option<String>,
    /// Longest document; longer ones are left out. Without it 256MB.
    #[arg(long, value_name = "SIZE", value_parser = parse_bytes, help_heading = "Corpus")]
    pub(crate) longest: Option<u64>,
    /// How many times their size compressed files may grow to. Without it 500.
    #[arg(long, value_name = "TIMES", help_heading = "Corpus")]
    pub(crate) expansion: Option<u64>,
    /// Stop at the first file or row that would be left out.
    #[arg(long, help_heading = "Corpus")]
    pub(crate) strict: bool,
    /// Write every file and row that is left out to this file, as JSON Lines.
    #[arg(long, value_name = "FILE", help_heading = "Corpus")]
    pub(crate) left_out: Option<PathBuf>,
}

/// One part of a split.
#[derive(Debug, Default, Args)]
pub(crate) struct PartArgs {
    /// A split file; only the documents of one of its parts are read.
    #[arg(long, value_name = "FILE", requires = "part", help_heading = "Corpus")]
    pub(crate) split: Option<PathBuf>,
    /// The part of the split.
    #[arg(long, value_enum, value_name = "PART", requires = "split", help_heading = "Corpus")]
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
