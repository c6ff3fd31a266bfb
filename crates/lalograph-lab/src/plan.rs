//! The plan: everything that decides what a run does, as a TOML file.

use std::path::PathBuf;

use lalograph_net::{Cell, LanguageModelShape};
use lalograph_text::corpus::{Limits, TableStyle};
use lalograph_text::vocabulary::VocabularySpec;
use lalograph_text::{Cleaning, CleaningStep, CorpusSpec, Division, Form, Reserved, Unit};
use serde::{Deserialize, Serialize};
use thiserror::Error;

/// What is wrong with a plan.
#[derive(Debug, Error)]
pub enum PlanError {
    /// Not TOML, or a value of the wrong kind; the text draws the place.
    #[error("{0}")]
    Syntax(String),
    /// A key that no plan has.
    #[error("no setting `{key}`{}", .nearest.as_ref().map(|near| format!("; did you mean `{near}`?")).unwrap_or_default())]
    Unknown {
        /// The key, with its section.
        key: String,
        /// The known key most like it.
        nearest: Option<String>,
    },
    /// A value outside its range.
    #[error("`{key}` is {value}, and must be {must}")]
    Range {
        /// The key, with its section.
        key: &'static str,
        /// Its value.
        value: String,
        /// What it must be.
        must: &'static str,
    },
    /// An override that is not `section.key=value`.
    #[error("`{0}` is not of the form section.key=value")]
    Override(String),
}

/// Everything that decides what a run does.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Plan {
    /// What is read.
    pub corpus: CorpusPlan,
    /// How text becomes indices.
    pub vocabulary: VocabularyPlan,
    /// The network.
    pub model: ModelPlan,
    /// How it learns.
    pub training: TrainingPlan,
    /// What it writes meanwhile.
    pub samples: SamplesPlan,
}

/// `[corpus]`: what is read.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct CorpusPlan {
    /// Files, folders, or patterns such as `letters/*.txt`. Gzip and Zstandard are unpacked.
    pub paths: Vec<PathBuf>,
    /// Whether folders inside folders are read.
    pub recursive: bool,
    /// What the files hold: `auto` (as their names say), `text`, `csv`, `tsv` or `json_lines`.
    pub form: Form,
    /// What one document of a text is: `file` (also when this is not said), `line` or `paragraph`. A row of a table is a document.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub document: Option<Division>,
    /// Columns (by name or number) or fields (by path, such as `visit.notes`) that hold the text; without any, `text`.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub text: Vec<String>,
    /// The column or field that holds the class.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// Whether the folder just below the one that was named is the class.
    pub folder_labels: bool,
    /// The character between the fields of a table, where it is not the usual comma or tab.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub delimiter: Option<char>,
    /// Whether fields may stand in quotation marks, where that is not as usual: yes in CSV, no in TSV.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub quoted: Option<bool>,
    /// Whether the first row of a table names its columns.
    pub head: bool,
    /// The encoding of all files; without one it is found out for each.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub encoding: Option<String>,
    /// The longest document, in bytes; longer ones are left out.
    pub longest_bytes: u64,
    /// How many times their size compressed files may grow to.
    pub expansion: u64,
    /// Whether anything that would be left out is an error.
    pub strict: bool,
    /// Only the first so many documents.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub first: Option<u64>,
    /// The share of documents held out to judge by, 0 to 0.9.
    pub validation_share: f64,
    /// A split file that says which documents are learnt from and which are held out, instead of the share.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub split: Option<PathBuf>,
}

