//! Curves and dots of a chart: the one place where what cannot be drawn is left out.

use kuva::plot::{LinePlot, ScatterPlot};

use crate::output::palette::Colour;

/// Places of a chart, across and up.
pub(crate) type Points = Vec<(f64, f64)>;

/// The largest number that is drawn, and the smallest on a logarithmic axis is one over it. The drawing crate counts decades in whole numbers
/// and ticks in steps, neither of which it bounds; a damaged record can hold any number.
const LARGEST: f64 = 1e30;

/// Scale of an axis.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Axis {
    /// Evenly.
    Even,
    /// By ratio: nothing at or below zero has a place.
    Logarithmic,
}

impl Axis {
    /// Whether a number has a place on it.
    pub(crate) fn takes(self, value: f64) -> bool {
        value.abs() <= LARGEST && (self == Self::Even || value >= 1.0 / LARGEST)
    }
}

/// The points that have a place on both axes.
pub(crate) fn drawable(points: impl IntoIterator<Item = (f64, f64)>, across: Axis, up: Axis) -> Points {
    points.into_iter().filter(|&(x, y)| across.takes(x) && up.takes(y)).collect()
}

/// A curve through points that can be drawn. The drawing crate cannot place one without points.
pub(crate) fn line(points: Points, colour: Colour, name: &str) -> Option<LinePlot> {
    (!points.is_empty()).then(|| {
        LinePlot::new().with_data(points).with_color(colour.hex()).with_stroke_width(2.5).with_legend(name)
    })
}

/// A dot at each point.
pub(crate) fn dots(points: Points, colour: Colour) -> Option<ScatterPlot> {
    (!points.is_empty()).then(|| ScatterPlot::new().with_data(points).with_color(colour.hex()).with_size(5.0))
}

#[cfg(test)]
mod tests {
    use super::{Axis, drawable};

    #[test]
    fn points_without_a_position_are_omitted() {
        let any = [
            (1.0, 0.0),
            (0.0, 1.0),
            (f64::NAN, 1.0),
            (1.0, f64::INFINITY),
            (1e308, 1.0),
            (2.0, -3.0),
            (5e-324, 1.0),
        ];
        let even = drawable(any, Axis::Even, Axis::Even);
        assert_eq!(even, [(1.0, 0.0), (0.0, 1.0), (2.0, -3.0), (5e-324, 1.0)]);
        assert_eq!(drawable(any, Axis::Logarithmic, Axis::Even), [(1.0, 0.0), (2.0, -3.0)]);
        assert_eq!(drawable(any, Axis::Even, Axis::Logarithmic), [(0.0, 1.0), (5e-324, 1.0)]);
    }
}
