//! Small curves in text: dots of Braille patterns, two columns and four rows to a character.

use anstyle::Style;

use crate::output::number::count;
use crate::output::palette::{ASH, TRAINING, VALIDATION};

/// A field of dots.
struct Dots {
    width: usize,
    cells: Vec<u8>,
}

impl Dots {
    fn new(width: usize, height: usize) -> Self {
        Self { width, cells: vec![0; width * height] }
    }

    fn rows(&self) -> usize {
        self.cells.len() / self.width.max(1) * 4
    }

    /// Sets the dot at a column and a row from the top.
    fn set(&mut self, x: usize, y: usize) {
        // The bits of U+2800, by column and row.
        const BITS: [[u8; 4]; 2] = [[0x01, 0x02, 0x04, 0x40], [0x08, 0x10, 0x20, 0x80]];
        if let Some(cell) = self.cells.get_mut(y / 4 * self.width + x / 2) {
            *cell |= BITS[x % 2][y % 4];
        }
    }

    /// Joins two dots.
    fn line(&mut self, (x0, y0): (usize, usize), (x1, y1): (usize, usize)) {
        let steps = x1.abs_diff(x0).max(y1.abs_diff(y0)).max(1);
        let between = |a: usize, b: usize, at: usize| {
            let share = at as f64 / steps as f64;
            (a as f64 + (b as f64 - a as f64) * share).round() as usize
        };
        for at in 0..=steps {
            self.set(between(x0, x1, at), between(y0, y1, at));
        }
    }

    fn character(&self, x: usize, y: usize) -> char {
        match self.cells[y * self.width + x] {
            0 => ' ',
            bits => char::from_u32(0x2800 + u32::from(bits)).unwrap_or(' '),
        }
    }
}

/// One character of a drawn curve.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Mark {
    /// Nothing.
    Empty,
    /// A piece of the line.
    Line(char),
    /// One of the points that are marked.
    Point,
}

impl Mark {
    fn character(self) -> char {
        match self {
            Self::Empty => ' ',
            Self::Line(dots) => dots,
            Self::Point => POINT,
        }
    }
}

/// A curve drawn into characters.
#[derive(Debug, Clone, PartialEq)]
struct Curve {
    /// Rows from the top.
    rows: Vec<Vec<Mark>>,
    /// Label at the top.
    highest: f64,
    /// Label at the bottom.
    lowest: f64,
    /// Label at the left.
    first: f64,
    /// Label at the right.
    last: f64,
}

/// The figure that a curve shows.
#[derive(Clone, Copy)]
pub(crate) struct Heights {
    /// Its name.
    pub(crate) name: &'static str,
    /// A value of it in words.
    pub(crate) label: fn(f64) -> String,
    /// Whether the height is in proportion to its logarithm.
    pub(crate) logarithmic: bool,
}

/// Draws `line` as a line and `points` as marks over it, both as (x, y) with y above 0 and the height in proportion to it, or to its logarithm.
/// `None` where there is nothing to draw or no room.
fn draw(
    line: &[(f64, f64)],
    points: &[(f64, f64)],
    (width, height): (usize, usize),
    logarithmic: bool,
) -> Option<Curve> {
    let usable = |&(_, y): &(f64, f64)| y > 0.0 && y.is_finite();
    let line: Vec<(f64, f64)> = line.iter().copied().filter(usable).collect();
    let points: Vec<(f64, f64)> = points.iter().copied().filter(usable).collect();
    let all = || line.iter().chain(&points);
    if all().next().is_none() || width < 4 || height < 2 {
        return None;
    }
    let least = |of: fn(&(f64, f64)) -> f64| all().map(of).fold(f64::INFINITY, f64::min);
    let most = |of: fn(&(f64, f64)) -> f64| all().map(of).fold(f64::NEG_INFINITY, f64::max);
    let (first, last) = (least(|p| p.0), most(|p| p.0));
    let (lowest, highest) = (least(|p| p.1), most(|p| p.1));
    let mut dots = Dots::new(width, height);
    let (columns, rows) = (width * 2, dots.rows());
    let place = |(x, y): (f64, f64)| {
        let across = if last > first { (x - first) / (last - first) } else { 0.0 };
        let up = match logarithmic {
            _ if highest <= lowest => 0.0,
            true => (y / lowest).ln() / (highest / lowest).ln(),
            false => (y - lowest) / (highest - lowest),
        };
        let at = |share: f64, count: usize| (share * (count - 1) as f64).round() as usize;
        (at(across, columns), rows - 1 - at(up, rows))
    };
    for pair in line.windows(2) {
        dots.line(place(pair[0]), place(pair[1]));
    }
    if let [only] = line[..] {
        let (x, y) = place(only);
        dots.set(x, y);
    }
    let mark = |x: usize, y: usize| match dots.character(x, y) {
        ' ' => Mark::Empty,
        dots => Mark::Line(dots),
    };
    let mut drawn: Vec<Vec<Mark>> = (0..height).map(|y| (0..width).map(|x| mark(x, y)).collect()).collect();
    for point in points {
        let (x, y) = place(point);
        drawn[y / 4][x / 2] = Mark::Point;
    }
    Some(Curve { rows: drawn, highest, lowest, first, last })
}

