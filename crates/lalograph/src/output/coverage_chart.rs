//! The picture of a coverage: unknown tokens, or bytes per token where nothing is unknown, over the size of the vocabulary.

use kuva::plot::{LinePlot, ScatterPlot};
use kuva::render::layout::{Layout, TickFormat};
use kuva::render::plots::Plot;
use kuva::render::render::{Scene, render_multiple};
use lalograph_text::coverage::Coverage;

use crate::output::chart::{count_ticks, framed};
use crate::output::palette::{HONEY, TEAL};

/// Draws it.
pub(crate) fn coverage_chart(found: &Coverage) -> Scene {
    let exact = found.unit.knows_everything();
    let points: Vec<(f64, f64)> = found
        .points
        .iter()
        .map(|point| {
            let unknown = 100.0 * point.unknown_tokens as f64 / point.tokens.max(1) as f64;
            (point.size as f64, if exact { point.bytes_per_token } else { unknown })
        })
        .collect();
    let (label, colour) = if exact {
        ("bytes per token, held-out text", TEAL)
    } else {
        ("unknown tokens, held-out text", HONEY)
    };
    let line = LinePlot::new()
        .with_data(points.clone())
        .with_color(colour.hex())
        .with_stroke_width(2.5)
        .with_legend(label);
    let dots = ScatterPlot::new().with_data(points).with_color(colour.hex()).with_size(5.0);
    let plots = vec![Plot::Line(line), Plot::Scatter(dots)];
    let title = format!("How large a vocabulary of {} has to be", found.unit.plural());
    let layout = framed(Layout::auto_from_plots(&plots), &title)
        .with_x_label("tokens in the vocabulary (logarithmic)")
        .with_y_label(if exact { "bytes per token" } else { "share of tokens that are unknown, %" })
        .with_log_x()
        .with_y_axis_min(0.0)
        .with_x_tick_format(count_ticks())
        .with_y_tick_format(TickFormat::Custom(std::sync::Arc::new(|y| format!("{y:.1}"))));
    render_multiple(plots, layout)
}
