//! Decoding: the choice of the next token from its distribution.

use lalograph_net::numbers::activation::exp_and_sum;
use lalograph_net::numbers::chance::Stream;
use lalograph_net::vectorised;
use lalograph_text::{Reserved, Vocabulary};
use rand::RngExt;

use crate::error::LabError;

lalograph_net::choice! {
    /// Treatment of the unknown token in written text.
    pub enum UnknownTokens = LeaveOut {
        /// Never draw it; all other tokens share its probability.
        LeaveOut = "leave_out",
        /// Draw it like any other token, and write its name.
        Draw = "draw",
        /// Draw it like any other token, and write a spelling drawn from the vocabulary's spelling model.
        Spell = "spell",
    }
}

/// Decoding settings, applied in this order: repeat power, the k most probable tokens, temperature, the smallest set that
/// covers p.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Decoding {
    /// Every log-probability is divided by this, which is above 0: low is sure and repetitive, high is varied and wild. None for
    /// always the most probable.
    pub temperature: Option<f64>,
    /// Draw from this many of the most probable tokens only; `None` draws from all.
    pub top_k: Option<usize>,
    /// Only among the most probable tokens that together cover this share of the distribution (Holtzman et al., 2020); none for among all.
    pub top_p: Option<f64>,
    /// Factor on the log-probability of every token that the text already has, at least 1: p becomes p to this power. After
    /// Keskar et al. (2019), whose penalty depends on where scores have their zero.
    pub repeat_power: f64,
    /// Handling of the unknown token.
    pub unknown: UnknownTokens,
}

impl Decoding {
    /// Always the most probable token.
    pub const GREEDY: Self = Self {
        temperature: None,
        top_k: None,
        top_p: None,
        repeat_power: 1.0,
        unknown: UnknownTokens::LeaveOut,
    };

    /// Drawn at a temperature, nothing else.
    pub fn at_temperature(temperature: f64) -> Self {
        Self { temperature: Some(temperature), ..Self::GREEDY }
    }

    /// Refuses settings that are impossible for a vocabulary of this size.
    ///
    /// # Errors
    /// A temperature that is not above 0, a k of 0 or beyond the vocabulary, a p outside 0 to 1, a penalty below 1.
    pub fn check(&self, vocabulary: usize) -> Result<(), LabError> {
        let refuse = |setting, value: String, must| Err(LabError::Decoding { setting, value, must });
        match *self {
            Self { temperature: Some(t), .. } if !(t > 0.0 && t.is_finite()) => Err(LabError::Temperature(t)),
            Self { top_k: Some(0), .. } => refuse("top-k", "0".into(), "at least 1"),
            Self { top_k: Some(k), .. } if k > vocabulary => {
                refuse("top-k", k.to_string(), "at most the size of the vocabulary")
            }
            Self { top_p: Some(p), .. } if !(p > 0.0 && p <= 1.0) => {
                refuse("top-p", p.to_string(), "above 0 and at most 1")
            }
            Self { repeat_power: r, .. } if !(r >= 1.0 && r.is_finite()) => {
                refuse("repeat power", r.to_string(), "1 or above")
            }
            _ => Ok(()),
        }
    }

    /// Draws a spelling for the token, if it is the unknown token and should be spelt.
    pub(super) fn spelling_of(
        &self,
        token: u32,
        vocabulary: &Vocabulary,
        random: &mut Stream,
    ) -> Option<String> {
        let spelt = self.unknown == UnknownTokens::Spell && token == Reserved::UNKNOWN;
        spelt.then(|| vocabulary.draw_unlisted(&mut || random.random::<f64>()))
    }

    /// Whether anything keeps tokens out or makes them less likely.
    fn is_plain(&self) -> bool {
        self.top_k.is_none() && self.top_p.is_none() && self.repeat_power == 1.0
    }
}

/// The first index that may be written; padding and start have no probability anyway.
fn first_admitted(unknown: UnknownTokens) -> u32 {
    if unknown == UnknownTokens::LeaveOut { Reserved::END } else { Reserved::UNKNOWN }
}

/// Scores that may be written: all but the padding and start tokens, and but the unknown token where that is left out.
fn admitted(scores: &[f32], unknown: UnknownTokens) -> impl Iterator<Item = (u32, f32)> {
    let from = first_admitted(unknown);
    let all = (from..).zip(scores[from as usize..].iter().copied());
    all.filter(|(index, _)| !Reserved::NEVER_PREDICTED.contains(index))
}

