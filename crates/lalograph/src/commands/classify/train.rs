//! `classify train`: a plan from flags and files, then the run.

use std::path::Path;
use std::time::Duration;

use lalograph_lab::measure::decisions::wilson;
use lalograph_lab::plan::{DocumentLength, NetworkKind, TermChoice, VocabularyPlan};
use lalograph_lab::run::description::RunStatus;
use lalograph_lab::run::records::Evaluation;
use lalograph_lab::run::shelf;
use lalograph_lab::{
    ClassifierData, DocumentInput, Plan, PreparedClassifier, RunFolder, Running, TrainingOutcome,
    prepare_classifier,
};
use lalograph_net::models::classifier::{Body, ClassifierInput, ClassifierShape};
use lalograph_storage::Existing;
use serde::Serialize;

use super::aside::{SetAside, aside_row, predicted_aside};
use super::figures::share_of;
use super::linear::{linear_features, linear_rows, output_of, solved_rows};
use crate::cli::ClassifyTrainArgs;
use crate::commands::input::threads;
use crate::commands::reading::{found, lay_over, refuse_idle};
use crate::commands::settings::{
    cell_name, lay, lay_over_none, lay_shares, lay_spans, lay_vectors, plan_text,
};
use crate::commands::train::name_of_new_run;
use crate::commands::training::{
    OutcomeLine, carry_out_classifier, end_rows, missing_vectors, now, reading_documents, say_end,
};
use crate::commands::vocab::vocabularies::{apply_token_args, listed};
use crate::company::{alone, check_lanes, lanes_of};
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::number::{count, counted, percent, percent_of};
use crate::output::screen::Screen;
use crate::output::table::facts;
use crate::output::training::Output;
use crate::room;

/// Runs the command.
pub(crate) fn run(args: &ClassifyTrainArgs, screen: &Screen) -> Result<(), Failure> {
    let plan = resolve(args)?;
    let existing = Existing::replaced_if(args.run.force);
    let name = name_of_new_run(&plan, args.run.name.as_deref(), &args.run.runs, existing)?;
    interrupt::listen();
    refuse_idle(&args.reading, &found(&plan.corpus.spec())?)?;
    let threads = threads(args.run.threads);
    let prepared = reading_documents(args.reading.left_out.as_deref(), existing, screen, |observer| {
        prepare_classifier(plan, threads, observer)
    })?;
    let output = if args.run.json { Output::Json } else { Output::Words };
    let running = begin(&prepared, &args.run.runs, &name, existing, output, screen)?;
    let (run, outcome) = carry_out_classifier(&prepared, running, (threads, args.minutes), output, screen)?;
    say_outcome(&run, &prepared, &outcome, (threads, args.minutes), output, screen)
}

/// The last line of `classify train --json`.
#[derive(Serialize)]
struct ClassifierOutcomeLine<'a> {
    #[serde(flatten)]
    run: OutcomeLine<'a>,
    set_aside: Option<SetAside>,
}

/// Predicts what was set aside, if the run is finished, and prints how it ended.
pub(crate) fn say_outcome(
    run: &RunFolder,
    prepared: &PreparedClassifier,
    outcome: &TrainingOutcome,
    (threads, minutes): (usize, Option<Duration>),
    output: Output,
    screen: &Screen,
) -> Result<(), Failure> {
    let set_aside = match outcome.status {
        RunStatus::Finished => predicted_aside(run, prepared, threads, screen)?,
        _ => None,
    };
    match output {
        Output::Json => {
            let line = OutcomeLine::new(run, prepared.parameters() as u64, None, outcome);
            screen.json(&ClassifierOutcomeLine { run: line, set_aside })?;
        }
        Output::Words => {
            screen.line(&render_outcome(run, prepared, outcome, set_aside.as_ref(), screen))?;
        }
    }
    say_end(run, outcome, minutes, screen)
}

/// Prints the header, and makes the folder of the run.
fn begin(
    prepared: &PreparedClassifier,
    runs: &Path,
    name: &str,
    existing: Existing,
    output: Output,
    screen: &Screen,
) -> Result<Running, Failure> {
    check(prepared, screen)?;
    if output == Output::Words {
        screen.line(&render_start(prepared, screen))?;
    }
    let description =
        prepared.describe(name, now(), env!("CARGO_PKG_VERSION"), std::env::current_dir().ok())?;
    let own = prepared.data().run_files()?;
    let (run, claim, description) =
        shelf::create(&*files::storage(), runs, &prepared.data().plan, description, &own, existing)?;
    Ok(Running::new(run, claim, description))
}

