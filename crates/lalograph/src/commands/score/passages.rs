//! Surprise of each passage and token, shown in the text itself.

use std::path::PathBuf;

use lalograph_lab::measure::documents::Documents;
use lalograph_lab::measure::score::{PassageScore, TextScore, sentences};
use lalograph_lab::measure::surprise::{TokenSurprise, token_surprises};
use lalograph_text::{Reserved, Vocabulary};
use serde::Serialize;

use crate::cli::{PassageChoice, ScoreArgs};
use crate::output::number::count;
use crate::output::palette::{ASH, BRICK, HONEY};
use crate::output::screen::Screen;
use crate::output::wrap::indented;

/// Tokens that are shown one by one, at most.
const SHOWN: usize = 2000;

/// Sentences of fewer tokens are not listed: headings, cries and slips of the rule that ends sentences.
const SHORTEST_SENTENCE: u64 = 3;

/// Note for texts with marked unknown words.
pub(super) const MARKED: &str = "  Words in \u{2039} \u{203a} are not in the vocabulary.";

/// The passages with the highest losses per token, and those with the lowest.
#[derive(Default, Serialize)]
pub(super) struct Listed {
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(super) worst: Vec<ListedPassage>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(super) best: Vec<ListedPassage>,
}

/// A passage with its text.
#[derive(Serialize)]
pub(super) struct ListedPassage {
    #[serde(flatten)]
    pub(super) score: PassageScore,
    pub(super) path: PathBuf,
    pub(super) line: u64,
    pub(super) perplexity: f64,
    pub(super) text: String,
}

/// A text with what a model makes of it.
pub(super) struct Whole<'w> {
    pub(super) documents: &'w Documents,
    pub(super) found: &'w TextScore,
    pub(super) vocabulary: &'w Vocabulary,
}

impl Whole<'_> {
    pub(super) fn extremes(&self, args: &ScoreArgs) -> Listed {
        if args.worst == 0 {
            return Listed::default();
        }
        let mut sorted = match args.by {
            Some(PassageChoice::Sentence) => sentences(self.found, self.vocabulary),
            _ => self.found.judgement.documents.clone(),
        };
        if args.by == Some(PassageChoice::Sentence) {
            sorted.retain(|sentence| sentence.tokens >= SHORTEST_SENTENCE);
        }
        sorted.sort_by(|a, b| b.loss.total_cmp(&a.loss).then(a.start.cmp(&b.start)));
        Listed {
            worst: sorted.iter().take(args.worst).map(|passage| self.listed(passage)).collect(),
            best: sorted.iter().rev().take(args.worst).map(|passage| self.listed(passage)).collect(),
        }
    }

    /// A passage with its text, in which unknown tokens are marked.
    fn listed(&self, passage: &PassageScore) -> ListedPassage {
        let document = &self.documents.list[passage.document as usize];
        let located = self.vocabulary.locate(&document.text);
        let start = self.found.judgement.documents[passage.document as usize].start;
        let from = (passage.start - start) as usize;
        let tokens = located.tokens.iter().skip(from).take(passage.tokens as usize);
        let (mut text, mut end) = (Vec::new(), None);
        for (range, index) in tokens {
            let bytes = located.text.as_bytes();
            let gap = end.map_or(&[][..], |end| &bytes[end..range.start]);
            text.extend_from_slice(gap);
            let unknown = *index == Reserved::UNKNOWN;
            text.extend_from_slice(if unknown { "\u{2039}".as_bytes() } else { &[] });
            text.extend_from_slice(&bytes[range.clone()]);
            text.extend_from_slice(if unknown { "\u{203a}".as_bytes() } else { &[] });
            end = Some(range.end);
        }
        let lines_before = located.tokens.get(from).map_or(0, |(range, _)| {
            located.text.as_bytes()[..range.start].iter().filter(|byte| **byte == b'\n').count() as u64
        });
        ListedPassage {
            score: *passage,
            path: document.path.clone(),
            line: document.line + lines_before,
            perplexity: passage.loss.exp(),
            text: String::from_utf8_lossy(&text).trim().to_owned(),
        }
    }

    /// Every token as spelt, with the white space before it and the bits of its surprise.
    pub(super) fn surprises(&self) -> Vec<TokenSurprise> {
        let documents = self.documents.list.iter().map(|document| document.text.as_str());
        token_surprises(self.vocabulary, documents, &self.found.judgement.token_losses)
    }
}

/// The text with every token in the colour of its surprise; from 4 bits on the figure is after it.
pub(super) fn show_surprise(whole: &Whole<'_>, screen: &Screen) -> String {
    let mut lines =
        vec![screen.heading("Surprise in bits: grey below 1, with its figure from 4, bold from 8")];
    let (mut line, mut unknown) = (String::new(), false);
    for surprise in whole.surprises().iter().take(SHOWN) {
        let bits = surprise.surprise_bits;
        let text = match surprise.index {
            Reserved::END => "\u{23ce}".to_owned(),
            Reserved::UNKNOWN => format!("\u{2039}{}\u{203a}", surprise.token),
            _ => surprise.token.clone(),
        };
        unknown |= surprise.index == Reserved::UNKNOWN;
        let shown = if bits >= 4.0 { format!("{text}[{bits:.0}]") } else { text };
        let style = match bits {
            b if b >= 8.0 => BRICK.style().bold(),
            b if b >= 4.0 => BRICK.style(),
            b if b >= 1.0 => HONEY.style(),
            _ => ASH.style(),
        };
        line.push_str(&surprise.before);
        line.push_str(&screen.styled(style, &shown));
        if surprise.index == Reserved::END {
            lines.push(indented(&line, screen.width()));
            line.clear();
        }
    }
    if !line.is_empty() {
        lines.push(indented(&line, screen.width()));
    }
    if unknown {
        lines.push(MARKED.to_owned());
    }
    let tokens = whole.found.judgement.token_losses.len();
    if tokens > SHOWN {
        lines.push(format!(
            "  and {} more tokens; --page shows more, --json prints all",
            count((tokens - SHOWN) as u64)
        ));
    }
    lines.join("\n")
}
