//! Lengths of documents, and of prompts and answers.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

/// Document lengths, in words and punctuation marks.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Lengths {
    /// The shortest.
    pub minimum_words: u64,
    /// Half of the documents are no longer than this.
    pub median_words: u64,
    /// 90 of 100 documents are no longer than this.
    pub percentile_90_words: u64,
    /// 95 of 100 documents are no longer than this.
    pub percentile_95_words: u64,
    /// 99 of 100 documents are no longer than this.
    pub percentile_99_words: u64,
    /// The longest.
    pub maximum_words: u64,
}

/// The smallest length that at least `share` of the documents do not exceed.
pub fn length_keeping(length_counts: &BTreeMap<u64, u64>, share: f64) -> u64 {
    let total: u64 = length_counts.values().sum();
    let wanted = (share * total as f64).ceil() as u64;
    let mut seen = 0;
    for (&length, &count) in length_counts {
        seen += count;
        if seen >= wanted {
            return length;
        }
    }
    length_counts.keys().next_back().copied().unwrap_or(0)
}

pub(super) fn lengths(counts: &BTreeMap<u64, u64>) -> Lengths {
    Lengths {
        minimum_words: counts.keys().next().copied().unwrap_or(0),
        median_words: length_keeping(counts, 0.5),
        percentile_90_words: length_keeping(counts, 0.9),
        percentile_95_words: length_keeping(counts, 0.95),
        percentile_99_words: length_keeping(counts, 0.99),
        maximum_words: counts.keys().next_back().copied().unwrap_or(0),
    }
}
