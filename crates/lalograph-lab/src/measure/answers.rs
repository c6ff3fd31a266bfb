//! Answers to prompts: how well a model expects the answers that were wanted, and how its own compare with them.

use std::collections::HashMap;
use std::f64::consts::LN_2;
use std::sync::Arc;

use lalograph_net::numbers::chance::stream;
use lalograph_text::{Reserved, Unit};
use rand::RngExt;
use rayon::prelude::*;
use serde::Serialize;

use crate::error::LabError;
use crate::task::language::model::ReadyModel;
use crate::writing::beam::Beam;
use crate::writing::conversation::Conversation;
use crate::writing::copying::distinct_share;
use crate::writing::decoding::{Decoding, log_total};
use crate::writing::generator::{Generator, Request, Terms};

/// Tokens of a sequence whose repetition is counted.
const REPEATED: usize = 3;
/// Resamples of a bootstrap.
const RESAMPLES: usize = 2000;

/// How answers are written.
#[derive(Debug, Clone, Copy)]
pub struct Writing {
    /// Decoding, unless there is a beam.
    pub decoding: Decoding,
    /// Beam search.
    pub beam: Option<Beam>,
    /// Tokens of an answer, at most.
    pub tokens: usize,
    /// Seed of the draws.
    pub seed: u64,
}

/// A prompt and the answer that is wanted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wanted {
    /// The prompt.
    pub prompt: String,
    /// The answer.
    pub answer: String,
}

/// The answer of a model to one prompt.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Answer {
    /// The text.
    pub text: String,
    /// Its tokens, its end included.
    #[serde(skip)]
    pub indices: Vec<u32>,
    /// Whether it has the words of the wanted answer and no others.
    pub exact: bool,
    /// Harmonic mean of precision and recall of its words against those of the wanted answer.
    pub token_f1: f64,
    /// Share of its three-token sequences that it has already; none if it is shorter.
    pub repeated_share: Option<f64>,
    /// Natural-log cross-entropy of the wanted answer and its end after the prompt, summed.
    pub wanted_loss: f64,
    /// Tokens of the wanted answer, its end included.
    pub wanted_tokens: u64,
    /// Bits of these tokens, of the spelling of unknown words, and of white space.
    pub wanted_bits: f64,
}

/// Means over all pairs.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct AnswerFigures {
    /// Pairs.
    pub pairs: u64,
    /// Perplexity of the wanted answers, their ends included.
    pub perplexity: f64,
    /// Bits of the wanted answers over their bytes, the end of each counted as one.
    pub bits_per_byte: f64,
    /// Share of answers with the words of the wanted answer and no others.
    pub exact_share: f64,
    /// Mean of [`Answer::token_f1`].
    pub token_f1: f64,
    /// Mean of [`Answer::repeated_share`] where there is one.
    pub repeated_share: f64,
}

impl AnswerFigures {
    /// Over the answers of a model.
    pub fn of(wanted: &[Wanted], answers: &[Answer]) -> Self {
        let count = answers.len().max(1) as f64;
        let sum = |of: &dyn Fn(&Answer) -> f64| answers.iter().map(of).sum::<f64>();
        let tokens = sum(&|answer| answer.wanted_tokens as f64);
        let bytes: usize = wanted.iter().map(|wanted| wanted.answer.len() + 1).sum();
        let repeated: Vec<f64> = answers.iter().filter_map(|answer| answer.repeated_share).collect();
        Self {
            pairs: answers.len() as u64,
            perplexity: (sum(&|answer| answer.wanted_loss) / tokens.max(1.0)).exp(),
            bits_per_byte: sum(&|answer| answer.wanted_bits) / bytes.max(1) as f64,
            exact_share: sum(&|answer| f64::from(u8::from(answer.exact))) / count,
            token_f1: sum(&|answer| answer.token_f1) / count,
            repeated_share: repeated.iter().sum::<f64>() / repeated.len().max(1) as f64,
        }
    }
}