impl Default for CorpusPlan {
    fn default() -> Self {
        let Limits { document_bytes, expansion } = Limits::default();
        Self {
            paths: Vec::new(),
            recursive: false,
            form: Form::Auto,
            document: None,
            text: Vec::new(),
            label: None,
            folder_labels: false,
            delimiter: None,
            quoted: None,
            head: true,
            encoding: None,
            longest_bytes: document_bytes,
            expansion,
            strict: false,
            first: None,
            validation_share: 0.1,
            split: None,
        }
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

/// `[vocabulary]`: how text becomes indices.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct VocabularyPlan {
    /// A vocabulary file to use as it is. Without one, a vocabulary is counted on the training text, as the other settings say.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub file: Option<PathBuf>,
    /// What a token is: `word`, `character`, `grapheme`, `byte`, `byte_pair` or `unigram`.
    pub unit: Unit,
    /// Cleaning steps in order: `strip_html`, `normal_form_c` (or `_d`, `_kc`, `_kd`), `lower_case`, `split_punctuation`, `drop_punctuation`, `fold_digits`, `plain_line_ends`, `collapse_space`, `{ replace = { pattern = "...", with = "..." } }`.
    pub cleaning: Vec<CleaningStep>,
    /// At most so many tokens besides the reserved ones. Subwords have the 256 bytes among them.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub size: Option<usize>,
    /// Tokens seen at least so often; pairs, where subwords are merged.
    pub minimum_count: u64,
    /// Words or characters that get an index however rare they are.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub include: Vec<String>,
    /// Words or characters that get none however common they are.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub exclude: Vec<String>,
    /// How the reserved tokens are spelt: `padding`, `unknown`, `start`, `end`.
    pub reserved: Reserved,
}

impl Default for VocabularyPlan {
    fn default() -> Self {
        Self {
            file: None,
            unit: Unit::Word,
            cleaning: vec![CleaningStep::NormalFormC],
            size: Some(20_000),
            minimum_count: 1,
            include: Vec::new(),
            exclude: Vec::new(),
            reserved: Reserved::default(),
        }
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

/// The kind of recurrent layer, by name.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum CellName {
    /// Long short-term memory.
    #[default]
    Lstm,
}

/// `[model]`: the network.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct ModelPlan {
    /// The recurrent layers' kind: `lstm`.
    pub cell: CellName,
    /// Width of a token's vector.
    pub embedding: usize,
    /// Width of each recurrent layer.
    pub hidden: usize,
    /// Recurrent layers.
    pub layers: usize,
}

impl Default for ModelPlan {
    fn default() -> Self {
        Self { cell: CellName::Lstm, embedding: 128, hidden: 256, layers: 1 }
    }
}

/// How the learning rate moves after its warm-up.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Schedule {
    /// It stays.
    Constant,
    /// It falls along half a cosine to a hundredth at the last step.
    #[default]
    Cosine,
}

/// `[training]`: how the network learns.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct TrainingPlan {
    /// Fixes initial values, dropout, the split and the samples.
    pub seed: u64,
    /// Passes over the training text.
    pub epochs: u64,
    /// Optimiser steps, instead of epochs.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub steps: Option<u64>,
    /// Streams of text read side by side.
    pub batch: usize,
    /// Tokens of each stream in one step; gradients are cut at the window's edge, the state is carried on.
    pub window: usize,
    /// Parts that the batch is cut into, to be computed side by side. Part of the result: more parts, other rounding.
    pub lanes: usize,
    /// Adam's learning rate at its height.
    pub learning_rate: f64,
    /// Steps over which it rises from zero.
    pub warmup_steps: u64,
    /// `constant` or `cosine`.
    pub schedule: Schedule,
    /// The gradient's norm is brought down to this; 0 for no clipping.
    pub clip_norm: f64,
    /// Share of numbers dropped from the embedding's and every layer's output, 0 to 0.95.
    pub dropout: f64,
    /// Judge the validation text every so many steps; 0 for at the end only.
    pub validate_every: u64,
    /// Write a line of training figures every so many steps.
    pub record_every: u64,
}

impl Default for TrainingPlan {
    fn default() -> Self {
        Self {
            seed: 1,
            epochs: 10,
            steps: None,
            batch: 32,
            window: 64,
            lanes: 2,
            learning_rate: 0.002,
            warmup_steps: 50,
            schedule: Schedule::Cosine,
            clip_norm: 1.0,
            dropout: 0.1,
            validate_every: 200,
            record_every: 20,
        }
    }
}

/// `[samples]`: what the network writes while it learns.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct SamplesPlan {
    /// One sample for each; above 0.
    pub temperatures: Vec<f64>,
    /// Steps between samples; 0 for at the end only.
    pub every: u64,
    /// Tokens of a sample, at most: it also stops where a document ends.
    pub tokens: usize,
    /// The text that every sample goes on from; empty for the start of a document.
    pub seed_text: String,
}

impl Default for SamplesPlan {
    fn default() -> Self {
        Self { temperatures: vec![0.3, 0.7, 1.0], every: 200, tokens: 60, seed_text: String::new() }
    }
}

