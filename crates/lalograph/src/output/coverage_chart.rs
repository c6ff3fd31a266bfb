//! The picture of a coverage: unknown tokens, or bytes per token where nothing is unknown, over the size of the vocabulary.

use kuva::render::layout::{Layout, TickFormat};
use kuva::render::plots::Plot;
use kuva::render::render::Scene;
use lalograph_text::coverage::Coverage;

use crate::output::chart::count_ticks;
use crate::output::drawing::{draw, framed};
use crate::output::line::{Axis, dots, drawable, line};
use crate::output::palette::{HONEY, TEAL};

/// Draws it.
pub(crate) fn coverage_chart(found: &Coverage) -> Option<Scene> {
    let exact = found.unit.knows_everything();
    let points = found.points.iter().map(|point| {
        let unknown = 100.0 * point.unknown_tokens as f64 / point.tokens.max(1) as f64;
        (point.size as f64, if exact { point.bytes_per_token } else { unknown })
    });
    let points = drawable(points, Axis::Logarithmic, Axis::Even);
    let (label, colour) = if exact {
        ("bytes per token, held-out text", TEAL)
    } else {
        ("unknown tokens, held-out text", HONEY)
    };
    let line = line(points.clone(), colour, label).map(Plot::Line);
    let plots: Vec<Plot> = line.into_iter().chain(dots(points, colour).map(Plot::Scatter)).collect();
    if plots.is_empty() {
        return None;
    }
    let title = format!("Coverage by vocabulary size, in {}", found.unit.plural());
    let layout = framed(Layout::auto_from_plots(&plots), &title)
        .with_x_label("tokens in the vocabulary (logarithmic)")
        .with_y_label(if exact { "bytes per token" } else { "share of tokens that are unknown, %" })
        .with_log_x()
        .with_y_axis_min(0.0)
        .with_x_tick_format(count_ticks())
        .with_y_tick_format(TickFormat::Custom(std::sync::Arc::new(|y| format!("{y:.1}"))));
    Some(draw(plots, layout))
}