/// The answers of a model to all prompts, in order. `progress` hears of every pair and stops the work by returning `false`; the result is then `None`.
///
/// # Errors
/// A way of decoding that is impossible for the model.
pub fn answers(
    ready: &Arc<ReadyModel>,
    wanted: &[Wanted],
    writing: &Writing,
    progress: &(dyn Fn() -> bool + Sync),
) -> Result<Option<Vec<Answer>>, LabError> {
    writing.decoding.check(ready.vocabulary().len())?;
    if let Some(beam) = &writing.beam {
        beam.check()?;
    }
    let new = || (Generator::new(Arc::clone(ready)), Conversation::new(Arc::clone(ready)));
    let one = |(generator, conversation): &mut (Generator, Conversation),
               (number, wanted): (usize, &Wanted)| {
        if !progress() {
            return Ok(None);
        }
        let (wanted_loss, wanted_tokens, wanted_bits) = expected(ready, conversation, wanted);
        let (text, indices) = written(generator, wanted, writing, number as u64)?;
        let (own, theirs) = (words(&text), words(&ready.vocabulary().cleaning().apply(&wanted.answer)));
        Ok(Some(Answer {
            exact: own == theirs,
            token_f1: token_f1(&own, &theirs),
            repeated_share: distinct_share(&[&indices], REPEATED).map(|share| 1.0 - share),
            text,
            indices,
            wanted_loss,
            wanted_tokens,
            wanted_bits,
        }))
    };
    wanted.par_iter().enumerate().map_init(new, |room, wanted| one(room, wanted)).collect()
}

/// How the wanted answer and its end are expected after the prompt: their loss, their number of tokens, their bits.
fn expected(ready: &ReadyModel, conversation: &mut Conversation, wanted: &Wanted) -> (f64, u64, f64) {
    let vocabulary = ready.vocabulary();
    conversation.restart();
    // A base that knows no word of the prompt answers without it.
    let _ = conversation.read(&wanted.prompt);
    let mut indices = Vec::new();
    let remainder = vocabulary.encoder().encode_whole(&wanted.answer, &mut indices);
    indices.push(vocabulary.turns().map_or(Reserved::END, |turns| turns.answer_end));
    let mut loss = 0.0;
    for &index in &indices {
        let scores = conversation.scores();
        loss += log_total(scores) - f64::from(scores[index as usize]);
        conversation.follow(index, ready.resets());
    }
    (loss, indices.len() as u64, loss / LN_2 + remainder.bits())
}

/// The model's own answer, and its tokens.
fn written(
    generator: &mut Generator,
    wanted: &Wanted,
    writing: &Writing,
    number: u64,
) -> Result<(String, Vec<u32>), LabError> {
    let mut random = stream(writing.seed, "answers", &[number]);
    let mut write = |seed_text: &str| {
        let request = Request { seed_text, terms: Terms::new(writing.decoding, writing.tokens) };
        match &writing.beam {
            Some(beam) => {
                let found = generator.search(&request, beam, &mut random, &mut |_| true)?;
                found.into_iter().next().map(|(sample, _)| sample).ok_or(LabError::SeedUnknown)
            }
            None => generator.write(&request, random.clone(), |_| true),
        }
    };
    let sample = match write(&wanted.prompt) {
        Err(LabError::SeedUnknown) => write("")?,
        sample => sample?,
    };
    Ok((sample.text.trim().to_owned(), sample.indices))
}

/// The words and punctuation marks of a text.
fn words(text: &str) -> Vec<String> {
    let mut words = Vec::new();
    Unit::Word.tokenise(text, |word| words.push(word.to_owned()));
    words
}

/// Harmonic mean of precision and recall of words, each as often as it is there; 1 for two texts without words.
fn token_f1(own: &[String], wanted: &[String]) -> f64 {
    if own.is_empty() && wanted.is_empty() {
        return 1.0;
    }
    let mut left: HashMap<&str, usize> = HashMap::new();
    wanted.iter().for_each(|word| *left.entry(word).or_default() += 1);
    let mut shared = 0;
    for word in own {
        if let Some(count) = left.get_mut(word.as_str()).filter(|count| **count > 0) {
            *count -= 1;
            shared += 1;
        }
    }
    2.0 * shared as f64 / (own.len() + wanted.len()) as f64
}

