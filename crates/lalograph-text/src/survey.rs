//! Looking at a corpus before anything is trained on it.

use std::collections::{BTreeMap, HashMap};

use serde::{Deserialize, Serialize};

use crate::corpus::{Corpus, Reading};
use crate::error::TextError;
use crate::unit::Unit;

/// The start of one of the first documents.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FirstRow {
    /// The file that it stands in.
    pub path: String,
    /// Its first line there, from 1.
    pub line: u64,
    /// Its text, up to the survey's limit.
    pub text: String,
}

/// Document lengths, in words and punctuation marks.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Lengths {
    /// The shortest.
    pub minimum_words: u64,
    /// Half of the documents are no longer than this.
    pub median_words: u64,
    /// 95 of 100 documents are no longer than this.
    pub percentile_95_words: u64,
    /// The longest.
    pub maximum_words: u64,
}

/// What a corpus holds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Survey {
    /// Files looked at.
    pub files: u64,
    /// Files and rows left out.
    pub skipped: u64,
    /// Documents.
    pub documents: u64,
    /// Raw bytes of their text.
    pub bytes: u64,
    /// Unicode code points.
    pub characters: u64,
    /// Words and punctuation marks, as the word tokeniser finds them.
    pub words: u64,
    /// How many different ones, as they are spelt.
    pub distinct_words: u64,
    /// How many occur only once.
    pub words_seen_once: u64,
    /// Document lengths.
    pub lengths: Lengths,
    /// How many documents have each length in words; every length that occurs.
    pub length_counts: BTreeMap<u64, u64>,
    /// The commonest words with their counts.
    pub commonest: Vec<(String, u64)>,
    /// The first documents.
    pub first_rows: Vec<FirstRow>,
}

/// How much to keep of what a survey sees.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SurveyLimits {
    /// Commonest words listed.
    pub commonest: usize,
    /// First documents kept.
    pub first_rows: usize,
    /// Characters kept of each of them.
    pub row_characters: usize,
}

/// Reads the corpus once. `progress` is told the raw bytes read so far and stops the work by returning `false`.
///
/// # Errors
/// No text at all; a stop.
pub fn survey(
    corpus: &Corpus,
    limits: SurveyLimits,
    progress: impl FnMut(u64) -> bool,
) -> Result<(Survey, Reading), TextError> {
    let mut counts: HashMap<Box<str>, u64> = HashMap::new();
    let mut length_counts: BTreeMap<u64, u64> = BTreeMap::new();
    let mut first_rows = Vec::new();
    let (mut characters, mut words) = (0, 0);
    let reading = corpus.read_through(progress, |document| {
        let before = words;
        Unit::Word.tokenise(document.text, |word| {
            words += 1;
            match counts.get_mut(word) {
                Some(count) => *count += 1,
                None => {
                    counts.insert(word.into(), 1);
                }
            }
        });
        *length_counts.entry(words - before).or_default() += 1;
        characters += document.text.chars().count() as u64;
        if first_rows.len() < limits.first_rows {
            first_rows.push(FirstRow {
                path: document.path.display().to_string(),
                line: document.line,
                text: document.text.chars().take(limits.row_characters).collect(),
            });
        }
    })?;
    let distinct_words = counts.len() as u64;
    let words_seen_once = counts.values().filter(|&&count| count == 1).count() as u64;
    let mut ranked: Vec<(Box<str>, u64)> = counts.into_iter().collect();
    ranked.sort_unstable_by(|(a, m), (b, n)| n.cmp(m).then_with(|| a.cmp(b)));
    ranked.truncate(limits.commonest);
    let survey = Survey {
        files: reading.files,
        skipped: reading.skipped_count,
        documents: reading.documents,
        bytes: reading.bytes,
        characters,
        words,
        distinct_words,
        words_seen_once,
        lengths: lengths(&length_counts),
        length_counts,
        commonest: ranked.into_iter().map(|(word, count)| (word.into(), count)).collect(),
        first_rows,
    };
    Ok((survey, reading))
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

fn lengths(counts: &BTreeMap<u64, u64>) -> Lengths {
    Lengths {
        minimum_words: counts.keys().next().copied().unwrap_or(0),
        median_words: length_keeping(counts, 0.5),
        percentile_95_words: length_keeping(counts, 0.95),
        maximum_words: counts.keys().next_back().copied().unwrap_or(0),
    }
}
