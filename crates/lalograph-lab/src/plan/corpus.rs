//! `[corpus]` and `[vocabulary]`: what is read, and how it becomes indices.

use std::path::PathBuf;

use lalograph_text::corpus::{Limits, TableStyle};
use lalograph_text::vocabulary::VocabularySpec;
use lalograph_text::{Cleaning, CleaningStep, CorpusSpec, Division, Form, Reserved, Unit};

use super::section::section;

section! {
    /// the text to train on.
    pub struct CorpusPlan in "corpus" {
        /// Files, folders or patterns such as `letters/*.txt`. Gzip and Zstandard are decompressed.
        pub paths: Vec<PathBuf> = Vec::new(),
        /// Read subfolders too.
        pub recursive: bool = false,
        /// File format: `auto` (from the extension), `text`, `csv`, `tsv`, `json_lines` or `mail` (each file is a message or a mailbox of messages, whatever its name).
        pub form: Form = Form::Auto,
        /// One document in a text file: `file` (also if not set), `line` or `paragraph`. In a table, each row is one document.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub document: Option<Division> = None,
        /// Columns (names or numbers) or field paths (such as `visit.notes`) of the text; `text` if empty.
        #[serde(skip_serializing_if = "Vec::is_empty")]
        pub text: Vec<String> = Vec::new(),
        /// Column or field path of the prompts of prompt-and-answer pairs, instead of `text`.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub prompt: Option<String> = None,
        /// Column or field path of the answers.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub answer: Option<String> = None,
        /// Column or field path of the class label.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub label: Option<String> = None,
        /// Use the name of the folder directly below a path as the class label; of a file that is a path itself, the name of its folder.
        pub folder_labels: bool = false,
        /// Column or field path of a group: the rows of a file with the same value there are one document, their texts joined by line ends. A file with groups is held in memory while it is read.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub group: Option<String> = None,
        /// Column or field path by whose values the rows of a group are ordered, as numbers if all are; if not set, the order of the file.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub group_order: Option<String> = None,
        /// Character between the fields of a table; if not set, comma in CSV and tab in TSV.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub delimiter: Option<char> = None,
        /// Whether fields of a table can be quoted; if not set, yes in CSV and no in TSV.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub quoted: Option<bool> = None,
        /// Whether a table has a header row with the names of its columns.
        pub head: bool = true,
        /// Encoding of all files; if not set, it is detected for each file.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub encoding: Option<String> = None,
        /// Leave out documents with more bytes.
        pub longest_bytes: u64 = Limits::default().document_bytes,
        /// Maximum decompression ratio.
        pub expansion: u64 = Limits::default().expansion,
        /// Stop with an error at the first file or row that cannot be used.
        pub strict: bool = false,
        /// Read the first documents only, at most this many.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub first: Option<u64> = None,
        /// Share of documents in the validation text, 0 to 0.9.
        pub validation_share: f64 = 0.1,
        /// Share of documents in the test text, which is scored once, at the end, with the weights that are kept; 0 to 0.9 together with the validation share.
        pub test_share: f64 = 0.0,
        /// Random seed of the parts; if not set, `training.seed`. The runs of a sweep have one split, whatever their seeds.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub split_seed: Option<u64> = None,
        /// Split file whose parts are used instead of the shares.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub split: Option<PathBuf> = None,
    }
}

impl CorpusPlan {
    /// The corpus. A delimiter that is not ASCII is refused by [`Plan::check`].
    pub fn spec(&self) -> CorpusSpec {
        CorpusSpec {
            paths: self.paths.clone(),
            recursive: self.recursive,
            form: self.form,
            division: self.document,
            text: self.text.clone(),
            pair: self.prompt.clone().zip(self.answer.clone()),
            label: self.label.clone(),
            folder_labels: self.folder_labels,
            keep: Vec::new(),
            group: self.group.clone(),
            group_order: self.group_order.clone(),
            table: TableStyle {
                delimiter: self.delimiter.and_then(|c| u8::try_from(c).ok()),
                quoted: self.quoted,
                head: self.head,
            },
            encoding: self.encoding.clone(),
            first: self.first,
            limits: Limits { document_bytes: self.longest_bytes, expansion: self.expansion },
            strict: self.strict,
            part: None,
        }
    }
}

section! {
    /// from text to token indices.
    pub struct VocabularyPlan in "vocabulary" {
        /// Vocabulary file to use. If not set, a vocabulary is built from the training text by the settings below.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub file: Option<PathBuf> = None,
        /// Unit of a token: `word`, `character`, `grapheme`, `byte`, `byte_pair` or `unigram`.
        pub unit: Unit = Unit::Word,
        /// Cleaning steps in order: `mail_text` (or `mail_text_with_subject`, `mail_text_with_headers`), `strip_html`, `normal_form_c` (or `_d`, `_kc`, `_kd`), `lower_case`, `split_punctuation`, `drop_punctuation`, `fold_digits`, `plain_line_ends`, `collapse_space`, `{ replace = { pattern = "...", with = "..." } }`.
        pub cleaning: Vec<CleaningStep> = vec![CleaningStep::NormalFormC],
        /// Keep this many of the most frequent tokens, reserved tokens not counted. For subwords, the 256 bytes are counted.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub size: Option<usize> = Some(20_000),
        /// Keep tokens with at least this many occurrences; for byte-pair merging, pairs. If not set, 2 for words and 1 for other units.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub minimum_count: Option<u64> = None,
        /// Words or characters that always get an index.
        #[serde(skip_serializing_if = "Vec::is_empty")]
        pub include: Vec<String> = Vec::new(),
        /// Words or characters that never get an index.
        #[serde(skip_serializing_if = "Vec::is_empty")]
        pub exclude: Vec<String> = Vec::new(),
        /// Spellings of the reserved tokens `padding`, `unknown`, `start` and `end`.
        pub reserved: Reserved = Reserved::default(),
    }
}

/// Occurrences of a word that is kept. What an unknown word is like can be learnt only from a training text that has some, and a network that never met
/// one gives it next to no probability.
const MINIMUM_COUNT_OF_WORDS: u64 = 2;

impl VocabularyPlan {
    /// Fewest occurrences of a token that is kept.
    pub fn minimum_count(&self) -> u64 {
        self.minimum_count.unwrap_or(if self.unit == Unit::Word { MINIMUM_COUNT_OF_WORDS } else { 1 })
    }

    /// The vocabulary to build.
    pub fn spec(&self) -> VocabularySpec {
        VocabularySpec {
            unit: self.unit,
            cleaning: Cleaning { steps: self.cleaning.clone() },
            size: self.size,
            minimum_count: self.minimum_count(),
            reserved: self.reserved.clone(),
            include: self.include.clone(),
            exclude: self.exclude.clone(),
        }
    }
}