/// Refuses a classifier that needs more memory than there is, and warns of labels that look alike.
pub(crate) fn check(prepared: &PreparedClassifier, screen: &Screen) -> Result<(), Failure> {
    room::check(
        prepared.bytes(),
        "training this classifier",
        match &prepared.data().input {
            DocumentInput::Text(_) => {
                "lower --batch, --length, --hidden or --layers, or use a smaller vocabulary"
            }
            DocumentInput::Numbers(_) => "lower --batch, --hidden or --layers",
        },
    )?;
    match prepared {
        PreparedClassifier::Network(_) => check_lanes(lanes_of(&prepared.data().plan), "training.lanes")?,
        PreparedClassifier::Linear(_) => alone("the training of a linear classifier")?,
    }
    for (first, second) in prepared.data().similar_labels() {
        screen.warn(&format!(
            "the labels `{first}` and `{second}` differ in case or white space only and are two classes"
        ));
    }
    Ok(())
}

/// Lays the flags over the plan file, and the plan file over the defaults of a classifier.
fn resolve(args: &ClassifyTrainArgs) -> Result<Plan, Failure> {
    let text = match &args.plan {
        Some(path) => plan_text(path)?,
        None => "[classifier]\n".to_owned(),
    };
    let mut plan = Plan::from_toml(&text, &args.run.settings).map_err(|error| match &args.plan {
        Some(path) => Failure::Usage(format!("{}: {error}", path.display())),
        None => Failure::Usage(error.to_string()),
    })?;
    let Some(mut own) = plan.classifier.take() else {
        return Err(Failure::Usage(
            "the plan has no [classifier] section, so it is not that of a classifier; `lalograph plan new --for classifier` writes a classifier's"
                .into(),
        ));
    };
    if !args.paths.is_empty() {
        plan.corpus.paths.clone_from(&args.paths);
    }
    lay_over(&args.reading, &mut plan.corpus);
    lay_shares(&args.shares, &mut plan.corpus);
    if args.vocabulary_file.is_some() {
        plan.vocabulary.file.clone_from(&args.vocabulary_file);
    }
    apply_token_args(&args.tokens, &mut plan.vocabulary)?;
    lay_vectors((&args.vectors, &args.start_model, args.embedding), &mut plan)?;
    lay(&args.cell, &mut plan.model.cell);
    lay_over_none(&args.hidden, &mut plan.model.hidden);
    lay(&args.layers, &mut plan.model.layers);
    lay(&args.directions, &mut plan.model.directions);
    if !args.set_aside.is_empty() {
        own.set_aside.clone_from(&args.set_aside);
    }
    own.near = args.near.or(own.near);
    lay(&args.length, &mut own.length);
    lay(&args.keep_part, &mut own.keep_part);
    own.features = args.features.or(own.features);
    own.time_steps = args.time_steps.or(own.time_steps);
    lay(&args.order, &mut own.order);
    lay(&args.network, &mut own.network);
    lay(&args.pooling, &mut own.pooling);
    lay(&args.filter_widths, &mut own.filter_widths);
    lay(&args.filters, &mut own.filters);
    lay(&args.dense, &mut own.dense);
    lay(&args.activation, &mut own.activation);
    lay(&args.term_choice, &mut own.term_choice);
    lay(&args.terms, &mut own.terms);
    own.term_list.extend(args.term_list.iter().cloned());
    if let Some(path) = &args.term_list_from {
        own.term_list.extend(listed(path)?);
    }
    if args.term_choice.is_none() && (!args.term_list.is_empty() || args.term_list_from.is_some()) {
        own.term_choice = TermChoice::Listed;
    }
    lay(&args.term_values, &mut own.term_values);
    lay(&args.term_pairs, &mut own.term_pairs);
    lay(&args.penalty, &mut own.penalty);
    lay(&args.strengths, &mut own.strengths);
    lay(&args.tolerance, &mut own.tolerance);
    lay(&args.iterations, &mut own.iterations);
    lay(&args.class_weights, &mut own.class_weights);
    lay(&args.criterion, &mut own.criterion);
    plan.classifier = Some(own);
    let training = &mut plan.training;
    if args.steps.is_some() {
        training.steps = args.steps;
    } else if args.epochs.is_some() {
        training.steps = None;
    }
    lay(&args.seed, &mut training.seed);
    lay_over_none(&args.epochs, &mut training.epochs);
    lay(&args.batch, &mut training.batch);
    lay(&args.window, &mut training.window);
    training.warmup_steps = args.warmup_steps.or(training.warmup_steps);
    lay(&args.learning_rate, &mut training.learning_rate);
    lay(&args.clip_norm, &mut training.clip_norm);
    lay_over_none(&args.dropout, &mut training.dropout);
    lay(&args.schedule, &mut training.schedule);
    lay_spans(
        (args.validate_every, args.validate_every_epochs),
        (&mut training.validate_every, &mut training.validate_every_epochs),
    );
    lay(&args.patience, &mut training.patience);
    lay(&args.optimiser, &mut plan.optimiser.rule);
    lay(&args.checkpoints_every, &mut plan.checkpoints.every);
    refuse_unused(args, &plan)?;
    plan.check()?;
    Ok(plan)
}

