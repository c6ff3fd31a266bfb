//! `export`: models for programs that have no code of Lalograph.

mod effect;

use std::io::{BufWriter, Write};
use std::path::{Path, PathBuf};

use lalograph_export::{
    ExportError, Form, GraphChoice, OPSETS, OnnxSettings, OpenModel, Precision, onnx, recipe, tables,
};
use lalograph_net::Choice;
use lalograph_storage::{Existing, FileSet};
use serde::Serialize;

use self::effect::{Effect, effect};
use super::lookup::load_with;
use crate::cli::{ExportArgs, ExportForm};
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::number::bytes;
use crate::output::screen::Screen;
use crate::output::table::facts;

/// The version of the operators where none is asked for.
const OPSET: u32 = 17;

/// JSON output.
#[derive(Serialize)]
struct Document<'d> {
    kind: &'static str,
    content_hash: &'d str,
    form: ExportForm,
    #[serde(skip_serializing_if = "Option::is_none")]
    opset: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    precision: Option<Precision>,
    files: Vec<Written>,
    #[serde(skip_serializing_if = "Option::is_none")]
    effect: Option<Effect>,
}

/// A file that was written.
#[derive(Serialize)]
struct Written {
    what: &'static str,
    path: PathBuf,
    bytes: u64,
}

/// A file to be written.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Content {
    Graph(GraphChoice),
    Weights,
    Tokens,
    Merges,
    Readme,
}

impl Content {
    fn words(self) -> &'static str {
        match self {
            Self::Graph(graph) => graph.name(),
            Self::Weights => "weights",
            Self::Tokens => "tokens",
            Self::Merges => "merges",
            Self::Readme => "readme",
        }
    }
}

/// Runs the command.
pub(crate) fn run(args: &ExportArgs, screen: &Screen) -> Result<(), Failure> {
    let form = args.form.unwrap_or_default();
    refuse_idle(args, form)?;
    interrupt::listen();
    let mut path = PathBuf::new();
    let model = load_with(&args.model, |found| {
        path = found.to_owned();
        OpenModel::open(found)
    })?;
    let contents = contents(args, form, &model)?;
    let settings = OnnxSettings {
        opset: args.opset.unwrap_or(OPSET),
        precision: args.precision.unwrap_or_default(),
        licence: args.licence.clone(),
        version: env!("CARGO_PKG_VERSION").to_owned(),
    };
    if let Form::Vectors(vectors) = &model.form
        && vectors.pieces
        && form == ExportForm::Onnx
    {
        screen.note("the graphs have the vectors of all words in the file; vectors of unseen words need the hash of their pieces, which the standard has no operator for");
    }
    // What can be refused is refused before anything is written.
    let effect = match &args.text[..] {
        [] => None,
        texts => Some(effect(&path, &model, texts, settings.precision, screen)?),
    };
    let paths: Vec<&Path> = contents.iter().map(|(_, path)| path.as_path()).collect();
    let mut set = files::begin("export", &paths, Existing::replaced_if(args.force))?;
    let mut files = Vec::new();
    for (content, path) in &contents {
        let written = write(&model, *content, path, &settings, &mut set);
        if interrupt::asked() {
            return Err(Failure::Interrupted("stopped; not all files were written".into()));
        }
        let bytes = written?;
        files.push(Written { what: content.words(), path: path.clone(), bytes });
    }
    set.finish()?;
    if args.json {
        let is_graph = form == ExportForm::Onnx;
        return screen.json(&Document {
            kind: model.kind(),
            content_hash: model.content_hash()?,
            form,
            opset: is_graph.then_some(settings.opset),
            precision: is_graph.then_some(settings.precision),
            files,
            effect,
        });
    }
    let mut rows: Vec<(&str, String)> = files
        .iter()
        .map(|file| (file.what, format!("{} ({})", file.path.display(), bytes(file.bytes))))
        .collect();
    if form == ExportForm::Onnx {
        let precision = settings.precision.name().replace('_', "-");
        rows.push(("operators", format!("ONNX version {}", settings.opset)));
        rows.push(("weights", format!("{precision} precision")));
    }
    rows.extend(effect.iter().flat_map(Effect::rows));
    screen.line(&format!(
        "{}\n{}",
        screen.heading(&format!("Exported {}", model.kind())),
        facts(screen, &rows)
    ))
}

