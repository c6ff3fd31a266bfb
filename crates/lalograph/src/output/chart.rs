//! Charts as SVG and PNG, drawn with one palette and a font inside the program.

use std::path::Path;

use kuva::plot::LinePlot;
use kuva::render::layout::{Layout, TickFormat};
use kuva::render::plots::Plot;
use kuva::render::render::Scene;
use lalograph_lab::run::records::MetricsRecord;
use lalograph_storage::{Existing, FileSet};
use resvg::tiny_skia::{Pixmap, Transform};
use resvg::usvg::{Options, Tree};

use crate::failure::Failure;
use crate::files;
use crate::output::drawing::{draw, framed};
use crate::output::line::{Axis, drawable, line};
use crate::output::loss_scale::LossScale;
use crate::output::number;
use crate::output::outline::outline_text;
use crate::output::palette::{BRICK, FLOOR, TRAINING, UNIGRAM, VALIDATION};

/// Pixels of a PNG for each unit of its chart.
const PIXELS: f32 = 1.5;

/// A perplexity that a curve is read against. Each has its own colour and dashes.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Level {
    /// The entropy of the text: no model can be better.
    Floor(f64),
    /// A unigram model.
    Unigram(f64),
}

impl Level {
    /// Its line from one step to another.
    fn line(self, [first, last]: [f64; 2]) -> Option<LinePlot> {
        let (perplexity, name, colour) = match self {
            Self::Floor(perplexity) => (perplexity, "floor: the entropy of the text", FLOOR),
            Self::Unigram(perplexity) => (perplexity, "unigram model", UNIGRAM),
        };
        let ends = [first, last].map(|step| (step, perplexity));
        let points = drawable(ends, Axis::Logarithmic, Axis::Logarithmic);
        let line = line(points, colour, &format!("{name} ({})", number::perplexity(perplexity)))?;
        let line = line.with_stroke_width(2.0);
        Some(if let Self::Floor(_) = self { line.with_dashed() } else { line.with_dotted() })
    }
}

/// Perplexity or loss over steps, training and validation, on logarithmic axes, since most is learnt in
/// the first steps, with the levels as dashed lines. `None` if nothing was recorded.
pub(crate) fn learning_curve(
    scale: LossScale,
    title: &str,
    records: &[MetricsRecord],
    levels: &[Level],
    dropout: bool,
) -> Option<Scene> {
    let mut training = Vec::new();
    let mut validation = Vec::new();
    // Of a tuned model, the text of its base.
    let mut old = Vec::new();
    for record in records {
        let step = record.step() as f64;
        match record {
            MetricsRecord::Training { .. } => {
                training.extend(scale.of_training(record).map(|figure| (step, figure)));
            }
            MetricsRecord::Validation { loss, .. } => {
                validation.push((step, scale.figure(*loss)));
                old.extend(record.figure("old_perplexity").map(|figure| (step, figure)));
            }
            MetricsRecord::Test { .. } => {}
        }
    }
    let training = drawable(training, Axis::Logarithmic, Axis::Logarithmic);
    let validation = drawable(validation, Axis::Logarithmic, Axis::Logarithmic);
    let old = drawable(old, Axis::Logarithmic, Axis::Logarithmic);
    let last_step = training.iter().chain(&validation).map(|point| point.0).fold(1.0, f64::max);
    let first_step = training.iter().chain(&validation).map(|point| point.0).fold(last_step, f64::min);
    let figure = scale.name();
    let name = format!("training {figure}{}", if dropout { " (with dropout)" } else { "" });
    let training = line(training, TRAINING, &name);
    let validation =
        line(validation, VALIDATION, &format!("validation {figure}")).map(|line| line.with_stroke_width(3.0));
    let old = line(old, BRICK, "perplexity of the old text");
    let mut plots: Vec<Plot> = [training, validation, old].into_iter().flatten().map(Plot::Line).collect();
    if plots.is_empty() {
        return None;
    }
    // Levels are curves too, so that they are named like them.
    let ends = [first_step, last_step];
    plots.extend(levels.iter().filter_map(|level| level.line(ends)).map(Plot::Line));
    let layout = framed(Layout::auto_from_plots(&plots), title)
        .with_x_label("optimiser step (logarithmic)")
        .with_y_label(if scale == LossScale::Loss {
            "loss per document (logarithmic)"
        } else {
            "perplexity per token (logarithmic)"
        })
        .with_log_x()
        .with_log_y()
        .with_x_tick_format(count_ticks())
        .with_y_tick_format(match scale {
            LossScale::Perplexity => plain_ticks(),
            LossScale::Loss => TickFormat::Custom(std::sync::Arc::new(small)),
        });
    Some(draw(plots, layout))
}

