//! Two questions about every good-looking sample: was it copied from the training text, and does it repeat itself?
//!
//! Copied runs are found exactly, without an index of the training text: the samples become a suffix automaton (Blumer et al., 1985), and the training
//! text is read through it once. At every token the automaton knows the longest run that ends there and is in some sample as well, so
//! what is kept grows with the samples alone, and a training text of any size is read from its store from beginning to end.

use std::collections::HashSet;

use lalograph_net::numbers::chance::stream;
use lalograph_text::Reserved;
use lalograph_text::tokens::TokenSequence;
use rand::RngExt;
use rayon::prelude::*;
use serde::Serialize;

use crate::error::LabError;

/// A run of tokens of a sample that is in the training text as well.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize)]
pub struct CopiedRun {
    /// Tokens.
    pub tokens: usize,
    /// Start in the sample, in tokens.
    pub start: usize,
    /// First start in the training text, in tokens.
    pub training_start: u64,
}

/// The share of a sample that is copied from the training text, and the share that repeats itself.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Copying {
    /// Tokens of the sample.
    pub tokens: usize,
    /// Its longest run that is in the training text; of no tokens if none does.
    pub longest: CopiedRun,
    /// The share of its tokens that lie in such runs of at least as many tokens as was asked for.
    pub copied_share: f64,
    /// The share of its n-grams that occur earlier in it; `None` if it is shorter.
    pub repeated_share: Option<f64>,
}

/// The settings of the measurement.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct CopyingSettings {
    /// Tokens from which on a run counts as copied.
    pub run: usize,
    /// Tokens of the n-grams that may be repeated.
    pub ngram: usize,
}

impl Default for CopyingSettings {
    fn default() -> Self {
        Self { run: 10, ngram: 4 }
    }
}

/// Measures samples against a training text, on the threads of the current pool. The unknown token is like no other, not even itself.
///
/// # Errors
/// The training text cannot be read any more.
pub fn copying(
    samples: &[&[u32]],
    training: &TokenSequence,
    measure: CopyingSettings,
) -> Result<Vec<Copying>, LabError> {
    let runs = longest_runs(samples, training);
    training.check()?;
    let copies = samples
        .iter()
        .zip(runs)
        .map(|(sample, runs)| {
            // The first of equally long ones.
            let longest =
                runs.iter().rev().max_by_key(|run| run.tokens).copied().filter(|run| run.tokens > 0);
            let mut copied = vec![false; sample.len()];
            for run in runs.iter().filter(|run| run.tokens >= measure.run.max(1)) {
                copied[run.start..run.start + run.tokens].fill(true);
            }
            let copied = copied.iter().filter(|&&copied| copied).count();
            Copying {
                tokens: sample.len(),
                longest: longest.unwrap_or_default(),
                copied_share: copied as f64 / sample.len().max(1) as f64,
                repeated_share: distinct_share(&[sample], measure.ngram).map(|share| 1.0 - share),
            }
        })
        .collect();
    Ok(copies)
}

/// Distinct n-grams over all n-grams of the texts together (distinct-n: Li et al., 2016); `None` if there are none.
pub fn distinct_share(texts: &[&[u32]], n: usize) -> Option<f64> {
    let all = || texts.iter().flat_map(|text| text.windows(n.max(1)));
    let count = all().count();
    let different: HashSet<&[u32]> = all().collect();
    (count > 0).then(|| different.len() as f64 / count as f64)
}

/// Stretches of held-out text as long as some samples, so that their figures have a scale: each from the beginning of a document drawn by the seed, of those that are
/// long enough if there are any; else what follows makes up the length.
///
/// # Errors
/// The held-out text cannot be read any more.
pub fn excerpts(held_out: &TokenSequence, lengths: &[usize], seed: u64) -> Result<Vec<Vec<u32>>, LabError> {
    let bounds: Vec<_> = held_out.bounds().collect();
    let mut random = stream(seed, "held-out text", &[]);
    let excerpt = |&length: &usize| {
        let long: Vec<usize> =
            bounds.iter().filter(|range| range.len() >= length).map(|range| range.start).collect();
        let starts = if long.is_empty() { vec![0] } else { long };
        let start = starts[random.random_range(0..starts.len())];
        (start..(start + length).min(held_out.len())).map(|at| held_out.index(at)).collect()
    };
    let excerpts = lengths.iter().map(excerpt).collect();
    held_out.check()?;
    Ok(excerpts)
}

