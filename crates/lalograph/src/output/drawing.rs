//! The look that all charts share: the pages' paper and ink, a heading above what is measured, and the name of each curve at its end.

use kuva::render::color::Color;
use kuva::render::layout::{ComputedLayout, Layout};
use kuva::render::plots::Plot;
use kuva::render::render::{Primitive, Scene, TextAnchor, render_multiple};
use kuva::render::theme::Theme;

use crate::output::outline::width;
use crate::output::palette::{Colour, INK, PAPER, QUIET_INK, RULE};

/// Sizes of letters, in the picture's units.
pub(crate) const HEADING: u32 = 19;
pub(crate) const LETTERS: u32 = 14;
/// Units from the top of the picture to the plot, which leave room for the heading and the name of what is measured.
const TOP: f64 = 76.0;
/// Units from the left edge to the heading.
const LEFT: f64 = 20.0;
/// Units from one name to the next.
const LINE: f64 = 18.0;
/// Names beside the curves are at most this wide; a longer one is cut.
const WIDEST: f64 = 330.0;

/// Gives a layout its heading, its size and the colours of the pages.
pub(crate) fn framed(layout: Layout, heading: &str) -> Layout {
    let [paper, ink, quiet, rule] = [PAPER, INK, QUIET_INK, RULE].map(Colour::hex);
    layout
        .with_title(heading)
        .with_width(1000.0)
        .with_height(520.0)
        .with_label_size(LETTERS)
        .with_tick_size(13)
        .with_body_size(13)
        .with_theme(Theme {
            background: paper.clone(),
            axis_color: quiet.clone(),
            grid_color: rule,
            tick_color: quiet,
            text_color: ink,
            legend_bg: paper,
            legend_border: "none".to_owned(),
            ..Theme::light()
        })
}

/// Draws plots: the heading and below it the name of the upward axis, both from the left edge, and beside the end of each curve its name in
/// its colour.
pub(crate) fn draw(plots: Vec<Plot>, mut layout: Layout) -> Scene {
    let (heading, upward) = (layout.title.take(), layout.y_label.take());
    layout.show_legend = false;
    let curves = curves(&plots);
    let beside = curves.iter().filter(|curve| !curve.upright).map(|curve| text_width(&curve.name));
    let room = beside.fold(0.0, f64::max);
    let free = ComputedLayout::from_layout(&layout);
    let right = if room > 0.0 { room + 34.0 } else { free.margin_right.max(40.0) };
    let layout =
        layout.with_force_margins(free.margin_left, right).with_force_margins_y(TOP, free.margin_bottom);
    let places = ComputedLayout::from_layout(&layout);
    let mut scene = render_multiple(plots, layout);
    let start = TextAnchor::Start;
    if let Some(heading) = heading {
        scene.elements.push(letters((LEFT, 32.0), heading, HEADING, (start, true), INK));
    }
    if let Some(upward) = upward {
        scene.elements.push(letters((LEFT, 56.0), upward, LETTERS, (start, false), QUIET_INK));
    }
    name_upright(&mut scene, &places, &curves);
    name_curves(&mut scene, &places, &curves);
    scene
}

/// A curve with a name.
struct Curve {
    name: String,
    colour: String,
    /// Its point furthest to the right, or the highest of an upright line.
    end: (f64, f64),
    /// Whether it marks one place across.
    upright: bool,
}

fn curves(plots: &[Plot]) -> Vec<Curve> {
    let curve = |plot: &Plot| {
        let Plot::Line(line) = plot else {
            return None;
        };
        let across = line.data.iter().map(|point| point.x);
        let (first, last) = (across.clone().fold(f64::MAX, f64::min), across.fold(f64::MIN, f64::max));
        let upright = line.data.len() > 1 && last <= first;
        let end = line.data.iter().max_by(
            |a, b| {
                if upright { a.y.total_cmp(&b.y) } else { a.x.total_cmp(&b.x) }
            },
        )?;
        Some(Curve {
            name: cut(line.legend_label.clone()?),
            colour: line.color.clone(),
            end: (end.x, end.y),
            upright,
        })
    };
    plots.iter().filter_map(curve).collect()
}

