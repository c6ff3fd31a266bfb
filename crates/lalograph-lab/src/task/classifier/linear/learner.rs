//! A linear classifier and its rows, ready to be solved.

use lalograph_net::linear::objective::{GradientRoom, LossTerms};
use lalograph_net::linear::{Examples, LinearShape, SparseRows};
use lalograph_net::models::classifier::DocumentWindow;
use lalograph_net::weights::layout::{Initial, Layout};
use rayon::prelude::*;

use super::form::{LinearForm, RowMaker, fit_scale};
use super::selection::choose;
use crate::artefact::container::Container;
use crate::artefact::model_file::read_weights;
use crate::data::documents::{Documents, EMPTY};
use crate::error::LabError;
use crate::measure::cost::ParameterCost;
use crate::measure::decisions::Decisions;
use crate::plan::PlanError;
use crate::run::records::Evaluation;
use crate::task::classifier::data::ClassifierData;
use crate::task::classifier::evaluate::evaluation;
use crate::task::classifier::input::DocumentInput;

/// Rows of one stretch of documents, which one thread makes.
/// Stretches that are made before they are put together.
const TOGETHER: usize = 64;

const STRETCH: usize = 1 << 10;

/// A linear classifier ready to be solved: plan resolved, documents read, terms chosen, rows made.
pub struct LinearTask {
    /// The documents, and what is known of them.
    pub data: ClassifierData,
    /// The features.
    pub form: LinearForm,
    /// The shape of the weights.
    pub shape: LinearShape,
    /// Listed terms that are no tokens of the vocabulary.
    pub missing_terms: Vec<String>,
    /// Strengths of the penalty, the strongest first.
    pub strengths: Vec<f64>,
    pub(super) loss: LossTerms,
    /// Rows of the training, validation and test part.
    pub(super) parts: [Examples; 3],
}

impl LinearTask {
    /// Chooses the terms and makes the rows, on `threads` threads.
    ///
    /// # Errors
    /// No term is left; threads cannot be made.
    pub(in crate::task::classifier) fn new(
        data: ClassifierData,
        class_weights: Vec<f64>,
        threads: usize,
    ) -> Result<Self, LabError> {
        let own = data.plan.classifier.clone().unwrap_or_default();
        let classes = data.classes.len();
        let (terms, missing_terms) = match &data.input {
            DocumentInput::Text(vocabulary) => {
                let (form, missing) = choose(&own, vocabulary, &data.training, classes);
                if form.terms.is_empty() {
                    let must = "terms that the training documents have";
                    let (key, value) = ("classifier.term_list", format!("{:?}", own.term_list));
                    return Err(PlanError::Range { key, value, must }.into());
                }
                (Some(form), missing)
            }
            DocumentInput::Numbers(_) => (None, Vec::new()),
        };
        let features = match (&terms, &data.input) {
            (Some(form), _) => form.features(),
            (None, DocumentInput::Numbers(form)) => form.count().unwrap_or(0),
            (None, DocumentInput::Text(_)) => 0,
        };
        let mut form = LinearForm { terms, features, scale: 1.0 };
        let vocabulary = data.input.vocabulary().map_or(0, lalograph_text::Vocabulary::len);
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build()?;
        let make =
            |form: &LinearForm, documents: &Documents| pool.install(|| rows(form, documents, vocabulary));
        let mut training = make(&form, &data.training)?;
        fit_scale(&mut form, &mut training.rows);
        let parts = [training, make(&form, &data.validation)?, make(&form, &data.test)?];
        let loss = LossTerms { class_weights, label_smoothing: data.plan.regularisation.label_smoothing };
        let strengths = data.plan.strengths();
        let shape = LinearShape { features, classes };
        Ok(Self { data, form, shape, missing_terms, strengths, loss, parts })
    }

    /// Features that are not zero in a training row, on average.
    pub fn mean_features(&self) -> f64 {
        let rows = &self.parts[0].rows;
        rows.kept() as f64 / rows.count().max(1) as f64
    }

