//! A text with every token in the colour of the surprise it was to a model.

use super::parts::{page, pairs, section, text};
use crate::output::number::{count, perplexity};

/// Tokens on a page; more would make it slow to open.
const SHOWN: usize = 50_000;

/// From how many bits on a token is in the next colour.
const STEPS: [f64; 3] = [1.0, 4.0, 8.0];

/// One token of the text.
pub(crate) struct SurpriseToken {
    /// As it is spelt in the vocabulary.
    pub(crate) text: String,
    /// How surprising it was.
    pub(crate) bits: f64,
    /// Whether it is the end of a document.
    pub(crate) ends_document: bool,
    /// Whether the vocabulary does not know it.
    pub(crate) unknown: bool,
}

/// The page. `spaced` puts spaces between tokens.
pub(crate) fn surprise_page(
    model: &str,
    facts: &[(&str, String)],
    tokens: &[SurpriseToken],
    spaced: bool,
) -> String {
    let shown = &tokens[..tokens.len().min(SHOWN)];
    let documents: String = shown
        .chunk_by(|token, _| !token.ends_document)
        .zip(1u64..)
        .map(|(document, number)| article(number, document, spaced))
        .collect();
    let rest = tokens.len() - shown.len();
    let more = if rest > 0 {
        format!("<p class=\"lead\">{} tokens more are not on this page.</p>", count(rest as u64))
    } else {
        String::new()
    };
    let sample = |class: usize, what: &str| format!("<span class=\"s{class}\">{what}</span>");
    let legend = format!(
        "<div class=\"surprise\"><p>{}   {}   {}   {}   <span class=\"unknown\">not in the vocabulary</span></p></div>",
        sample(0, "below 1 bit: as expected"),
        sample(1, "from 1 bit"),
        sample(2, "from 4 bits"),
        sample(3, "from 8 bits: hardly foreseen")
    );
    let lead = "One bit of surprise: the token had a probability of one half; each further bit halves it. The pointer over a token tells its own.";
    let body = format!(
        "<h1>Where the model was surprised</h1>\n<p class=\"lead\">{}</p>\n{}{}",
        text(model),
        section("whole", "The whole text", &pairs(facts)),
        section(
            "tokens",
            "Token by token",
            &format!("<p class=\"lead\">{lead}</p>\n{legend}\n{documents}{more}")
        )
    );
    page(&format!("Where {model} was surprised"), &body)
}

fn article(number: u64, tokens: &[SurpriseToken], spaced: bool) -> String {
    let bits: f64 = tokens.iter().map(|token| token.bits).sum();
    let mean = (bits / tokens.len().max(1) as f64).exp2();
    let mut spans = String::new();
    for token in tokens {
        if spaced && !spans.is_empty() {
            spans.push(' ');
        }
        let class = STEPS.iter().filter(|&&step| token.bits >= step).count();
        let unknown = if token.unknown { " unknown" } else { "" };
        let words = if token.ends_document { "\u{23ce}".to_owned() } else { text(&token.text) };
        let probability = (-token.bits).exp2();
        let told = if class == 3 { format!("<sub>{:.0}</sub>", token.bits) } else { String::new() };
        spans.push_str(&format!(
            "<span class=\"s{class}{unknown}\" title=\"{:.1} bits, probability {}\">{words}{told}</span>",
            token.bits,
            if probability >= 0.001 { format!("{probability:.3}") } else { format!("{probability:.0e}") }
        ));
    }
    format!(
        "<article class=\"surprise\"><h3>document {}, perplexity {} over {} tokens</h3><p>{spans}</p></article>\n",
        count(number),
        perplexity(mean),
        count(tokens.len() as u64)
    )
}

#[cfg(test)]
mod tests {
    use super::{SurpriseToken, surprise_page};

    #[test]
    fn documents_stand_apart_and_tokens_are_in_the_colour_of_their_bits() {
        let token = |text: &str, bits, ends_document| SurpriseToken {
            text: text.to_owned(),
            bits,
            ends_document,
            unknown: text == "?",
        };
        let tokens = [
            token("<b>", 0.5, false),
            token("?", 9.0, false),
            token("end", 1.0, true),
            token("two", 4.0, false),
        ];
        let page = surprise_page("a & b", &[("tokens", "4".into())], &tokens, true);
        assert_eq!(page.matches("<article").count(), 2);
        assert!(
            page.contains("<span class=\"s0\" title=\"0.5 bits, probability 0.707\">&lt;b&gt;</span>"),
            "{page}"
        );
        assert!(page.contains("class=\"s3 unknown\"") && page.contains("?<sub>9</sub>"), "{page}");
        assert!(page.contains("class=\"s2\" title=\"4.0 bits, probability 0.062\">two</span>"), "{page}");
        assert!(page.contains("a &amp; b") && !page.contains("http://"));
        assert!(surprise_page("m", &[], &[], false).contains("Token by token"));
    }
}
