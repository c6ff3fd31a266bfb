//! Costs of a plan in words.

use lalograph_lab::measure::cost::ParameterCost;
use lalograph_lab::measure::forecast::{Forecast, Repeated};

use crate::output::number::{count, duration};
use crate::output::screen::Screen;
use crate::output::table::{Column, table};

/// Seconds of steps that are made to time them.
pub(super) const STEPPING_SECONDS: f64 = 3.0;

/// Cost of a run, in words.
pub(super) fn run_rows(run: &Forecast, threads: usize) -> Vec<(&'static str, String)> {
    let mut rows = vec![
        (
            "speed",
            format!(
                "{} tokens/s on {threads} threads, with the training text",
                count(run.tokens_per_second as u64)
            ),
        ),
        ("steps", format!("{}: {}", count(run.steps), duration(run.step_seconds()))),
    ];
    for Repeated { name, times, seconds_each } in &run.besides {
        let each = if *seconds_each < 1.0 {
            format!("{:.0} ms", 1e3 * seconds_each)
        } else {
            duration(*seconds_each)
        };
        rows.push((name, format!("{} x {each}: {}", count(*times), duration(*times as f64 * seconds_each))));
    }
    rows.push(("in all", format!("{}, if it does not stop early", duration(run.seconds()))));
    rows
}

/// The parameters of a model with their shapes.
pub(super) fn parameter_table(layers: &[ParameterCost], parameters: u64, screen: &Screen) -> String {
    let rows: Vec<Vec<String>> = layers
        .iter()
        .map(|layer| {
            let shape: Vec<String> = layer.shape.iter().map(|&size| count(size as u64)).collect();
            vec![layer.name.clone(), shape.join(" x "), count(layer.parameters)]
        })
        .chain([vec!["all".to_owned(), String::new(), count(parameters)]])
        .collect();
    let columns = [Column::Text, Column::Text, Column::Number];
    table(screen, &["parameter", "shape", "numbers"], &columns, &rows)
}

/// Operations, in words.
pub(super) fn operations(count: f64) -> String {
    match count {
        x if x >= 1e9 => format!("{:.1} GFLOP", x / 1e9),
        x if x >= 1e6 => format!("{:.1} MFLOP", x / 1e6),
        x => format!("{:.0} kFLOP", x / 1e3),
    }
}
