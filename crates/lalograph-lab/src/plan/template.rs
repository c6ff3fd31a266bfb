//! Plans to begin with, explained setting by setting.

use lalograph_net::heads::softmax::Softmax;
use lalograph_text::Unit;

use super::error::PlanError;
use super::reference::{Setting, sections};
use super::{Plan, VectorsPlan};

lalograph_net::choice! {
    /// A plan to begin with.
    pub enum Preset = Word {
        /// A model of words.
        Word = "word",
        /// A model of characters.
        Character = "character",
        /// A model of words with tens of thousands of them.
        LargeVocabulary = "large_vocabulary",
        /// A classifier of documents.
        Classifier = "classifier",
        /// Word vectors.
        WordVectors = "word_vectors",
    }
}

impl Preset {
    /// The settings that do well for it.
    pub fn plan(self) -> Plan {
        let mut plan = Plan::default();
        match self {
            Self::Word => {}
            Self::Character => {
                plan.vocabulary.unit = Unit::Character;
                (plan.model.embedding, plan.model.hidden, plan.model.layers) = (Some(48), Some(320), 1);
                plan.samples.tokens = 300;
            }
            Self::LargeVocabulary => {
                plan.vocabulary.size = Some(50_000);
                (plan.model.embedding, plan.model.hidden) = (Some(256), Some(512));
                plan.model.softmax = Some(Softmax::Clustered);
                (plan.training.window, plan.training.batch) = (32, 32);
            }
            Self::Classifier => plan = Plan::for_classifier(),
            Self::WordVectors => plan.vectors = Some(VectorsPlan::default()),
        }
        plan
    }

    /// Purpose, as part of a sentence.
    pub fn phrase(self) -> &'static str {
        match self {
            Self::Word => "a model of words",
            Self::Character => "a model of characters",
            Self::LargeVocabulary => "a model of words with a large vocabulary",
            Self::Classifier => "a classifier of documents",
            Self::WordVectors => "word vectors",
        }
    }
}

/// The most common settings.
const COMMON: [&str; 29] = [
    "corpus.paths",
    "corpus.document",
    "corpus.validation_share",
    "corpus.test_share",
    "vocabulary.unit",
    "vocabulary.cleaning",
    "vocabulary.size",
    "vocabulary.minimum_count",
    "model.cell",
    "model.embedding",
    "model.hidden",
    "model.layers",
    "model.shared_vectors",
    "model.softmax",
    "training.seed",
    "training.epochs",
    "training.batch",
    "training.window",
    "training.learning_rate",
    "training.schedule",
    "training.clip_norm",
    "training.dropout",
    "training.validate_every",
    "training.patience",
    "samples.temperatures",
    "samples.every",
    "samples.from",
    "checkpoints.minutes",
    "checkpoints.keep",
];

/// The most common settings of a classifier that language models do not have.
const COMMON_OF_CLASSIFIERS: [&str; 8] = [
    "corpus.label",
    "classifier.network",
    "classifier.pooling",
    "classifier.dense",
    "classifier.length",
    "classifier.class_weights",
    "classifier.criterion",
    "training.validate_every_epochs",
];

/// Settings of language models that a classifier's plan need not show.
fn is_of_language_models(key: &str) -> bool {
    key.starts_with("samples.")
        || matches!(key, "model.shared_vectors" | "model.softmax" | "training.validate_every")
}

/// Settings that a plan of word vectors has no use for.
fn is_of_networks(key: &str) -> bool {
    let own = ["corpus.", "vocabulary.", "vectors."].iter().any(|section| key.starts_with(section));
    let held_out = matches!(key, "corpus.validation_share" | "corpus.test_share" | "corpus.split");
    !(own || key == "training.seed") || held_out
}

/// Columns of a comment.
const WIDTH: usize = 100;

