//! The model file of a classifier, and a classifier that is ready to be used.

use std::path::Path;

use lalograph_net::Network;
use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::blocks::regularisation::LaneUse;
use lalograph_net::models::classifier::{Classifier, ClassifierInput, ClassifierLane, DocumentWindow};
use lalograph_net::models::network::LaneRoom;
use lalograph_net::numbers::rooms::Rooms;
use lalograph_net::weights::packed::PackedWeights;
use lalograph_text::vocabulary::Encoder;
use lalograph_text::{Reserved, Vocabulary};

use crate::artefact::container::{Assets, Container, json, read_file};
use crate::artefact::model_file::{KIND, Trained, read_weights};
use crate::data::documents::{EMPTY, kept};
use crate::error::LabError;
use crate::plan::{DocumentLength, Keep, Plan};

/// The task that such files name.
pub(super) const TASK: &str = "classifier";

/// Contents of a model file or checkpoint of a classifier besides weights.
pub(super) fn classifier_assets(
    plan: &Plan,
    vocabulary: &Vocabulary,
    classes: &[String],
) -> Result<Assets, LabError> {
    Ok(Assets::from([
        ("task", TASK.to_owned()),
        ("plan", plan.to_toml()?),
        ("vocabulary", vocabulary.to_json()?),
        ("cleaning", json(vocabulary.cleaning())?),
        ("classes", json(&classes)?),
    ]))
}

/// A classifier from its model file, ready to be used by several threads.
#[derive(Debug)]
pub struct ReadyClassifier {
    /// The plan that it was trained by.
    pub plan: Plan,
    /// The vocabulary, with its cleaning.
    pub vocabulary: Vocabulary,
    /// The labels of the classes, in ascending order.
    pub classes: Vec<String>,
    /// Progress of its training.
    pub trained: Trained,
    /// The architecture.
    pub net: Classifier,
    weights: Vec<f32>,
    packed: PackedWeights<f32>,
}

impl ReadyClassifier {
    /// Reads and checks a model file.
    ///
    /// # Errors
    /// The file cannot be read; it is damaged, cut short, of another kind or task, or its parts contradict each other.
    pub fn load(path: &Path) -> Result<Self, LabError> {
        let bytes = read_file(path)?;
        Self::from_bytes(&bytes).map_err(|what| LabError::BadModel { path: path.to_owned(), what })
    }

    fn from_bytes(bytes: &[u8]) -> Result<Self, String> {
        let file = Container::read(bytes, KIND)?;
        let task = file.asset("task")?;
        if task != TASK {
            return Err(format!("it is a model of another task: {task}"));
        }
        let plan = Plan::from_toml(file.asset("plan")?, &[]).map_err(|error| format!("its plan: {error}"))?;
        let vocabulary =
            Vocabulary::from_json(file.asset("vocabulary")?).map_err(|error| error.to_string())?;
        let classes: Vec<String> =
            serde_json::from_str(file.asset("classes")?).map_err(|error| format!("its classes: {error}"))?;
        if classes.len() < 2 || !classes.is_sorted_by(|a, b| a < b) {
            return Err("its classes are not labels in ascending order".into());
        }
        let trained: Trained = serde_json::from_str(file.asset("trained")?)
            .map_err(|error| format!("how far it was trained: {error}"))?;
        let input = ClassifierInput::Tokens { vocabulary: vocabulary.len(), embedding: plan.model.embedding };
        let net = Classifier::new(plan.classifier_shape(input, classes.len(), Vec::new()))
            .map_err(|error| error.to_string())?;
        let weights = read_weights(&file, net.layout())?;
        let packed = PackedWeights::reading(net.layout(), &weights);
        Ok(Self { plan, vocabulary, classes, trained, net, weights, packed })
    }

