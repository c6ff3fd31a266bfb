//! The model file of a classifier, and a classifier that is ready to be used.

use std::path::Path;

use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::blocks::regularisation::LaneUse;
use lalograph_net::linear::LinearShape;
use lalograph_net::models::classifier::{Classifier, ClassifierLane, DocumentWindow};
use lalograph_net::models::network::LaneRoom;
use lalograph_net::numbers::rooms::Rooms;
use lalograph_net::weights::packed::PackedWeights;
use lalograph_net::{Layout, Network};
use lalograph_storage::WholeFile;
use lalograph_text::vocabulary::Encoder;
use lalograph_text::{Reserved, Vocabulary};

use super::input::DocumentInput;
use super::linear::form::{LinearForm, RowMaker, Valued};
use super::linear::learner::layout as linear_layout;
use crate::artefact::container::{Assets, Header, json};
use crate::artefact::model_file::{Trained, load_model, read_weights, save_model};
use crate::data::documents::{EMPTY, kept};
use crate::data::numbers::{NumberError, NumberForm};
use crate::error::LabError;
use crate::measure::calibration::tempered;
use crate::plan::{DocumentLength, Keep, Plan};

/// The task that such files name.
pub(super) const TASK: &str = "classifier";

/// Contents of a model file or checkpoint of a classifier besides weights.
pub(super) fn classifier_assets(
    plan: &Plan,
    input: &DocumentInput,
    classes: &[String],
    form: Option<&LinearForm>,
) -> Result<Assets, LabError> {
    let mut assets =
        Assets::from([("task", TASK.to_owned()), ("plan", plan.to_toml()?), ("classes", json(&classes)?)]);
    match input {
        DocumentInput::Text(vocabulary) => {
            assets.insert("vocabulary", vocabulary.to_json()?);
            assets.insert("cleaning", json(vocabulary.cleaning())?);
        }
        DocumentInput::Numbers(form) => drop(assets.insert("numbers", json(form)?)),
    }
    if let Some(form) = form {
        assets.insert("features", json(form)?);
    }
    Ok(assets)
}

/// All of a classifier but its weights.
#[derive(Debug)]
pub struct ClassifierForm {
    /// The plan that it was trained by.
    pub plan: Plan,
    /// From documents to steps: the vocabulary with its cleaning, or the form of rows of numbers.
    pub input: DocumentInput,
    /// The labels of the classes, in ascending order.
    pub classes: Vec<String>,
    /// Progress of its training.
    pub trained: Trained,
    /// Temperature that the scores are divided by, fitted to held-out documents; 1 if none was fitted.
    pub temperature: f64,
    /// The network.
    pub network: ClassifierNetwork,
}

/// What makes a distribution of the steps of a document.
#[derive(Debug)]
pub enum ClassifierNetwork {
    /// A network over all steps.
    Layers(Box<Classifier>),
    /// Logistic regression on features.
    Linear(LinearForm, LinearShape),
}

impl ClassifierNetwork {
    /// Its tensors.
    pub fn layout(&self) -> Layout {
        match self {
            Self::Layers(net) => net.layout().clone(),
            Self::Linear(_, shape) => linear_layout(*shape),
        }
    }
}

impl ClassifierForm {
    /// Reads what the metadata of a model file say, and checks that its tensors are those of the network.
    ///
    /// # Errors
    /// A phrase: it is a model of another task, or its parts contradict each other.
    pub fn read(file: &Header) -> Result<Self, String> {
        let task = file.asset("task")?;
        if task != TASK {
            return Err(format!("it is a model of another task: {task}"));
        }
        let plan = Plan::from_toml(file.asset("plan")?, &[]).map_err(|error| format!("its plan: {error}"))?;
        let input = match plan.classifier.as_ref().and_then(|own| own.features) {
            None => {
                let text = file.asset("vocabulary")?;
                DocumentInput::Text(Box::new(Vocabulary::from_json(text).map_err(|error| error.to_string())?))
            }
            Some(features) => {
                let form: NumberForm = serde_json::from_str(file.asset("numbers")?)
                    .map_err(|error| format!("the form of its numbers: {error}"))?;
                if form.features != features || !form.is_sound() {
                    return Err("the form of its numbers is not that of its plan".into());
                }
                DocumentInput::Numbers(form)
            }
        };
        let classes: Vec<String> =
            serde_json::from_str(file.asset("classes")?).map_err(|error| format!("its classes: {error}"))?;
        check_classes(&classes)?;
        let trained: Trained = serde_json::from_str(file.asset("trained")?)
            .map_err(|error| format!("how far it was trained: {error}"))?;
        let network = match plan.classifier_shape(input.of_network(&plan), classes.len(), Vec::new()) {
            Some(shape) => {
                let net = Classifier::new(shape).map_err(|error| error.to_string())?;
                ClassifierNetwork::Layers(Box::new(net))
            }
            None => {
                let form: LinearForm = serde_json::from_str(file.asset("features")?)
                    .map_err(|error| format!("its features: {error}"))?;
                let vocabulary = input.vocabulary().map_or(0, Vocabulary::len);
                let fits = match &input {
                    DocumentInput::Text(_) => form.terms.is_some(),
                    DocumentInput::Numbers(numbers) => Some(form.features) == numbers.count(),
                };
                if !fits || !form.is_sound(vocabulary) {
                    return Err("its features contradict each other".into());
                }
                let shape = LinearShape { features: form.features, classes: classes.len() };
                ClassifierNetwork::Linear(form, shape)
            }
        };
        file.check_layout(&network.layout())?;
        let temperature = match file.asset("temperature") {
            Ok(text) => text.parse().map_err(|_| "its temperature is not a number".to_owned())?,
            Err(_) => 1.0,
        };
        if !(temperature > 0.0 && f64::is_finite(temperature)) {
            return Err("its temperature is not above 0".into());
        }
        Ok(Self { plan, input, classes, trained, temperature, network })
    }

