//! A model that is to leave: what it is, and its file with the weights.

use std::path::Path;

use lalograph_lab::artefact::tensor_file::TensorFile;
use lalograph_lab::artefact::{model_file, vectors};
use lalograph_lab::{ClassifierForm, LabError, ModelFile};
use lalograph_text::Vocabulary;

use crate::ExportError;
use crate::graphs::choice::GraphChoice;

/// What a model is.
#[derive(Debug)]
pub enum Form {
    /// A language model; its weights are in the file.
    Language(Box<ModelFile>),
    /// A classifier.
    Classifier(Box<ClassifierForm>),
    /// Word vectors.
    Vectors(VectorForm),
}

/// Word vectors but their numbers.
#[derive(Debug)]
pub struct VectorForm {
    /// The words, in the order of their rows.
    pub words: Vec<String>,
    /// Numbers of a vector.
    pub dimensions: usize,
    /// The vocabulary that they were learnt with.
    pub vocabulary: Option<Vocabulary>,
    /// Whether words that are not among them have vectors too, made of pieces.
    pub pieces: bool,
}

/// A model file, open; its weights stay on disk.
#[derive(Debug)]
pub struct OpenModel {
    pub(crate) file: TensorFile,
    /// What it is.
    pub form: Form,
}

impl OpenModel {
    /// Opens a model file or word vectors.
    ///
    /// # Errors
    /// The file cannot be read; it is damaged, cut short or of another kind, or its parts contradict each other.
    pub fn open(path: &Path) -> Result<Self, LabError> {
        let file = TensorFile::open(path, &[model_file::KIND, vectors::KIND])?;
        let form = Self::form(&file).map_err(|what| LabError::BadModel { path: path.to_owned(), what })?;
        Ok(Self { file, form })
    }

    fn form(file: &TensorFile) -> Result<Form, String> {
        if file.kind() == vectors::KIND {
            let words: Vec<String> =
                serde_json::from_str(file.asset("words")?).map_err(|error| format!("its words: {error}"))?;
            let [rows, dimensions] = *file.shape("vectors")? else {
                return Err("its vectors have no rows and columns".into());
            };
            if rows != words.len() {
                return Err("it has another number of vectors than of words".into());
            }
            let vocabulary = match file.asset("vocabulary") {
                Ok(text) => Some(Vocabulary::from_json(text).map_err(|error| error.to_string())?),
                Err(_) => None,
            };
            let pieces = file.shape("pieces").is_ok();
            return Ok(Form::Vectors(VectorForm { words, dimensions, vocabulary, pieces }));
        }
        Ok(match file.asset("task")? {
            "classifier" => Form::Classifier(Box::new(ClassifierForm::read(file)?)),
            _ => Form::Language(Box::new(ModelFile::without_weights(file)?)),
        })
    }

    /// What it is, in words.
    pub fn kind(&self) -> &'static str {
        match self.form {
            Form::Language(_) => "language model",
            Form::Classifier(_) => "classifier",
            Form::Vectors(_) => "table of word vectors",
        }
    }

    /// The graphs that it has.
    pub fn graphs(&self) -> &'static [GraphChoice] {
        match self.form {
            Form::Language(_) => &[GraphChoice::Step, GraphChoice::Text],
            Form::Classifier(_) => &[GraphChoice::Classes],
            Form::Vectors(_) => &[GraphChoice::Lookup, GraphChoice::Neighbours],
        }
    }

    /// The vocabulary that texts are tokenised with.
    pub fn vocabulary(&self) -> Option<&Vocabulary> {
        match &self.form {
            Form::Language(model) => Some(&model.vocabulary),
            Form::Classifier(form) => form.input.vocabulary(),
            Form::Vectors(form) => form.vocabulary.as_ref(),
        }
    }

    /// The hash of its content, by which a file differs from others.
    ///
    /// # Errors
    /// The file has none.
    pub fn content_hash(&self) -> Result<&str, ExportError> {
        self.file.content_hash().map_err(ExportError::Part)
    }
}
