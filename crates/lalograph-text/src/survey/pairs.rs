//! What a survey says of prompts and answers.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::lengths::{Lengths, lengths};
use crate::corpus::{CorpusSpec, ReadObserver, Skipped};
use crate::error::TextError;
use crate::scratch::Sorter;

/// Counts of prompts and answers.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PairSurvey {
    /// Lengths of prompts.
    pub prompts: Lengths,
    /// Lengths of answers.
    pub answers: Lengths,
    /// Pairs without a prompt, which are left out.
    pub empty_prompts: u64,
    /// Pairs with a prompt and without an answer, which are left out.
    pub empty_answers: u64,
    /// Pairs whose prompt is that of an earlier pair.
    pub repeated_prompts: u64,
    /// Pairs whose answer matches the pattern; none without a pattern.
    pub matching_answers: Option<u64>,
}

/// Words of the prompts and answers of one thread.
#[derive(Default)]
pub(super) struct PairCounting {
    prompts: BTreeMap<u64, u64>,
    answers: BTreeMap<u64, u64>,
    matching: u64,
}

impl PairCounting {
    pub(super) fn add(&mut self, (prompt_words, answer_words): (u64, u64), answer_matches: bool) {
        *self.prompts.entry(prompt_words).or_default() += 1;
        *self.answers.entry(answer_words).or_default() += 1;
        self.matching += u64::from(answer_matches);
    }

    pub(super) fn merge(&mut self, other: Self) {
        for (own, theirs) in [(&mut self.prompts, other.prompts), (&mut self.answers, other.answers)] {
            for (length, count) in theirs {
                *own.entry(length).or_default() += count;
            }
        }
        self.matching += other.matching;
    }

    /// All together, with the hashes of the prompts and what was empty.
    pub(super) fn finish(
        self,
        hashes: Sorter<16>,
        empty: &Empty<'_>,
        with_pattern: bool,
    ) -> Result<PairSurvey, TextError> {
        let (mut last, mut repeated_prompts) = (None, 0);
        for hash in hashes.finish().map_err(TextError::Scratch)? {
            let hash = hash.map_err(TextError::Scratch)?;
            repeated_prompts += u64::from(last.replace(hash) == Some(hash));
        }
        Ok(PairSurvey {
            prompts: lengths(&self.prompts),
            answers: lengths(&self.answers),
            empty_prompts: empty.prompts,
            empty_answers: empty.answers,
            repeated_prompts,
            matching_answers: with_pattern.then_some(self.matching),
        })
    }
}

/// Counts pairs that are left out because they have no prompt or no answer, and passes everything on.
pub(super) struct Empty<'o> {
    observer: &'o mut dyn ReadObserver,
    columns: Option<(String, String)>,
    prompts: u64,
    answers: u64,
}

impl<'o> Empty<'o> {
    pub(super) fn new(spec: &CorpusSpec, observer: &'o mut dyn ReadObserver) -> Self {
        Self { observer, columns: spec.pair.clone(), prompts: 0, answers: 0 }
    }
}

impl ReadObserver for Empty<'_> {
    fn progress(&mut self, bytes: u64) -> bool {
        self.observer.progress(bytes)
    }

    fn left_out(&mut self, skipped: &Skipped) {
        if let (Some((prompt, answer)), Some(column)) = (&self.columns, skipped.reason.without_value()) {
            self.prompts += u64::from(column == prompt);
            self.answers += u64::from(column == answer);
        }
        self.observer.left_out(skipped);
    }
}