/// Refuses flags that the input or the network has no use for.
fn refuse_unused(args: &ClassifyTrainArgs, plan: &Plan) -> Result<(), Failure> {
    let Some(own) = &plan.classifier else { return Ok(()) };
    let network = own.network;
    let mut tokens = VocabularyPlan::default();
    apply_token_args(&args.tokens, &mut tokens)?;
    let grouped = plan.corpus.group.is_some();
    let of_text = [
        (args.vocabulary_file.is_some(), "--vocabulary-file"),
        (tokens != VocabularyPlan::default(), "an option of cleaning or tokenising"),
        (args.length.is_some() && !grouped, "--length"),
        (args.keep_part.is_some() && !grouped, "--keep-part"),
        (args.embedding.is_some(), "--embedding"),
        (args.vectors.is_some(), "--vectors"),
        (args.start_model.is_some(), "--start-model"),
        (args.near.is_some(), "--near"),
    ];
    let of_numbers = [(args.time_steps.is_some(), "--time-steps"), (args.order.is_some(), "--order")];
    let (idle, why) = match own.features {
        Some(_) => (&of_text[..], "rows of numbers"),
        None => (&of_numbers[..], "text; --features sets rows of numbers"),
    };
    if let Some((_, flag)) = idle.iter().find(|(given, _)| *given) {
        return Err(Failure::Usage(format!("{flag} has no effect on {why}")));
    }
    let recurrent = [
        (args.cell.is_some(), "--cell"),
        (args.hidden.is_some(), "--hidden"),
        (args.layers.is_some(), "--layers"),
        (args.directions.is_some(), "--directions"),
        (args.window.is_some(), "--window"),
    ];
    let convolution =
        [(args.filters.is_some(), "--filters"), (args.filter_widths.is_some(), "--filter-widths")];
    let pooling = [(args.pooling.is_some(), "--pooling")];
    let dense = [(args.dense.is_some(), "--dense"), (args.activation.is_some(), "--activation")];
    let linear = [
        (args.term_choice.is_some(), "--term-choice"),
        (args.terms.is_some(), "--terms"),
        (!args.term_list.is_empty(), "--term-list"),
        (args.term_list_from.is_some(), "--term-list-from"),
        (args.term_values.is_some(), "--term-values"),
        (args.term_pairs.is_some(), "--term-pairs"),
        (args.penalty.is_some(), "--penalty"),
        (args.strengths.is_some(), "--strengths"),
        (args.tolerance.is_some(), "--tolerance"),
        (args.iterations.is_some(), "--iterations"),
    ];
    let by_steps = [
        (args.embedding.is_some(), "--embedding"),
        (args.vectors.is_some(), "--vectors"),
        (args.start_model.is_some(), "--start-model"),
        (args.epochs.is_some(), "--epochs"),
        (args.steps.is_some(), "--steps"),
        (args.batch.is_some(), "--batch"),
        (args.optimiser.is_some(), "--optimiser"),
        (args.warmup_steps.is_some(), "--warmup-steps"),
        (args.schedule.is_some(), "--schedule"),
        (args.learning_rate.is_some(), "--learning-rate"),
        (args.clip_norm.is_some(), "--clip-norm"),
        (args.dropout.is_some(), "--dropout"),
        (args.validate_every.is_some(), "--validate-every"),
        (args.validate_every_epochs.is_some(), "--validate-every-epochs"),
        (args.patience.is_some(), "--patience"),
        (args.checkpoints_every.is_some(), "--checkpoints-every"),
    ];
    let unused: Vec<(bool, &str)> = match network {
        NetworkKind::Recurrent => convolution.into_iter().chain(linear).collect(),
        NetworkKind::Convolution => recurrent.into_iter().chain(pooling).chain(linear).collect(),
        NetworkKind::Pooled => recurrent.into_iter().chain(convolution).chain(linear).collect(),
        NetworkKind::Linear => {
            recurrent.into_iter().chain(convolution).chain(pooling).chain(dense).chain(by_steps).collect()
        }
    };
    match unused.into_iter().find(|(given, _)| *given) {
        Some((_, flag)) => Err(Failure::Usage(format!(
            "{flag} has no effect on a {} network; --network sets the network",
            lalograph_net::Choice::name(network)
        ))),
        None => Ok(()),
    }
}

