//! `flow`: how far back in time a model's gradients reach.

use lalograph_lab::task::language::flow::flow_over;
use lalograph_storage::Existing;

use super::input::threads;
use super::lookup::load_model;
use super::reading::{find_corpus, watched};
use crate::cli::FlowArgs;
use crate::failure::Failure;
use crate::files;
use crate::interrupt;
use crate::output::chart::write_pictures;
use crate::output::flow_chart::flow_chart;
use crate::output::number::count;
use crate::output::screen::Screen;
use crate::output::table::{Column, table};

/// Runs the command.
pub(super) fn run(args: &FlowArgs, screen: &Screen) -> Result<(), Failure> {
    interrupt::listen();
    let stem = args.pictures.as_ref().map(|folder| folder.join("gradient-flow"));
    let existing = Existing::replaced_if(args.force);
    let pictures = stem
        .as_ref()
        .map(|stem| files::begin("gradient-flow", &files::picture(stem), existing))
        .transpose()?;
    let file = load_model(&args.model)?;
    let corpus = find_corpus(&args.corpus, &file.plan.corpus, &[])?;
    let window = args.window.unwrap_or(file.plan.training.window);
    let left_out = (args.corpus.reading.left_out.as_deref(), Existing::Keep);
    let record = watched(&corpus, "reading", left_out, screen, |observer| {
        Ok(flow_over(&file, &corpus, threads(None), observer, window)?)
    })?;
    if let (Some(mut set), Some(stem)) = (pictures, &stem) {
        if let Some(scene) = flow_chart(std::slice::from_ref(&record)) {
            write_pictures(scene, &mut set, stem)?;
        }
        set.finish()?;
    }
    if args.json {
        return screen.json(&record);
    }
    let layers = record.by_distance.len();
    let reach = record.by_distance.first().map_or(0, Vec::len);
    // Near distances one by one, far ones by doubling.
    let distances = (0..4).chain((2..).map(|power| 1 << power)).take_while(|&distance| distance < reach);
    let rows: Vec<Vec<String>> = distances
        .map(|distance| {
            let norms = record.by_distance.iter().map(|norms| format!("{:.1e}", norms[distance]));
            std::iter::once(count(distance as u64)).chain(norms).collect()
        })
        .collect();
    let heads: Vec<String> =
        std::iter::once("tokens back".to_owned()).chain((1..=layers).map(|n| format!("layer {n}"))).collect();
    let heads: Vec<&str> = heads.iter().map(String::as_str).collect();
    let mut text = format!(
        "{}\n  norm of the gradient of one token's loss with respect to the outputs of each layer, by distance\n\n{}\n",
        screen.heading("Gradient by distance in time"),
        table(screen, &heads, &vec![Column::Number; layers + 1], &rows),
    );
    for (layer, norms) in record.by_distance.iter().enumerate() {
        let here = norms.first().copied().unwrap_or(0.0);
        let fallen = norms.iter().position(|&norm| norm < here / 100.0);
        let what = match fallen {
            Some(distance) => format!("falls below 1 % after {} tokens", count(distance as u64)),
            None => {
                format!("stays above 1 % for all {} tokens of the window", count(norms.len() as u64))
            }
        };
        text.push_str(&format!("\n  layer {} {what}", layer + 1));
    }
    if let Some(stem) = &stem {
        text.push_str(&format!("\n\n  chart: {}", stem.with_extension("png and .svg").display()));
    }
    screen.line(&text)
}