/// Refuses what would be taken and not used.
fn refuse_idle(args: &ExportArgs, form: ExportForm) -> Result<(), Failure> {
    let of_graphs = [
        (args.graph.is_some(), "--graph"),
        (args.opset.is_some(), "--opset"),
        (args.precision.is_some(), "--precision"),
        (args.licence.is_some(), "--licence"),
    ];
    let output = &args.output;
    if output.file_name().is_none()
        || output.is_dir()
        || output.as_os_str().as_encoded_bytes().ends_with(b"/")
    {
        let path = output.display();
        return Err(Failure::Usage(format!("--output {path} is a folder; give the name of a file in it")));
    }
    if let Some(opset) = args.opset.filter(|opset| !OPSETS.contains(opset)) {
        return Err(ExportError::Opset(opset).into());
    }
    match of_graphs.into_iter().find(|(given, _)| *given) {
        Some((_, flag)) if form == ExportForm::Tables => {
            Err(Failure::Usage(format!("{flag} has no effect with --form tables")))
        }
        _ if !args.text.is_empty() && args.precision == Some(Precision::Single) => {
            Err(Failure::Usage("--text has no effect: single precision changes nothing".into()))
        }
        _ => Ok(()),
    }
}

/// The files to be written.
fn contents(
    args: &ExportArgs,
    form: ExportForm,
    model: &OpenModel,
) -> Result<Vec<(Content, PathBuf)>, Failure> {
    let mut all = Vec::new();
    match (form, args.graph) {
        (ExportForm::Onnx, Some(graph)) => {
            if !model.graphs().contains(&graph) {
                let known: Vec<String> =
                    model.graphs().iter().map(|graph| format!("`{}`", graph.name())).collect();
                return Err(Failure::Usage(format!(
                    "a {} has no graph `{}`; its graphs: {}",
                    model.kind(),
                    graph.name(),
                    known.join(", ")
                )));
            }
            all.push((Content::Graph(graph), args.output.clone()));
        }
        (ExportForm::Onnx, None) => match model.graphs() {
            [graph] => all.push((Content::Graph(*graph), args.output.clone())),
            graphs => {
                let each =
                    graphs.iter().map(|&graph| (Content::Graph(graph), named(&args.output, graph.name())));
                all.extend(each);
            }
        },
        (ExportForm::Tables, _) => {
            all.push((Content::Weights, args.output.clone()));
            let is_text = model.vocabulary().is_some() || model.graphs().contains(&GraphChoice::Lookup);
            if is_text {
                all.push((Content::Tokens, args.output.with_extension("tsv")));
            }
            if model.vocabulary().is_some_and(|vocabulary| vocabulary.merges().is_some()) {
                all.push((Content::Merges, args.output.with_extension("merges.tsv")));
            }
        }
    }
    all.extend(args.readme.clone().map(|path| (Content::Readme, path)));
    let twice =
        all.iter().enumerate().find(|(at, (_, path))| all[..*at].iter().any(|(_, other)| other == path));
    if let Some((_, (_, path))) = twice {
        return Err(Failure::Usage(format!(
            "two files would be written to {}; use another extension for --output",
            path.display()
        )));
    }
    Ok(all)
}

/// A path with the name of a graph before its extension.
fn named(path: &Path, graph: &str) -> PathBuf {
    let mut name = path.file_stem().unwrap_or_default().to_owned();
    name.push(format!(".{graph}"));
    if let Some(extension) = path.extension() {
        name.push(".");
        name.push(extension);
    }
    path.with_file_name(name)
}

/// Writes one of the files; its bytes.
fn write(
    model: &OpenModel,
    content: Content,
    path: &Path,
    settings: &OnnxSettings,
    set: &mut FileSet,
) -> Result<u64, Failure> {
    let at = |error: std::io::Error| Failure::from(lalograph_lab::LabError::at(path)(error));
    let mut file = Counted { out: BufWriter::with_capacity(1 << 18, set.file(path)?), bytes: 0 };
    match content {
        Content::Graph(graph) => {
            onnx(model, graph, settings, &mut file).map_err(|error| named_failure(error, path))?
        }
        Content::Weights => tables::weights(model, &mut file).map_err(|error| named_failure(error, path))?,
        Content::Tokens => tables::tokens(model, &mut file).map_err(at)?,
        Content::Merges => {
            model
                .vocabulary()
                .map_or(Ok(()), |vocabulary| tables::merges(vocabulary, &mut file))
                .map_err(at)?;
        }
        Content::Readme => file.write_all(recipe::readme(model).as_bytes()).map_err(at)?,
    }
    let Counted { out, bytes } = file;
    out.into_inner().map_err(|error| at(error.into_error()))?.finish()?;
    Ok(bytes)
}

/// A failure to write names the file.
fn named_failure(error: ExportError, path: &Path) -> Failure {
    match error {
        ExportError::Write(error) => lalograph_lab::LabError::at(path)(error).into(),
        other => other.into(),
    }
}

/// Counts the bytes that go through, and stops when the person asks for it.
struct Counted<W> {
    out: W,
    bytes: u64,
}

impl<W: Write> Write for Counted<W> {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        if interrupt::asked() {
            return Err(std::io::Error::other("stopped"));
        }
        let written = self.out.write(bytes)?;
        self.bytes += written as u64;
        Ok(written)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.out.flush()
    }
}
