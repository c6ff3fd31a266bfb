//! `plan`: what a plan costs.

use lalograph_lab::cost::{Cost, MemoryCost, cost, zipf_share};
use lalograph_lab::gauge::{Bench, Gauge};
use serde::Serialize;

use super::gauge::operations_per_second;
use super::settings::{Sized, describe, sized_plan};
use super::threads;
use crate::cli::{PlanCommand, PlanCostArgs};
use crate::failure::Failure;
use crate::output::number::{bytes, count, duration};
use crate::output::screen::Screen;
use crate::output::table::{Column, facts, table};

/// Rounds and seconds of the short measurement.
const ROUNDS: usize = 3;
const SECONDS: f64 = 0.7;

/// Runs the command.
pub(super) fn run(command: &PlanCommand, screen: &Screen) -> Result<(), Failure> {
    match command {
        PlanCommand::Cost(args) => show_cost(args, screen),
    }
}

/// What `plan cost --json` prints.
#[derive(Serialize)]
struct CostDocument<'a> {
    #[serde(flatten)]
    cost: &'a Cost,
    total_bytes: u64,
    measured: Option<Measured>,
}

/// What this machine does with it.
#[derive(Serialize)]
struct Measured {
    threads: usize,
    training_tokens_per_second: f64,
    seconds_per_step: f64,
    tokens_per_epoch: u64,
    seconds_per_epoch: f64,
    share_of_matrix_peak: f64,
}

fn show_cost(args: &PlanCostArgs, screen: &Screen) -> Result<(), Failure> {
    let Sized { plan, indices, source } = sized_plan(&args.plan)?;
    let found = cost(&plan, indices, &zipf_share(indices))?;
    let tokens = args.tokens.unwrap_or(1_000_000);
    let measured = if args.no_measure {
        None
    } else {
        let threads = threads(args.plan.threads);
        let gauge = Bench::new(&plan, indices)?.measure(threads, ROUNDS, SECONDS, |_| true)?;
        let Gauge { training_tokens_per_second: speed, training_share_of_peak: share, .. } = gauge;
        Some(Measured {
            threads,
            training_tokens_per_second: speed.median,
            seconds_per_step: found.tokens_per_step as f64 / speed.median,
            tokens_per_epoch: tokens,
            seconds_per_epoch: tokens as f64 / speed.median,
            share_of_matrix_peak: share.median,
        })
    };
    if args.plan.json {
        let total_bytes = found.bytes.total();
        return screen.json(&CostDocument { cost: &found, total_bytes, measured });
    }
    let rows: Vec<Vec<String>> = found
        .layers
        .iter()
        .map(|layer| {
            let shape: Vec<String> = layer.shape.iter().map(|&size| count(size as u64)).collect();
            vec![layer.name.clone(), shape.join(" x "), count(layer.parameters)]
        })
        .chain([vec!["all".to_owned(), String::new(), count(found.parameters)]])
        .collect();
    let columns = [Column::Text, Column::Text, Column::Number];
    let layers = table(screen, &["parameter", "shape", "numbers"], &columns, &rows);
    let MemoryCost { weights, packed_weights, gradients, optimiser, activations, validation } = found.bytes;
    let memory = [
        ("weights", bytes(weights)),
        ("packed for products", bytes(packed_weights)),
        (
            "gradients",
            format!("{}, {} lanes", bytes(gradients), plan.training.lanes.min(plan.training.batch)),
        ),
        ("optimiser", bytes(optimiser)),
        (
            "activations",
            format!(
                "{}, window of {} x {} tokens",
                bytes(activations),
                plan.training.batch,
                plan.training.window
            ),
        ),
        ("validation", format!("{}, lanes that only read", bytes(validation))),
        ("all", bytes(found.bytes.total())),
    ];
    let mut work = vec![
        ("reading a token", operations(found.forward_operations_per_token)),
        ("learning from one", operations(found.training_operations_per_token)),
        (
            "a step",
            format!(
                "{} tokens, {}",
                count(found.tokens_per_step),
                operations(found.training_operations_per_token * found.tokens_per_step as f64)
            ),
        ),
    ];
    if let Some(measured) = &measured {
        let speed = measured.training_tokens_per_second;
        work.push((
            "this machine",
            format!(
                "{} tokens/s on {} threads, {} ({:.0} % of its matrix peak), measured just now",
                count(speed as u64),
                measured.threads,
                operations_per_second(speed * found.training_operations_per_token),
                100.0 * measured.share_of_matrix_peak,
            ),
        ));
        let what = if args.tokens.is_some() { "an epoch" } else { "a million tokens" };
        let time = duration(measured.seconds_per_epoch);
        work.push((
            what,
            if args.tokens.is_some() { format!("{time} for {} tokens", count(tokens)) } else { time },
        ));
    }
    let about = [
        ("model", describe(&plan.shape(indices))),
        ("vocabulary", format!("{} indices ({source})", count(indices as u64))),
    ];
    screen.line(&format!(
        "{}\n{}\n\n{layers}\n\n{}\n{}\n\n{}\n{}",
        screen.heading("The model"),
        facts(screen, &about),
        screen.heading("Memory while training, besides the text"),
        facts(screen, &memory),
        screen.heading("Matrix operations, a multiplication and an addition counted as two"),
        facts(screen, &work),
    ))
}

/// Operations, in words.
fn operations(count: f64) -> String {
    match count {
        x if x >= 1e9 => format!("{:.1} GFLOP", x / 1e9),
        x if x >= 1e6 => format!("{:.1} MFLOP", x / 1e6),
        x => format!("{:.0} kFLOP", x / 1e3),
    }
}
