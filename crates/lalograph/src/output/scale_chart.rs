//! Training speed over one size of a plan.

use kuva::render::layout::Layout;
use kuva::render::plots::Plot;
use kuva::render::render::Scene;
use serde::Serialize;

use crate::output::chart::count_ticks;
use crate::output::drawing::{draw, framed};
use crate::output::line::{Axis, dots, drawable, line};
use crate::output::palette::{Colour, HONEY, PLUM, TEAL};

/// One measured plan.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub(crate) struct ScalePoint {
    /// `hidden`, `batch` or `vocabulary`.
    pub(crate) varied: &'static str,
    /// Its size.
    pub(crate) value: usize,
    /// Tokens learnt from in a second.
    pub(crate) tokens_per_second: f64,
    /// Thousand million matrix operations in a second.
    pub(crate) gigaflops: f64,
    /// Share of the limit set by multiply-adds in registers in the same rounds.
    pub(crate) share_of_limit: f64,
}

/// A chart for each size that was varied, by its name.
pub(crate) fn scale_charts(points: &[ScalePoint]) -> Vec<(&'static str, Scene)> {
    let kinds: [(&'static str, &str, Colour); 3] = [
        ("hidden", "width of the layers", TEAL),
        ("batch", "batch size", HONEY),
        ("vocabulary", "vocabulary size", PLUM),
    ];
    let chart = |(name, label, colour): (&'static str, &str, Colour)| {
        let of: Vec<&ScalePoint> = points.iter().filter(|point| point.varied == name).collect();
        Some((name, chart(&of, label, colour)?))
    };
    kinds.into_iter().filter_map(chart).collect()
}

fn chart(points: &[&ScalePoint], label: &str, colour: Colour) -> Option<Scene> {
    let at = points.iter().map(|point| (point.value as f64, point.tokens_per_second));
    let at = drawable(at, Axis::Logarithmic, Axis::Logarithmic);
    let shares = points.iter().map(|point| 100.0 * point.share_of_limit);
    let (low, high) = shares.fold((f64::MAX, 0.0f64), |(low, high), x| (low.min(x), high.max(x)));
    let legend = format!("tokens/s, at {low:.0} to {high:.0} % of the limit");
    let plots = vec![Plot::Line(line(at.clone(), colour, &legend)?), Plot::Scatter(dots(at, colour)?)];
    let layout = framed(Layout::auto_from_plots(&plots), "Training speed by size")
        .with_x_label(format!("{label} (logarithmic)"))
        .with_y_label("training tokens per second (logarithmic)")
        .with_log_x()
        .with_log_y()
        .with_x_tick_format(count_ticks())
        .with_y_tick_format(count_ticks());
    Some(draw(plots, layout))
}
