//! `import`: a model file from tensors that were made elsewhere.

use std::path::Path;

use lalograph_lab::artefact::foreign::foreign_weights;
use lalograph_lab::artefact::texts::read_vocabulary;
use lalograph_lab::{ClassifierForm, LabError, ModelFile, Plan, Trained};
use lalograph_net::{LanguageModel, Network};
use lalograph_storage::Existing;
use lalograph_text::Vocabulary;
use serde::Serialize;

use super::lookup::check_there;
use super::settings::read_plan;
use crate::cli::ImportArgs;
use crate::failure::Failure;
use crate::files;
use crate::output::number::count;
use crate::output::screen::Screen;
use crate::output::table::facts;

/// JSON output.
#[derive(Serialize)]
struct Document<'d> {
    model: &'d Path,
    task: &'static str,
    tensors: usize,
    parameters: usize,
}

/// Runs the command.
pub(crate) fn run(args: &ImportArgs, screen: &Screen) -> Result<(), Failure> {
    let existing = Existing::replaced_if(args.force);
    if existing == Existing::Keep && args.output.exists() {
        return Err(LabError::Exists(args.output.clone()).into());
    }
    for path in [&args.weights, &args.plan, &args.vocabulary] {
        check_there(path, "check the path")?;
    }
    let mut plan = read_plan(Some(&args.plan), &args.settings)?;
    let vocabulary = read_vocabulary(&args.vocabulary)?;
    plan.settle(vocabulary.len(), None);
    let bytes = std::fs::read(&args.weights).map_err(LabError::at(&args.weights))?;
    let document = if plan.classifier.is_some() {
        classifier(args, plan, vocabulary, &bytes, existing)?
    } else {
        language(args, plan, vocabulary, &bytes, existing)?
    };
    if args.json {
        return screen.json(&document);
    }
    let rows = [
        ("model", args.output.display().to_string()),
        ("task", document.task.to_owned()),
        ("tensors", count(document.tensors as u64)),
        ("parameters", count(document.parameters as u64)),
    ];
    screen.line(&format!("{}\n{}", screen.heading("Imported"), facts(screen, &rows)))
}

fn mismatch(args: &ImportArgs, what: String) -> Failure {
    Failure::with_remedy(
        format!("{}: {what}", args.weights.display()),
        "names and shapes follow from the plan and the vocabulary; docs/formats/model.md lists them",
    )
}

fn language<'a>(
    args: &'a ImportArgs,
    plan: Plan,
    vocabulary: Vocabulary,
    bytes: &[u8],
    existing: Existing,
) -> Result<Document<'a>, Failure> {
    if !args.classes.is_empty() {
        return Err(Failure::Usage("--classes has no effect: the plan is that of a language model".into()));
    }
    let model = LanguageModel::new(plan.shape(vocabulary.len())).map_err(LabError::from)?;
    let weights = foreign_weights(bytes, model.layout()).map_err(|what| mismatch(args, what))?;
    let (tensors, parameters) = (model.layout().tensors().len(), weights.len());
    let file = ModelFile { plan, vocabulary, trained: Trained::default(), model, weights };
    file.save(&*files::storage(), &args.output, existing)?;
    Ok(Document { model: &args.output, task: "language model", tensors, parameters })
}

fn classifier<'a>(
    args: &'a ImportArgs,
    plan: Plan,
    vocabulary: Vocabulary,
    bytes: &[u8],
    existing: Existing,
) -> Result<Document<'a>, Failure> {
    let form = ClassifierForm::of_text(plan, vocabulary, args.classes.clone())
        .map_err(|what| Failure::Usage(format!("the plan: {what}")))?;
    let layout = form.network.layout();
    let weights = foreign_weights(bytes, &layout).map_err(|what| mismatch(args, what))?;
    form.save(files::create(&args.output, existing)?, &weights)?;
    let tensors = layout.tensors().len();
    Ok(Document { model: &args.output, task: "classifier", tensors, parameters: weights.len() })
}
