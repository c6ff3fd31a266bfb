//! Charts of a sweep: all settings over parallel axes, each setting's values against the result, and the best so far over time.

use kuva::render::color::Color;
use kuva::render::layout::{Layout, TickFormat};
use kuva::render::plots::Plot;
use kuva::render::render::{Primitive, Scene, TextAnchor};
use lalograph_lab::sweep::figure::Figure;
use lalograph_lab::sweep::space::{Values, Varied};
use lalograph_lab::sweep::spec::SweepSpec;

use crate::output::chart::small;
use crate::output::cut::cut;
use crate::output::drawing::{HEADING, LETTERS, draw, framed, letters};
use crate::output::line::{Axis, Points, dots, drawable, line};
use crate::output::number::{count, percent_of, perplexity};
use crate::output::palette::{ASH, Colour, HONEY, INK, PAPER, QUIET_INK, RULE, TEAL};

/// Settings that are drawn at most, about: the best, and of the others every n-th.
const DRAWN: usize = 300;
/// Values of an axis that are named.
const NAMED: usize = 12;

/// A setting as it is drawn.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Traced {
    /// The place of each of its values, from 0 to 1.
    pub(crate) places: Vec<f64>,
    /// Its mean cost.
    pub(crate) cost: f64,
    /// Whether it came as far as the best.
    pub(crate) at_end: bool,
}

/// The share of the best settings that stand out.
const BEST_SHARE: f64 = 0.1;

/// Costs between which a picture shows settings: from the best to the worst, but for a few far out.
struct Scale {
    figure: Figure,
    best: f64,
    worst: f64,
}

impl Scale {
    fn new(figure: Figure, all: &[Traced]) -> Option<Self> {
        let mut costs: Vec<f64> = all.iter().map(|one| one.cost).filter(|cost| cost.is_finite()).collect();
        costs.sort_by(f64::total_cmp);
        let (&best, &last) = (costs.first()?, costs.last()?);
        // A few that diverged would press all others together.
        let most = costs[(costs.len() * 9 / 10).min(costs.len() - 1)];
        let worst = last.min(best + 1.5 * (most - best).max(0.0)).max(best + 1e-9);
        Some(Self { figure, best, worst })
    }

    /// 0 for the best, 1 for the worst.
    fn place(&self, cost: f64) -> f64 {
        ((cost - self.best) / (self.worst - self.best)).clamp(0.0, 1.0)
    }

    /// The figure at a place.
    fn name(&self, place: f64) -> String {
        shown(self.figure, self.figure.of_cost(self.best + place * (self.worst - self.best)))
    }
}

fn shown(figure: Figure, value: f64) -> String {
    match figure {
        Figure::Perplexity => perplexity(value),
        Figure::Accuracy => percent_of(value),
        _ => format!("{value:.3}"),
    }
}

/// Those that are drawn, the best last so that they lie on top.
fn drawn(all: &[Traced]) -> Vec<(usize, &Traced)> {
    let every = all.len().div_ceil(DRAWN).max(1);
    let best = (all.len() as f64 * BEST_SHARE).ceil() as usize;
    let mut chosen: Vec<(usize, &Traced)> = all
        .iter()
        .enumerate()
        .filter(|(at, one)| one.cost.is_finite() && (*at < best.min(DRAWN) || at.is_multiple_of(every)))
        .collect();
    chosen.reverse();
    chosen
}

/// The colour and width of a setting by its rank.
fn ink(rank: usize, all: usize) -> (Colour, f64) {
    match rank {
        0 => (HONEY, 3.5),
        n if (n as f64) < (all as f64 * BEST_SHARE).ceil() => (TEAL, 1.6),
        _ => (Colour(0xC9, 0xC0, 0xAE), 0.9),
    }
}

fn colour(colour: Colour) -> Color {
    Color::Rgb(colour.0, colour.1, colour.2)
}

fn text(
    scene: &mut Scene,
    place: (f64, f64),
    words: &str,
    size: u32,
    (anchor, bold): (TextAnchor, bool),
    ink: Colour,
) {
    scene.elements.push(letters(place, words.to_owned(), size, (anchor, bold), ink));
}

fn straight(scene: &mut Scene, from: (f64, f64), to: (f64, f64), ink: Colour) {
    scene.elements.push(Primitive::Line {
        x1: from.0,
        y1: from.1,
        x2: to.0,
        y2: to.1,
        stroke: colour(ink),
        stroke_width: 1.0,
        stroke_dasharray: None,
    });
}

