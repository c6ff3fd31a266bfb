//! Words in a plane, to be pointed at.

use super::parts::{page, text};

/// Size of the map, in units of its own.
const WIDTH: f64 = 1080.0;
const HEIGHT: f64 = 720.0;
const MARGIN: f64 = 40.0;

/// A page with the words of `source` at their places; pointing at one shows what is `near` it. `shares` are those of the spread along the axes, if they are known.
pub(crate) fn map_page(
    source: &str,
    words: &[&str],
    points: &[[f64; 2]],
    near: &[Vec<(String, f32)>],
    shares: Option<[f64; 2]>,
) -> String {
    let range = |axis: usize| {
        let values = points.iter().map(|point| point[axis]);
        let low = values.clone().fold(f64::INFINITY, f64::min);
        (low, values.fold(f64::NEG_INFINITY, f64::max).max(low + 1e-9))
    };
    let ranges = [range(0), range(1)];
    let place = |point: &[f64; 2]| {
        let share = |axis: usize| (point[axis] - ranges[axis].0) / (ranges[axis].1 - ranges[axis].0);
        // Room for the last word on the right.
        let x = MARGIN + share(0) * (WIDTH - 3.0 * MARGIN);
        (x, HEIGHT - MARGIN - share(1) * (HEIGHT - 2.0 * MARGIN))
    };
    let places: Vec<(f64, f64)> = points.iter().map(place).collect();
    let labels = labels(words, &places);
    let marks: String = words
        .iter()
        .zip(places.iter().zip(&labels))
        .zip(near)
        .map(|((word, (&(x, y), label)), near)| {
            let near: Vec<String> = near.iter().map(|(other, cosine)| format!("{other} {cosine:.2}")).collect();
            let title = text(&format!("{word}\nnear: {}", near.join(", ")));
            let word = text(word);
            format!(
                "<g class=\"word\" tabindex=\"0\"><title>{title}</title><circle cx=\"{x:.1}\" cy=\"{y:.1}\" r=\"3\"/>\
                 <text x=\"{:.1}\" y=\"{:.1}\" text-anchor=\"{}\">{word}</text></g>\n",
                label.x, label.y, label.anchor
            )
        })
        .collect();
    let axes = match shares {
        Some([first, second]) => format!(
            "Across: the first principal direction, {:.0} % of the spread; up: the second, {:.0} %.",
            100.0 * first,
            100.0 * second
        ),
        None => "t-SNE keeps neighbours together; directions and long distances have no meaning.".to_owned(),
    };
    let body = format!(
        "<h1>Words by their vectors</h1>\n<p class=\"lead\">{}. {axes} Point at a word to see its neighbours.</p>\n\
         <div class=\"scroll\" tabindex=\"0\"><svg class=\"map\" viewBox=\"0 0 {WIDTH} {HEIGHT}\" role=\"img\" aria-label=\"Words by their vectors\">\n{marks}</svg></div>",
        text(source)
    );
    page("Words by their vectors", &body)
}

/// Position of a word's label.
struct Label {
    x: f64,
    y: f64,
    anchor: &'static str,
}

/// A place for each name around its point, where it covers the least of points, names before it and the map's edge; to the right if that is nothing.
fn labels(words: &[&str], places: &[(f64, f64)]) -> Vec<Label> {
    // Boxes that are taken: left, right, top, bottom.
    let mut taken: Vec<[f64; 4]> =
        places.iter().map(|&(x, y)| [x - 3.0, x + 3.0, y - 3.0, y + 3.0]).collect();
    let shared = |a: &[f64; 4], b: &[f64; 4]| {
        (a[1].min(b[1]) - a[0].max(b[0])).max(0.0) * (a[3].min(b[3]) - a[2].max(b[2])).max(0.0)
    };
    words
        .iter()
        .zip(places)
        .map(|(word, &(x, y))| {
            let width = 6.8 * word.chars().count() as f64;
            let tried = [
                (x + 5.0, y + 4.0, "start", x + 4.0),
                (x - 5.0, y + 4.0, "end", x - 4.0 - width),
                (x, y - 6.0, "middle", x - width / 2.0),
                (x, y + 15.0, "middle", x - width / 2.0),
                (x + 4.0, y - 4.0, "start", x + 3.0),
                (x + 4.0, y + 12.0, "start", x + 3.0),
                (x - 4.0, y - 4.0, "end", x - 3.0 - width),
                (x - 4.0, y + 12.0, "end", x - 3.0 - width),
            ];
            let area = |&(_, y, _, left): &(f64, f64, &str, f64)| [left, left + width, y - 9.0, y + 2.0];
            let covered = |label: &(f64, f64, &str, f64)| {
                let area = area(label);
                let outside = 11.0 * width - shared(&area, &[0.0, WIDTH, 0.0, HEIGHT]);
                // A name that is cut off cannot be guessed.
                10.0 * outside.max(1e-6) + taken.iter().map(|other| shared(&area, other)).sum::<f64>()
            };
            let least = tried.iter().min_by(|a, b| covered(a).total_cmp(&covered(b)));
            let chosen = *least.unwrap_or(&tried[0]);
            taken.push(area(&chosen));
            Label { x: chosen.0, y: chosen.1, anchor: chosen.2 }
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::{labels, map_page};

    #[test]
    fn names_give_way_to_each_other() {
        let labels = labels(&["hive", "comb", "skep"], &[(50.0, 50.0), (55.0, 51.0), (300.0, 50.0)]);
        let anchors: Vec<&str> = labels.iter().map(|label| label.anchor).collect();
        assert_eq!((anchors[2], anchors[0] == anchors[1] && labels[0].y == labels[1].y), ("start", false));
    }

    #[test]
    fn names_stay_on_the_map_and_cover_little() {
        // At the left edge, with a point to the right that keeps the name from its usual place.
        let edge = &labels(&["Wrenhollow", "hive"], &[(40.0, 50.0), (60.0, 50.0)])[0];
        assert!(edge.anchor != "end" && edge.y != 54.0, "{} {}", edge.anchor, edge.y);
        // Too many at one place: each has a place of its own as long as there is one.
        let crowd = labels(&["oak"; 4], &[(300.0, 300.0), (302.0, 300.0), (301.0, 301.0), (300.0, 302.0)]);
        let mut places: Vec<(&str, i64)> =
            crowd.iter().map(|label| (label.anchor, label.y.round() as i64)).collect();
        places.sort_unstable();
        places.dedup();
        assert_eq!(places.len(), 4, "{places:?}");
    }

    #[test]
    fn every_word_is_at_its_position_with_its_neighbours() {
        let near = vec![vec![("b & c".to_owned(), 0.5)], Vec::new()];
        let page = map_page("v", &["<a>", "b"], &[[0.0, 0.0], [1.0, 2.0]], &near, Some([0.5, 0.25]));
        assert!(
            page.contains("&lt;a&gt;\nnear: b &amp; c 0.50") && page.contains("50 % of the spread"),
            "{page}"
        );
        assert!(
            page.contains("cx=\"40.0\" cy=\"680.0\"") && page.contains("cx=\"1000.0\" cy=\"40.0\""),
            "{page}"
        );
        // Words that all are at one place.
        assert!(!map_page("v", &["a", "b"], &[[1.0, 1.0]; 2], &near, None).contains("NaN"));
    }
}