/// A difference between two models over the same pairs.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Difference {
    /// The second minus the first.
    pub difference: f64,
    /// Ends of its 95 % interval, by bootstrap over the pairs.
    pub interval: (f64, f64),
}

/// The difference of a ratio of sums over pairs: `first` and `second` have a number for each pair, `over` what both are divided by.
pub fn difference(first: &[f64], second: &[f64], over: &[f64]) -> Difference {
    let of = |chosen: &mut dyn Iterator<Item = usize>| {
        let (above, below) = chosen.fold((0.0, 0.0), |(above, below), pair| {
            (above + second[pair] - first[pair], below + over[pair])
        });
        above / f64::max(below, f64::MIN_POSITIVE)
    };
    let mut random = stream(1, "bootstrap", &[]);
    let mut differences: Vec<f64> = (0..RESAMPLES)
        .map(|_| of(&mut (0..first.len()).map(|_| random.random_range(0..first.len()))))
        .collect();
    differences.sort_by(f64::total_cmp);
    let cut = RESAMPLES / 40;
    Difference {
        difference: of(&mut (0..first.len())),
        interval: (differences[cut], differences[RESAMPLES - 1 - cut]),
    }
}

#[cfg(test)]
mod tests {
    use super::{Answer, AnswerFigures, Wanted, difference, token_f1, words};

    #[test]
    fn words_are_compared_as_often_as_they_are_there() {
        let f1 = |own: &str, wanted: &str| token_f1(&words(own), &words(wanted));
        assert_eq!(f1("the queen is in hive 3.", "the queen is in hive 3 ."), 1.0);
        assert_eq!([f1("", ""), f1("bee", ""), f1("", "bee")], [1.0, 0.0, 0.0]);
        // Two of three against two of four: precision 2/3, recall 1/2.
        assert!((f1("the the bee", "the bee is here") - 4.0 / 7.0).abs() < 1e-12);
    }

    #[test]
    fn figures_are_means_over_pairs_and_sums_over_tokens_and_bytes() {
        let answer = |loss: f64, tokens, exact, f1, repeated| Answer {
            text: String::new(),
            indices: Vec::new(),
            exact,
            token_f1: f1,
            repeated_share: repeated,
            wanted_loss: loss,
            wanted_tokens: tokens,
            wanted_bits: 2.0 * loss,
        };
        let answers = [answer(3.0, 2, true, 1.0, None), answer(5.0, 6, false, 0.5, Some(0.25))];
        let wanted = ["abc", "abcde"].map(|answer| Wanted { prompt: "?".into(), answer: answer.into() });
        let figures = AnswerFigures::of(&wanted, &answers);
        assert!((figures.perplexity - 1f64.exp()).abs() < 1e-12);
        assert!((figures.bits_per_byte - 16.0 / 10.0).abs() < 1e-12);
        assert_eq!((figures.exact_share, figures.token_f1, figures.repeated_share), (0.5, 0.75, 0.25));
    }

    #[test]
    fn a_difference_has_an_interval_that_holds_it_and_chance_holds_zero() {
        let first: Vec<f64> = (0..200).map(|pair| f64::from(pair % 7)).collect();
        let better: Vec<f64> = first.iter().map(|x| x - 0.5).collect();
        let ones = vec![1.0; 200];
        let found = difference(&first, &better, &ones);
        assert!((found.difference + 0.5).abs() < 1e-12 && (found.interval.1 + 0.5).abs() < 1e-9);
        let mixed: Vec<f64> = first.iter().zip(0..).map(|(x, pair)| x + [0.3, -0.3][pair % 2]).collect();
        let found = difference(&first, &mixed, &vec![2.0; 200]);
        assert!(found.difference.abs() < 1e-12 && found.interval.0 < 0.0 && found.interval.1 > 0.0);
    }
}