impl Plan {
    /// Reads a plan, with `section.key=value` overrides applied in order. What is not said has its default.
    ///
    /// # Errors
    /// A [`PlanError`]: unknown keys with the nearest known one, wrong kinds with their place, values out of range.
    pub fn from_toml(text: &str, overrides: &[String]) -> Result<Self, PlanError> {
        let mut table: toml::Table = text.parse().map_err(|error: toml::de::Error| syntax(&error))?;
        refuse_unknown(&table)?;
        // Read from the text itself first: only then can a message draw the line.
        let _: Self = toml::from_str(text).map_err(|error| syntax(&error))?;
        for setting in overrides {
            apply_override(&mut table, setting)?;
        }
        refuse_unknown(&table)?;
        let plan: Self = table.try_into().map_err(|error: toml::de::Error| syntax(&error))?;
        plan.check()?;
        Ok(plan)
    }

    /// The whole plan as TOML, every setting written out.
    pub fn to_toml(&self) -> String {
        // Plain data: serialising it cannot fail.
        toml::to_string(self).unwrap_or_default()
    }

    /// Refuses values outside their range.
    ///
    /// # Errors
    /// [`PlanError::Range`] for the first one.
    pub fn check(&self) -> Result<(), PlanError> {
        let Self { corpus, model, training, samples, .. } = self;
        let positive = "at least 1";
        if let Some(delimiter) = corpus.delimiter.filter(|c| !c.is_ascii() || matches!(c, '\n' | '\r' | '"'))
        {
            return Err(PlanError::Range {
                key: "corpus.delimiter",
                value: format!("{delimiter:?}"),
                must: "one ASCII character that ends no line and no quotation",
            });
        }
        let ranges: [(&'static str, f64, bool, &'static str); 15] = [
            (
                "corpus.longest_bytes",
                corpus.longest_bytes as f64,
                (1..=1 << 31).contains(&corpus.longest_bytes),
                "from 1 to 2,147,483,648",
            ),
            ("corpus.expansion", corpus.expansion as f64, corpus.expansion > 0, positive),
            (
                "corpus.validation_share",
                corpus.validation_share,
                (0.0..=0.9).contains(&corpus.validation_share),
                "from 0 to 0.9",
            ),
            ("model.embedding", model.embedding as f64, model.embedding > 0, positive),
            ("model.hidden", model.hidden as f64, model.hidden > 0, positive),
            ("model.layers", model.layers as f64, model.layers > 0, positive),
            ("training.epochs", training.epochs as f64, training.epochs > 0, positive),
            (
                "training.batch",
                training.batch as f64,
                (1..=1 << 16).contains(&training.batch),
                "from 1 to 65,536",
            ),
            (
                "training.window",
                training.window as f64,
                (1..=1 << 16).contains(&training.window),
                "from 1 to 65,536",
            ),
            ("training.record_every", training.record_every as f64, training.record_every > 0, positive),
            ("training.lanes", training.lanes as f64, training.lanes > 0, positive),
            (
                "training.learning_rate",
                training.learning_rate,
                training.learning_rate > 0.0 && training.learning_rate.is_finite(),
                "above 0",
            ),
            (
                "training.clip_norm",
                training.clip_norm,
                training.clip_norm >= 0.0 && training.clip_norm.is_finite(),
                "0 (no clipping) or above",
            ),
            (
                "training.dropout",
                training.dropout,
                (0.0..=0.95).contains(&training.dropout),
                "from 0 to 0.95",
            ),
            ("training.steps", training.steps.unwrap_or(1) as f64, training.steps != Some(0), positive),
        ];
        let temperatures = samples
            .temperatures
            .iter()
            .map(|&t| ("samples.temperatures", t, t > 0.0 && t.is_finite(), "above 0, each of them"));
        match ranges.into_iter().chain(temperatures).find(|(_, _, fine, _)| !fine) {
            Some((key, value, _, must)) => Err(PlanError::Range { key, value: value.to_string(), must }),
            None => Ok(()),
        }
    }

    /// The network's sizes over a vocabulary of so many indices.
    pub fn shape(&self, vocabulary: usize) -> LanguageModelShape {
        let ModelPlan { cell, embedding, hidden, layers } = self.model;
        let cell = match cell {
            CellName::Lstm => Cell::Lstm,
        };
        LanguageModelShape { vocabulary, embedding, hidden, layers, cell }
    }
}

