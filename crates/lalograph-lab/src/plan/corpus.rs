//! `[corpus]` and `[vocabulary]`: what is read, and how it becomes indices.

use std::path::PathBuf;

use lalograph_text::corpus::{Limits, TableStyle};
use lalograph_text::vocabulary::VocabularySpec;
use lalograph_text::{Cleaning, CleaningStep, CorpusSpec, Division, Form, Reserved, Unit};

use super::section::section;

section! {
    /// what is read.
    pub struct CorpusPlan in "corpus" {
        /// Files, folders, or patterns such as `letters/*.txt`. Gzip and Zstandard are unpacked.
        pub paths: Vec<PathBuf> = Vec::new(),
        /// Whether folders inside folders are read.
        pub recursive: bool = false,
        /// What the files hold: `auto` (as their names say), `text`, `csv`, `tsv` or `json_lines`.
        pub form: Form = Form::Auto,
        /// What one document of a text is: `file` (also when this is not said), `line` or `paragraph`. A row of a table is a document.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub document: Option<Division> = None,
        /// Columns (by name or number) or fields (by path, such as `visit.notes`) that hold the text; without any, `text`.
        #[serde(skip_serializing_if = "Vec::is_empty")]
        pub text: Vec<String> = Vec::new(),
        /// The column or field that holds the class.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub label: Option<String> = None,
        /// Whether the folder just below the one that was named is the class.
        pub folder_labels: bool = false,
        /// The character between the fields of a table, where it is not the usual comma or tab.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub delimiter: Option<char> = None,
        /// Whether fields may stand in quotation marks, where that is not as usual: yes in CSV, no in TSV.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub quoted: Option<bool> = None,
        /// Whether the first row of a table names its columns.
        pub head: bool = true,
        /// The encoding of all files; without one it is found out for each.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub encoding: Option<String> = None,
        /// The longest document, in bytes; longer ones are left out.
        pub longest_bytes: u64 = Limits::default().document_bytes,
        /// How many times their size compressed files may grow to.
        pub expansion: u64 = Limits::default().expansion,
        /// Whether anything that would be left out is an error.
        pub strict: bool = false,
        /// Only the first so many documents.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub first: Option<u64> = None,
        /// The share of documents held out to judge by, 0 to 0.9.
        pub validation_share: f64 = 0.1,
        /// The share of documents held out to be judged once, at the end, with the weights that are kept; 0 to 0.9 together with the other share.
        pub test_share: f64 = 0.0,
        /// A split file that says which documents are learnt from and which are held out, instead of the shares.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub split: Option<PathBuf> = None,
    }
}

impl CorpusPlan {
    /// What to read. A delimiter that is not ASCII is refused by [`Plan::check`].
    pub fn spec(&self) -> CorpusSpec {
        CorpusSpec {
            paths: self.paths.clone(),
            recursive: self.recursive,
            form: self.form,
            division: self.document,
            text: self.text.clone(),
            label: self.label.clone(),
            folder_labels: self.folder_labels,
            keep: Vec::new(),
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
    /// how text becomes indices.
    pub struct VocabularyPlan in "vocabulary" {
        /// A vocabulary file to use as it is. Without one, a vocabulary is counted on the training text, as the other settings say.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub file: Option<PathBuf> = None,
        /// What a token is: `word`, `character`, `grapheme`, `byte`, `byte_pair` or `unigram`.
        pub unit: Unit = Unit::Word,
        /// Cleaning steps in order: `strip_html`, `normal_form_c` (or `_d`, `_kc`, `_kd`), `lower_case`, `split_punctuation`, `drop_punctuation`, `fold_digits`, `plain_line_ends`, `collapse_space`, `{ replace = { pattern = "...", with = "..." } }`.
        pub cleaning: Vec<CleaningStep> = vec![CleaningStep::NormalFormC],
        /// At most so many tokens besides the reserved ones. Subwords have the 256 bytes among them.
        #[serde(skip_serializing_if = "Option::is_none")]
        pub size: Option<usize> = Some(20_000),
        /// Tokens seen at least so often; pairs, where subwords are merged.
        pub minimum_count: u64 = 1,
        /// Words or characters that get an index however rare they are.
        #[serde(skip_serializing_if = "Vec::is_empty")]
        pub include: Vec<String> = Vec::new(),
        /// Words or characters that get none however common they are.
        #[serde(skip_serializing_if = "Vec::is_empty")]
        pub exclude: Vec<String> = Vec::new(),
        /// How the reserved tokens are spelt: `padding`, `unknown`, `start`, `end`.
        pub reserved: Reserved = Reserved::default(),
    }
}

impl VocabularyPlan {
    /// What to build.
    pub fn spec(&self) -> VocabularySpec {
        VocabularySpec {
            unit: self.unit,
            cleaning: Cleaning { steps: self.cleaning.clone() },
            size: self.size,
            minimum_count: self.minimum_count,
            reserved: self.reserved.clone(),
            include: self.include.clone(),
            exclude: self.exclude.clone(),
        }
    }
}
