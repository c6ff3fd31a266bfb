//! Charts of runs besides the learning curve: gradients, learning rate, several runs over each other.

use kuva::plot::LinePlot;
use kuva::render::layout::{Layout, TickFormat};
use kuva::render::plots::Plot;
use kuva::render::render::Scene;
use lalograph_lab::run::records::MetricsRecord;

use crate::output::chart::{count_ticks, plain_ticks, small};
use crate::output::drawing::{draw, framed};
use crate::output::line::{Axis, Points, dots, drawable, line};
use crate::output::loss_scale::LossScale;
use crate::output::palette::{ASH, BRICK, HONEY, PLUM, TEAL};

/// A value of each line of figures over its step, where it can be on a logarithmic axis.
fn over_steps(records: &[MetricsRecord], value: impl Fn(&MetricsRecord) -> Option<f64>) -> Points {
    let point = |record: &MetricsRecord| match record {
        MetricsRecord::Training { step, .. } | MetricsRecord::Validation { step, .. } => {
            value(record).map(|value| (*step as f64, value))
        }
        MetricsRecord::Test { .. } => None,
    };
    drawable(records.iter().filter_map(point), Axis::Logarithmic, Axis::Logarithmic)
}

/// The norm of the gradient before and after clipping.
pub(crate) fn gradient_chart(records: &[MetricsRecord]) -> Option<Scene> {
    let before = over_steps(records, |record| match record {
        MetricsRecord::Training { gradient_norm, .. } => Some(*gradient_norm),
        _ => None,
    });
    let after = over_steps(records, |record| match record {
        MetricsRecord::Training { clipped_gradient_norm, .. } => Some(*clipped_gradient_norm),
        _ => None,
    });
    let lines = [
        line(before, HONEY, "before clipping"),
        line(after, TEAL, "after clipping").map(LinePlot::with_dashed),
    ];
    let plots: Vec<Plot> = lines.into_iter().flatten().map(Plot::Line).collect();
    (!plots.is_empty()).then(|| {
        let layout = framed(Layout::auto_from_plots(&plots), "Gradient norm")
            .with_x_label("optimiser step")
            .with_y_label("norm of the whole gradient (logarithmic)")
            .with_log_y()
            .with_x_tick_format(count_ticks())
            .with_y_tick_format(TickFormat::Custom(std::sync::Arc::new(small)));
        draw(plots, layout)
    })
}

/// The learning rate.
pub(crate) fn rate_chart(records: &[MetricsRecord]) -> Option<Scene> {
    let rates = over_steps(records, |record| match record {
        MetricsRecord::Training { learning_rate, .. } => Some(*learning_rate),
        _ => None,
    });
    let plots = vec![Plot::Line(line(rates, PLUM, "learning rate")?)];
    let layout = framed(Layout::auto_from_plots(&plots), "The learning rate")
        .with_x_label("optimiser step")
        .with_y_label("learning rate")
        .with_x_tick_format(count_ticks())
        .with_y_tick_format(TickFormat::Custom(std::sync::Arc::new(small)));
    Some(draw(plots, layout))
}

