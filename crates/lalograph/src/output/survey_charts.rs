//! The pictures of a survey: lengths, classes, ranks.

use kuva::plot::{BarPlot, Histogram};
use kuva::render::layout::Layout;
use kuva::render::plots::Plot;
use kuva::render::render::Scene;
use lalograph_text::survey::Survey;

use crate::output::chart::count_ticks;
use crate::output::drawing::{draw, framed};
use crate::output::line::{Axis, Points, drawable, line};
use crate::output::number::count;
use crate::output::palette::{ASH, HONEY, PLUM, TEAL};

/// Bars of the length histogram, about.
const BARS: u64 = 40;
/// Classes that get a bar.
const CLASSES: usize = 20;

/// The pictures with the names of their files.
pub(crate) fn survey_charts(survey: &Survey) -> Vec<(&'static str, Scene)> {
    let mut charts = vec![("lengths", lengths(survey))];
    if !survey.classes.is_empty() {
        charts.push(("classes", classes(survey)));
    }
    charts.extend(ranks(survey).map(|scene| ("ranks", scene)));
    charts
}

/// Chart of document lengths, with the lengths that keep most documents whole.
fn lengths(survey: &Survey) -> Scene {
    let of = &survey.lengths;
    // A few very long documents would press all others against the axis.
    let reach = (of.percentile_99_words * 3 / 2)
        .clamp(of.minimum_words + 1, of.maximum_words.max(of.minimum_words + 1));
    let width = (reach - of.minimum_words).div_ceil(BARS).max(1);
    let bars = (reach - of.minimum_words) / width + 1;
    let mut counts = vec![0.0; bars as usize];
    let mut beyond = 0;
    for (&length, &documents) in &survey.length_counts {
        match counts.get_mut(((length - of.minimum_words) / width) as usize) {
            Some(bar) => *bar += documents as f64,
            None => beyond += documents,
        }
    }
    let edges = (0..=bars).map(|bar| (of.minimum_words + bar * width) as f64 - 0.5).collect();
    let tallest = counts.iter().copied().fold(1.0, f64::max);
    let histogram = Histogram::from_bins(edges, counts).with_color(HONEY.hex());
    let mut plots = vec![Plot::Histogram(histogram)];
    for (share, length, colour, dashes) in [
        (90, of.percentile_90_words, TEAL, 0),
        (95, of.percentile_95_words, PLUM, 1),
        (99, of.percentile_99_words, ASH, 2),
    ] {
        let at = length as f64 + 0.5;
        let ends = drawable([(at, 0.0), (at, tallest * 1.03)], Axis::Even, Axis::Even);
        let Some(line) = line(ends, colour, &format!("{share} % of documents up to {}", count(length)))
        else {
            continue;
        };
        plots.push(Plot::Line(match dashes {
            0 => line,
            1 => line.with_dashed(),
            _ => line.with_dotted(),
        }));
    }
    let title = match beyond {
        0 => "Lengths of documents".to_owned(),
        beyond => format!("Lengths of documents ({} longer ones not shown)", count(beyond)),
    };
    let layout = framed(Layout::auto_from_plots(&plots), &title)
        .with_x_label("length in words and punctuation marks")
        .with_y_label("documents")
        .with_x_tick_format(count_ticks())
        .with_y_tick_format(count_ticks());
    draw(plots, layout)
}

/// Chart of documents by class, the largest on top.
fn classes(survey: &Survey) -> Scene {
    // Horizontal bars are drawn from the bottom up.
    let shown = survey.classes.iter().take(CLASSES).rev();
    let bars: Vec<(String, f64)> = shown
        .map(|class| {
            let share = 100.0 * class.documents as f64 / survey.documents.max(1) as f64;
            (format!("{} ({share:.1} %)", class.label), class.documents as f64)
        })
        .collect();
    let title = match survey.classes.len().saturating_sub(CLASSES) {
        0 => "Classes".to_owned(),
        more => format!("The {CLASSES} largest of {} classes", count((more + CLASSES) as u64)),
    };
    let plots = vec![Plot::Bar(BarPlot::new().with_bars(bars).with_color(HONEY.hex()).with_horizontal(true))];
    let layout = framed(Layout::auto_from_plots(&plots), &title)
        .with_x_label("documents")
        .with_x_tick_format(count_ticks());
    draw(plots, layout)
}

/// Chart of word frequency by rank, and of the text that the words up to it cover.
fn ranks(survey: &Survey) -> Option<Scene> {
    let counts = survey.rank_frequency.iter().map(|point| (point.rank as f64, point.count as f64));
    let most_frequent = survey.rank_frequency.first().map_or(1.0, |point| point.count as f64);
    let last = survey.rank_frequency.last().map_or(1.0, |point| point.rank as f64);
    let ideal = [(1.0, most_frequent), (last.min(most_frequent).max(1.0), (most_frequent / last).max(1.0))];
    let place = |points: Points| drawable(points, Axis::Logarithmic, Axis::Logarithmic);
    let counted = line(place(counts.collect()), HONEY, "this corpus")?;
    let ideal = line(place(ideal.to_vec()), ASH, "count proportional to 1 / rank")?.with_dashed();
    let plots = vec![Plot::Line(counted), Plot::Line(ideal)];
    let layout = framed(Layout::auto_from_plots(&plots), "Words by rank")
        .with_x_label("rank (logarithmic)")
        .with_y_label("count (logarithmic)")
        .with_log_x()
        .with_log_y()
        .with_x_tick_format(count_ticks())
        .with_y_tick_format(count_ticks());
    Some(draw(plots, layout))
}
