//! Decodings compared beside each other, by what comes of them.

use serde::Serialize;

use super::copying::{Copying, distinct_share};

/// Figures of many texts written with one set of decoding settings. Held-out text has the same figures; the closer the two, the more
/// the decoding writes like the training text.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Trial {
    /// Texts.
    pub texts: usize,
    /// Their tokens.
    pub tokens: u64,
    /// e to the mean loss per token under the model itself, at temperature 1 and with nothing left out.
    pub perplexity: f64,
    /// Different tokens, pairs and triples over all of them, in all texts together; none where no text is so long. More text has more repetition, so
    /// only equal numbers of tokens compare.
    pub distinct_shares: [Option<f64>; 3],
    /// The mean share of a text's n-grams that was earlier in it.
    pub repeated_share: Option<f64>,
    /// The mean length of the longest run of each text that is in the training text; none where that is not known.
    pub longest_run_mean: Option<f64>,
    /// The longest of all.
    pub longest_run: Option<usize>,
    /// The share of all tokens that lie in copied runs.
    pub copied_share: Option<f64>,
}

/// A text that was written or held out, and the sum of its tokens' log-probabilities.
#[derive(Debug, Clone, Copy)]
pub struct TrialText<'t> {
    /// Its tokens.
    pub indices: &'t [u32],
    /// The natural logarithm of its probability under the model.
    pub log_probability: f64,
}

impl Trial {
    /// The figures of some texts. `copied` are the results of [`super::copying::copying`] for each of them, if there is a training text.
    pub fn new(texts: &[TrialText<'_>], repeated: &[Option<f64>], copied: Option<&[Copying]>) -> Self {
        let indices: Vec<&[u32]> = texts.iter().map(|text| text.indices).collect();
        let tokens: u64 = indices.iter().map(|text| text.len() as u64).sum();
        let log_probability: f64 = texts.iter().map(|text| text.log_probability).sum();
        let known: Vec<f64> = repeated.iter().flatten().copied().collect();
        let mean = |sum: f64, count: usize| (count > 0).then(|| sum / count as f64);
        let copied = copied.filter(|copied| !copied.is_empty());
        let runs = copied.map(|copied| copied.iter().map(|copying| copying.longest.tokens));
        Self {
            texts: texts.len(),
            tokens,
            perplexity: (-log_probability / tokens as f64).exp(),
            distinct_shares: [1, 2, 3].map(|n| distinct_share(&indices, n)),
            repeated_share: mean(known.iter().sum(), known.len()),
            longest_run_mean: runs
                .clone()
                .and_then(|runs| mean(runs.clone().sum::<usize>() as f64, runs.count())),
            longest_run: runs.and_then(Iterator::max),
            copied_share: copied.map(|copied| {
                let sum: f64 =
                    copied.iter().map(|copying| copying.copied_share * copying.tokens as f64).sum();
                sum / tokens.max(1) as f64
            }),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::{Trial, TrialText};
    use crate::writing::copying::{CopiedRun, Copying};

    #[test]
    fn figures_worked_out_by_hand() {
        let text = |indices, log_probability| TrialText { indices, log_probability };
        let texts = [text(&[4, 5, 4][..], -3.0), text(&[4], -1.0)];
        let copied = |tokens, longest, copied_share| Copying {
            tokens,
            longest: CopiedRun { tokens: longest, start: 0, training_start: 0 },
            copied_share,
            repeated_share: None,
        };
        let copies = [copied(3, 2, 2.0 / 3.0), copied(1, 1, 0.0)];
        let trial = Trial::new(&texts, &[Some(0.5), None], Some(&copies));
        assert_eq!((trial.texts, trial.tokens, trial.longest_run), (2, 4, Some(2)));
        assert!((trial.perplexity - 1.0f64.exp()).abs() < 1e-12);
        assert_eq!(trial.distinct_shares, [Some(0.5), Some(1.0), Some(1.0)]);
        assert_eq!(
            (trial.repeated_share, trial.longest_run_mean, trial.copied_share),
            (Some(0.5), Some(1.5), Some(0.5))
        );
        let short = Trial::new(&texts[1..], &[None], None);
        assert_eq!((short.distinct_shares[1], short.repeated_share, short.copied_share), (None, None, None));
    }
}
