//! Charts of a classifier's decisions: confusion, curves over thresholds, calibration, confidence.

use kuva::plot::BarPlot;
use kuva::render::color::Color;
use kuva::render::layout::{Layout, TickFormat};
use kuva::render::plots::Plot;
use kuva::render::render::{Primitive, Scene, TextAnchor};
use lalograph_lab::measure::curves::{CurvePoints, precision_recall_curve, roc_curve};
use lalograph_lab::measure::decisions::Decisions;

use crate::output::chart::count_ticks;
use crate::output::cut::cut;
use crate::output::drawing::{HEADING, LETTERS, draw, framed, letters};
use crate::output::line::{Axis, dots, drawable, line};
use crate::output::number::count;
use crate::output::outline::width;
use crate::output::palette::{ASH, BRICK, Colour, HONEY, INK, PAPER, PLUM, QUIET_INK, TEAL};

/// Classes of a matrix, at most.
const MATRIX: usize = 20;
/// Classes that have a curve, at most.
const CURVES: usize = 8;
/// Bars of confidence.
const BARS: usize = 10;

/// The charts with the names of their files.
pub(crate) fn decision_charts(found: &Decisions, classes: &[String]) -> Vec<(&'static str, Scene)> {
    let mut charts = vec![("confusion", matrix(found, classes))];
    charts.extend(curves(found, classes, &ROC).map(|scene| ("roc", scene)));
    charts.extend(curves(found, classes, &PRECISION_RECALL).map(|scene| ("precision-recall", scene)));
    charts.extend(reliability(found).map(|scene| ("reliability", scene)));
    charts.push(("confidence", confidence(found)));
    charts
}

/// Side of a cell of the matrix.
const CELL: f64 = 58.0;

/// Documents by actual class (rows) and predicted class (columns), each row in the colour of its shares.
fn matrix(found: &Decisions, classes: &[String]) -> Scene {
    let counts = found.confusion();
    let mut shown: Vec<usize> = (0..classes.len()).collect();
    let documents = |class: usize| counts[class].iter().sum::<u64>();
    shown.sort_by_key(|&class| std::cmp::Reverse(documents(class)));
    shown.truncate(MATRIX);
    shown.sort_unstable();
    let names: Vec<String> = shown.iter().map(|&class| cut(&classes[class], 22)).collect();
    let name_width = names.iter().map(|name| width(name, f64::from(LETTERS))).fold(60.0, f64::max);
    // Names above columns that are wider than a cell are written upwards.
    let upright = name_width > CELL - 8.0;
    let cell = if upright { CELL } else { CELL.max(name_width + 14.0) };
    let (left, top) = (name_width + 120.0, if upright { 104.0 + name_width } else { 112.0 });
    let side = cell * shown.len() as f64;
    let mut scene = Scene::new((left + side + 40.0).max(1000.0), top + CELL * shown.len() as f64 + 40.0);
    scene.background_color = Some(PAPER.hex());
    let (start, middle, end) = (TextAnchor::Start, TextAnchor::Middle, TextAnchor::End);
    let title = match classes.len() - shown.len() {
        0 => "Confusion".to_owned(),
        more => format!("Confusion ({} smaller classes not shown)", count(more as u64)),
    };
    scene.elements.push(letters((20.0, 32.0), title, HEADING, (start, true), INK));
    let what = "documents by actual class (rows) and predicted class (columns); colour: share of the row";
    scene.elements.push(letters((20.0, 56.0), what.to_owned(), LETTERS, (start, false), QUIET_INK));
    for (row, (&actual, name)) in shown.iter().zip(&names).enumerate() {
        let y = top + CELL * row as f64;
        let middle_of_row = y + CELL / 2.0 + 5.0;
        scene.elements.push(letters((left - 10.0, middle_of_row), name.clone(), LETTERS, (end, false), INK));
        let across = left + cell * (row as f64 + 0.5);
        let mut above = letters((across, top - 10.0), name.clone(), LETTERS, (middle, false), INK);
        if let (true, Primitive::Text { x, anchor, rotate, .. }) = (upright, &mut above) {
            (*x, *anchor, *rotate) = (across + 5.0, TextAnchor::Start, Some(-90.0));
        }
        scene.elements.push(above);
        let all = documents(actual).max(1);
        for (column, &predicted) in shown.iter().enumerate() {
            let n = counts[actual][predicted];
            let share = n as f64 / all as f64;
            let colour = if actual == predicted { TEAL } else { BRICK };
            let x = left + cell * column as f64;
            scene.elements.push(Primitive::Rect {
                x: x + 1.0,
                y: y + 1.0,
                width: cell - 2.0,
                height: CELL - 2.0,
                fill: Color::from(mixed(colour, share).hex()),
                stroke: None,
                stroke_width: None,
                opacity: None,
            });
            let ink = if share > 0.5 { PAPER } else { INK };
            let place = (x + cell / 2.0, y + CELL / 2.0 + 5.0);
            scene.elements.push(letters(place, count(n), LETTERS, (middle, false), ink));
        }
    }
    scene
}

