//! Specification of a corpus.

use std::path::PathBuf;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::split::{Part, Split};

/// One document of a text file. In a table, each row is one document.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Division {
    /// A whole file.
    #[default]
    File,
    /// A line that is not blank.
    Line,
    /// A run of lines with no blank line in it.
    Paragraph,
}

/// Format of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Form {
    /// By the file's extension: `.csv`, `.tsv`, `.jsonl`, and text otherwise. In a folder, its `.txt` files.
    #[default]
    Auto,
    /// Text.
    Text,
    /// Rows of fields with commas between them, quoted where they hold commas or line ends (RFC 4180, 2005).
    Csv,
    /// Rows of fields with tabs between them; quotation marks are text.
    Tsv,
    /// One JSON object a line.
    JsonLines,
    /// E-mail: a file is a message, or a mailbox of messages, each after a line that begins with `From ` and ends with a date (RFC 4155, 2005). In
    /// a folder, all files but hidden ones: messages have names of any kind.
    Mail,
}

/// Style of a CSV or TSV file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TableStyle {
    /// The byte between fields; `None` is the default of the form.
    pub delimiter: Option<u8>,
    /// Whether fields may be quoted, where that is not as by default.
    pub quoted: Option<bool>,
    /// Whether the first row names the columns. Without a head they are called by number, from 1.
    pub head: bool,
}

impl Default for TableStyle {
    fn default() -> Self {
        Self { delimiter: None, quoted: None, head: true }
    }
}

/// Limits.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limits {
    /// The longest document, in bytes; at most 2^31.
    pub document_bytes: u64,
    /// Maximum decompression ratio of files above 64 MiB.
    pub expansion: u64,
}

impl Default for Limits {
    fn default() -> Self {
        Self { document_bytes: 256_000_000, expansion: 500 }
    }
}

/// The corpus.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct CorpusSpec {
    /// Files, folders, patterns such as `letters/*.txt`, or `-` for standard input. Gzip and Zstandard are unpacked, whatever
    /// the names are.
    pub paths: Vec<PathBuf>,
    /// Whether folders inside folders are read.
    pub recursive: bool,
    /// Format of the files.
    pub form: Form,
    /// One document of a text file; `None` is [`Division::File`].
    pub division: Option<Division>,
    /// Columns or field paths that hold the text, joined by line ends; none means `text`.
    pub text: Vec<String>,
    /// The columns or field paths of prompts and of answers, instead of `text`.
    pub pair: Option<(String, String)>,
    /// The column or field path that holds the class.
    pub label: Option<String>,
    /// Whether the folder just below the one that was named is the class.
    pub folder_labels: bool,
    /// Further columns or field paths to read with the text.
    pub keep: Vec<String>,
    /// The column or field path of a group: the rows of a file with the same value there are one document, their texts joined by line ends.
    pub group: Option<String>,
    /// The column or field path by whose values the rows of a group are ordered, as numbers if all are; `None` is the order of the file.
    pub group_order: Option<String>,
    /// Format of tables.
    pub table: TableStyle,
    /// Encoding of all files; `None` detects it for each file.
    pub encoding: Option<String>,
    /// Stop after this many documents; `None` reads all.
    pub first: Option<u64>,
    /// Limits.
    pub limits: Limits,
    /// Whether the first place that would be left out is an error.
    pub strict: bool,
    /// Only the documents of this part of a split.
    pub part: Option<(Arc<Split>, Part)>,
}