/// A plan as a file with a comment over every setting: all of them, or those that most people set and those that are not as by default.
///
/// # Errors
/// [`PlanError::Unwritable`] for values that TOML has no form for.
pub fn commented(plan: &Plan, about: &str, all: bool) -> Result<String, PlanError> {
    let values = toml::Table::try_from(plan).map_err(|error| PlanError::Unwritable(error.to_string()))?;
    let mut text = String::new();
    let command = match plan {
        Plan { classifier: Some(_), .. } => "classify train",
        Plan { vectors: Some(_), .. } => "embed train",
        _ => "train",
    };
    comment(
        &format!(
            "A plan for {about}. `lalograph plan check` finds mistakes in it, `lalograph {command} --plan` trains by it."
        ),
        &mut text,
    );
    if !all {
        comment(
            "Settings that are not listed have their defaults; `lalograph plan new --all` lists all settings.",
            &mut text,
        );
    }
    for section in sections() {
        let value_of = |setting: &Setting| {
            values.get(&section.name).and_then(|values| values.get(&setting.key)).map(ToString::to_string)
        };
        let shown = |setting: &&Setting| {
            let key = format!("{}.{}", section.name, setting.key);
            if plan.vectors.is_some() {
                return !is_of_networks(&key)
                    && (all
                        || section.name == "vectors"
                        || COMMON.contains(&key.as_str())
                        || value_of(setting) != setting.default);
            }
            let common = match &plan.classifier {
                Some(_) if is_of_language_models(&key) => false,
                Some(_) => COMMON.contains(&key.as_str()) || COMMON_OF_CLASSIFIERS.contains(&key.as_str()),
                None => COMMON.contains(&key.as_str()),
            };
            all || common || value_of(setting) != setting.default
        };
        let shown: Vec<&Setting> = section.settings.iter().filter(shown).collect();
        // The section of another task would make another plan.
        if shown.is_empty() || !values.contains_key(&section.name) {
            continue;
        }
        text.push_str(&format!("\n\n# {}\n[{}]\n", capitalised(&section.about), section.name));
        for setting in shown {
            text.push('\n');
            comment(&setting.about, &mut text);
            match value_of(setting) {
                Some(value) => text.push_str(&format!("{} = {value}\n", setting.key)),
                None => text.push_str(&format!("# {} =\n", setting.key)),
            }
        }
    }
    Ok(text)
}

fn capitalised(text: &str) -> String {
    let mut characters = text.chars();
    characters.next().map_or_else(String::new, |first| first.to_uppercase().chain(characters).collect())
}

/// Words after `# `, over as many lines as they take.
fn comment(words: &str, out: &mut String) {
    let mut used = 0;
    for word in words.split_whitespace() {
        let needed = word.chars().count() + 1;
        if used == 0 || used + needed > WIDTH {
            out.push_str(if used == 0 { "#" } else { "\n#" });
            used = 1;
        }
        out.push(' ');
        out.push_str(word);
        used += needed;
    }
    out.push('\n');
}

#[cfg(test)]
mod tests {
    use super::{Plan, Preset, commented};

    #[test]
    fn a_written_plan_reads_back_unchanged() {
        for purpose in [
            Preset::Word,
            Preset::Character,
            Preset::LargeVocabulary,
            Preset::Classifier,
            Preset::WordVectors,
        ] {
            for all in [false, true] {
                let mut plan = purpose.plan();
                plan.corpus.paths = vec!["letters/*.txt".into()];
                if plan.classifier.is_none() && plan.vectors.is_none() {
                    plan.samples.from.0 = vec!["Old \"Pell\"".into(), "Hesper".into()];
                }
                let text = commented(&plan, purpose.phrase(), all).unwrap();
                assert_eq!(Plan::from_toml(&text, &[]).unwrap(), plan, "{text}");
                assert!(
                    text.lines().all(|line| line.chars().count() <= 120 || !line.starts_with('#')),
                    "{text}"
                );
                if plan.vectors.is_some() {
                    assert!(text.contains("embed train") && text.contains("dimensions = 128"), "{text}");
                    assert!(!text.contains("[model]") && !text.contains("epochs = 10"), "{text}");
                    continue;
                }
                assert!(text.contains("# Width of each recurrent layer."), "{text}");
                assert_eq!(text.contains("beta2"), all);
            }
        }
    }
}