/// A colour on paper: the paper's at 0, the colour at 1.
fn mixed(colour: Colour, share: f64) -> Colour {
    let part = |from: u8, to: u8| (f64::from(from) + share * (f64::from(to) - f64::from(from))).round() as u8;
    Colour(part(0xF1, colour.0), part(0xEC, colour.1), part(0xE0, colour.2))
}

/// A kind of curve over the thresholds of a class.
struct CurveKind {
    title: &'static str,
    across: &'static str,
    up: &'static str,
    points: fn(&[(f64, bool)]) -> Option<CurvePoints>,
    area: fn(&lalograph_lab::measure::decisions::ClassFigures) -> Option<f64>,
    /// The curve of chance: the diagonal, or none.
    diagonal: bool,
}

const ROC: CurveKind = CurveKind {
    title: "ROC curves",
    across: "share of the other documents above the threshold",
    up: "share of the class above the threshold (recall)",
    points: roc_curve,
    area: |figures| figures.roc_area,
    diagonal: true,
};

const PRECISION_RECALL: CurveKind = CurveKind {
    title: "Precision and recall",
    across: "recall",
    up: "precision",
    points: precision_recall_curve,
    area: |figures| figures.precision_recall_area,
    diagonal: false,
};

/// The curves of each class against the rest; of two classes, of the second.
fn curves(found: &Decisions, classes: &[String], kind: &CurveKind) -> Option<Scene> {
    let figures = found.by_class();
    let mut shown: Vec<usize> = if classes.len() == 2 { vec![1] } else { (0..classes.len()).collect() };
    shown.sort_by_key(|&class| std::cmp::Reverse(figures[class].documents));
    let more = shown.len().saturating_sub(CURVES);
    shown.truncate(CURVES);
    let colours = [TEAL, HONEY, PLUM, BRICK, ASH];
    let mut plots = Vec::new();
    if kind.diagonal {
        plots.extend(line(vec![(0.0, 0.0), (1.0, 1.0)], ASH, "chance").map(|l| Plot::Line(l.with_dotted())));
    }
    for (index, &class) in shown.iter().enumerate() {
        let Some(points) = (kind.points)(&found.ranking(class)) else { continue };
        let area = (kind.area)(&figures[class]).unwrap_or(0.0);
        let name = format!("{} (area {area:.3})", cut(&classes[class], 24));
        let Some(line) = line(stairs(points), colours[index % colours.len()], &name) else { continue };
        plots.push(Plot::Line(match index / colours.len() {
            0 => line,
            _ => line.with_dashed(),
        }));
    }
    let title = match more {
        0 => format!("{}, each class against the rest", kind.title),
        more => {
            format!(
                "{}, each class against the rest ({} smaller classes not shown)",
                kind.title,
                count(more as u64)
            )
        }
    };
    let title = if classes.len() == 2 { kind.title.to_owned() } else { title };
    (plots.len() > usize::from(kind.diagonal)).then(|| {
        let layout = framed(Layout::auto_from_plots(&plots), &title)
            .with_x_axis_min(0.0)
            .with_x_axis_max(1.0)
            .with_y_axis_min(0.0)
            .with_y_axis_max(1.0)
            .with_x_label(kind.across)
            .with_y_label(kind.up)
            .with_x_tick_format(share_ticks())
            .with_y_tick_format(share_ticks());
        draw(plots, layout)
    })
}

/// A curve as it is: level between thresholds, and upright where a threshold takes in documents. Long curves are thinned.
fn stairs(points: CurvePoints) -> CurvePoints {
    const MOST: usize = 600;
    let every = points.len().div_ceil(MOST).max(1);
    let last = points.len().saturating_sub(1);
    let kept = points.into_iter().enumerate().filter(|(at, _)| at % every == 0 || *at == last);
    drawable(kept.map(|(_, point)| point), Axis::Even, Axis::Even)
}

/// Shares as percentages.
fn share_ticks() -> TickFormat {
    TickFormat::Custom(std::sync::Arc::new(|share| format!("{:.0} %", 100.0 * share)))
}

/// Accuracy over confidence, in groups of equal size.
fn reliability(found: &Decisions) -> Option<Scene> {
    let groups = found.confidence_groups(BARS);
    let points: CurvePoints = groups.iter().map(|group| (group.confidence, group.accuracy)).collect();
    let lowest = points.iter().map(|(x, y)| x.min(*y)).fold(1.0, f64::min);
    let ideal = line(vec![(lowest, lowest), (1.0, 1.0)], ASH, "as often right as sure")?.with_dotted();
    let name = format!("calibration error {:.1} %", 100.0 * found.calibration_error());
    let mut plots = vec![Plot::Line(ideal), Plot::Line(line(points.clone(), TEAL, &name)?)];
    plots.extend(dots(points, TEAL).map(Plot::Scatter));
    let layout = framed(Layout::auto_from_plots(&plots), "Confidence and accuracy")
        .with_x_label(format!("mean confidence of a group ({} groups of equal size)", groups.len()))
        .with_y_label("accuracy of the group")
        .with_x_tick_format(share_ticks())
        .with_y_tick_format(share_ticks());
    Some(draw(plots, layout))
}