/// The header of a run, before its first step.
pub(crate) fn render_start(prepared: &PreparedClassifier, screen: &Screen) -> String {
    let ClassifierData { plan, input, classes, training, validation, test, reading, facts: found, .. } =
        prepared.data();
    let documents = |number: usize| counted(number as u64, "document", "documents");
    let by_class = training.by_class(classes.len());
    let largest = by_class.iter().copied().max().unwrap_or(0);
    let mut parts = vec![
        format!("{} for training", documents(training.count())),
        format!("{} for validation", count(validation.count() as u64)),
    ];
    if !test.is_empty() {
        parts.push(format!("{} for the test", count(test.count() as u64)));
    }
    let mut rows = vec![
        (
            "corpus",
            format!(
                "{} in {}",
                documents(reading.documents as usize),
                counted(reading.files, "file", "files")
            ),
        ),
        ("parts", format!("{}; every class in proportion", parts.join(", "))),
        (
            "classes",
            format!(
                "{}; {} of the training documents are of the most frequent",
                named(classes, &by_class),
                percent(largest, training.count() as u64)
            ),
        ),
    ];
    match input {
        DocumentInput::Text(vocabulary) => {
            rows.push(("length", length(prepared)));
            rows.push((
                "vocabulary",
                format!(
                    "{} indices = {} {} + {} reserved; {} of the validation tokens are unknown",
                    count(vocabulary.len() as u64),
                    count(vocabulary.tokens().len() as u64),
                    vocabulary.unit().plural(),
                    lalograph_text::Reserved::COUNT,
                    percent_of(found.unknown_share.unwrap_or(0.0))
                ),
            ));
        }
        DocumentInput::Numbers(form) => {
            let features = counted(form.features as u64, "feature", "features");
            let what = match form.steps {
                Some(steps) => {
                    format!("{} of {features} in each row", counted(steps as u64, "step", "steps"))
                }
                None => format!("rows of {features}, a document of any number of rows"),
            };
            if form.steps.is_none() {
                rows.push(("length", length(prepared)));
            }
            let standard = "every feature has mean 0 and standard deviation 1 in the training part";
            rows.push(("numbers", format!("{what}; {standard}")));
        }
    }
    match prepared {
        PreparedClassifier::Network(task) => rows.extend([
            (
                "model",
                format!("{}: {} parameters", describe(task.net.shape()), count(prepared.parameters() as u64)),
            ),
            ("steps", format!("{} of {} documents", count(task.steps), count(plan.training.batch as u64))),
        ]),
        PreparedClassifier::Linear(task) => rows.extend(linear_rows(task)),
    }
    rows.extend(missing_vectors(prepared.vectors_found()));
    format!("{}\n{}", screen.heading("The run"), facts(screen, &rows))
}

/// The longest document that is read whole.
fn length(prepared: &PreparedClassifier) -> String {
    let ClassifierData { plan, input, training, .. } = prepared.data();
    match plan.classifier.as_ref().map(|own| own.length) {
        Some(DocumentLength::Tokens(longest)) => format!(
            "at most {} {}; {} of the training documents are longer",
            count(longest as u64),
            if input.vocabulary().is_some() { "tokens" } else { "rows" },
            percent(training.cut(), training.count() as u64)
        ),
        _ => "every document is read to its end".to_owned(),
    }
}

/// Classes that are named one by one.
const NAMED: usize = 12;