    /// The form of a classifier of text with a network over all steps.
    ///
    /// # Errors
    /// A phrase: fewer than two classes, labels that do not ascend, a plan of another classifier, sizes that no network has.
    pub fn of_text(plan: Plan, vocabulary: Vocabulary, classes: Vec<String>) -> Result<Self, String> {
        check_classes(&classes)?;
        if plan.classifier.as_ref().is_some_and(|own| own.features.is_some()) {
            return Err(
                "a classifier of rows of numbers needs their means and deviations, which only training finds"
                    .into(),
            );
        }
        let input = DocumentInput::Text(Box::new(vocabulary));
        let Some(shape) = plan.classifier_shape(input.of_network(&plan), classes.len(), Vec::new()) else {
            return Err("a linear classifier needs its terms, which only training finds".into());
        };
        let net = Classifier::new(shape).map_err(|error| error.to_string())?;
        let network = ClassifierNetwork::Layers(Box::new(net));
        Ok(Self { plan, input, classes, trained: Trained::default(), temperature: 1.0, network })
    }

    /// Writes the model file with these weights, in the order of the network's layout.
    ///
    /// # Errors
    /// The file system refuses.
    pub fn save(&self, file: WholeFile, weights: &[f32]) -> Result<(), LabError> {
        let linear = match &self.network {
            ClassifierNetwork::Layers(_) => None,
            ClassifierNetwork::Linear(form, _) => Some(form),
        };
        let mut assets = classifier_assets(&self.plan, &self.input, &self.classes, linear)?;
        if self.temperature != 1.0 {
            assets.insert("temperature", self.temperature.to_string());
        }
        save_model(file, assets, &self.trained, &self.network.layout(), weights)
    }

    /// Tokens or steps of the longest document that is read whole; none if every document is.
    pub fn longest(&self) -> Option<usize> {
        longest(&self.plan)
    }

    /// The part of a longer document that is read.
    pub fn keep(&self) -> Keep {
        keep(&self.plan)
    }
}

fn check_classes(classes: &[String]) -> Result<(), String> {
    if classes.len() < 2 || !classes.is_sorted_by(|a, b| a < b) {
        return Err("the classes are not two labels or more in ascending order".into());
    }
    Ok(())
}

fn longest(plan: &Plan) -> Option<usize> {
    match plan.classifier.as_ref().map(|own| own.length) {
        Some(DocumentLength::Tokens(tokens)) => Some(tokens),
        _ => None,
    }
}

fn keep(plan: &Plan) -> Keep {
    plan.classifier.as_ref().map(|own| own.keep_part).unwrap_or_default()
}

/// A classifier from its model file, ready to be used by several threads.
#[derive(Debug)]
pub struct ReadyClassifier {
    /// The plan that it was trained by.
    pub plan: Plan,
    /// From documents to steps: the vocabulary with its cleaning, or the form of rows of numbers.
    pub input: DocumentInput,
    /// The labels of the classes, in ascending order.
    pub classes: Vec<String>,
    /// Progress of its training.
    pub trained: Trained,
    /// Temperature that the scores are divided by, fitted to held-out documents; 1 if none was fitted.
    pub temperature: f64,
    engine: Engine,
}

/// What makes a distribution over the classes of an encoded document.
#[derive(Debug)]
enum Engine {
    Network { net: Box<Classifier>, weights: Vec<f32>, packed: PackedWeights<f32> },
    Linear(LinearModel),
}

/// A linear classifier.
#[derive(Debug)]
pub struct LinearModel {
    /// Its features.
    pub form: LinearForm,
    /// Its shape.
    pub shape: LinearShape,
    /// Weights (features x outputs), then the biases.
    pub parameters: Vec<f64>,
}