/// A name that fits beside a curve.
fn cut(name: String) -> String {
    if text_width(&name) <= WIDEST {
        return name;
    }
    let mut kept = String::new();
    for c in name.chars() {
        kept.push(c);
        if text_width(&kept) > WIDEST - 14.0 {
            break;
        }
    }
    kept + "…"
}

fn text_width(text: &str) -> f64 {
    width(text, f64::from(LETTERS))
}

/// A line of letters at a place.
pub(crate) fn letters(
    (x, y): (f64, f64),
    content: String,
    size: u32,
    (anchor, bold): (TextAnchor, bool),
    colour: Colour,
) -> Primitive {
    let Colour(red, green, blue) = colour;
    Primitive::Text {
        x,
        y,
        content,
        size,
        anchor,
        rotate: None,
        bold,
        color: Some(Color::Rgb(red, green, blue)),
    }
}

/// Names of upright lines, to the right of their upper ends and one below the other, on paper that hides the lines which they cross.
fn name_upright(scene: &mut Scene, places: &ComputedLayout, curves: &[Curve]) {
    let right = places.width - 8.0;
    for (row, curve) in curves.iter().filter(|curve| curve.upright).enumerate() {
        let x = places.map_x(curve.end.0);
        let fits = x + 7.0 + text_width(&curve.name) <= right;
        let (x, anchor) = if fits { (x + 7.0, TextAnchor::Start) } else { (x - 7.0, TextAnchor::End) };
        let y = places.margin_top + LINE * (row + 1) as f64;
        let length = text_width(&curve.name);
        scene.elements.push(Primitive::Rect {
            x: if fits { x - 2.0 } else { x - length - 2.0 },
            y: y - 13.0,
            width: length + 4.0,
            height: LINE - 1.0,
            fill: Color::from(PAPER.hex()),
            stroke: None,
            stroke_width: None,
            opacity: None,
        });
        scene.elements.push(coloured((x, y), curve, anchor));
    }
}

/// Names of curves in the right margin, each at the height of its end or as near to it as the others leave, with a thin line to the end where the
/// two are apart.
fn name_curves(scene: &mut Scene, places: &ComputedLayout, curves: &[Curve]) {
    let mut named: Vec<(&Curve, f64, f64)> = curves
        .iter()
        .filter(|curve| !curve.upright)
        .map(|curve| (curve, places.map_x(curve.end.0), places.map_y(curve.end.1)))
        .collect();
    named.sort_by(|a, b| a.2.total_cmp(&b.2));
    let wanted: Vec<f64> = named.iter().map(|(_, _, y)| *y).collect();
    let heights = apart(&wanted, places.margin_top, places.height - places.margin_bottom - 4.0);
    let edge = places.width - places.margin_right;
    for ((curve, x, y), height) in named.into_iter().zip(heights) {
        if edge - x > 4.0 || (height - y).abs() > 2.0 {
            scene.elements.push(Primitive::PolyLine {
                points: vec![(x + 3.0, y), (edge + 4.0, height), (edge + 10.0, height)],
                stroke: Color::from(&curve.colour),
                stroke_width: 0.8,
                stroke_dasharray: Some("1 2".to_owned()),
            });
        }
        scene.elements.push(coloured((edge + 14.0, height + 5.0), curve, TextAnchor::Start));
    }
}

fn coloured((x, y): (f64, f64), curve: &Curve, anchor: TextAnchor) -> Primitive {
    Primitive::Text {
        x,
        y,
        content: curve.name.clone(),
        size: LETTERS,
        anchor,
        rotate: None,
        bold: false,
        color: Some(Color::from(&curve.colour)),
    }
}