/// Validation loss of several runs on one scale, or training perplexity where none was validated.
pub(crate) fn comparison_chart(scale: LossScale, runs: &[(String, &[MetricsRecord])]) -> Option<Scene> {
    let validation = |record: &MetricsRecord| match record {
        MetricsRecord::Validation { loss, .. } => Some(scale.figure(*loss)),
        _ => None,
    };
    let training = |record: &MetricsRecord| scale.of_training(record);
    let validated = runs.iter().any(|(_, records)| records.iter().any(|record| validation(record).is_some()));
    let what = if validated { "validation" } else { "training" };
    // Colour and stroke differ: five colours, three strokes.
    let colours = [TEAL, HONEY, PLUM, ASH, BRICK];
    let mut plots = Vec::new();
    let (mut lowest, mut highest) = (f64::INFINITY, 0.0f64);
    for (index, (name, records)) in runs.iter().enumerate() {
        let points = if validated { over_steps(records, validation) } else { over_steps(records, training) };
        for (_, perplexity) in &points {
            (lowest, highest) = (lowest.min(*perplexity), highest.max(*perplexity));
        }
        let colour = colours[index % colours.len()];
        // Of one point there is no line to see.
        let alone = if points.len() == 1 { points.clone() } else { Points::new() };
        plots.extend(dots(alone, colour).map(Plot::Scatter));
        if let Some(line) = line(points, colour, name) {
            plots.push(Plot::Line(match index % 3 {
                0 => line,
                1 => line.with_dashed(),
                _ => line.with_dotted(),
            }));
        }
    }
    if plots.is_empty() {
        return None;
    }
    // A logarithmic axis runs over whole decades, in which runs that are close would be one line.
    let steep = highest > 5.0 * lowest;
    let axis = if steep { " (logarithmic)" } else { "" };
    let unit = if scale == LossScale::Loss { "loss per document" } else { "perplexity per token" };
    let layout = framed(Layout::auto_from_plots(&plots), "Runs compared")
        .with_x_label("optimiser step (logarithmic)")
        .with_y_label(format!("{what} {unit}{axis}"))
        .with_log_x()
        .with_x_tick_format(count_ticks());
    let layout = if steep {
        let ticks = if scale == LossScale::Loss {
            TickFormat::Custom(std::sync::Arc::new(small))
        } else {
            plain_ticks()
        };
        layout.with_log_y().with_y_tick_format(ticks)
    } else {
        layout.with_y_tick_format(TickFormat::Custom(std::sync::Arc::new(|y| format!("{y:.2}"))))
    };
    Some(draw(plots, layout))
}

#[cfg(test)]
mod tests {
    use super::{LossScale, comparison_chart, gradient_chart, rate_chart};
    use crate::output::chart::Picture;
    use lalograph_lab::run::records::{Figures, MetricsRecord};

    fn training(step: u64, norm: f64) -> MetricsRecord {
        MetricsRecord::Training {
            step,
            epoch: 0.1,
            tokens: 1,
            seconds: 1.0,
            loss: 1.0,
            figures: Figures::of([("perplexity", 2.7)]),
            learning_rate: 0.01,
            gradient_norm: norm,
            clipped_gradient_norm: norm / 2.0,
            clipped_share: 1.0,
            tokens_per_second: 5.0,
        }
    }

    #[test]
    fn runs_without_figures_have_no_charts_and_figures_that_cannot_be_drawn_are_left_out() {
        assert!(gradient_chart(&[]).is_none() && rate_chart(&[]).is_none());
        assert!(comparison_chart(LossScale::Perplexity, &[("one".into(), &[])]).is_none());
        assert!(gradient_chart(&[training(1, 0.0), training(2, f64::INFINITY)]).is_none());
        for absurd in [1e308, 5e-324] {
            let scene = gradient_chart(&[training(1, absurd), training(2, 0.5), training(u64::MAX, 0.25)]);
            Picture::of(scene.unwrap()).unwrap();
        }
        let records = [training(1, 0.5), training(2, 0.25)];
        assert!(gradient_chart(&records).is_some() && rate_chart(&records[..1]).is_some());
        // Validated once: a dot.
        let once = |step| {
            let (epoch, seconds, loss, best) = (1.0, 1.0, 1.2, true);
            let figures = Figures::of([("perplexity", 1.2f64.exp())]);
            vec![MetricsRecord::Validation { step, epoch, seconds, loss, figures, best }]
        };
        let (one, two) = (once(10), once(20));
        let dotted =
            comparison_chart(LossScale::Perplexity, &[("one".into(), &one), ("two".into(), &two)]).unwrap();
        assert!(Picture::of(dotted).unwrap().svg.matches("<circle").count() >= 2);
        // Never validated: then training is compared.
        assert!(
            comparison_chart(LossScale::Perplexity, &[("one".into(), &records), ("two".into(), &[])])
                .is_some()
        );
    }
}
