//! The networks of this project in the operators of the exchange standard. `docs/formats/onnx.md` describes the graphs.

pub mod choice;
mod classifier;
mod language;
mod linear;
mod pooling;
mod recurrent;
mod vectors;

use std::io::Write;

use lalograph_lab::ClassifierNetwork;

use self::choice::GraphChoice;
use crate::ExportError;
use crate::exchange::graph::Graph;
use crate::exchange::precision::Precision;
use crate::exchange::write::{About, OPSETS, write};
use crate::model::{Form, OpenModel};

/// How a model is written in the exchange standard.
#[derive(Debug, Clone)]
pub struct OnnxSettings {
    /// The version of the standard's operators, one of [`OPSETS`].
    pub opset: u32,
    /// Bits of the weights.
    pub precision: Precision,
    /// The licence that the file names, if it names one.
    pub licence: Option<String>,
    /// The version of the program that writes.
    pub version: String,
}

/// Writes a graph of a model.
///
/// # Errors
/// A graph that such a model does not have; another version of the operators; a file that cannot be read or written.
pub fn onnx(
    model: &OpenModel,
    choice: GraphChoice,
    settings: &OnnxSettings,
    out: &mut dyn Write,
) -> Result<(), ExportError> {
    if !OPSETS.contains(&settings.opset) {
        return Err(ExportError::Opset(settings.opset));
    }
    let graph = build(model, choice, settings.precision)?;
    let about = About {
        opset: settings.opset,
        version: settings.version.clone(),
        metadata: metadata(model, settings)?,
    };
    write(graph, about, &model.file, out)
}

fn build(model: &OpenModel, choice: GraphChoice, precision: Precision) -> Result<Graph, ExportError> {
    match (&model.form, choice) {
        (Form::Language(file), GraphChoice::Step) => Ok(language::step(file.model.shape(), precision)),
        (Form::Language(file), GraphChoice::Text) => Ok(language::text(file.model.shape(), precision)),
        (Form::Classifier(form), GraphChoice::Classes) => Ok(match &form.network {
            ClassifierNetwork::Layers(net) => classifier::classes(net.shape(), form, precision),
            ClassifierNetwork::Linear(linear, shape) => linear::classes(linear, *shape, form, precision),
        }),
        (Form::Vectors(form), GraphChoice::Lookup) => Ok(vectors::lookup(form, precision)),
        (Form::Vectors(form), GraphChoice::Neighbours) => Ok(vectors::neighbours(form, precision)),
        _ => {
            let asked = lalograph_net::Choice::name(choice);
            Err(ExportError::NoSuchGraph { kind: model.kind(), asked })
        }
    }
}

/// What the file says of the model beside its graph.
fn metadata(model: &OpenModel, settings: &OnnxSettings) -> Result<Vec<(&'static str, String)>, ExportError> {
    let mut all = vec![("kind", model.kind().to_owned()), ("content_hash", model.content_hash()?.to_owned())];
    if let Some(vocabulary) = model.vocabulary() {
        all.push(("unit", vocabulary.unit().name().to_owned()));
    }
    let file = &model.file;
    for key in ["vocabulary", "cleaning", "classes", "numbers", "features", "temperature", "words", "pieces"]
    {
        all.extend(file.asset(key).ok().map(|text| (key, text.to_owned())));
    }
    if let Form::Classifier(form) = &model.form {
        all.extend(form.longest().map(|longest| ("longest", longest.to_string())));
        all.push(("keep_part", lalograph_net::Choice::name(form.keep()).to_owned()));
    }
    all.extend(settings.licence.clone().map(|licence| ("licence", licence)));
    Ok(all)
}
