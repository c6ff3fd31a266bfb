//! Text as outlines, so that a picture looks the same on a machine without fonts.

use std::fmt::Write;

use kuva::render::color::Color;
use kuva::render::render::{PathData, Primitive, Scene, TextAnchor};
use ttf_parser::{Face, GlyphId, OutlineBuilder};

const REGULAR: &[u8] = include_bytes!("../../assets/LalographSans-Regular.ttf");
const BOLD: &[u8] = include_bytes!("../../assets/LalographSans-Bold.ttf");

/// Replaces every text of a scene by the outlines of its letters.
pub(crate) fn outline_text(scene: &mut Scene) {
    let (Ok(regular), Ok(bold)) = (Face::parse(REGULAR, 0), Face::parse(BOLD, 0)) else {
        return;
    };
    for element in &mut scene.elements {
        if let Primitive::Text { x, y, content, size, anchor, rotate, bold: is_bold, color } = element {
            let face = if *is_bold { &bold } else { &regular };
            let line =
                Line { x: *x, y: *y, size: f64::from(*size), anchor: *anchor, turn: rotate.unwrap_or(0.0) };
            let fill = color.clone().unwrap_or(Color::Rgb(0, 0, 0));
            *element = Primitive::Path(Box::new(PathData {
                d: line.outline(face, content),
                fill: Some(fill),
                stroke: Color::None,
                stroke_width: 0.0,
                opacity: None,
                stroke_dasharray: None,
            }));
        }
    }
}

/// Width of a line of text at a size, in the units of the size.
pub(crate) fn width(text: &str, size: f64) -> f64 {
    Face::parse(REGULAR, 0).map_or(0.0, |face| advance(&face, text) * size / f64::from(face.units_per_em()))
}

/// Width of a line of text, in font units.
fn advance(face: &Face<'_>, text: &str) -> f64 {
    let advance = |c: char| glyph(face, c).and_then(|id| face.glyph_hor_advance(id)).map_or(0.0, f64::from);
    text.chars().map(advance).sum()
}

/// The letter of a character, or a question mark.
fn glyph(face: &Face<'_>, c: char) -> Option<GlyphId> {
    face.glyph_index(c).or_else(|| face.glyph_index('?'))
}

/// Position of a line of text.
struct Line {
    x: f64,
    y: f64,
    size: f64,
    anchor: TextAnchor,
    /// Degrees, clockwise, around the anchor.
    turn: f64,
}

impl Line {
    fn outline(&self, face: &Face<'_>, text: &str) -> String {
        let scale = self.size / f64::from(face.units_per_em());
        let width = advance(face, text);
        let (sin, cos) = self.turn.to_radians().sin_cos();
        let mut pen = Pen {
            d: String::new(),
            offset: match self.anchor {
                TextAnchor::Start => 0.0,
                TextAnchor::Middle => -width / 2.0,
                TextAnchor::End => -width,
            },
            scale,
            x: self.x,
            y: self.y,
            sin,
            cos,
        };
        for c in text.chars() {
            if let Some(id) = glyph(face, c) {
                face.outline_glyph(id, &mut pen);
                pen.offset += face.glyph_hor_advance(id).map_or(0.0, f64::from);
            }
        }
        pen.d
    }
}

struct Pen {
    d: String,
    /// Font units from the anchor to the letter.
    offset: f64,
    scale: f64,
    x: f64,
    y: f64,
    sin: f64,
    cos: f64,
}

impl Pen {
    fn push(&mut self, command: char, points: &[(f32, f32)]) {
        self.d.push(command);
        for &(x, y) in points {
            let (dx, dy) = ((f64::from(x) + self.offset) * self.scale, -f64::from(y) * self.scale);
            let (px, py) = (self.x + dx * self.cos - dy * self.sin, self.y + dx * self.sin + dy * self.cos);
            // Writing to a string cannot fail.
            let _ = write!(self.d, "{px:.2} {py:.2} ");
        }
    }
}