fn head(scene: &mut Scene, heading: &str, below: &str) {
    scene.background_color = Some(PAPER.hex());
    text(scene, (20.0, 32.0), heading, HEADING, (TextAnchor::Start, true), INK);
    text(scene, (20.0, 56.0), below, LETTERS, (TextAnchor::Start, false), QUIET_INK);
}

/// The named values of an axis, each with its place.
fn ticks(one: &Varied) -> Vec<(f64, String)> {
    match one.values() {
        Values::Listed(listed) => {
            let every = listed.len().div_ceil(NAMED);
            let named = listed.iter().step_by(every);
            named.map(|value| (one.place(value), cut(value.trim_matches('"'), 16))).collect()
        }
        Values::Range(range) => {
            let between = |share: f64| match range.by_ratio {
                true => range.low * (range.high / range.low).powf(share),
                false => range.low + share * (range.high - range.low),
            };
            let number = |value: f64| match range.whole {
                true => format!("{}", value.round()),
                false => small_number(value),
            };
            [0.0, 0.25, 0.5, 0.75, 1.0].map(|share| (share, number(between(share)))).to_vec()
        }
    }
}

/// A number in as many digits as a tick needs.
fn small_number(value: f64) -> String {
    let digits = 2 - value.abs().max(1e-300).log10().floor() as i32;
    let text = format!("{value:.*}", digits.clamp(0, 12) as usize);
    if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.').to_owned() } else { text }
}

/// All settings, each a line over the axes of what is varied and of the result. `all` are by rank. `None` without any.
pub(crate) fn parallel_axes(spec: &SweepSpec, figure: Figure, all: &[Traced]) -> Option<Scene> {
    const TOP: f64 = 116.0;
    const BOTTOM: f64 = 520.0;
    const LEFT: f64 = 90.0;
    let scale = Scale::new(figure, all)?;
    let axes = spec.varied.len() + 1;
    let width = (150.0 * axes as f64 + 60.0).max(1000.0);
    let gap = (width - LEFT - 110.0) / (axes - 1) as f64;
    let mut scene = Scene::new(width, BOTTOM + 40.0);
    let chosen = drawn(all);
    let of = if chosen.len() < all.len() {
        format!("{} of {} settings", chosen.len(), all.len())
    } else {
        format!("{} settings", all.len())
    };
    let race = if all.iter().all(|one| one.at_end) { "" } else { "; dashed: stopped at an earlier rung" };
    let below = format!(
        "{of}, each a line; honey: the best; teal: the best tenth{race}; results far out are at the bottom"
    );
    head(&mut scene, "Settings and results", &below);
    let at = |axis: usize| LEFT + gap * axis as f64;
    let up = |place: f64| BOTTOM - place * (BOTTOM - TOP);
    for (rank, one) in &chosen {
        let (stroke, stroke_width) = ink(*rank, all.len());
        let mut points: Vec<(f64, f64)> =
            one.places.iter().enumerate().map(|(axis, &place)| (at(axis), up(place))).collect();
        points.push((at(axes - 1), up(1.0 - scale.place(one.cost))));
        scene.elements.push(Primitive::PolyLine {
            points,
            stroke: colour(stroke),
            stroke_width,
            stroke_dasharray: if one.at_end || *rank == 0 { None } else { Some("4 3".to_owned()) },
        });
    }
    let keys: Vec<&str> = spec.varied.iter().map(|one| one.key.as_str()).collect();
    for (axis, one) in spec.varied.iter().enumerate() {
        let x = at(axis);
        straight(&mut scene, (x, TOP), (x, BOTTOM), INK);
        let (section, name) = keys[axis].split_once('.').unwrap_or(("", keys[axis]));
        text(
            &mut scene,
            (x, TOP - 30.0),
            &format!("[{section}]"),
            12,
            (TextAnchor::Middle, false),
            QUIET_INK,
        );
        text(&mut scene, (x, TOP - 14.0), name, LETTERS, (TextAnchor::Middle, true), INK);
        for (place, name) in ticks(one) {
            let y = up(place);
            straight(&mut scene, (x - 4.0, y), (x, y), INK);
            on_paper(&mut scene, (x - 8.0, y + 4.0), &name);
        }
    }
    let x = at(axes - 1);
    straight(&mut scene, (x, TOP), (x, BOTTOM), INK);
    text(&mut scene, (x, TOP - 14.0), figure.name(), LETTERS, (TextAnchor::Middle, true), INK);
    for place in [0.0, 0.25, 0.5, 0.75, 1.0] {
        let y = up(1.0 - place);
        straight(&mut scene, (x, y), (x + 4.0, y), INK);
        text(&mut scene, (x + 8.0, y + 4.0), &scale.name(place), 13, (TextAnchor::Start, false), INK);
    }
    Some(scene)
}