/// Sums of single precision are kept this short.
const SUMMED: usize = 1024;

/// e to the power of (score - highest score) / temperature, for each score; and their sum.
fn weights(scores: &[f32], greatest: f32, temperature: f32) -> (Vec<f32>, f64) {
    let mut weights = scores.to_vec();
    let total = vectorised!({
        weights
            .chunks_mut(SUMMED)
            .map(|chunk| {
                chunk.iter_mut().for_each(|score| *score = (*score - greatest) / temperature);
                f64::from(exp_and_sum(chunk, 0.0))
            })
            .sum()
    });
    (weights, total)
}

/// The logarithm of the sum of e to the power of each score, over all tokens.
pub fn log_total(scores: &[f32]) -> f64 {
    let greatest = greatest(scores);
    let sum: f64 = scores.iter().map(|&score| (f64::from(score) - f64::from(greatest)).exp()).sum();
    f64::from(greatest) + sum.ln()
}

/// The same to what single precision is worth, many times as fast: for every token that is written.
pub(super) fn quick_log_total(scores: &[f32]) -> f64 {
    let greatest = greatest(scores);
    f64::from(greatest) + weights(scores, greatest, 1.0).1.ln()
}

/// The tokens with the greatest scores, the greatest first; of equal ones the first in the vocabulary.
pub(crate) fn most_probable(scores: &[f32], count: usize) -> Vec<(u32, f32)> {
    let mut found: Vec<(u32, f32)> = Vec::with_capacity(count + 1);
    let mut least = f32::NEG_INFINITY;
    for (index, &score) in (0..).zip(scores) {
        let place = found.len();
        if place < count || score > least {
            let place = (0..place).find(|&at| score > found[at].1).unwrap_or(place);
            found.insert(place, (index, score));
            found.truncate(count);
            least = found.last().map_or(least, |last| last.1);
        }
    }
    found
}

fn greatest(scores: &[f32]) -> f32 {
    scores.iter().copied().fold(f32::NEG_INFINITY, f32::max)
}

/// Chooses an index by its score, a natural log-probability up to a constant. `seen` says which tokens are in the text already.
pub fn choose(scores: &[f32], decoding: &Decoding, seen: &[bool], random: &mut Stream) -> u32 {
    if decoding.is_plain() {
        return choose_plainly(scores, decoding, random);
    }
    let candidates = candidates(scores, decoding, seen);
    let total: f64 = candidates.iter().map(|(_, weight)| weight).sum();
    let mut left = random.random::<f64>() * total;
    for &(index, weight) in &candidates {
        left -= weight;
        if left < 0.0 {
            return index;
        }
    }
    candidates.first().map_or(Reserved::END, |&(index, _)| index)
}

/// The tokens that may be drawn with weights in proportion to their probabilities, the most probable first.
pub(super) fn candidates(scores: &[f32], decoding: &Decoding, seen: &[bool]) -> Vec<(u32, f64)> {
    let penalty = decoding.repeat_power;
    let total = if penalty == 1.0 { 0.0 } else { log_total(scores) };
    let mut all: Vec<(u32, f64)> = admitted(scores, decoding.unknown)
        .map(|(index, score)| {
            let log = f64::from(score) - total;
            let repeated = penalty != 1.0 && seen.get(index as usize).copied().unwrap_or(false);
            (index, if repeated { log * penalty } else { log })
        })
        .collect();
    // Of equal ones the first in the vocabulary.
    let order = |a: &(u32, f64), b: &(u32, f64)| b.1.total_cmp(&a.1).then(a.0.cmp(&b.0));
    let keep = match decoding.temperature {
        None => 1,
        Some(_) => decoding.top_k.unwrap_or(all.len()),
    };
    if keep < all.len() {
        all.select_nth_unstable_by(keep - 1, order);
        all.truncate(keep);
    }
    all.sort_unstable_by(order);
    let greatest = all.first().map_or(0.0, |&(_, log)| log);
    let temperature = decoding.temperature.unwrap_or(1.0);
    all.iter_mut().for_each(|(_, log)| *log = ((*log - greatest) / temperature).exp());
    if let Some(share) = decoding.top_p {
        let wanted = share * all.iter().map(|(_, weight)| weight).sum::<f64>();
        let mut covered = 0.0;
        let enough = all.iter().position(|(_, weight)| {
            covered += weight;
            covered >= wanted
        });
        all.truncate(enough.map_or(all.len(), |last| last + 1));
    }
    all
}