/// The classes with their documents.
fn named(classes: &[String], by_class: &[u64]) -> String {
    let listed: Vec<String> = classes
        .iter()
        .zip(by_class)
        .take(NAMED)
        .map(|(class, &documents)| format!("{class} {}", count(documents)))
        .collect();
    let more = classes.len().saturating_sub(NAMED);
    let rest = if more > 0 { format!(" and {} more", count(more as u64)) } else { String::new() };
    format!("{}: {}{rest}", count(classes.len() as u64), listed.join(", "))
}

/// The network of a classifier's plan in a line.
pub(crate) fn describe_classifier(plan: &Plan, vocabulary: usize, classes: usize) -> String {
    let input = match plan.classifier.as_ref().and_then(|own| own.features) {
        Some(features) => ClassifierInput::Numbers { features },
        None => ClassifierInput::Tokens { vocabulary, embedding: plan.widths().0 },
    };
    match plan.classifier_shape(input, classes, Vec::new()) {
        Some(shape) => describe(&shape),
        None => format!("linear, {}, {}", linear_features(plan), output_of(classes)),
    }
}

/// A classifier's network in a line.
fn describe(shape: &ClassifierShape) -> String {
    let name = lalograph_net::Choice::name;
    let mut parts = vec![match shape.input {
        ClassifierInput::Tokens { embedding, .. } => format!("embedding {embedding}"),
        ClassifierInput::Numbers { features } => counted(features as u64, "feature", "features"),
    }];
    match &shape.body {
        Body::Pooled { pooling } => parts.push(format!("pooling {}", name(*pooling))),
        Body::Convolution { widths, filters } => {
            let widths: Vec<String> = widths.iter().map(usize::to_string).collect();
            parts.push(format!("{filters} filters of each width {}", widths.join(", ")));
        }
        Body::Recurrent { stack, pooling, .. } => {
            let both = if stack.both_directions { " in both directions" } else { "" };
            parts.push(format!("{} {} x {}{both}", cell_name(stack.cell), stack.layers, stack.hidden));
            parts.push(format!("pooling {}", name(*pooling)));
        }
    }
    parts.extend(shape.dense.iter().map(|width| format!("dense {width}")));
    parts.push(output_of(shape.classes));
    parts.join(", ")
}

/// The outcome of a run.
fn render_outcome(
    run: &RunFolder,
    prepared: &PreparedClassifier,
    outcome: &TrainingOutcome,
    set_aside: Option<&SetAside>,
    screen: &Screen,
) -> String {
    let mut rows = Vec::new();
    let facts_of = prepared.data().facts.classes.unwrap_or_default();
    let accuracy_of = |found: &Evaluation, documents: u64| {
        let accuracy = found.figure("accuracy").unwrap_or(0.0);
        let (low, high) = wilson((accuracy * documents as f64).round() as u64, documents);
        format!("{} (95 % interval {} to {})", percent_of(accuracy), percent_of(low), percent_of(high))
    };
    let others = |found: &Evaluation| {
        format!(
            "{}; macro F1 {}; loss {:.3}",
            percent_of(found.figure("balanced_accuracy").unwrap_or(0.0)),
            share_of(found.figure("macro_f1")),
            found.loss
        )
    };
    if let Some(found) = &outcome.validation {
        rows.push(("validation accuracy", accuracy_of(found, facts_of.validation_documents)));
        rows.push((
            "most frequent class",
            format!("{} of the validation documents", percent_of(facts_of.majority_share)),
        ));
        rows.push(("balanced accuracy", others(found)));
    }
    if let Some(test) = &outcome.test {
        rows.push((
            "test accuracy",
            format!(
                "{}, on documents that had no influence on training",
                accuracy_of(test, facts_of.test_documents)
            ),
        ));
        rows.push(("test, balanced", others(test)));
    }
    match prepared {
        PreparedClassifier::Network(task) => {
            let last = task.data.plan.training.record_every;
            rows.push(("training loss", format!("{:.3}, last {last} steps", outcome.training_loss)));
            rows.extend(end_rows(run, outcome, (task.steps, &task.data.plan.training)));
        }
        PreparedClassifier::Linear(task) => rows.extend(solved_rows(run, task, outcome)),
    }
    rows.extend(set_aside.map(|aside| aside_row(aside, run)));
    rows.push(("next", format!("lalograph classify score {}", run.path().display())));
    format!("{}\n{}", screen.heading("Trained"), facts(screen, &rows))
}