    /// Iterations that are made at most.
    pub fn steps(&self) -> u64 {
        let own = self.data.plan.classifier.as_ref();
        own.map_or(0, |own| own.iterations) * self.strengths.len() as u64
    }

    /// Bytes of the rows and of the solver.
    pub fn bytes(&self) -> u64 {
        // 12 remembered pairs of two, and six arrays of its own.
        let solver = (2 * 12 + 6) * self.shape.parameters() * size_of::<f64>();
        let rows: usize = self.parts.iter().map(|part| 8 * (part.rows.kept() + part.rows.count())).sum();
        (solver + rows + GradientRoom::bytes(self.shape)) as u64
    }

    /// The tensors of the model file, as their names, shapes and sizes.
    pub fn parameters(&self) -> Vec<ParameterCost> {
        let cost = |tensor: &lalograph_net::Tensor| ParameterCost {
            name: tensor.name.clone(),
            shape: tensor.shape.clone(),
            parameters: tensor.range.len() as u64,
        };
        self.layout().tensors().iter().map(cost).collect()
    }

    /// The tensors of the model file.
    pub(super) fn layout(&self) -> Layout {
        layout(self.shape)
    }

    /// The figures of the test part under the weights of a model file; none if there are no test documents.
    ///
    /// # Errors
    /// A phrase: the file does not have these weights.
    pub(crate) fn test_of(&self, file: Container) -> Result<Option<Evaluation>, String> {
        let weights = read_weights(file, &self.layout())?;
        let parameters: Vec<f64> = weights.into_iter().map(f64::from).collect();
        Ok(self.evaluate(2, &parameters))
    }

    /// The figures of a part; none if it has no documents.
    pub(super) fn evaluate(&self, part: usize, parameters: &[f64]) -> Option<Evaluation> {
        let Examples { rows, classes } = &self.parts[part];
        if classes.is_empty() {
            return None;
        }
        let width = self.shape.classes;
        let mut logs = vec![0.0; classes.len() * width];
        logs.par_chunks_mut(width).enumerate().for_each(|(number, logs)| {
            self.shape.log_probabilities(parameters, rows.row(number), logs);
        });
        let documents = [&self.data.training, &self.data.validation, &self.data.test][part];
        Some(evaluation(&Decisions::new(width, classes.clone(), logs), documents))
    }
}

/// The tensors of a linear classifier: the weights (features x outputs) and the biases.
pub(in crate::task::classifier) fn layout(shape: LinearShape) -> Layout {
    let mut layout = Layout::default();
    let group = layout.group("output");
    let zero = Initial::Constant(0.0);
    layout.push("features.weights", &[shape.features, shape.outputs()], group, zero);
    layout.push("output.bias", &[shape.outputs()], group, zero);
    layout
}

/// The rows of documents with their classes.
fn rows(form: &LinearForm, documents: &Documents, vocabulary: usize) -> Result<Examples, LabError> {
    let make = |(maker, window): &mut (RowMaker<'_>, DocumentWindow), stretch: usize| {
        let mut rows = SparseRows::new(form.features);
        for number in stretch * STRETCH..((stretch + 1) * STRETCH).min(documents.count()) {
            window.clear();
            documents.put(number, window);
            let row = match form.terms {
                Some(_) if window.tokens == [EMPTY] => Vec::new(),
                Some(_) => maker.row(&window.tokens),
                None => maker.numbers(&window.numbers),
            };
            rows.push(row.iter().map(|valued| (valued.column, valued.value)));
        }
        rows
    };
    let new = || (RowMaker::new(form, vocabulary), DocumentWindow::default());
    let stretches: Vec<usize> = (0..documents.count().div_ceil(STRETCH)).collect();
    let mut rows = SparseRows::new(form.features);
    // Some at a time, so that the rows are in memory once.
    for stretches in stretches.chunks(TOGETHER) {
        let made: Vec<SparseRows> =
            stretches.par_iter().map_init(new, |room, &stretch| make(room, stretch)).collect();
        made.into_iter().for_each(|part| rows.append(part));
    }
    documents.check()?;
    let classes = (0..documents.count()).map(|number| documents.class(number)).collect();
    Ok(Examples { rows, classes })
}