impl ReadyClassifier {
    /// Reads and checks a model file.
    ///
    /// # Errors
    /// The file cannot be read; it is damaged, cut short, of another kind or task, or its parts contradict each other.
    pub fn load(path: &Path) -> Result<Self, LabError> {
        load_model(path, TASK, |file| {
            let form = ClassifierForm::read(&file)?;
            let weights = read_weights(file, &form.network.layout())?;
            Ok(Self::new(form, weights))
        })
    }

    /// A classifier of this form with these weights, in the order of its layout.
    fn new(form: ClassifierForm, weights: Vec<f32>) -> Self {
        let ClassifierForm { plan, input, classes, trained, temperature, network } = form;
        let engine = match network {
            ClassifierNetwork::Layers(net) => {
                let packed = PackedWeights::reading(net.layout(), &weights);
                Engine::Network { net, weights, packed }
            }
            ClassifierNetwork::Linear(form, shape) => {
                let parameters = weights.iter().map(|&weight| f64::from(weight)).collect();
                Engine::Linear(LinearModel { form, shape, parameters })
            }
        };
        Self { plan, input, classes, trained, temperature, engine }
    }

    /// Changes its weights: a function of the layout of its tensors and of all numbers in that order.
    pub fn change_weights(&mut self, change: impl FnOnce(&Layout, &mut [f32])) {
        match &mut self.engine {
            Engine::Network { net, weights, packed } => {
                change(net.layout(), weights);
                *packed = PackedWeights::reading(net.layout(), weights);
            }
            Engine::Linear(model) => {
                let mut weights: Vec<f32> = model.parameters.iter().map(|&weight| weight as f32).collect();
                change(&linear_layout(model.shape), &mut weights);
                model.parameters = weights.into_iter().map(f64::from).collect();
            }
        }
    }

    /// Writes the model file with a temperature.
    ///
    /// # Errors
    /// The file system refuses.
    pub fn save_calibrated(&self, file: WholeFile, temperature: f64) -> Result<(), LabError> {
        let form = self.linear().map(|model| &model.form);
        let mut assets = classifier_assets(&self.plan, &self.input, &self.classes, form)?;
        assets.insert("temperature", temperature.to_string());
        match &self.engine {
            Engine::Network { net, weights, .. } => {
                save_model(file, assets, &self.trained, net.layout(), weights)
            }
            Engine::Linear(model) => {
                let weights: Vec<f32> = model.parameters.iter().map(|&weight| weight as f32).collect();
                save_model(file, assets, &self.trained, &linear_layout(model.shape), &weights)
            }
        }
    }

    /// The features and weights of a linear classifier.
    pub fn linear(&self) -> Option<&LinearModel> {
        match &self.engine {
            Engine::Linear(model) => Some(model),
            Engine::Network { .. } => None,
        }
    }

    /// Number of its weights.
    pub fn parameters(&self) -> usize {
        match &self.engine {
            Engine::Network { weights, .. } => weights.len(),
            Engine::Linear(model) => model.parameters.len(),
        }
    }

    /// Features of a step, if it reads rows of numbers.
    pub fn features(&self) -> Option<usize> {
        match &self.input {
            DocumentInput::Text(_) => None,
            DocumentInput::Numbers(form) => Some(form.features),
        }
    }

    /// A reader for one thread.
    pub fn reader(&self) -> ClassifierReader<'_> {
        ClassifierReader {
            ready: self,
            maker: self
                .linear()
                .map(|model| RowMaker::new(&model.form, self.input.vocabulary().map_or(0, Vocabulary::len))),
            encoder: self.input.vocabulary().map(Vocabulary::encoder),
            window: DocumentWindow::default(),
            lane: None,
            tokens: Vec::new(),
            logs: Vec::new(),
        }
    }

    /// Tokens or steps of the longest document that is read whole; none if every document is.
    pub fn longest(&self) -> Option<usize> {
        longest(&self.plan)
    }

    pub(super) fn keep(&self) -> Keep {
        keep(&self.plan)
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
    pub(super) ready: &'c ReadyClassifier,
    pub(super) maker: Option<RowMaker<'c>>,
    encoder: Option<Encoder<'c>>,
    window: DocumentWindow,
    lane: Option<(Extent, ClassifierLane<f32>)>,
    tokens: Vec<u32>,
    logs: Vec<f64>,
}

/// A document as the network reads it: its tokens, or its numbers.
#[derive(Default)]
pub(super) struct EncodedDocument {
    pub(super) steps: usize,
    pub(super) tokens: Vec<u32>,
    pub(super) numbers: Vec<f32>,
}

/// Documents that are read side by side.
pub(super) const ROWS: usize = 32;

