//! The page of answers: prompts, wanted answers and the answers of several models side by side.

use super::parts::{Cell, page, section, table, text};

/// What is on the page.
pub(crate) struct AnswersPage {
    /// Names of the figures, the model's first.
    pub(crate) heads: Vec<String>,
    /// The figures of each model in words.
    pub(crate) rows: Vec<Vec<String>>,
    /// The models.
    pub(crate) models: Vec<String>,
    /// The pairs.
    pub(crate) pairs: Vec<AnsweredPair>,
}

/// A prompt with its answers.
pub(crate) struct AnsweredPair {
    pub(crate) prompt: String,
    pub(crate) wanted: String,
    /// Of each model its answer, and whether it is exact.
    pub(crate) answers: Vec<(String, bool)>,
}

/// The page.
pub(crate) fn answers_page(shown: &AnswersPage) -> String {
    // Figures below each other, so that the table is as wide as there are models.
    let heads: Vec<&str> = std::iter::once("").chain(shown.models.iter().map(String::as_str)).collect();
    let figures: Vec<(bool, Vec<Cell>)> = shown
        .heads
        .iter()
        .enumerate()
        .skip(1)
        .map(|(at, head)| {
            let cells = shown.rows.iter().map(|row| Cell::Number(row[at].clone()));
            (false, std::iter::once(Cell::Words(head.clone())).chain(cells).collect())
        })
        .collect();
    let names: String = shown.models.iter().map(|name| format!("<th>{}</th>", text(name))).collect();
    let rows: String = shown
        .pairs
        .iter()
        .map(|AnsweredPair { prompt, wanted, answers }| {
            let answers: String = answers
                .iter()
                .map(|(answer, exact)| {
                    let mark = if *exact { "<span class=\"exact\">\u{2713}</span> " } else { "" };
                    format!("<td>{mark}{}</td>", text(answer))
                })
                .collect();
            format!("<tr><td>{}</td><td>{}</td>{answers}</tr>\n", text(prompt), text(wanted))
        })
        .collect();
    let pairs = format!(
        "<p>\u{2713}: the words of the wanted answer and no others.</p>\n<div class=\"scroll\" tabindex=\"0\"><table class=\"answers\">\n\
         <thead><tr><th>prompt</th><th>wanted</th>{names}</tr></thead>\n<tbody>\n{rows}</tbody></table></div>\n"
    );
    let body = format!(
        "<h1>Answers of {}</h1>\n{}{}",
        text(&shown.models.join(", ")),
        section("figures", "Figures", &table(&heads, &figures)),
        section("pairs", "Side by side", &pairs)
    );
    page("Answers side by side", &body)
}

#[cfg(test)]
mod tests {
    use super::{AnsweredPair, AnswersPage, answers_page};

    #[test]
    fn texts_are_escaped_and_exact_answers_marked() {
        let wild = "<b>bees</b>".to_owned();
        let shown = AnswersPage {
            heads: vec!["model".into(), "exact".into()],
            rows: vec![vec![wild.clone(), "1".into()]],
            models: vec![wild.clone()],
            pairs: vec![AnsweredPair {
                prompt: wild.clone(),
                wanted: wild.clone(),
                answers: vec![(wild.clone(), true)],
            }],
        };
        let made = answers_page(&shown);
        assert!(!made.contains("<b>") && made.matches("&lt;b&gt;bees").count() == 6, "{made}");
        assert_eq!(made.matches("class=\"exact\"").count(), 1);
    }
}
