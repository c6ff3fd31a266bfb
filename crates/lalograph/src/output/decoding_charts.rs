//! Decodings compared beside held-out text, over the temperature.

use kuva::render::layout::{Layout, TickFormat};
use kuva::render::plots::Plot;
use kuva::render::render::Scene;
use lalograph_lab::writing::trial::Trial;

use crate::output::drawing::{draw, framed};
use crate::output::line::{Axis, dots, drawable, line};
use crate::output::number::perplexity;
use crate::output::palette::{ASH, BRICK, Colour, HONEY, PLUM, TEAL};

/// Result of one decoding.
pub(crate) struct DecodingPoint<'t> {
    /// The curve that the point belongs to.
    pub(crate) series: String,
    /// `None` if nothing is drawn: the point is then a level line.
    pub(crate) temperature: Option<f64>,
    /// Its figures.
    pub(crate) trial: &'t Trial,
}

/// The charts: perplexity under the model, and the longest runs that are copied.
pub(crate) fn decoding_charts(
    points: &[DecodingPoint<'_>],
    held_out: Option<&Trial>,
) -> Vec<(&'static str, Scene)> {
    let perplexity = chart(
        points,
        held_out,
        |trial| Some(trial.perplexity).filter(|p| p.is_finite()),
        ("Perplexity of samples under the model", "perplexity per token"),
    );
    let copying = chart(
        points,
        held_out,
        |trial| trial.longest_run_mean,
        ("Text copied from the training text", "longest copied sequence, mean, tokens"),
    );
    let named = [("perplexity", perplexity), ("copying", copying)];
    named.into_iter().filter_map(|(name, scene)| Some((name, scene?))).collect()
}

fn chart(
    points: &[DecodingPoint<'_>],
    held_out: Option<&Trial>,
    value: impl Fn(&Trial) -> Option<f64>,
    (title, label): (&str, &str),
) -> Option<Scene> {
    let temperatures = || points.iter().filter_map(|point| point.temperature);
    let lowest = temperatures().fold(f64::INFINITY, f64::min);
    let highest = temperatures().fold(f64::NEG_INFINITY, f64::max);
    // A single temperature still needs an axis.
    let (lowest, highest) = if lowest < highest { (lowest, highest) } else { (lowest - 0.1, lowest + 0.1) };
    let mut plots = Vec::new();
    let mut level = |name: String, at: f64, colour: Colour, wide: f64| {
        let ends = drawable([(lowest, at), (highest, at)], Axis::Even, Axis::Even);
        let Some(line) = line(ends, colour, &name).map(|line| line.with_stroke_width(wide)) else {
            return;
        };
        plots.push(Plot::Line(match wide {
            3.0.. => line.with_dashed(),
            2.0.. => line.with_dotted(),
            _ => line,
        }));
    };
    if let Some(at) = held_out.and_then(&value) {
        level(format!("held-out text ({})", perplexity(at)), at, PLUM, 3.0);
    }
    let colours = [TEAL, HONEY, BRICK, ASH, PLUM];
    let mut series: Vec<&str> = Vec::new();
    // Their strokes differ.
    let strokes = [2.0, 1.2];
    for (index, point) in points.iter().filter(|point| point.temperature.is_none()).enumerate() {
        if let Some(at) = value(point.trial) {
            let stroke = strokes[index % strokes.len()];
            level(format!("{} ({})", point.series, perplexity(at)), at, ASH, stroke);
        }
    }
    for point in points.iter().filter(|point| point.temperature.is_some()) {
        if !series.contains(&point.series.as_str()) {
            series.push(&point.series);
        }
    }
    for (index, name) in series.iter().enumerate() {
        let of = points.iter().filter(|point| point.series == *name);
        let data = of.filter_map(|point| Some((point.temperature?, value(point.trial)?)));
        let mut data = drawable(data, Axis::Even, Axis::Even);
        data.sort_by(|a, b| a.0.total_cmp(&b.0));
        let colour = colours[index % colours.len()];
        plots.extend(line(data.clone(), colour, name).map(Plot::Line));
        plots.extend(dots(data, colour).map(Plot::Scatter));
    }
    (!series.is_empty() && !plots.is_empty()).then(|| {
        let layout = framed(Layout::auto_from_plots(&plots), title)
            .with_x_label("temperature")
            .with_y_label(label)
            .with_x_tick_format(TickFormat::Custom(std::sync::Arc::new(|x| format!("{x:.2}"))))
            .with_y_tick_format(TickFormat::Custom(std::sync::Arc::new(|y| format!("{y:.1}"))));
        draw(plots, layout)
    })
}
