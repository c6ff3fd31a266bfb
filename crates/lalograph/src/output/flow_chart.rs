//! Chart of gradient norms by distance in time.

use kuva::render::layout::{Layout, TickFormat};
use kuva::render::plots::Plot;
use kuva::render::render::Scene;
use lalograph_lab::run::records::FlowRecord;

use crate::output::chart::count_ticks;
use crate::output::drawing::{draw, framed};
use crate::output::line::{Axis, drawable, line};
use crate::output::number::count;
use crate::output::palette::{ASH, HONEY, PLUM, TEAL};

/// The lowest norm that is drawn: far below this nothing is learnt.
const LOWEST: f64 = 1e-10;

/// The norm of the gradient by each layer's outputs over the distance from the token whose loss it is, when it was first measured (dotted)
/// and last. `None` if it never was.
pub(crate) fn flow_chart(records: &[FlowRecord]) -> Option<Scene> {
    let (first, last) = (records.first()?, records.last()?);
    let colours = [TEAL, HONEY, PLUM, ASH];
    let mut plots = Vec::new();
    let shown =
        if first.step == last.step { vec![(last, false)] } else { vec![(first, true), (last, false)] };
    for (record, dotted) in shown {
        for (layer, norms) in record.by_distance.iter().enumerate() {
            // A logarithmic axis has no zero, and what is below its lowest mark would be drawn along it.
            let points = norms
                .iter()
                .enumerate()
                .filter(|(_, norm)| **norm > LOWEST)
                .map(|(distance, &norm)| (distance as f64, norm));
            let points = drawable(points, Axis::Even, Axis::Logarithmic);
            let name = format!("layer {}, step {}", layer + 1, count(record.step));
            let line = line(points, colours[layer % colours.len()], &name);
            plots.extend(
                line.map(|line| if dotted { line.with_stroke_width(2.0).with_dotted() } else { line })
                    .map(Plot::Line),
            );
        }
    }
    if plots.is_empty() {
        return None;
    }
    let layout = framed(Layout::auto_from_plots(&plots), "Gradient by distance in time")
        .with_x_label("tokens back from the predicted one")
        .with_y_label("norm of the gradient with respect to the layer's outputs (logarithmic)")
        .with_log_y()
        .with_x_tick_format(count_ticks())
        .with_y_tick_format(TickFormat::Custom(std::sync::Arc::new(|y| format!("{y:.0e}"))));
    Some(draw(plots, layout))
}

#[cfg(test)]
mod tests {
    use super::flow_chart;
    use lalograph_lab::run::records::FlowRecord;

    #[test]
    fn runs_of_one_and_more_measurements_are_drawn_and_others_are_not() {
        let record = |step, norms: &[f64]| FlowRecord {
            step,
            by_distance: vec![norms.to_vec(), norms.to_vec()],
            by_parameter: [].into(),
        };
        assert!(flow_chart(&[]).is_none());
        assert!(flow_chart(&[record(1, &[0.0, 0.0])]).is_none());
        assert!(flow_chart(&[record(1, &[1.0, 0.1, 0.0])]).is_some());
        assert!(flow_chart(&[record(1, &[1.0]), record(9, &[f64::NAN, 0.5])]).is_some());
    }
}