/// Ticks that are counts.
pub(crate) fn count_ticks() -> TickFormat {
    TickFormat::Custom(std::sync::Arc::new(|x| number::count(x.max(0.0).round() as u64)))
}

/// A small number to two figures.
pub(crate) fn small(value: f64) -> String {
    match value {
        0.0 => "0".to_owned(),
        v if v.abs() < 1e-3 => format!("{v:.0e}"),
        v if v.abs() < 0.1 => format!("{v:.4}"),
        v => format!("{v:.2}"),
    }
}

/// Ticks that are perplexities.
pub(crate) fn plain_ticks() -> TickFormat {
    TickFormat::Custom(std::sync::Arc::new(plain))
}

/// A tick of a perplexity axis.
fn plain(value: f64) -> String {
    if value >= 10.0 { number::count(value.round() as u64) } else { format!("{value:.1}") }
}

/// A chart drawn in both forms.
pub(crate) struct Picture {
    /// With letters as outlines.
    pub(crate) svg: String,
    png: Vec<u8>,
}

impl Picture {
    /// Draws a scene.
    pub(crate) fn of(mut scene: Scene) -> Result<Self, Failure> {
        outline_text(&mut scene);
        let svg = scaling(&kuva::backend::svg::SvgBackend::new().render_scene(&scene));
        Ok(Self { png: raster(&svg)?, svg })
    }

    /// Writes both forms, each whole, in the place of older ones.
    pub(crate) fn write_alone(&self, stem: &Path) -> Result<(), Failure> {
        let [svg, png] = files::picture(stem);
        files::write(&svg, self.svg.as_bytes(), Existing::Replace)?;
        files::write(&png, &self.png, Existing::Replace)
    }

    /// Writes it as `stem.svg` and `stem.png`.
    pub(crate) fn write(&self, set: &mut FileSet, stem: &Path) -> Result<(), Failure> {
        let [svg, png] = files::picture(stem);
        set.write(&svg, self.svg.as_bytes())?;
        Ok(set.write(&png, &self.png)?)
    }
}

/// The pixels of a picture without text, as PNG.
fn raster(svg: &str) -> Result<Vec<u8>, Failure> {
    let failed =
        |error: &dyn std::fmt::Display| Failure::work(format!("the picture could not be drawn: {error}"));
    let tree = Tree::from_str(svg, &Options::default()).map_err(|error| failed(&error))?;
    let side = |length: f32| (length * PIXELS).ceil().max(1.0) as u32;
    let mut pixels = Pixmap::new(side(tree.size().width()), side(tree.size().height()))
        .ok_or_else(|| failed(&"it has no size"))?;
    resvg::render(&tree, Transform::from_scale(PIXELS, PIXELS), &mut pixels.as_mut());
    pixels.encode_png().map_err(|error| failed(&error))
}

/// Writes a scene as `stem.svg` and `stem.png`.
pub(crate) fn write_pictures(scene: Scene, set: &mut FileSet, stem: &Path) -> Result<(), Failure> {
    Picture::of(scene)?.write(set, stem)
}

