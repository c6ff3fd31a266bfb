//! `plan cost` of a classifier: parameters, memory, operations, time of the run.

use lalograph_lab::measure::cost::ParameterCost;
use lalograph_lab::measure::forecast::Forecast;
use lalograph_lab::{LabError, Plan, PreparedClassifier, forecast_classifier, prepare_classifier};
use lalograph_net::Network;
use lalograph_storage::Existing;
use lalograph_text::TextError;
use serde::Serialize;

use super::train::{check, describe_classifier};
use crate::cli::PlanCostArgs;
use crate::commands::costs::{STEPPING_SECONDS, operations, parameter_table, run_rows};
use crate::commands::input::threads;
use crate::commands::several::{Several, say_several};
use crate::commands::training::reading_documents;
use crate::failure::Failure;
use crate::interrupt;
use crate::output::number::{bytes, count};
use crate::output::screen::Screen;
use crate::output::table::facts;

/// JSON output of `plan cost` for a classifier.
#[derive(Serialize)]
struct CostDocument {
    layers: Vec<ParameterCost>,
    parameters: u64,
    total_bytes: u64,
    #[serde(skip_serializing_if = "Option::is_none")]
    forward_operations_per_token: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    training_operations_per_token: Option<f64>,
    training_documents: u64,
    training_tokens: u64,
    run: Option<Forecast>,
    run_seconds: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    several: Option<Several>,
}

/// Prints the cost of a classifier's plan, whose corpus is read for it.
pub(crate) fn show_classifier_cost(args: &PlanCostArgs, plan: Plan, screen: &Screen) -> Result<(), Failure> {
    if plan.corpus.paths.is_empty() {
        return Err(Failure::Usage(
            "the cost of a classifier depends on its documents: give the paths of the corpus".into(),
        ));
    }
    for (given, flag) in
        [(args.plan.indices.is_some(), "--indices"), (args.training_tokens.is_some(), "--training-tokens")]
    {
        if given {
            return Err(Failure::Usage(format!(
                "{flag} has no effect on a classifier, whose corpus is read"
            )));
        }
    }
    let threads = threads(args.plan.threads);
    let prepared = reading_documents(None, Existing::Keep, screen, |observer| {
        prepare_classifier(plan, threads, observer)
    })?;
    check(&prepared, screen)?;
    let data = prepared.data();
    let documents = data.training.count() as u64;
    let (layers, work) = match &prepared {
        PreparedClassifier::Network(task) => {
            let layers = task.net.layout().tensors().iter().map(|tensor| ParameterCost {
                name: tensor.name.clone(),
                shape: tensor.shape.clone(),
                parameters: tensor.range.len() as u64,
            });
            let length = data.training.steps() as f64 / documents.max(1) as f64;
            (layers.collect(), Some(task.net.operations(length)))
        }
        PreparedClassifier::Linear(task) => (task.parameters(), None),
    };
    let run = match args.no_measure {
        true => None,
        false => {
            let found =
                forecast_classifier(&prepared, threads, STEPPING_SECONDS, &mut || !interrupt::asked())?;
            if interrupt::asked() {
                return Err(LabError::from(TextError::Stopped).into());
            }
            found
        }
    };
    let found = CostDocument {
        parameters: prepared.parameters() as u64,
        total_bytes: prepared.bytes(),
        forward_operations_per_token: work.map(|work| work.forward),
        training_operations_per_token: work.map(|work| work.training),
        training_documents: documents,
        training_tokens: data.training.steps(),
        run_seconds: run.as_ref().map(Forecast::seconds),
        several: run.as_ref().and_then(|run| Several::asked(args, &run.parts)),
        layers,
        run,
    };
    if args.plan.json {
        return screen.json(&found);
    }
    let vocabulary = data.input.vocabulary().map_or(0, lalograph_text::Vocabulary::len);
    let about = [
        ("model", describe_classifier(&data.plan, vocabulary, data.classes.len())),
        (
            "corpus",
            format!("{} training documents, {} tokens", count(documents), count(found.training_tokens)),
        ),
        ("memory", format!("{} in training, without the documents", bytes(found.total_bytes))),
    ];
    screen.line(&format!(
        "{}\n{}\n\n{}",
        screen.heading("The classifier"),
        facts(screen, &about),
        parameter_table(&found.layers, found.parameters, screen)
    ))?;
    let mut rows = Vec::new();
    if let Some(work) = work {
        rows.push(("forward, per token", operations(work.forward)));
        rows.push(("training, per token", operations(work.training)));
    }
    match &found.run {
        Some(run) => rows.extend(run_rows(run, threads)),
        None if args.no_measure => {}
        None => rows.push((
            "time",
            "not known beforehand: a linear network is solved to its tolerance, in seconds to minutes".into(),
        )),
    }
    if rows.is_empty() {
        return Ok(());
    }
    screen.line(&format!("\n{}\n{}", screen.heading("Work"), facts(screen, &rows)))?;
    say_several(found.several, found.run.as_ref(), screen)
}
