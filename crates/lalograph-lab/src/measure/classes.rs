//! Scores of a text by class.

use std::collections::BTreeMap;

use serde::Serialize;

use super::documents::Documents;
use super::score::Judgement;

/// Score of the documents of one class.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct ClassScore {
    /// The class; none for documents without a label.
    pub label: Option<String>,
    /// Documents.
    pub documents: u64,
    /// Bytes of their text in UTF-8, the end of each counted as one.
    pub bytes: u64,
    /// Tokens predicted.
    pub tokens: u64,
    /// Number of unknown tokens.
    pub unknown_tokens: u64,
    /// Mean natural-log cross-entropy per token.
    pub loss: f64,
    /// e to the power of the loss.
    pub perplexity: f64,
    /// Bits of tokens, spelling and spacing over the bytes.
    pub bits_per_byte: f64,
}

/// The scores of each class, the largest class first; none if no document has a label. Over all classes, tokens, bytes and bits add up to
/// those of the whole text.
pub fn by_class(found: &Judgement, documents: &Documents) -> Vec<ClassScore> {
    if documents.list.iter().all(|document| document.label.is_none()) {
        return Vec::new();
    }
    #[derive(Default)]
    struct Sums {
        documents: u64,
        bytes: u64,
        tokens: u64,
        unknown_tokens: u64,
        loss: f64,
        bits: f64,
    }
    let mut classes: BTreeMap<Option<&str>, Sums> = BTreeMap::new();
    for ((document, passage), code) in documents.list.iter().zip(&found.documents).zip(&found.codes) {
        let sums = classes.entry(document.label.as_deref()).or_default();
        sums.documents += 1;
        sums.bytes += code.bytes;
        sums.tokens += passage.tokens;
        sums.unknown_tokens += passage.unknown_tokens;
        sums.loss += passage.loss * passage.tokens as f64;
        sums.bits += code.bits;
    }
    let mut scores: Vec<ClassScore> = classes
        .into_iter()
        .map(|(label, sums)| {
            let loss = sums.loss / sums.tokens.max(1) as f64;
            ClassScore {
                label: label.map(str::to_owned),
                documents: sums.documents,
                bytes: sums.bytes,
                tokens: sums.tokens,
                unknown_tokens: sums.unknown_tokens,
                loss,
                perplexity: loss.exp(),
                bits_per_byte: sums.bits / sums.bytes.max(1) as f64,
            }
        })
        .collect();
    scores.sort_by_key(|score| std::cmp::Reverse(score.documents));
    scores
}