/// A picture that scales as a whole.
fn scaling(svg: &str) -> String {
    let size = |name: &str| {
        let rest = svg.split_once(&format!(" {name}=\""))?.1;
        rest.split_once('"').map(|(size, _)| size)
    };
    match (size("width"), size("height")) {
        (Some(width), Some(height)) => {
            svg.replacen("<svg", &format!("<svg viewBox=\"0 0 {width} {height}\""), 1)
        }
        _ => svg.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use crate::output::loss_scale::LossScale;
    use std::path::Path;

    use kuva::render::render::Scene;
    use lalograph_lab::run::records::{Figures, MetricsRecord};
    use lalograph_storage::Existing;

    use super::{Level, learning_curve, plain, write_pictures};
    use crate::failure::Failure;
    use crate::files;

    fn write(scene: Scene, stem: &Path) -> Result<(), Failure> {
        let mut set = files::begin("test", &files::picture(stem), Existing::Keep)?;
        write_pictures(scene, &mut set, stem)?;
        Ok(set.finish()?)
    }

    fn records() -> Vec<MetricsRecord> {
        let steps = [20u64, 40, 80, 160];
        let training = steps.map(|step| MetricsRecord::Training {
            step,
            epoch: 1.0,
            tokens: step * 100,
            seconds: 1.0,
            loss: (400.0 / step as f64).ln(),
            figures: Figures::of([("perplexity", 400.0 / step as f64)]),
            learning_rate: 0.01,
            gradient_norm: 1.0,
            clipped_gradient_norm: 1.0,
            clipped_share: 0.0,
            tokens_per_second: 1.0,
        });
        let validation = steps.map(|step| MetricsRecord::Validation {
            step,
            epoch: 1.0,
            seconds: 1.0,
            loss: (500.0 / step as f64).ln(),
            figures: Figures::of([("bits_per_byte", 1.0)]),
            best: true,
        });
        training.into_iter().chain(validation).collect()
    }

    #[test]
    fn pictures_are_written_whole_in_both_forms_and_need_no_font() {
        let folder = tempfile::tempdir().unwrap();
        let levels = [Level::Floor(1.6), Level::Unigram(220.0)];
        let stem = folder.path().join("learning");
        let draw = || {
            write(
                learning_curve(LossScale::Perplexity, "Learning", &records(), &levels, true).unwrap(),
                &stem,
            )
        };
        draw().unwrap();
        let svg = std::fs::read_to_string(folder.path().join("learning.svg")).unwrap();
        assert!(svg.contains("<svg") && !svg.contains("<text"), "letters are outlines");
        let png = std::fs::read(folder.path().join("learning.png")).unwrap();
        assert_eq!(&png[..8], b"\x89PNG\r\n\x1a\n");
        let size = |at: usize| u32::from_be_bytes(png[at..at + 4].try_into().unwrap());
        assert!((1000..4000).contains(&size(16)) && (500..2000).contains(&size(20)));
        assert!(draw().is_err(), "a picture that is there stays");
        for colour in [super::TRAINING, super::VALIDATION, super::FLOOR, super::UNIGRAM] {
            assert!(svg.contains(&colour.hex()), "{colour:?}");
        }
    }

    #[test]
    fn a_run_of_one_record_is_drawn_and_one_of_none_is_not() {
        let folder = tempfile::tempdir().unwrap();
        for (name, only) in [("training", 0), ("validation", 4)] {
            let scene =
                learning_curve(LossScale::Perplexity, name, &records()[only..=only], &[], false).unwrap();
            write(scene, &folder.path().join(name)).unwrap();
        }
        assert!(learning_curve(LossScale::Perplexity, "none", &[], &[Level::Floor(2.0)], true).is_none());
    }

    #[test]
    fn numbers_that_no_chart_can_show_are_left_out() {
        let folder = tempfile::tempdir().unwrap();
        let mut records = records();
        for record in &mut records {
            match record {
                MetricsRecord::Training { step, figures, .. } if *step == 40 => {
                    *figures = Figures::of([("perplexity", 1e308)]);
                }
                MetricsRecord::Training { step, .. } if *step == 80 => *step = 0,
                MetricsRecord::Validation { step, loss, .. } if *step == 80 => *loss = 9e300,
                MetricsRecord::Validation { step, .. } if *step == 160 => *step = u64::MAX,
                _ => {}
            }
        }
        let levels = [f64::INFINITY, 0.0, -1.0, 2.0].map(Level::Floor);
        write(
            learning_curve(LossScale::Perplexity, "Learning", &records, &levels, true).unwrap(),
            &folder.path().join("learning"),
        )
        .unwrap();
    }

    #[test]
    fn ticks_read_well() {
        assert_eq!([1.5, 10.0, 12_345.0].map(plain), ["1.5", "10", "12,345"]);
    }
}