fn choose_plainly(scores: &[f32], decoding: &Decoding, random: &mut Stream) -> u32 {
    let (best, greatest) = admitted(scores, decoding.unknown)
        .fold((Reserved::END, f32::NEG_INFINITY), |best, next| if next.1 > best.1 { next } else { best });
    let Some(temperature) = decoding.temperature else {
        return best;
    };
    let from = first_admitted(decoding.unknown);
    let (mut weights, mut total) =
        weights(&scores[from as usize..], greatest, (temperature as f32).max(f32::MIN_POSITIVE));
    for index in Reserved::NEVER_PREDICTED.iter().filter(|index| **index >= from) {
        let weight = std::mem::take(&mut weights[(index - from) as usize]);
        total -= f64::from(weight);
    }
    let mut left = random.random::<f64>() * total;
    for (index, &weight) in (from..).zip(&weights) {
        left -= f64::from(weight);
        if left < 0.0 {
            return index;
        }
    }
    best
}

#[cfg(test)]
mod tests {
    use super::{Decoding, UnknownTokens, candidates, choose};
    use lalograph_net::numbers::chance::stream;
    use proptest::prelude::*;

    const SCORES: [f32; 8] = [9.0, 9.0, 9.0, 0.3, 1.2, -0.4, 2.0, 0.9];

    fn drawn(decoding: &Decoding, seen: &[bool]) -> [u32; 8] {
        let mut random = stream(7, "sampling", &[]);
        let mut counts = [0u32; 8];
        for _ in 0..100_000 {
            counts[choose(&SCORES, decoding, seen, &mut random) as usize] += 1;
        }
        counts
    }

    /// Pearson's statistic of counts against probabilities in proportion to `weights`.
    fn statistic(counts: &[u32], weights: &[f64]) -> f64 {
        let (drawn, total): (f64, f64) = (counts.iter().map(|&c| f64::from(c)).sum(), weights.iter().sum());
        counts
            .iter()
            .zip(weights)
            .map(|(&count, weight)| {
                let expected = drawn * weight / total;
                if expected == 0.0 {
                    f64::from(count) * 1e9
                } else {
                    (f64::from(count) - expected).powi(2) / expected
                }
            })
            .sum()
    }

    /// Against the 99.9 % point of the chi-squared distribution with as many degrees of freedom as tokens that may be drawn, less one.
    #[test]
    fn draws_follow_the_distribution_in_every_way_of_choosing() {
        let weight = |index: usize, t: f64| (f64::from(SCORES[index]) / t).exp();
        for temperature in [0.5, 1.0, 2.0] {
            let at = |admitted: &[usize]| -> [f64; 8] {
                std::array::from_fn(
                    |index| if admitted.contains(&index) { weight(index, temperature) } else { 0.0 },
                )
            };
            let plain = Decoding::at_temperature(temperature);
            assert!(statistic(&drawn(&plain, &[]), &at(&[3, 4, 5, 6, 7])) < 18.47);
            let best = Decoding { top_k: Some(3), ..plain };
            assert!(statistic(&drawn(&best, &[]), &at(&[4, 6, 7])) < 13.82);
            let all = Decoding { top_k: Some(8), top_p: Some(1.0), ..plain };
            assert!(statistic(&drawn(&all, &[]), &at(&[3, 4, 5, 6, 7])) < 18.47);
        }
        // At temperature 1 the shares are 0.46, 0.21, 0.15, 0.08, ...: three tokens cover 0.8, two do not.
        let nucleus = Decoding { top_p: Some(0.75), ..Decoding::at_temperature(1.0) };
        let expected: [f64; 8] =
            std::array::from_fn(|i| if [4, 6, 7].contains(&i) { weight(i, 1.0) } else { 0.0 });
        assert!(statistic(&drawn(&nucleus, &[]), &expected) < 13.82);
        // A penalty of 2 squares the probability of what was seen; all eight scores have a share in the whole.
        let seen: [bool; 8] = std::array::from_fn(|index| index == 6);
        let total: f64 = SCORES.iter().map(|&s| f64::from(s).exp()).sum();
        let expected: [f64; 8] = std::array::from_fn(|i| {
            let p = f64::from(SCORES[i]).exp() / total;
            if i < 3 {
                0.0
            } else if i == 6 {
                p * p
            } else {
                p
            }
        });
        let penalised = Decoding { repeat_power: 2.0, ..Decoding::at_temperature(1.0) };
        assert!(statistic(&drawn(&penalised, &seen), &expected) < 18.47);
    }