/// For every token of every sample the longest run ending with it that is in the training text.
fn longest_runs(samples: &[&[u32]], training: &TokenSequence) -> Vec<Vec<CopiedRun>> {
    let automaton = Automaton::new(samples);
    let longest = samples.iter().map(|sample| sample.len()).max().unwrap_or(0);
    let parts = rayon::current_num_threads().max(1);
    let found = (0..parts)
        .into_par_iter()
        .map(|part| {
            let cut = |part: usize| training.len() * part / parts;
            // No run that ends in this part began further back.
            let from = cut(part).saturating_sub(longest);
            automaton.read(training, from, cut(part + 1))
        })
        .reduce_with(FoundRuns::join);
    let seen = automaton.settle(found.unwrap_or_else(|| automaton.nothing()));
    let mut ends = automaton.ends.iter();
    samples
        .iter()
        .map(|sample| {
            (0..sample.len())
                .zip(&mut ends)
                .map(|(at, &state)| {
                    let Occurrence { tokens, end, .. } = seen.0[state as usize];
                    let tokens = tokens as usize;
                    CopiedRun {
                        tokens,
                        start: at + 1 - tokens,
                        training_start: (end + 1).saturating_sub(tokens as u64),
                    }
                })
                .collect()
        })
        .collect()
}

const ROOT: u32 = 0;

/// All runs of some texts, each exactly one path from the root.
struct Automaton {
    states: Vec<State>,
    /// From the root, by token.
    first: Vec<u32>,
    /// The state of everything up to a token, for each token of each text.
    ends: Vec<u32>,
}

#[derive(Clone)]
struct State {
    /// The length of its longest run.
    length: u32,
    /// The state of its longest run's longest end that is another state.
    link: u32,
    /// By token, sorted.
    next: Vec<(u32, u32)>,
}

/// The longest run of a state that was met.
#[derive(Debug, Clone, Copy)]
struct Occurrence {
    tokens: u32,
    /// The position of its last token.
    end: u64,
    /// The same of the first run of this state that was met, however long.
    first_end: u64,
}

/// Occurrences by state.
struct FoundRuns(Vec<Occurrence>);

impl FoundRuns {
    /// Adds what was met further on in the text.
    fn join(mut self, later: Self) -> Self {
        for (mine, theirs) in self.0.iter_mut().zip(later.0) {
            mine.take(theirs);
        }
        self
    }
}

impl Occurrence {
    fn take(&mut self, other: Self) {
        if other.tokens > self.tokens || (other.tokens == self.tokens && other.end < self.end) {
            (self.tokens, self.end) = (other.tokens, other.end);
        }
        self.first_end = self.first_end.min(other.first_end);
    }
}

impl Automaton {
    fn new(texts: &[&[u32]]) -> Self {
        let root = State { length: 0, link: ROOT, next: Vec::new() };
        let mut automaton = Self { states: vec![root], first: Vec::new(), ends: Vec::new() };
        let mut last = ROOT;
        // Between texts, and in place of what is unknown, are tokens of no vocabulary, each another.
        let mut strange = u32::MAX;
        for text in texts {
            for &token in *text {
                let known = token != Reserved::UNKNOWN;
                last = automaton.extend(last, if known { token } else { strange });
                strange -= u32::from(!known);
                automaton.ends.push(last);
            }
            last = automaton.extend(last, strange);
            strange -= 1;
        }
        for (token, state) in std::mem::take(&mut automaton.states[ROOT as usize].next) {
            let token = token as usize;
            if token <= strange as usize {
                automaton.first.resize(automaton.first.len().max(token + 1), ROOT);
                automaton.first[token] = state;
            }
        }
        automaton
    }