impl OutlineBuilder for Pen {
    fn move_to(&mut self, x: f32, y: f32) {
        self.push('M', &[(x, y)]);
    }
    fn line_to(&mut self, x: f32, y: f32) {
        self.push('L', &[(x, y)]);
    }
    fn quad_to(&mut self, x1: f32, y1: f32, x: f32, y: f32) {
        self.push('Q', &[(x1, y1), (x, y)]);
    }
    fn curve_to(&mut self, x1: f32, y1: f32, x2: f32, y2: f32, x: f32, y: f32) {
        self.push('C', &[(x1, y1), (x2, y2), (x, y)]);
    }
    fn close(&mut self) {
        self.d.push('Z');
    }
}

#[cfg(test)]
mod tests {
    use kuva::render::render::{Primitive, Scene, TextAnchor};
    use ttf_parser::Face;

    use super::{Line, REGULAR, outline_text};

    /// All x and y coordinates of a path.
    fn points(d: &str) -> Vec<(f64, f64)> {
        let numbers: Vec<f64> = d
            .split(|c: char| c.is_ascii_alphabetic() || c == ' ')
            .filter(|part| !part.is_empty())
            .map(|part| part.parse().unwrap())
            .collect();
        numbers.chunks(2).map(|pair| (pair[0], pair[1])).collect()
    }

    fn extent(anchor: TextAnchor, turn: f64, text: &str) -> (f64, f64, f64, f64) {
        let face = Face::parse(REGULAR, 0).unwrap();
        let line = Line { x: 100.0, y: 50.0, size: 20.0, anchor, turn };
        let points = points(&line.outline(&face, text));
        let over = |f: fn(f64, f64) -> f64, start, pick: fn(&(f64, f64)) -> f64| {
            points.iter().map(pick).fold(start, f)
        };
        (
            over(f64::min, f64::MAX, |p| p.0),
            over(f64::max, f64::MIN, |p| p.0),
            over(f64::min, f64::MAX, |p| p.1),
            over(f64::max, f64::MIN, |p| p.1),
        )
    }

    #[test]
    fn letters_are_drawn_on_their_baseline_at_their_anchor() {
        let (left, right, top, bottom) = extent(TextAnchor::Start, 0.0, "HIVE");
        assert!((100.0..104.0).contains(&left) && right > left + 30.0, "{left} {right}");
        assert!((bottom - 50.0).abs() < 0.01 && top > 30.0 && top < 40.0, "{top} {bottom}");
        let (left, right, ..) = extent(TextAnchor::Middle, 0.0, "HIVE");
        assert!((f64::midpoint(left, right) - 100.0).abs() < 1.5, "{left} {right}");
        let (_, right, ..) = extent(TextAnchor::End, 0.0, "HIVE");
        assert!((96.0..=100.0).contains(&right), "{right}");
    }

    #[test]
    fn a_turned_line_runs_upwards_and_unknown_letters_are_marked() {
        let (left, right, top, bottom) = extent(TextAnchor::Start, -90.0, "HIVE");
        assert!(right - left < 20.0 && bottom - top > 30.0, "{left} {right} {top} {bottom}");
        let face = Face::parse(REGULAR, 0).unwrap();
        let line = |text: &str| {
            Line { x: 0.0, y: 0.0, size: 10.0, anchor: TextAnchor::Start, turn: 0.0 }.outline(&face, text)
        };
        assert_eq!(line("\u{8702}"), line("?"));
        assert_eq!(line(""), "");
    }

    #[test]
    fn no_text_is_left_in_a_scene() {
        let mut scene = Scene::new(10.0, 10.0);
        scene.elements.push(Primitive::Text {
            x: 1.0,
            y: 1.0,
            content: "bee".into(),
            size: 5,
            anchor: TextAnchor::Start,
            rotate: None,
            bold: true,
            color: None,
        });
        outline_text(&mut scene);
        assert!(matches!(&scene.elements[..], [Primitive::Path(path)] if path.d.starts_with('M')));
    }
}