    /// A reader for one thread.
    pub fn reader(&self) -> ClassifierReader<'_> {
        ClassifierReader {
            ready: self,
            encoder: self.vocabulary.encoder(),
            window: DocumentWindow::default(),
            lane: None,
            tokens: Vec::new(),
            logs: Vec::new(),
        }
    }

    /// Tokens of the longest document that is read whole; none if every document is.
    pub fn longest(&self) -> Option<usize> {
        match self.plan.classifier.as_ref().map(|plan| plan.length) {
            Some(DocumentLength::Tokens(tokens)) => Some(tokens),
            _ => None,
        }
    }

    fn keep(&self) -> Keep {
        self.plan.classifier.as_ref().map(|plan| plan.keep_part).unwrap_or_default()
    }
}

/// A document as a classifier reads it.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct ReadDocument {
    /// Tokens of the document.
    pub tokens: u64,
    /// Tokens that the classifier read.
    pub read: u64,
    /// Unknown tokens among those that were read.
    pub unknown: u64,
}

/// Reads documents with a classifier: cleans, encodes, cuts and predicts. It belongs to one thread.
pub struct ClassifierReader<'c> {
    ready: &'c ReadyClassifier,
    encoder: Encoder<'c>,
    window: DocumentWindow,
    lane: Option<(Extent, ClassifierLane<f32>)>,
    tokens: Vec<u32>,
    logs: Vec<f64>,
}

/// Documents that are read side by side.
const ROWS: usize = 32;

impl ClassifierReader<'_> {
    /// Reads documents: for each what was read of it, and the natural log-probabilities of the classes (documents x classes).
    pub fn read<'t>(
        &mut self,
        documents: impl IntoIterator<Item = &'t str>,
    ) -> (Vec<ReadDocument>, Vec<f64>) {
        let mut found = Vec::new();
        let mut encoded: Vec<Vec<u32>> = Vec::new();
        for document in documents {
            self.tokens.clear();
            self.encoder.encode_into(document, &mut self.tokens);
            let length = self.tokens.len();
            let longest = self.ready.longest().unwrap_or(usize::MAX);
            let mut own: Vec<u32> = Vec::with_capacity(length.min(longest));
            for part in kept(length, longest, self.ready.keep()) {
                own.extend_from_slice(&self.tokens[part]);
            }
            let unknown = own.iter().filter(|&&token| token == Reserved::UNKNOWN).count() as u64;
            found.push(ReadDocument { tokens: length as u64, read: own.len() as u64, unknown });
            if own.is_empty() {
                own.push(EMPTY);
            }
            encoded.push(own);
        }
        let logs = self.log_probabilities(&encoded);
        (found, logs)
    }

    /// The natural log-probabilities of encoded documents (documents x classes), each of at least one token.
    pub fn log_probabilities(&mut self, documents: &[Vec<u32>]) -> Vec<f64> {
        let classes = self.ready.classes.len();
        let mut logs = vec![0.0; documents.len() * classes];
        // Documents of like length side by side: recurrent layers read them in parallel.
        let mut order: Vec<usize> = (0..documents.len()).collect();
        order.sort_by_key(|&number| documents[number].len());
        for batch in order.chunks(ROWS) {
            self.window.clear();
            for &number in batch {
                self.window.tokens.extend_from_slice(&documents[number]);
                self.window.lengths.push(documents[number].len());
            }
            let steps = self.window.lengths.iter().copied().max().unwrap_or(1);
            if self.lane.as_ref().is_none_or(|(extent, _)| extent.steps < steps) {
                let extent = Extent { steps: steps.next_power_of_two(), rows: ROWS };
                let room = LaneRoom { extent, used_for: LaneUse::Reading, resets: false };
                self.lane = Some((extent, self.ready.net.lane(room, &mut Rooms::making())));
            }
            let Some((_, lane)) = &mut self.lane else { continue };
            let weights = self.ready.packed.with(&self.ready.weights);
            self.ready.net.log_probabilities(weights, &self.window, 1.0, lane, &mut self.logs);
            for (&number, found) in batch.iter().zip(self.logs.chunks_exact(classes)) {
                logs[number * classes..(number + 1) * classes].copy_from_slice(found);
            }
        }
        logs
    }
}