    fn add(&mut self, state: State) -> u32 {
        self.states.push(state);
        self.states.len() as u32 - 1
    }

    fn step(&self, state: u32, token: u32) -> Option<u32> {
        let next = &self.states[state as usize].next;
        next.binary_search_by_key(&token, |&(token, _)| token).ok().map(|at| next[at].1)
    }

    fn put(&mut self, state: u32, token: u32, target: u32) {
        let next = &mut self.states[state as usize].next;
        match next.binary_search_by_key(&token, |&(token, _)| token) {
            Ok(at) => next[at].1 = target,
            Err(at) => next.insert(at, (token, target)),
        }
    }

    /// Adds a token after everything that was added; the state of all of it.
    fn extend(&mut self, last: u32, token: u32) -> u32 {
        let length = self.states[last as usize].length + 1;
        let new = self.add(State { length, link: ROOT, next: Vec::new() });
        let mut at = last;
        loop {
            let Some(target) = self.step(at, token) else {
                self.put(at, token, new);
                if at == ROOT {
                    break;
                }
                at = self.states[at as usize].link;
                continue;
            };
            let wanted = self.states[at as usize].length + 1;
            if self.states[target as usize].length == wanted {
                self.states[new as usize].link = target;
                break;
            }
            // Runs of the target that are not longer than this one become a state of their own.
            let shorter = State { length: wanted, ..self.states[target as usize].clone() };
            let shorter = self.add(shorter);
            self.states[target as usize].link = shorter;
            self.states[new as usize].link = shorter;
            while self.step(at, token) == Some(target) {
                self.put(at, token, shorter);
                if at == ROOT {
                    break;
                }
                at = self.states[at as usize].link;
            }
            break;
        }
        new
    }

    fn nothing(&self) -> FoundRuns {
        FoundRuns(vec![Occurrence { tokens: 0, end: 0, first_end: u64::MAX }; self.states.len()])
    }

    /// Reads a stretch of text.
    fn read(&self, text: &TokenSequence, from: usize, to: usize) -> FoundRuns {
        let mut seen = self.nothing();
        let (mut state, mut length) = (ROOT, 0);
        for at in from..to {
            let token = text.index(at);
            loop {
                if state == ROOT {
                    length = 0;
                    let known = token != Reserved::UNKNOWN;
                    state = self.first.get(token as usize).copied().filter(|_| known).unwrap_or(ROOT);
                    break;
                }
                if let Some(next) = self.step(state, token) {
                    state = next;
                    break;
                }
                state = self.states[state as usize].link;
                length = self.states[state as usize].length;
            }
            if state != ROOT {
                length += 1;
                seen.0[state as usize].take(Occurrence {
                    tokens: length,
                    end: at as u64,
                    first_end: at as u64,
                });
            }
        }
        seen
    }

    /// Passes each occurrence to the suffixes of its run; a state without an occurrence of its own takes its link's longest run.
    fn settle(&self, mut seen: FoundRuns) -> FoundRuns {
        let mut order: Vec<u32> = (1..self.states.len() as u32).collect();
        order.sort_unstable_by_key(|&state| self.states[state as usize].length);
        for &state in order.iter().rev() {
            let (link, met) = (self.states[state as usize].link, seen.0[state as usize]);
            if met.tokens > 0 && link != ROOT {
                let tokens = self.states[link as usize].length;
                seen.0[link as usize].take(Occurrence { tokens, end: met.first_end, ..met });
            }
        }
        for &state in &order {
            if seen.0[state as usize].tokens == 0 {
                seen.0[state as usize] = seen.0[self.states[state as usize].link as usize];
            }
        }
        seen
    }
}

#[cfg(test)]
mod tests {
    use super::{CopiedRun, CopyingSettings, copying, distinct_share, excerpts, longest_runs};
    use lalograph_text::Reserved;
    use lalograph_text::tokens::TokenSequence;
    use proptest::prelude::*;