fn syntax(error: &toml::de::Error) -> PlanError {
    PlanError::Syntax(error.to_string().trim_end().to_owned())
}

/// Every key that a plan may have, as `section.key`.
fn known_keys() -> Vec<String> {
    [
        ("corpus", fields_of::<CorpusPlan>()),
        ("vocabulary", fields_of::<VocabularyPlan>()),
        ("model", fields_of::<ModelPlan>()),
        ("training", fields_of::<TrainingPlan>()),
        ("samples", fields_of::<SamplesPlan>()),
    ]
    .into_iter()
    .flat_map(|(section, keys)| keys.iter().map(move |key| format!("{section}.{key}")))
    .collect()
}

/// The names of a struct's fields, as it asks for them when it is read.
fn fields_of<'de, T: Deserialize<'de>>() -> &'static [&'static str] {
    struct Asked<'f>(&'f mut &'static [&'static str]);

    impl<'de> serde::Deserializer<'de> for Asked<'_> {
        type Error = serde::de::value::Error;

        fn deserialize_any<V: serde::de::Visitor<'de>>(self, _: V) -> Result<V::Value, Self::Error> {
            Err(serde::de::Error::custom("only the names are wanted"))
        }

        fn deserialize_struct<V: serde::de::Visitor<'de>>(
            self,
            _: &'static str,
            fields: &'static [&'static str],
            visitor: V,
        ) -> Result<V::Value, Self::Error> {
            *self.0 = fields;
            self.deserialize_any(visitor)
        }

        serde::forward_to_deserialize_any! {
            bool i8 i16 i32 i64 i128 u8 u16 u32 u64 u128 f32 f64 char str string bytes byte_buf option unit
            unit_struct newtype_struct seq tuple tuple_struct map enum identifier ignored_any
        }
    }

    let mut fields: &'static [&'static str] = &[];
    let _ = T::deserialize(Asked(&mut fields));
    fields
}

fn refuse_unknown(table: &toml::Table) -> Result<(), PlanError> {
    let known = known_keys();
    for (section, value) in table {
        let keys: Vec<String> = match value.as_table() {
            Some(inner) if !inner.is_empty() => inner.keys().map(|key| format!("{section}.{key}")).collect(),
            _ => vec![section.clone()],
        };
        for key in keys {
            let is_section = known.iter().any(|k| k.split('.').next() == Some(&*key));
            if !known.contains(&key) && !is_section {
                return Err(PlanError::Unknown { nearest: nearest(&key, &known), key });
            }
        }
    }
    Ok(())
}

/// The known key most like this one, if any is like it at all.
fn nearest(key: &str, known: &[String]) -> Option<String> {
    let last = |name: &str| name.rsplit('.').next().unwrap_or_default().to_owned();
    known
        .iter()
        .map(|k| (strsim::jaro_winkler(key, k).max(strsim::jaro_winkler(&last(key), &last(k))), k))
        .filter(|(likeness, _)| *likeness > 0.8)
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map(|(_, k)| k.clone())
}

