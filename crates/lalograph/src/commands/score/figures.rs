//! The figures of a score, for people.

use lalograph_lab::measure::score::Judgement;

use crate::output::number::{bytes, count, counted, percent, perplexity};

/// Each figure with its name.
pub(super) fn rows(found: &Judgement) -> Vec<(&'static str, String)> {
    let Judgement { score, loss_standard_error, .. } = found;
    let error = loss_standard_error
        .map_or_else(String::new, |error| format!(", standard error {error:.5} over documents"));
    // Of a few documents the error itself is uncertain.
    let many = loss_standard_error.filter(|_| score.documents >= 20);
    let range = many.map_or_else(String::new, |error| {
        let at = |sign: f64| perplexity((score.loss + sign * 1.96 * error).exp());
        format!(", {} to {} with 95 % confidence", at(-1.0), at(1.0))
    });
    let known = score.known_perplexity.filter(|_| score.unknown_tokens > 0);
    let known = known
        .map_or_else(String::new, |known| format!("; perplexity of known tokens: {}", perplexity(known)));
    let unknown =
        format!("{} ({}){known}", count(score.unknown_tokens), percent(score.unknown_tokens, score.tokens));
    let bytes_of_text = score.bytes.max(1) as f64;
    let part = |bits: f64, of: &str| {
        // Not what four decimals do not show.
        let share = bits / bytes_of_text;
        if share >= 0.00005 { format!(", {share:.4} of it {of}") } else { String::new() }
    };
    let parts = part(score.spelling_bits, "for the spelling of unknown words")
        + &part(score.spacing_bits, "for white space");
    let cleaned = match score.changed_documents {
        0 => String::new(),
        changed => format!(
            "; cleaning changed {} of the documents, so the figure is comparable only with the same cleaning",
            percent(changed, score.documents)
        ),
    };
    vec![
        ("text", format!("{}, {}", counted(score.documents, "document", "documents"), bytes(score.bytes))),
        ("tokens", format!("{}, with the end of each document", count(score.tokens))),
        ("unknown", unknown),
        ("loss", format!("{:.5} nats per token{error}", score.loss)),
        ("perplexity", format!("{}{range}", perplexity(score.perplexity))),
        ("bits per token", format!("{:.4}", score.bits_per_token)),
        ("bits per byte", format!("{:.4}{parts}{cleaned}", score.bits_per_byte)),
    ]
}
