//! The documents of a classifier.

use lalograph_text::Split;
use lalograph_text::corpus::Reading;

use super::input::DocumentInput;
use crate::data::documents::Documents;
use crate::error::LabError;
use crate::plan::Plan;
use crate::run::description::TextFacts;

/// The documents of a classifier, and what is known of them before training.
pub struct ClassifierData {
    /// The plan, resolved: its length is a number of tokens, or `whole`.
    pub plan: Plan,
    /// From documents to steps.
    pub input: DocumentInput,
    /// The labels of the classes, in ascending order: class 0 is the first.
    pub classes: Vec<String>,
    /// The split of the documents.
    pub split: Split,
    /// Documents to train on.
    pub training: Documents,
    /// Documents for validation.
    pub validation: Documents,
    /// Documents for the test; may be empty.
    pub test: Documents,
    /// Counts of read and left out documents.
    pub reading: Reading,
    /// Facts about the text before training.
    pub facts: TextFacts,
    /// A hash of every document's text.
    pub(super) text_hash: String,
}

impl ClassifierData {
    /// Pairs of labels that differ in case or white space alone, and so are probably one class.
    pub fn similar_labels(&self) -> Vec<(&str, &str)> {
        let plain = |label: &str| label.split_whitespace().collect::<Vec<_>>().join(" ").to_lowercase();
        let mut pairs = Vec::new();
        for (index, first) in self.classes.iter().enumerate() {
            let others = self.classes[index + 1..].iter().filter(|second| plain(first) == plain(second));
            pairs.extend(others.map(|second| (first.as_str(), second.as_str())));
        }
        pairs
    }

    /// The files of a new run besides plan and description, with their contents.
    ///
    /// # Errors
    /// Something has no written form.
    pub fn run_files(&self) -> Result<Vec<(&'static str, String)>, LabError> {
        let mut files = vec![("split.json", self.split.to_json()?)];
        if let Some(vocabulary) = self.input.vocabulary() {
            files.push(("vocabulary.json", vocabulary.to_json()?));
        }
        Ok(files)
    }
}
