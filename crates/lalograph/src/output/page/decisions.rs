//! The decisions of a classifier: figures, charts, mistakes, examples.

use super::parts::{Cell, figure, page, pairs, section, table, text};

/// What is on the page.
pub(crate) struct DecisionsPage<'p> {
    /// The name of the classifier.
    pub(crate) model: &'p str,
    /// The main figures.
    pub(crate) figures: &'p [(&'static str, String)],
    /// Heads and rows of the table by class.
    pub(crate) classes: (Vec<&'static str>, Vec<Vec<String>>),
    /// The charts by name.
    pub(crate) pictures: &'p [(&'static str, String)],
    /// The most confident mistakes.
    pub(crate) mistakes: Vec<DocumentOnPage>,
    /// The first documents.
    pub(crate) examples: Vec<DocumentOnPage>,
}

/// A document with its classes.
pub(crate) struct DocumentOnPage {
    /// Its file and line.
    pub(crate) place: String,
    /// The predicted class.
    pub(crate) predicted: String,
    /// The probability of it.
    pub(crate) confidence: String,
    /// The actual class.
    pub(crate) actual: String,
    /// Whether they are one.
    pub(crate) right: bool,
    /// Its text, or the beginning of it.
    pub(crate) text: String,
}

/// Captions of the charts by their names.
const CAPTIONS: [(&str, &str); 6] = [
    ("learning", "Loss over steps."),
    ("confusion", "Documents by actual and predicted class; the colour is the share of the row."),
    (
        "roc",
        "For every threshold on the probability of a class: the share of the class above it, over the share of the other documents above it. The area is the probability that a document of the class is ranked above another.",
    ),
    (
        "precision-recall",
        "For every threshold: the share of the documents above it that are of the class, over the share of the class that is found.",
    ),
    ("reliability", "Accuracy over confidence. Below the diagonal the classifier is too sure of itself."),
    ("confidence", "Documents by the probability of the predicted class."),
];

/// The page.
pub(crate) fn decisions_page(of: &DecisionsPage<'_>) -> String {
    let figures: Vec<(&str, String)> =
        of.figures.iter().map(|(name, value)| (*name, value.clone())).collect();
    let (heads, rows) = &of.classes;
    let cells = |row: &Vec<String>| {
        let each = row.iter().enumerate().map(|(at, cell)| match at {
            0 => Cell::Words(cell.clone()),
            _ => Cell::Number(cell.clone()),
        });
        (false, each.collect())
    };
    let rows: Vec<(bool, Vec<Cell>)> = rows.iter().map(cells).collect();
    let caption =
        |name: &str| CAPTIONS.iter().find(|(of, _)| *of == name).map_or("", |(_, caption)| *caption);
    let drawn = |wanted: &[&str]| -> String {
        let found = of.pictures.iter().filter(|(name, _)| wanted.contains(name));
        found.map(|(name, svg)| figure(name, svg, caption(name))).collect()
    };
    let mut body = format!(
        "<h1>Decisions</h1>\n<p class=\"lead\">{}</p>\n{}{}{}",
        text(of.model),
        section("figures", "Figures", &pairs(&figures)),
        section("classes", "By class", &table(heads, &rows)),
        section("confusion", "Confusion", &drawn(&["confusion"])),
    );
    body.push_str(&section("thresholds", "Over thresholds", &drawn(&["roc", "precision-recall"])));
    body.push_str(&section("confidence", "Confidence", &drawn(&["reliability", "confidence"])));
    let learning = drawn(&["learning"]);
    if !learning.is_empty() {
        body.push_str(&section("learning", "Training", &learning));
    }
    if !of.mistakes.is_empty() {
        body.push_str(&section("mistakes", "Most confident mistakes", &documents(&of.mistakes)));
    }
    body.push_str(&section("examples", "First documents", &documents(&of.examples)));
    page(&format!("Decisions of {}", of.model), &body)
}

fn documents(shown: &[DocumentOnPage]) -> String {
    let article = |document: &DocumentOnPage| {
        let DocumentOnPage { place, predicted, confidence, actual, right, text: content } = document;
        let verdict = if *right { "right".to_owned() } else { format!("actual: {actual}") };
        let class = if *right { "right" } else { "wrong" };
        format!(
            "<div class=\"sample\"><h4>{}: {} with {} <span class=\"{class}\">{}</span></h4><p>{}</p></div>\n",
            text(place),
            text(predicted),
            text(confidence),
            text(&verdict),
            text(content.trim())
        )
    };
    shown.iter().map(article).collect()
}

#[cfg(test)]
mod tests {
    use super::{DecisionsPage, DocumentOnPage, decisions_page};

    #[test]
    fn documents_are_beside_their_classes_and_escaped() {
        let document = |right: bool| DocumentOnPage {
            place: "a.csv, line 2".into(),
            predicted: "<calm>".into(),
            confidence: "90 %".into(),
            actual: "wild".into(),
            right,
            text: "<b>hum</b>".into(),
        };
        let page = decisions_page(&DecisionsPage {
            model: "runs/one",
            figures: &[("accuracy", "50 %".into())],
            classes: (vec!["class", "documents"], vec![vec!["wild".into(), "1".into()]]),
            pictures: &[("roc", "<svg></svg>".into())],
            mistakes: vec![document(false)],
            examples: vec![document(true)],
        });
        assert!(page.contains("actual: wild") && page.contains("&lt;calm&gt;") && !page.contains("<b>hum"));
        assert!(page.contains("id=\"mistakes\"") && !page.contains("id=\"learning\""));
    }
}
