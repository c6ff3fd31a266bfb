//! Charts as SVG and PNG, drawn with one palette and a font inside the program.

use std::path::Path;

use kuva::plot::{LegendPosition, LinePlot};
use kuva::render::layout::{Layout, TickFormat};
use kuva::render::plots::Plot;
use kuva::render::render::{Scene, render_multiple};
use lalograph_lab::LabError;
use lalograph_lab::files::{Existing, write_whole};
use lalograph_lab::records::MetricsRecord;

use crate::failure::Failure;
use crate::output::number;
use crate::output::outline::outline_text;
use crate::output::palette::{Colour, HONEY, PLUM, SLATE, TEAL};

/// A level that a curve is read against.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Level<'a> {
    /// Its perplexity.
    pub(crate) perplexity: f64,
    /// What it is.
    pub(crate) name: &'a str,
}

/// Perplexity over steps, training and validation, on logarithmic axes, since most is learnt in
/// the first steps, with the levels as dashed lines.
pub(crate) fn learning_curve(title: &str, records: &[MetricsRecord], levels: &[Level<'_>]) -> Scene {
    let mut training = Vec::new();
    let mut validation = Vec::new();
    for record in records {
        match record {
            MetricsRecord::Training { step, training_perplexity, .. } => {
                training.push((*step as f64, *training_perplexity));
            }
            MetricsRecord::Validation { step, validation_perplexity, .. } => {
                validation.push((*step as f64, *validation_perplexity));
            }
        }
    }
    let last_step = training.iter().chain(&validation).map(|point| point.0).fold(1.0, f64::max);
    let first_step = training.iter().chain(&validation).map(|point| point.0).fold(last_step, f64::min);
    let curve = |points: Vec<(f64, f64)>, colour: Colour, name: &str| {
        LinePlot::new().with_data(points).with_color(colour.hex()).with_stroke_width(2.5).with_legend(name)
    };
    let mut plots = vec![
        Plot::Line(curve(training, HONEY, "training perplexity (with dropout)")),
        Plot::Line(curve(validation, TEAL, "validation perplexity").with_stroke_width(3.0)),
    ];
    // Levels are curves too, so that the legend names them; they differ in their dashes as well as in colour.
    for (index, level) in levels.iter().enumerate() {
        let name = format!("{} ({})", level.name, number::perplexity(level.perplexity));
        let points = vec![(first_step, level.perplexity), (last_step, level.perplexity)];
        let line = curve(points, if index == 0 { PLUM } else { SLATE }, &name).with_stroke_width(2.0);
        plots.push(Plot::Line(if index == 0 { line.with_dashed() } else { line.with_dotted() }));
    }
    let layout = Layout::auto_from_plots(&plots)
        .with_title(title)
        .with_x_label("optimiser step (logarithmic)")
        .with_y_label("perplexity per token (logarithmic)")
        .with_log_x()
        .with_log_y()
        .with_x_tick_format(TickFormat::Custom(std::sync::Arc::new(|x| number::count(x.max(0.0) as u64))))
        .with_y_tick_format(TickFormat::Custom(std::sync::Arc::new(plain)))
        .with_legend_position(LegendPosition::OutsideRightTop)
        .with_width(1000.0)
        .with_height(520.0);
    render_multiple(plots, layout)
}

/// A tick of a perplexity axis.
fn plain(value: f64) -> String {
    if value >= 10.0 { number::count(value.round() as u64) } else { format!("{value:.1}") }
}

/// Writes a scene as `stem.svg` and `stem.png`.
pub(crate) fn write_pictures(mut scene: Scene, stem: &Path, existing: Existing) -> Result<(), Failure> {
    let png = kuva::backend::png::PngBackend::new()
        .with_scale(1.5)
        .render_scene(&scene)
        .map_err(|error| Failure::work(format!("the picture could not be drawn: {error}")))?;
    outline_text(&mut scene);
    let svg = kuva::backend::svg::SvgBackend::new().render_scene(&scene);
    let write = |extension: &str, bytes: &[u8]| -> Result<(), LabError> {
        write_whole(&stem.with_extension(extension), bytes, existing)
    };
    write("svg", svg.as_bytes())?;
    write("png", &png)?;
    Ok(())
}