/// The name of a tick to the left of its place, on paper that hides the lines behind it.
fn on_paper(scene: &mut Scene, (x, y): (f64, f64), name: &str) {
    let width = crate::output::outline::width(name, 13.0);
    scene.elements.push(Primitive::Rect {
        x: x - width - 2.0,
        y: y - 12.0,
        width: width + 4.0,
        height: 16.0,
        fill: colour(PAPER),
        stroke: None,
        stroke_width: None,
        opacity: Some(0.85),
    });
    text(scene, (x, y), name, 13, (TextAnchor::End, false), INK);
}

/// The values of each setting against the result, a panel each. `all` are by rank. `None` without any.
pub(crate) fn value_panels(spec: &SweepSpec, figure: Figure, all: &[Traced]) -> Option<Scene> {
    const ACROSS: usize = 3;
    const WIDE: f64 = 330.0;
    const HIGH: f64 = 280.0;
    const TOP: f64 = 84.0;
    let scale = Scale::new(figure, all)?;
    let rows = spec.varied.len().div_ceil(ACROSS);
    let mut scene = Scene::new(WIDE * ACROSS as f64 + 30.0, TOP + HIGH * rows as f64 + 10.0);
    let better = if figure.rises() { "higher is better" } else { "lower is better" };
    let below =
        format!("{}: {better}; a dot is a setting; honey: the best; teal: the best tenth", figure.name());
    head(&mut scene, "Each setting against the result", &below);
    let chosen = drawn(all);
    for (number, one) in spec.varied.iter().enumerate() {
        let left = 74.0 + WIDE * (number % ACROSS) as f64;
        let top = TOP + HIGH * (number / ACROSS) as f64 + 34.0;
        let (right, bottom) = (left + WIDE - 100.0, top + HIGH - 90.0);
        text(&mut scene, (left - 54.0, top - 18.0), &one.key, LETTERS, (TextAnchor::Start, true), INK);
        for place in [0.0, 0.5, 1.0] {
            let y = top + (bottom - top) * if figure.rises() { place } else { 1.0 - place };
            straight(&mut scene, (left, y), (right, y), RULE);
            text(
                &mut scene,
                (left - 10.0, y + 4.0),
                &scale.name(place),
                13,
                (TextAnchor::End, false),
                QUIET_INK,
            );
        }
        let inside = |place: f64| left + 10.0 + place * (right - left - 20.0);
        let named = ticks(one);
        let slanted = named.len() > 4 || named.iter().any(|(_, name)| name.len() > 8);
        for (place, name) in &named {
            let x = inside(*place);
            straight(&mut scene, (x, bottom), (x, bottom + 4.0), QUIET_INK);
            let middle = (TextAnchor::Middle, false);
            let mut words = letters((x, bottom + 20.0), name.clone(), 13, middle, QUIET_INK);
            if let (true, Primitive::Text { x: at, y, anchor, rotate, .. }) = (slanted, &mut words) {
                (*at, *y, *anchor, *rotate) = (x + 4.0, bottom + 14.0, TextAnchor::End, Some(-35.0));
            }
            scene.elements.push(words);
        }
        straight(&mut scene, (left, bottom), (right, bottom), QUIET_INK);
        for (rank, traced) in &chosen {
            let (fill, _) = ink(*rank, all.len());
            let place = scale.place(traced.cost);
            scene.elements.push(Primitive::Circle {
                cx: inside(traced.places[number]),
                cy: top + (bottom - top) * if figure.rises() { place } else { 1.0 - place },
                r: if *rank == 0 { 6.0 } else { 4.0 },
                fill: colour(if fill == HONEY || fill == TEAL { fill } else { ASH }),
                fill_opacity: Some(if *rank == 0 { 1.0 } else { 0.65 }),
                stroke: None,
                stroke_width: None,
            });
        }
    }
    Some(scene)
}