/// Heights in rising order, moved so that each is a line from the next and all are between the bounds, if there is room for them.
fn apart(wanted: &[f64], lowest: f64, highest: f64) -> Vec<f64> {
    let step = LINE.min((highest - lowest) / wanted.len().max(1) as f64);
    let mut heights = wanted.to_vec();
    let mut least = lowest;
    for height in &mut heights {
        *height = height.max(least);
        least = *height + step;
    }
    let mut most = highest;
    for height in heights.iter_mut().rev() {
        *height = height.min(most);
        most = *height - step;
    }
    heights
}

#[cfg(test)]
mod tests {
    use kuva::plot::LinePlot;
    use kuva::render::layout::Layout;
    use kuva::render::plots::Plot;
    use kuva::render::render::{Primitive, Scene};

    use super::{LINE, WIDEST, apart, cut, draw, framed, text_width};
    use crate::output::palette::PAPER;

    fn chart(curves: &[(&str, Vec<(f64, f64)>)]) -> Scene {
        let curve = |(name, points): &(&str, Vec<(f64, f64)>)| {
            Plot::Line(LinePlot::new().with_data(points.clone()).with_color("#c97b00").with_legend(*name))
        };
        let plots: Vec<Plot> = curves.iter().map(curve).collect();
        let layout =
            framed(Layout::auto_from_plots(&plots), "Hives").with_y_label("combs").with_x_label("weeks");
        draw(plots, layout)
    }

    fn text(scene: &Scene, wanted: &str) -> (f64, f64) {
        let found = scene.elements.iter().find_map(|element| match element {
            Primitive::Text { x, y, content, .. } if content == wanted => Some((*x, *y)),
            _ => None,
        });
        found.unwrap_or_else(|| panic!("no text {wanted:?}"))
    }

    #[test]
    fn names_are_at_the_ends_of_their_curves_and_apart() {
        let high = vec![(0.0, 1.0), (9.0, 10.0)];
        let close = vec![(0.0, 1.0), (9.0, 9.9)];
        let low = vec![(0.0, 1.0), (9.0, 0.0)];
        let scene = chart(&[("low", low), ("close", close), ("high", high)]);
        assert_eq!(scene.background_color, Some(PAPER.hex()));
        let [high, close, low] = ["high", "close", "low"].map(|name| text(&scene, name));
        assert!(close.1 >= high.1 + LINE - 1e-9 && low.1 > close.1 + 100.0, "{high:?} {close:?} {low:?}");
        assert!(high.0 > 850.0, "in the margin: {high:?}");
        let [heading, upward] = ["Hives", "combs"].map(|name| text(&scene, name));
        assert!(heading.0 == upward.0 && heading.1 < upward.1, "{heading:?} {upward:?}");
    }

    #[test]
    fn an_upright_line_has_its_name_beside_its_upper_end() {
        let scene = chart(&[
            ("curve", vec![(0.0, 0.0), (10.0, 5.0)]),
            ("half", vec![(5.0, 0.0), (5.0, 5.0)]),
            ("nearly all", vec![(5.1, 0.0), (5.1, 5.0)]),
        ]);
        let [half, nearly] = ["half", "nearly all"].map(|name| text(&scene, name));
        assert!((400.0..600.0).contains(&half.0) && nearly.1 > half.1, "{half:?} {nearly:?}");
    }

    #[test]
    fn heights_are_apart_and_between_the_bounds() {
        let heights = apart(&[10.0, 11.0, 12.0, 199.0, 200.0], 20.0, 200.0);
        assert_eq!(heights, [20.0, 38.0, 56.0, 182.0, 200.0]);
        let crowd = apart(&vec![50.0; 40], 0.0, 100.0);
        assert!(crowd.windows(2).all(|pair| pair[1] > pair[0]) && crowd[39] <= 100.0);
        assert!(apart(&[], 0.0, 1.0).is_empty());
    }

    #[test]
    fn long_names_are_cut() {
        assert_eq!(cut("short".to_owned()), "short");
        let long = cut("a run with a very long name ".repeat(9));
        assert!(long.ends_with('…') && text_width(&long) <= WIDEST);
    }
}