/// Columns of the labels before a curve.
const LABELS: usize = 12;

/// A curve with key, labels and axis, as lines of at most `width` columns and `height` rows in all; `paint` colours. The line is
/// training, the points are validation; `step_of` gives back the step of a place on the x axis.
pub(crate) fn curve(
    heights: Heights,
    training: &[(f64, f64)],
    validation: &[(f64, f64)],
    (width, height): (usize, usize),
    step_of: fn(f64) -> f64,
    paint: &dyn Fn(Style, &str) -> String,
) -> Vec<String> {
    let size = (width.saturating_sub(LABELS), height.saturating_sub(2));
    let Some(curve) = draw(training, validation, size, heights.logarithmic) else {
        return Vec::new();
    };
    let (line, point) =
        (paint(TRAINING.style(), "\u{2812}\u{2812}"), paint(VALIDATION.style().bold(), &POINT.to_string()));
    let mut lines = vec![format!("  {}: {line} training {point} validation", heights.name)];
    let last = curve.rows.len() - 1;
    for (row, marks) in curve.rows.iter().enumerate() {
        let label = match row {
            0 => (heights.label)(curve.highest),
            _ if row == last => (heights.label)(curve.lowest),
            _ => String::new(),
        };
        // Pieces of one colour together: each change of colour costs bytes.
        let pieces = marks.chunk_by(|a, b| (*a == Mark::Point) == (*b == Mark::Point)).map(|piece| {
            let text: String = piece.iter().map(|mark| mark.character()).collect();
            match piece.first() {
                Some(Mark::Point) => paint(VALIDATION.style().bold(), &text),
                _ => {
                    paint(TRAINING.style(), text.trim_end()) + &" ".repeat(text.len() - text.trim_end().len())
                }
            }
        });
        let drawn: String = pieces.collect();
        let axis = if row == last { "\u{2514}" } else { "\u{2502}" };
        lines.push(format!("{label:>10} {}{drawn}", paint(ASH.style(), axis)));
    }
    let step = |place: f64| count(step_of(place).round() as u64);
    let (first, end) = (step(curve.first), step(curve.last));
    let gap = curve.rows[0].len().saturating_sub("step ".len() + first.len() + end.len());
    let axis = format!("{}step {first}{}{end}", " ".repeat(LABELS), " ".repeat(gap.max(1)));
    lines.push(paint(ASH.style(), &axis));
    lines
}

const POINT: char = '\u{25c6}';

#[cfg(test)]
mod tests {
    use super::{Mark, draw};

    fn text(line: &[(f64, f64)], points: &[(f64, f64)], width: usize, height: usize) -> Vec<String> {
        let curve = draw(line, points, (width, height), true).unwrap();
        let character = |mark: &Mark| match mark {
            Mark::Empty => ' ',
            Mark::Line(dots) => *dots,
            Mark::Point => '*',
        };
        curve.rows.iter().map(|row| row.iter().map(character).collect()).collect()
    }

    #[test]
    fn a_falling_line_goes_from_one_corner_to_the_other() {
        // Evenly on a logarithmic scale: one dot down for each dot across.
        let rows = text(&[(0.0, 100.0), (7.0, 1.0)], &[], 4, 2);
        assert_eq!(rows, ["\u{2811}\u{2884}  ", "  \u{2811}\u{2884}"]);
    }

    #[test]
    fn points_are_drawn_over_the_line_and_the_ends_labelled() {
        let curve = draw(&[(1.0, 50.0), (9.0, 5.0)], &[(5.0, 20.0), (9.0, 4.0)], (10, 3), true).unwrap();
        assert_eq!((curve.first, curve.last, curve.lowest, curve.highest), (1.0, 9.0, 4.0, 50.0));
        let marks = curve.rows.iter().flatten().filter(|mark| **mark == Mark::Point).count();
        assert_eq!(marks, 2);
        assert_eq!(curve.rows[2][9], Mark::Point);
        assert!(curve.rows.iter().all(|row| row.len() == 10));
    }

    #[test]
    fn values_that_cannot_be_drawn_are_omitted() {
        assert!(draw(&[], &[], (10, 3), true).is_none());
        assert!(draw(&[(1.0, f64::NAN), (2.0, 0.0), (3.0, f64::INFINITY)], &[], (10, 3), true).is_none());
        assert!(draw(&[(1.0, 2.0)], &[], (3, 3), true).is_none());
        assert!(draw(&[(1.0, 2.0)], &[], (10, 1), true).is_none());
        // A level line, and a single point, have no height.
        assert!(draw(&[(1.0, 2.0), (2.0, 2.0)], &[], (10, 3), true).is_some());
        assert!(draw(&[(1.0, 2.0)], &[], (10, 3), true).is_some());
    }
}
