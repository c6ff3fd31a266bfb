//! A text with every token in the colour of the surprise it was to a model.

use super::parts::{page, pairs, section, text};
use crate::output::number::{count, counted, perplexity};

/// Tokens on a page; more would make it slow to open.
pub(crate) const SHOWN_ON_PAGE: usize = 50_000;

/// From how many bits on a token is in the next colour.
const STEPS: [f64; 3] = [1.0, 4.0, 8.0];

/// One token of the text.
pub(crate) struct SurpriseToken {
    /// White space before it that no token holds.
    pub(crate) before: String,
    /// Its text.
    pub(crate) text: String,
    /// Its surprise.
    pub(crate) bits: f64,
    /// Whether it is the end of a document.
    pub(crate) ends_document: bool,
    /// Whether the vocabulary does not know it.
    pub(crate) unknown: bool,
    /// Its place among all tokens by probability, from 1.
    pub(crate) rank: usize,
    /// Most probable tokens there, with probabilities.
    pub(crate) most_probable: Vec<(String, f64)>,
}

/// The page of the first tokens of all; `places` are the files and lines of the documents.
pub(crate) fn surprise_page(
    model: &str,
    facts: &[(&str, String)],
    shown: &[SurpriseToken],
    places: &[(String, u64)],
    all: usize,
) -> String {
    let documents: String = shown
        .chunk_by(|token, _| !token.ends_document)
        .zip(places)
        .map(|(document, place)| article(place, document))
        .collect();
    let rest = all - shown.len();
    let more = if rest > 0 {
        format!("<p class=\"lead\">{} more tokens are not on this page.</p>", count(rest as u64))
    } else {
        String::new()
    };
    let sample = |class: usize, what: &str| format!("<span class=\"s{class}\">{what}</span>");
    let legend = format!(
        "<div class=\"surprise\"><p>{}   {}   {}   {}   <span class=\"unknown\">not in the vocabulary</span></p></div>",
        sample(0, "below 1 bit: as expected"),
        sample(1, "from 1 bit"),
        sample(2, "from 4 bits"),
        sample(3, "from 8 bits: very unexpected")
    );
    let lead = "One bit of surprise: the token had a probability of one half; each further bit halves it. Point at a token for its bits, probability, rank and the most probable tokens.";
    let body = format!(
        "<h1>Surprise by token</h1>\n<p class=\"lead\">{}</p>\n{}{}",
        text(model),
        section("whole", "The whole text", &pairs(facts)),
        section(
            "tokens",
            "Token by token",
            &format!("<p class=\"lead\">{lead}</p>\n{legend}\n{documents}{more}")
        )
    );
    page(&format!("Surprise of {model}"), &body)
}

fn article((path, line): &(String, u64), tokens: &[SurpriseToken]) -> String {
    let bits: f64 = tokens.iter().map(|token| token.bits).sum();
    let mean = (bits / tokens.len().max(1) as f64).exp2();
    let mut spans = String::new();
    for token in tokens {
        spans.push_str(&text(&token.before));
        let class = STEPS.iter().filter(|&&step| token.bits >= step).count();
        let unknown = if token.unknown { " unknown" } else { "" };
        let words = if token.ends_document { "\u{23ce}".to_owned() } else { text(&token.text) };
        let figure = if class == 3 { format!("<sub>{:.0}</sub>", token.bits) } else { String::new() };
        let most_probable = token.most_probable.iter().filter(|(_, share)| *share > 0.0);
        let most_probable: Vec<String> =
            most_probable.map(|(name, share)| format!("{name} {}", probability(*share))).collect();
        let title = format!(
            "{}: {:.1} bits, probability {}, rank {}. Most probable: {}",
            if token.unknown { "not in the vocabulary" } else { token.text.trim() },
            token.bits,
            probability((-token.bits).exp2()),
            count(token.rank as u64),
            most_probable.join(", ")
        );
        spans.push_str(&format!(
            "<span class=\"s{class}{unknown}\" title=\"{}\">{words}{figure}</span>",
            text(&title)
        ));
    }
    format!(
        "<article class=\"surprise\"><h3>{}, line {}: perplexity {} over {}</h3><p>{spans}</p></article>\n",
        text(path),
        count(*line),
        perplexity(mean),
        counted(tokens.len() as u64, "token", "tokens")
    )
}

/// A probability in few characters.
fn probability(share: f64) -> String {
    if share >= 0.001 { format!("{share:.3}") } else { format!("{share:.0e}") }
}

#[cfg(test)]
mod tests {
    use super::{SurpriseToken, surprise_page};

    #[test]
    fn documents_are_separated_and_tokens_coloured_by_their_bits() {
        let token = |text: &str, bits, ends_document| SurpriseToken {
            before: if ends_document { String::new() } else { " ".into() },
            text: text.to_owned(),
            bits,
            ends_document,
            unknown: text == "?",
            rank: 7,
            most_probable: vec![("<i>".to_owned(), 0.5), ("a".to_owned(), 0.0001), (String::new(), 0.0)],
        };
        let tokens = [
            token("<b>", 0.5, false),
            token("?", 9.0, false),
            token("end", 1.0, true),
            token("two", 4.0, false),
        ];
        let places = [("a.txt".to_owned(), 1), ("b&c.txt".to_owned(), 20)];
        let page = surprise_page("a & b", &[("tokens", "4".into())], &tokens, &places, 6);
        assert_eq!(page.matches("<article").count(), 2);
        let title = "&lt;b&gt;: 0.5 bits, probability 0.707, rank 7. Most probable: &lt;i&gt; 0.500, a 1e-4";
        assert!(page.contains(&format!("<span class=\"s0\" title=\"{title}\">&lt;b&gt;</span>")), "{page}");
        assert!(page.contains("class=\"s3 unknown\" title=\"not in the vocabulary: 9.0 bits"), "{page}");
        assert!(page.contains("?<sub>9</sub>") && page.contains("2 more tokens are not on this page"));
        assert!(page.contains("<h3>b&amp;c.txt, line 20: perplexity 16.00 over 1 token</h3>"), "{page}");
        assert!(page.contains("a &amp; b") && !page.contains("http://"));
        assert!(surprise_page("m", &[], &[], &[], 0).contains("Token by token"));
    }
}
