//! Words in a plane.

use kuva::plot::ScatterPlot;
use kuva::render::layout::{Layout, TickFormat};
use kuva::render::plots::Plot;
use kuva::render::render::Scene;

use crate::output::drawing::{draw, framed};
use crate::output::line::{Axis, Points};
use crate::output::palette::TEAL;

/// Words that are named in a picture; of more, the first are.
const NAMED: usize = 150;

/// A map of words. `shares` are those of the spread along the axes, if they are known.
pub(crate) fn word_map(words: &[&str], points: &[[f64; 2]], shares: Option<[f64; 2]>) -> Scene {
    // A word whose place cannot be drawn is left out with its name.
    let shown = words.iter().zip(points).filter(|(_, [x, y])| Axis::Even.takes(*x) && Axis::Even.takes(*y));
    let (names, places): (Vec<&str>, Points) = shown.map(|(word, &[x, y])| (*word, (x, y))).unzip();
    let names = names.into_iter().enumerate().map(|(at, word)| if at < NAMED { word } else { "" });
    let dots = ScatterPlot::new()
        .with_data(places)
        .with_color(TEAL.hex())
        .with_size(2.5)
        .with_labels(names)
        .with_repel_labels();
    let plots = vec![Plot::Scatter(dots)];
    let axis = |at: usize, name: &str| match shares {
        Some(shares) => format!("{name} principal direction, {:.0} % of the spread", 100.0 * shares[at]),
        None if at == 0 => "t-SNE keeps neighbours together; directions have no meaning".to_owned(),
        None => String::new(),
    };
    let silent = || TickFormat::Custom(std::sync::Arc::new(|_| String::new()));
    let layout = framed(Layout::auto_from_plots(&plots), "Words by their vectors")
        .with_height(760.0)
        .with_x_label(axis(0, "first"))
        .with_y_label(axis(1, "second"))
        .with_x_tick_format(silent())
        .with_y_tick_format(silent());
    draw(plots, layout)
}

#[cfg(test)]
mod tests {
    use super::word_map;
    use crate::output::chart::Picture;

    #[test]
    fn words_are_on_the_map_by_name() {
        let words: Vec<String> = (0..200).map(|i| format!("word{i}")).collect();
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        let points: Vec<[f64; 2]> = (0..200).map(|i| [f64::from(i % 14), f64::from(i / 14)]).collect();
        for shares in [None, Some([0.5, 0.25])] {
            let picture = Picture::of(word_map(&words, &points, shares)).unwrap();
            assert!(picture.svg.starts_with("<svg") || picture.svg.contains("<svg"));
        }
    }
}