fn apply_override(table: &mut toml::Table, setting: &str) -> Result<(), PlanError> {
    let wrong = || PlanError::Override(setting.to_owned());
    let (path, value) = setting.split_once('=').ok_or_else(wrong)?;
    let (section, key) = path.trim().split_once('.').ok_or_else(wrong)?;
    // What does not read as a TOML value is taken as text, so that quotes need not be quoted in a shell.
    let value = format!("value = {value}")
        .parse::<toml::Table>()
        .ok()
        .and_then(|mut parsed| parsed.remove("value"))
        .unwrap_or_else(|| toml::Value::String(value.trim().to_owned()));
    table
        .entry(section)
        .or_insert_with(|| toml::Value::Table(toml::Table::new()))
        .as_table_mut()
        .ok_or_else(wrong)?
        .insert(key.to_owned(), value);
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::{Plan, PlanError};

    fn read(text: &str, overrides: &[&str]) -> Result<Plan, PlanError> {
        let overrides: Vec<String> = overrides.iter().map(|&s| s.to_owned()).collect();
        Plan::from_toml(text, &overrides)
    }

    #[test]
    fn an_empty_plan_has_every_default_and_a_written_plan_reads_back() {
        let plan = read("", &[]).unwrap();
        assert_eq!(plan, Plan::default());
        assert_eq!(read(&plan.to_toml(), &[]).unwrap(), plan);
    }

    #[test]
    fn overrides_win_over_the_file_and_may_be_bare_words() {
        let text = "[model]\nhidden = 12\n[training]\nseed = 5\n";
        let plan =
            read(text, &["model.hidden=99", "corpus.document=line", "samples.seed_text=Old Pell"]).unwrap();
        assert_eq!((plan.model.hidden, plan.training.seed), (99, 5));
        assert_eq!(plan.corpus.document, Some(lalograph_text::Division::Line));
        assert_eq!(plan.samples.seed_text, "Old Pell");
    }

    #[test]
    fn mistakes_are_named_with_a_remedy() {
        let cases: [(&str, &[&str], &str); 9] = [
            ("[model]\nhiden = 3\n", &[], "no setting `model.hiden`; did you mean `model.hidden`?"),
            ("", &["trainig.seed=3"], "did you mean `training.seed`?"),
            ("[oddity]\n", &[], "no setting `oddity`"),
            ("", &["model.hidden"], "section.key=value"),
            ("[model]\nhidden = \"wide\"\n", &[], "line 2"),
            ("[model\n", &[], "line 1"),
            ("[training]\ndropout = 1.0\n", &[], "`training.dropout` is 1, and must be from 0 to 0.95"),
            ("[samples]\ntemperatures = [0.5, 0.0]\n", &[], "`samples.temperatures` is 0"),
            ("[training]\nbatch = 0\n", &[], "`training.batch` is 0"),
        ];
        for (text, overrides, expected) in cases {
            let message = read(text, overrides).unwrap_err().to_string();
            assert!(message.contains(expected), "{text:?} {overrides:?}: {message}");
        }
    }

    #[test]
    fn every_range_holds_at_its_ends_and_ends_just_beyond_them() {
        let inside = [
            "corpus.validation_share=0",
            "corpus.validation_share=0.9",
            "training.batch=65536",
            "training.window=1",
            "training.clip_norm=0",
            "training.dropout=0.95",
            "training.validate_every=0",
            "training.warmup_steps=0",
            "samples.every=0",
            "samples.temperatures=[]",
            "samples.temperatures=[0.01,50]",
            "training.steps=1",
            "vocabulary.size=1",
            "corpus.first=0",
        ];
        for setting in inside {
            read("", &[setting]).unwrap_or_else(|error| panic!("{setting}: {error}"));
        }
        let outside = [
            "corpus.validation_share=-0.1",
            "corpus.validation_share=0.91",
            "model.embedding=0",
            "model.hidden=0",
            "model.layers=0",
            "training.epochs=0",
            "training.steps=0",
            "training.batch=65537",
            "training.window=0",
            "training.lanes=0",
            "training.record_every=0",
            "training.learning_rate=0.0",
            "training.learning_rate=-1.0",
            "training.learning_rate=inf",
            "training.clip_norm=-0.5",
            "training.clip_norm=nan",
            "training.dropout=0.96",
            "samples.temperatures=[1.0,-1.0]",
            "samples.temperatures=[nan]",
        ];
        for setting in outside {
            let error = read("", &[setting]).expect_err(setting);
            let key = setting.split('=').next().unwrap_or_default();
            assert!(
                matches!(error, PlanError::Range { key: found, .. } if found == key),
                "{setting}: {error}"
            );
        }
        for wrong in ["model.hidden=-3", "training.seed=1.5", "corpus.document=page", "model.cell=abacus"] {
            assert!(matches!(read("", &[wrong]), Err(PlanError::Syntax(_))), "{wrong}");
        }
    }

    #[test]
    fn overrides_without_a_form_are_refused_and_the_last_of_two_wins() {
        for wrong in ["", "=", "model", "model=3", ".hidden=3", "model.hidden"] {
            assert!(read("", &[wrong]).is_err(), "{wrong:?}");
        }
        let plan = read("", &["model.hidden=3", "model.hidden=4"]).unwrap();
        assert_eq!(plan.model.hidden, 4);
        let spaced = read("", &["samples.seed_text=Old = Pell"]).unwrap();
        assert_eq!(spaced.samples.seed_text, "Old = Pell");
    }
}
