//! The step of several processes in `plan cost`, predicted from the parts of one that was measured.

use lalograph_lab::measure::forecast::Forecast;
use lalograph_lab::measure::several::{SharedStep, StepParts, Wire};
use serde::Serialize;

use crate::cli::PlanCostArgs;
use crate::failure::Failure;
use crate::output::number::{bytes, count, counted};
use crate::output::screen::Screen;
use crate::output::table::{Column, table};

/// More processes than these are not looked at.
const MOST: usize = 256;

/// The steps of several processes.
#[derive(Serialize)]
pub(super) struct Several {
    #[serde(flatten)]
    wire: Wire,
    steps: Vec<SharedStep>,
    /// The number with the shortest step.
    most_that_pay: usize,
}

impl Several {
    /// Of as many as were asked for, and fewer.
    pub(super) fn asked(args: &PlanCostArgs, parts: &StepParts) -> Option<Self> {
        let most = usize::from(args.processes?);
        let wire = Wire { bytes_per_second: args.bandwidth.0 / 8.0, latency: args.latency.0 };
        let doubled =
            std::iter::successors(Some(1), |count| Some(2 * count)).take_while(|&count| count < most);
        let steps: Vec<SharedStep> = doubled.chain([most]).map(|count| parts.shared(count, wire)).collect();
        Some(Self { wire, steps, most_that_pay: parts.most_that_pay(MOST, wire) })
    }

    /// A table of them, and beyond which number they do not pay.
    pub(super) fn words(&self, parts: &StepParts, screen: &Screen) -> String {
        let mut steps = self.steps.clone();
        steps.dedup_by_key(|step| step.processes);
        let rows: Vec<Vec<String>> = steps
            .iter()
            .map(|step| {
                vec![
                    count(step.processes as u64),
                    bytes(step.bytes_sent as u64),
                    time(step.exchange_seconds),
                    time(step.seconds),
                    format!("{:.2}", step.speed_up),
                ]
            })
            .collect();
        let heads = ["processes", "sent a step", "exchange", "step", "times as fast"];
        let lanes = counted(parts.lanes as u64, "lane", "lanes");
        let best = match self.most_that_pay {
            1 => "One process is quickest on this network.".to_owned(),
            most if most == parts.lanes => {
                format!("Up to {most} processes pay, one for each lane; more need a higher training.lanes.")
            }
            most => format!("More than {most} processes do not pay on this network."),
        };
        format!(
            "{}\n{}\n\n{best}",
            screen.heading(&format!("Several processes, {lanes}: predicted from a step here, not measured")),
            table(screen, &heads, &[Column::Number; 5], &rows)
        )
    }
}

/// Prints what is predicted of several processes.
pub(super) fn say_several(
    several: Option<Several>,
    run: Option<&Forecast>,
    screen: &Screen,
) -> Result<(), Failure> {
    match (several, run) {
        (Some(several), Some(run)) => screen.line(&format!("\n{}", several.words(&run.parts, screen))),
        _ => Ok(()),
    }
}

/// Seconds of a part of a step.
fn time(seconds: f64) -> String {
    match seconds {
        0.0 => "0".to_owned(),
        x if x < 0.01 => format!("{:.2} ms", 1e3 * x),
        x if x < 1.0 => format!("{:.0} ms", 1e3 * x),
        x => format!("{x:.2} s"),
    }
}