/// Results in the order of time, each with its hours since the first trial began, and the best so far. `None` without any.
pub(crate) fn progress_chart(figure: Figure, results: &[(f64, f64)]) -> Option<Scene> {
    let hours = results.last()?.0;
    let (unit, name) = match hours {
        h if h >= 2.0 => (1.0, "hours"),
        h if h >= 2.0 / 60.0 => (60.0, "minutes"),
        _ => (3600.0, "seconds"),
    };
    let all: Points = results.iter().map(|&(hours, cost)| (hours * unit, figure.of_cost(cost))).collect();
    let mut steps = Points::new();
    let mut best = f64::INFINITY;
    for &(hours_in, cost) in results {
        let at = hours_in * unit;
        if cost < best {
            if best.is_finite() {
                steps.push((at, figure.of_cost(best)));
            }
            best = cost;
            steps.push((at, figure.of_cost(best)));
        }
    }
    steps.push((hours * unit, figure.of_cost(best)));
    let even = |points: Points| drawable(points, Axis::Even, Axis::Even);
    let mut plots: Vec<Plot> = dots(even(all), ASH).map(Plot::Scatter).into_iter().collect();
    plots.extend(line(even(steps), HONEY, "best so far").map(Plot::Line));
    if plots.is_empty() {
        return None;
    }
    // Of perplexities far apart the best would be one line with the axis.
    let costs = results.iter().map(|&(_, cost)| cost);
    let (low, high) = costs.fold((f64::MAX, f64::MIN), |(low, high), cost| (low.min(cost), high.max(cost)));
    let steep = figure == Figure::Perplexity && high - low > 5.0f64.ln();
    let layout = framed(Layout::auto_from_plots(&plots), "The best so far")
        .with_x_label(format!("{name} since the first trial began"))
        .with_y_label(format!("{}{}", figure.name(), if steep { " (logarithmic)" } else { "" }));
    let layout = if steep { layout.with_log_y() } else { layout };
    let layout = layout
        .with_x_tick_format(TickFormat::Custom(std::sync::Arc::new(small_number)))
        .with_y_tick_format(TickFormat::Custom(std::sync::Arc::new(move |value| match figure {
            Figure::Perplexity if value >= 10.0 => count(value.round() as u64),
            Figure::Perplexity => small_number(value),
            Figure::Accuracy => percent_of(value),
            _ => small(value),
        })));
    Some(draw(plots, layout))
}

#[cfg(test)]
mod tests {
    use super::{Traced, parallel_axes, progress_chart, small_number, value_panels};
    use crate::output::chart::Picture;
    use lalograph_lab::Plan;
    use lalograph_lab::sweep::figure::Figure;
    use lalograph_lab::sweep::spec::{SweepSpec, Terms};

    fn spec() -> SweepSpec {
        let vary = ["model.cell=lstm,gru", "training.learning_rate=0.001..0.1", "model.layers=1..3"];
        SweepSpec::new(Plan::default(), &vary.map(str::to_owned), Terms::default(), None).unwrap()
    }

    fn traced(count: usize) -> Vec<Traced> {
        let one = |n: usize| {
            let share = n as f64 / count as f64;
            Traced { places: vec![share, 1.0 - share, 0.5], cost: 2.0 + share, at_end: n.is_multiple_of(2) }
        };
        (0..count).map(one).collect()
    }

    #[test]
    fn any_number_of_settings_is_drawn_and_none_is_not() {
        for count in [1, 7, 10_000] {
            for figure in [Figure::Perplexity, Figure::Accuracy] {
                let scenes = [
                    parallel_axes(&spec(), figure, &traced(count)),
                    value_panels(&spec(), figure, &traced(count)),
                ];
                for scene in scenes {
                    let svg = Picture::of(scene.unwrap()).unwrap().svg;
                    assert!(svg.contains("<svg") && svg.len() < 4_000_000, "{}", svg.len());
                }
            }
        }
        assert!(parallel_axes(&spec(), Figure::Loss, &[]).is_none());
        assert!(value_panels(&spec(), Figure::Loss, &[]).is_none());
        let mut wild = traced(20);
        (wild[18].cost, wild[19].cost) = (1e300, f64::INFINITY);
        Picture::of(parallel_axes(&spec(), Figure::Perplexity, &wild).unwrap()).unwrap();
    }

    #[test]
    fn the_best_so_far_never_gets_worse() {
        let results = [(0.1, 3.0), (0.2, 2.5), (0.3, 2.8), (0.4, 2.0)];
        Picture::of(progress_chart(Figure::Perplexity, &results).unwrap()).unwrap();
        assert!(progress_chart(Figure::Perplexity, &[]).is_none());
    }

    #[test]
    fn ticks_have_the_digits_that_they_need() {
        assert_eq!([0.0031623, 0.5, 128.0, 1000.0].map(small_number), ["0.00316", "0.5", "128", "1000"]);
    }
}