/// Documents by confidence, right and wrong ones apart.
fn confidence(found: &Decisions) -> Scene {
    let lowest = 1.0 / found.classes() as f64;
    let wide = (1.0 - lowest) / BARS as f64;
    let mut counts = [[0u64; 2]; BARS];
    for document in 0..found.count() {
        let bar = ((found.confidence(document) - lowest) / wide).max(0.0) as usize;
        counts[bar.min(BARS - 1)][usize::from(found.predicted(document) != found.truth(document))] += 1;
    }
    let mut bars = BarPlot::new().with_stacked();
    for (index, [right, wrong]) in counts.into_iter().enumerate() {
        let from = 100.0 * (lowest + wide * index as f64);
        let label = format!("{from:.0}-{:.0} %", from + 100.0 * wide);
        bars = bars.with_group(label, vec![(right as f64, TEAL.hex()), (wrong as f64, BRICK.hex())]);
    }
    let plots = vec![Plot::Bar(bars)];
    let wrong = found.count() as u64 - found.right();
    let title = format!("Confidence: {} right (teal), {} wrong (brick)", count(found.right()), count(wrong));
    let layout = framed(Layout::auto_from_plots(&plots), &title)
        .with_x_label("probability of the predicted class")
        .with_y_label("documents")
        .with_y_tick_format(count_ticks());
    draw(plots, layout)
}

/// Tokens with their effects or weights, the classes one below the other; none if there are no tokens.
pub(crate) fn token_chart(title: &str, by_class: &[(&str, Vec<(String, f64)>)]) -> Option<Scene> {
    let shown = &by_class[..by_class.len().min(CURVES)];
    let colours = [TEAL, HONEY, PLUM, BRICK, ASH];
    let mut bars = Vec::new();
    for (index, (class, tokens)) in shown.iter().enumerate() {
        let colour = colours[index % colours.len()].hex();
        bars.extend(tokens.iter().enumerate().map(|(at, (token, effect))| {
            // The class comes before its first token.
            let label =
                if at == 0 { format!("{}:  {}", cut(class, 24), cut(token, 24)) } else { cut(token, 24) };
            (label, *effect, colour.clone())
        }));
    }
    if bars.is_empty() {
        return None;
    }
    let height = 150.0 + 20.0 * bars.len() as f64;
    // Horizontal bars are drawn from the bottom up.
    bars.reverse();
    let plots = vec![Plot::Bar(BarPlot::new().with_colored_bars(bars).with_horizontal(true))];
    let layout = framed(Layout::auto_from_plots(&plots), title)
        .with_height(height)
        .with_x_label("effect or weight")
        .with_x_tick_format(TickFormat::Custom(std::sync::Arc::new(|value| format!("{value:.1}"))));
    Some(draw(plots, layout))
}

#[cfg(test)]
mod tests {
    use lalograph_lab::measure::decisions::Decisions;

    use super::decision_charts;
    use crate::output::chart::Picture;

    fn names(found: &Decisions, classes: usize) -> Vec<&'static str> {
        let classes: Vec<String> = (0..classes).map(|class| format!("class {class} & <b>")).collect();
        let charts = decision_charts(found, &classes);
        let names = charts.iter().map(|(name, _)| *name).collect();
        for (name, scene) in &charts {
            assert!(scene.elements.len() > 10, "{name}");
        }
        names
    }

    #[test]
    fn every_chart_is_drawn_for_few_and_for_many_classes() {
        let all = ["confusion", "roc", "precision-recall", "reliability", "confidence"];
        for classes in [2usize, 3, 40] {
            let truths: Vec<u32> = (0..200).map(|i| i % classes as u32).collect();
            let logs = (0..200u32).flat_map(|document| {
                let raw: Vec<f64> = (0..classes)
                    .map(|class| f64::from((document * 7 + class as u32 * 13) % 11 + 1))
                    .collect();
                let sum: f64 = raw.iter().sum();
                raw.into_iter().map(move |value| (value / sum).ln())
            });
            assert_eq!(names(&Decisions::new(classes, truths, logs.collect()), classes), all);
        }
        let few = Decisions::new(2, vec![0, 1], [0.9, 0.1, 0.4, 0.6].map(f64::ln).to_vec());
        let (_, scene) = decision_charts(&few, &["calm".into(), "wild".into()]).remove(0);
        assert!(Picture::of(scene).unwrap().svg.contains("<svg"));
        // One document: no curve has two sides.
        let one = Decisions::new(2, vec![0], vec![0.0, f64::NEG_INFINITY]);
        assert_eq!(names(&one, 2), ["confusion", "reliability", "confidence"]);
    }
}