impl ClassifierReader<'_> {
    /// Reads documents: for each what was read of it, and the natural log-probabilities of the classes (documents x classes).
    ///
    /// # Errors
    /// The number of the first document that is no row of numbers, and why; text has none.
    pub fn read<'t>(
        &mut self,
        documents: impl IntoIterator<Item = &'t str>,
    ) -> Result<(Vec<ReadDocument>, Vec<f64>), (usize, NumberError)> {
        let mut found = Vec::new();
        let mut encoded: Vec<EncodedDocument> = Vec::new();
        let ready = self.ready;
        for (number, document) in documents.into_iter().enumerate() {
            let (Some(encoder), DocumentInput::Text(_)) = (&mut self.encoder, &ready.input) else {
                let DocumentInput::Numbers(form) = &ready.input else { continue };
                let mut all = Vec::new();
                let length = form.read(document, &mut all).map_err(|error| (number, error))?;
                form.standardise(&mut all);
                let mut numbers: Vec<f32> = Vec::new();
                for part in kept(length, ready.longest().unwrap_or(usize::MAX), ready.keep()) {
                    numbers.extend_from_slice(&all[part.start * form.features..part.end * form.features]);
                }
                let steps = numbers.len() / form.features;
                found.push(ReadDocument { tokens: length as u64, read: steps as u64, unknown: 0 });
                encoded.push(EncodedDocument { steps, numbers, ..EncodedDocument::default() });
                continue;
            };
            self.tokens.clear();
            encoder.encode_into(document, &mut self.tokens);
            let length = self.tokens.len();
            let longest = ready.longest().unwrap_or(usize::MAX);
            let mut tokens: Vec<u32> = Vec::with_capacity(length.min(longest));
            for part in kept(length, longest, ready.keep()) {
                tokens.extend_from_slice(&self.tokens[part]);
            }
            let unknown = tokens.iter().filter(|&&token| token == Reserved::UNKNOWN).count() as u64;
            found.push(ReadDocument { tokens: length as u64, read: tokens.len() as u64, unknown });
            if tokens.is_empty() {
                tokens.push(EMPTY);
            }
            encoded.push(EncodedDocument { steps: tokens.len(), tokens, ..EncodedDocument::default() });
        }
        let logs = self.log_probabilities(&encoded);
        Ok((found, logs))
    }

    /// The natural log-probabilities of encoded documents (documents x classes).
    pub(super) fn log_probabilities(&mut self, documents: &[EncodedDocument]) -> Vec<f64> {
        let classes = self.ready.classes.len();
        let mut logs = vec![0.0; documents.len() * classes];
        let (net, weights) = match &self.ready.engine {
            Engine::Network { net, weights, packed } => (net, packed.with(weights)),
            Engine::Linear(model) => {
                for (document, logs) in documents.iter().zip(logs.chunks_exact_mut(classes)) {
                    let row = self.row(document);
                    let row = row.iter().map(|valued| (valued.column, valued.value));
                    model.shape.log_probabilities(&model.parameters, row, logs);
                    logs.copy_from_slice(&tempered(logs, self.ready.temperature));
                }
                return logs;
            }
        };
        // Documents of like length side by side: recurrent layers read them in parallel.
        let mut order: Vec<usize> = (0..documents.len()).collect();
        order.sort_by_key(|&number| documents[number].steps);
        for batch in order.chunks(ROWS) {
            self.window.clear();
            for &number in batch {
                let EncodedDocument { steps, tokens, numbers } = &documents[number];
                self.window.tokens.extend_from_slice(tokens);
                self.window.numbers.extend_from_slice(numbers);
                self.window.lengths.push(*steps);
            }
            let steps = self.window.lengths.iter().copied().max().unwrap_or(1);
            if self.lane.as_ref().is_none_or(|(extent, _)| extent.steps < steps) {
                let extent = Extent { steps: steps.next_power_of_two(), rows: ROWS };
                let room = LaneRoom { extent, used_for: LaneUse::Reading, resets: false };
                self.lane = Some((extent, net.lane(room, &mut Rooms::making())));
            }
            let Some((_, lane)) = &mut self.lane else { continue };
            net.log_probabilities(weights, &self.window, self.ready.temperature, lane, &mut self.logs);
            for (&number, found) in batch.iter().zip(self.logs.chunks_exact(classes)) {
                logs[number * classes..(number + 1) * classes].copy_from_slice(found);
            }
        }
        logs
    }

    /// The features of an encoded document; none if the classifier is not linear.
    pub(super) fn row(&mut self, document: &EncodedDocument) -> Vec<Valued> {
        match (&mut self.maker, &self.ready.input) {
            (None, _) => Vec::new(),
            (Some(maker), DocumentInput::Numbers(_)) => maker.numbers(&document.numbers),
            (Some(_), DocumentInput::Text(_)) if document.tokens == [EMPTY] => Vec::new(),
            (Some(maker), DocumentInput::Text(_)) => maker.row(&document.tokens),
        }
    }
}
