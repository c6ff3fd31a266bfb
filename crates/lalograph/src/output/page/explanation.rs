//! Documents with every token in the colour of its effect on the class.

use super::parts::{page, pairs, section, text};
use super::surprise::SHOWN_ON_PAGE;
use crate::output::number::counted;

/// A document with its tokens.
pub(crate) struct ExplainedDocument {
    /// Its place and its classes.
    pub(crate) heading: String,
    /// Its tokens, in order.
    pub(crate) tokens: Vec<ExplainedToken>,
}

/// One token of a document.
pub(crate) struct ExplainedToken {
    /// White space before it that no token holds.
    pub(crate) before: String,
    /// Its text.
    pub(crate) text: String,
    /// Its effect on the log-odds of the class; none if the classifier does not read it.
    pub(crate) effect: Option<f64>,
    /// Strength of the effect: 0, 1 or 2.
    pub(crate) strength: usize,
    /// Whether the vocabulary does not know it.
    pub(crate) unknown: bool,
}

/// The page of the first documents; `by_class` has the tokens of each class.
pub(crate) fn explanation_page(
    model: &str,
    (effect, heading): (&str, &str),
    by_class: &[(String, String)],
    documents: &[ExplainedDocument],
) -> String {
    let mut tokens = 0;
    let shown = documents.iter().take_while(|document| {
        tokens += document.tokens.len();
        tokens <= SHOWN_ON_PAGE
    });
    let articles: Vec<String> = shown.map(article).collect();
    let rest = documents.len() - articles.len();
    let more = if rest > 0 {
        format!(
            "<p class=\"lead\">{} not on this page.</p>",
            counted(rest as u64, "more document is", "more documents are")
        )
    } else {
        String::new()
    };
    let lead = format!(
        "Effect: {}. At +0.7 a token doubles the odds, at -0.7 it halves them. Pale colours from 0.2, strong ones from 0.7. Point at a token for its effect.",
        text(effect)
    );
    let legend = "<div class=\"surprise\"><p><span class=\"for2\">strongly for the class</span>   <span class=\"for1\">for</span>   <span class=\"against1\">against</span>   <span class=\"against2\">strongly against</span>   <span class=\"unknown\">not in the vocabulary</span>   <span class=\"s0\">not read</span></p></div>";
    let classes: Vec<(&str, String)> =
        by_class.iter().map(|(class, tokens)| (class.as_str(), tokens.clone())).collect();
    let classes =
        if classes.is_empty() { String::new() } else { section("classes", heading, &pairs(&classes)) };
    let body = format!(
        "<h1>Explained decisions</h1>\n<p class=\"lead\">{}</p>\n{classes}{}",
        text(model),
        section(
            "documents",
            "Token by token",
            &format!("<p class=\"lead\">{lead}</p>\n{legend}\n{}{more}", articles.concat())
        )
    );
    page(&format!("Explained decisions of {model}"), &body)
}

fn article(document: &ExplainedDocument) -> String {
    let mut spans = String::new();
    for token in &document.tokens {
        spans.push_str(&text(&token.before));
        let class = match (token.effect, token.strength) {
            (None, _) => "s0".to_owned(),
            (Some(_), 0) => String::new(),
            (Some(effect), strength) if effect > 0.0 => format!("for{strength}"),
            (Some(_), strength) => format!("against{strength}"),
        };
        let unknown = if token.unknown { " unknown" } else { "" };
        let title = token.effect.map_or_else(|| "not read".to_owned(), |effect| format!("{effect:+.2}"));
        let figure = match (token.strength, token.effect) {
            (2, Some(effect)) => format!("<sub>{effect:+.1}</sub>"),
            _ => String::new(),
        };
        spans.push_str(&format!(
            "<span class=\"{class}{unknown}\" title=\"{title}\">{}{figure}</span>",
            text(&token.text)
        ));
    }
    format!("<article class=\"surprise\"><h3>{}</h3><p>{spans}</p></article>\n", text(&document.heading))
}

#[cfg(test)]
mod tests {
    use super::{ExplainedDocument, ExplainedToken, explanation_page};

    #[test]
    fn tokens_have_the_colour_of_their_effect_and_text_is_escaped() {
        let token = |text: &str, effect: Option<f64>, strength| ExplainedToken {
            before: " ".into(),
            text: text.into(),
            effect,
            strength,
            unknown: text == "?",
        };
        let tokens = vec![
            token("<b>", Some(2.0), 2),
            token("weak", Some(-0.1), 0),
            token("?", Some(-0.5), 1),
            token("late", None, 0),
        ];
        let document = ExplainedDocument { heading: "a&b.txt, line 3".into(), tokens };
        let page = explanation_page(
            "runs/x",
            ("log-odds", "Tokens by class"),
            &[("quiet".into(), "hum +1.00 (3)".into())],
            &[document],
        );
        for part in [
            "<span class=\"for2\" title=\"+2.00\">&lt;b&gt;<sub>+2.0</sub></span>",
            "<span class=\"against1 unknown\" title=\"-0.50\">?</span>",
            "<span class=\"s0\" title=\"not read\">late</span>",
            "<h3>a&amp;b.txt, line 3</h3>",
            "hum +1.00 (3)",
        ] {
            assert!(page.contains(part), "no {part} in {page}");
        }
        assert!(!page.contains("http://"));
    }
}
