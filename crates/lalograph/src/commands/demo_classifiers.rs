//! The classifiers of the demo, each beside the best accuracy that any classifier can reach.

use std::ops::ControlFlow;
use std::path::Path;

use lalograph_demo::{Ceiling, Ceilings, Grammar};
use lalograph_lab::measure::decisions::wilson;
use lalograph_lab::plan::{NetworkKind, TermChoice};
use lalograph_lab::run::shelf;
use lalograph_lab::{Plan, PreparationEvent, Running, TrainingEvent, prepare_classifier, train_classifier};
use lalograph_net::Cell;
use lalograph_storage::Existing;
use lalograph_text::function_words::is_function_word;

use super::training::{now, refuse_interrupted};
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::number::{count, percent_of};
use crate::output::screen::Screen;
use crate::output::table::{Column, table};

/// Names of the runs.
pub(super) const RUNS: [&str; 3] = ["outcome", "keeper", "scales"];

/// A classifier of the demo.
struct Task {
    run: &'static str,
    what: &'static str,
    plan: Plan,
    ceiling: Ceiling,
}

fn tasks(folder: &Path, grammar: &Grammar, ceilings: &Ceilings, seed: u64) -> [Task; 3] {
    let plan = |file: &str, label: &str, network: NetworkKind| {
        let mut plan = Plan::for_classifier();
        plan.corpus.paths = vec![folder.join(file)];
        plan.corpus.label = Some(label.to_owned());
        plan.corpus.test_share = 0.2;
        plan.training.seed = seed;
        if let Some(own) = &mut plan.classifier {
            own.network = network;
        }
        plan
    };
    let mut outcome = plan("diaries.csv", "outcome", NetworkKind::Pooled);
    outcome.training.learning_rate = 0.01;
    let mut keeper = plan("diaries.csv", "keeper", NetworkKind::Linear);
    if let Some(own) = &mut keeper.classifier {
        own.term_choice = TermChoice::Listed;
        own.term_list = grammar.distinct_words();
        own.term_list.retain(|word| is_function_word(word));
    }
    let mut scales = plan("scales.csv", "state", NetworkKind::Recurrent);
    (scales.model.cell, scales.model.hidden, scales.training.epochs) = (Cell::Gru, Some(48), Some(20));
    (scales.training.dropout, scales.training.learning_rate) = (Some(0.1), 0.01);
    if let Some(own) = &mut scales.classifier {
        own.features = Some(2);
    }
    let exact = |accuracy| Ceiling { accuracy, standard_error: 0.0, examples: 0 };
    [
        Task {
            run: RUNS[0],
            what: "outcome, from the text (pooled token vectors)",
            plan: outcome,
            ceiling: exact(ceilings.outcome),
        },
        Task {
            run: RUNS[1],
            what: "keeper, from the function words (linear)",
            plan: keeper,
            ceiling: ceilings.keeper_by_function_words,
        },
        Task {
            run: RUNS[2],
            what: "state of a day, from hive scales by hour (GRU)",
            plan: scales,
            ceiling: ceilings.scales,
        },
    ]
}

/// Trains the classifiers in the folder of the demo's runs and prints their accuracies beside their ceilings.
pub(super) fn classify(
    (folder, runs): (&Path, &Path),
    grammar: &Grammar,
    ceilings: &Ceilings,
    (seed, threads): (u64, usize),
    screen: &Screen,
) -> Result<(), Failure> {
    let mut rows = Vec::new();
    for task in tasks(folder, grammar, ceilings, seed) {
        screen.note(&format!("training the classifier {}", task.run));
        let prepared =
            prepare_classifier(task.plan, threads, &mut |_: &PreparationEvent<'_>| interrupt::flow())?;
        let description =
            prepared.describe(task.run, now(), env!("CARGO_PKG_VERSION"), std::env::current_dir().ok())?;
        let (own, plan) = (prepared.data().run_files()?, &prepared.data().plan);
        let (run, claim, description) =
            shelf::create(&*files::storage(), runs, plan, description, &own, Existing::Keep)?;
        let running = Running::new(run.clone(), claim, description);
        let outcome = train_classifier(&prepared, running, threads, &mut |_: &TrainingEvent<'_, ()>| {
            if interrupt::asked() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        })?;
        refuse_interrupted(&run, &outcome)?;
        let documents = prepared.data().test.count() as u64;
        let accuracy = outcome.test.as_ref().and_then(|test| test.figure("accuracy")).unwrap_or(0.0);
        let (low, high) = wilson((accuracy * documents as f64).round() as u64, documents);
        let Ceiling { accuracy: ceiling, standard_error, .. } = task.ceiling;
        let error = match standard_error {
            0.0 => String::new(),
            error => format!(" \u{b1} {}", percent_of(error)),
        };
        rows.push(vec![
            task.what.to_owned(),
            count(documents),
            percent_of(accuracy),
            format!("{} to {}", percent_of(low), percent_of(high)),
            format!("{}{error}", percent_of(ceiling)),
        ]);
    }
    let heads = ["class", "test documents", "accuracy", "95 % interval", "ceiling"];
    let columns = [Column::Text, Column::Number, Column::Number, Column::Number, Column::Number];
    screen.line(&format!(
        "\n{}\n{}\n  ceiling: the best accuracy that any classifier can reach, by the probabilities of the generator",
        screen.heading("How good classifiers are"),
        table(screen, &heads, &columns, &rows)
    ))
}