    /// By trying every run at every place.
    fn by_force(samples: &[&[u32]], training: &[u32]) -> Vec<Vec<CopiedRun>> {
        let known = |run: &[u32]| !run.contains(&Reserved::UNKNOWN);
        let longest = |sample: &[u32], end: usize| {
            let runs = (1..=end).rev().map(|tokens| (tokens, &sample[end - tokens..end]));
            let found = runs.filter(|(_, run)| known(run)).find_map(|(tokens, run)| {
                let place = training.windows(tokens).position(|window| window == run)?;
                Some(CopiedRun { tokens, start: end - tokens, training_start: place as u64 })
            });
            found.unwrap_or(CopiedRun { tokens: 0, start: end, training_start: 0 })
        };
        samples.iter().map(|sample| (1..=sample.len()).map(|end| longest(sample, end)).collect()).collect()
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2000))]
        #[test]
        fn runs_are_those_that_a_search_of_everything_finds(
            samples in prop::collection::vec(prop::collection::vec(1u32..6, 0..25), 1..4),
            training in prop::collection::vec(1u32..7, 0..120),
            threads in 1usize..4,
        ) {
            let samples: Vec<&[u32]> = samples.iter().map(Vec::as_slice).collect();
            let text = TokenSequence::from_indices(training.clone());
            let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
            let found = pool.install(|| longest_runs(&samples, &text));
            for (found, expected) in found.iter().flatten().zip(by_force(&samples, &training).iter().flatten()) {
                prop_assert_eq!((found.tokens, found.start), (expected.tokens, expected.start));
                // At its first occurrence.
                if found.tokens > 0 {
                    prop_assert_eq!(found.training_start, expected.training_start);
                }
            }
        }
    }

    #[test]
    fn figures_of_a_sample_worked_out_by_hand() {
        // Runs of at least 3: 4 5 6 7 at the front of the second document, 8 9 10 in the first.
        let training = TokenSequence::from_indices(vec![8, 9, 10, 3, 4, 5, 6, 7, 3]);
        let sample = [20, 4, 5, 6, 7, 21, 8, 9, 10, 22, 4, 5];
        let found = copying(&[&sample], &training, CopyingSettings { run: 3, ngram: 2 }).unwrap()[0];
        assert_eq!(found.longest, CopiedRun { tokens: 4, start: 1, training_start: 4 });
        assert!((found.copied_share - 7.0 / 12.0).abs() < 1e-12);
        // Of eleven pairs only 4 5 comes again.
        assert!((found.repeated_share.unwrap() - 1.0 / 11.0).abs() < 1e-12);
        let nothing = copying(&[&[30, 31], &[]], &training, CopyingSettings::default()).unwrap();
        assert_eq!(nothing[0].longest.tokens, 0);
        assert_eq!((nothing[0].repeated_share, nothing[1].tokens), (None, 0));
        assert_eq!(distinct_share(&[&[1, 2, 1], &[2, 1]], 2), Some(2.0 / 3.0));
    }

    #[test]
    fn excerpts_are_as_long_as_the_samples_and_begin_with_documents() {
        let text = TokenSequence::from_indices(vec![4, 5, 3, 6, 7, 8, 9, 3, 10, 11, 12, 3]);
        let starts = [4, 6, 10];
        for seed in 0..20 {
            for excerpt in excerpts(&text, &[2, 2, 2], seed).unwrap() {
                assert!(excerpt.len() == 2 && starts.contains(&excerpt[0]), "{excerpt:?}");
            }
            assert_eq!(excerpts(&text, &[5], seed).unwrap(), [[6, 7, 8, 9, 3]]);
            assert_eq!(excerpts(&text, &[10], seed).unwrap()[0].len(), 10);
        }
        assert_eq!(excerpts(&TokenSequence::default(), &[3], 1).unwrap(), [Vec::<u32>::new()]);
    }
}