    #[test]
    fn the_unknown_token_is_drawn_like_any_other_on_request() {
        let weight = |index: usize| f64::from(SCORES[index] - 9.0).exp();
        let plain = Decoding { unknown: UnknownTokens::Draw, ..Decoding::at_temperature(4.0) };
        let all = Decoding { top_k: Some(8), ..plain };
        for decoding in [plain, all] {
            let expected: [f64; 8] =
                std::array::from_fn(|i| if [0, 2].contains(&i) { 0.0 } else { weight(i).powf(0.25) });
            assert!(statistic(&drawn(&decoding, &[]), &expected) < 20.52);
        }
        let best = Decoding { temperature: None, ..plain };
        assert_eq!(choose(&SCORES, &best, &[], &mut stream(1, "sampling", &[])), 1);
    }

    #[test]
    fn greedy_takes_the_best_that_may_be_written() {
        let mut random = stream(1, "sampling", &[]);
        assert_eq!(choose(&SCORES, &Decoding::GREEDY, &[], &mut random), 6);
        let seen = [true; 8];
        let penalised = Decoding { repeat_power: 50.0, ..Decoding::GREEDY };
        assert_eq!(choose(&SCORES, &penalised, &seen, &mut random), 6, "all are alike");
        let only: [bool; 8] = std::array::from_fn(|index| index == 6);
        assert_eq!(choose(&SCORES, &penalised, &only, &mut random), 4);
        assert!((0..100).all(|_| choose(&SCORES, &Decoding::at_temperature(1e-6), &[], &mut random) == 6));
    }

    #[test]
    fn impossible_decoding_settings_are_refused() {
        let fine = Decoding { top_k: Some(8), top_p: Some(1.0), ..Decoding::at_temperature(0.7) };
        assert!(fine.check(8).is_ok() && Decoding::GREEDY.check(8).is_ok());
        for temperature in [0.0, -1.0, f64::NAN, f64::INFINITY] {
            assert!(Decoding::at_temperature(temperature).check(8).is_err());
        }
        for wrong in [
            Decoding { top_k: Some(0), ..fine },
            Decoding { top_k: Some(9), ..fine },
            Decoding { top_p: Some(0.0), ..fine },
            Decoding { top_p: Some(1.01), ..fine },
            Decoding { top_p: Some(f64::NAN), ..fine },
            Decoding { repeat_power: 0.9, ..fine },
            Decoding { repeat_power: f64::NAN, ..fine },
        ] {
            assert!(wrong.check(8).is_err(), "{wrong:?}");
        }
    }

    proptest! {
        /// Candidates against the definition, written plainly.
        #[test]
        fn candidates_are_those_of_the_definition(
            scores in prop::collection::vec(-5.0f32..5.0, 5..30), k in 1usize..30, p in 0.01f64..1.0, t in 0.2f64..3.0,
        ) {
            let decoding = Decoding { top_k: Some(k), top_p: Some(p), ..Decoding::at_temperature(t) };
            let mut sorted: Vec<(u32, f64)> =
                scores.iter().enumerate().skip(3).map(|(i, &s)| (i as u32, f64::from(s))).collect();
            sorted.sort_by(|a, b| b.1.total_cmp(&a.1).then(a.0.cmp(&b.0)));
            sorted.truncate(k);
            let total: f64 = sorted.iter().map(|(_, s)| (s / t).exp()).sum();
            let mut expected = Vec::new();
            let mut covered = 0.0;
            for (index, score) in sorted {
                if covered / total >= p {
                    break;
                }
                covered += (score / t).exp();
                expected.push(index);
            }
            let found: Vec<u32> = candidates(&scores, &decoding, &[]).iter().map(|(index, _)| *index).collect();
            // Where the sum falls on p itself, rounding decides.
            prop_assert!(found == expected || found.len().abs_diff(expected.len()) == 1, "{found:?} {expected:?}");
            prop_assert!(found.iter().zip(&expected).all(|(a, b)| a == b));
        }
    }
}
