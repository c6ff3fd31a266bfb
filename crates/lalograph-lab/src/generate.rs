//! Writing text with a model.

use lalograph_net::LanguageModel;
use lalograph_net::model::{Lane, Purpose};
use lalograph_net::parameters::Weights;
use lalograph_net::random::Stream;
use lalograph_net::recurrent::Extent;
use lalograph_text::{Reserved, Vocabulary};
use rand::RngExt;

use crate::error::LabError;

/// How the next token is chosen.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Choice {
    /// Always the likeliest.
    Greedy,
    /// Drawn from the distribution with every log-probability divided by this, which is above 0: low is sure and repetitive, high
    /// is varied and wild.
    Temperature(f64),
}

impl Choice {
    /// A choice at a temperature.
    ///
    /// # Errors
    /// A temperature that is not above 0.
    pub fn at_temperature(temperature: f64) -> Result<Self, LabError> {
        if temperature > 0.0 && temperature.is_finite() {
            Ok(Self::Temperature(temperature))
        } else {
            Err(LabError::Temperature(temperature))
        }
    }
}

/// What to write.
#[derive(Debug, Clone, Copy)]
pub struct Request<'a> {
    /// What to go on from; empty for the start of a document.
    pub seed_text: &'a str,
    /// How tokens are chosen.
    pub choice: Choice,
    /// Tokens at most.
    pub tokens: usize,
    /// Whether to go on with another document where one ends.
    pub past_end: bool,
}

/// A text that was written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sample {
    /// The text without the seed text, with the space that it needs after it.
    pub text: String,
    /// Tokens drawn.
    pub tokens: u64,
    /// Whether it ended where a document ends.
    pub ended: bool,
}

/// Steps in which a seed text is read; no result depends on it.
const WINDOW: usize = 32;

/// Writes texts with one model, one after another.
pub struct Generator<'m> {
    model: &'m LanguageModel,
    weights: Weights<'m, f32>,
    vocabulary: &'m Vocabulary,
    lane: Lane<f32>,
    scores: Vec<f32>,
    /// Whether the state begins anew with every document.
    begins_anew: bool,
}

impl<'m> Generator<'m> {
    /// Makes room to work in. `begins_anew` is whether the model was trained to begin anew with every document.
    pub fn new(
        model: &'m LanguageModel,
        weights: Weights<'m, f32>,
        vocabulary: &'m Vocabulary,
        begins_anew: bool,
    ) -> Self {
        let lane = model.lane(Extent { steps: WINDOW, rows: 1 }, Purpose::Reading, false);
        Self { model, weights, vocabulary, lane, scores: vec![0.0; model.shape().vocabulary], begins_anew }
    }

    /// The tokens of a seed text that the vocabulary does not know, in order.
    pub fn unknown_tokens(&self, seed_text: &str) -> Vec<String> {
        let known = |(token, index): (String, u32)| (index == Reserved::UNKNOWN).then_some(token);
        self.vocabulary.encode(seed_text).into_iter().filter_map(known).collect()
    }

    /// Writes one text. `each` is given the text as it comes and stops the writing by returning `false`.
    ///
    /// # Errors
    /// A seed text with no known token in it.
    pub fn write(
        &mut self,
        request: &Request<'_>,
        random: &mut Stream,
        mut each: impl FnMut(&str) -> bool,
    ) -> Result<Sample, LabError> {
        let mut read = vec![Reserved::START];
        self.vocabulary.encoder().encode_into(request.seed_text, &mut read);
        if read.len() > 1 && read[1..].iter().all(|&index| index == Reserved::UNKNOWN) {
            return Err(LabError::SeedUnknown);
        }
        // The seed text is shown as it was given; its tokens only settle whether a space follows.
        let mut decoder = self.vocabulary.decoder();
        let mut seed = String::new();
        for &index in &read[1..] {
            decoder.push(index, &mut seed)?;
        }

        let weights = self.weights;
        self.model.begin(weights, &mut self.lane);
        for window in read.chunks(WINDOW) {
            self.model.forward(weights, window, None, &mut self.lane, None);
        }
        let mut sample = Sample { text: String::new(), tokens: 0, ended: false };
        while sample.tokens < request.tokens as u64 {
            self.model.last_scores(weights, &mut self.lane, &mut self.scores);
            let token = choose(&self.scores, request.choice, random);
            sample.tokens += 1;
            let from = sample.text.len();
            if token != Reserved::END {
                decoder.push(token, &mut sample.text)?;
            } else if request.past_end {
                decoder.finish(&mut sample.text);
                sample.text.push('\n');
            } else {
                sample.ended = true;
                break;
            }
            if !each(&sample.text[from..]) {
                break;
            }
            if token == Reserved::END && self.begins_anew {
                self.model.begin(weights, &mut self.lane);
            }
            let read = if token == Reserved::END { Reserved::START } else { token };
            self.model.forward(weights, &[read], None, &mut self.lane, None);
        }
        decoder.finish(&mut sample.text);
        Ok(sample)
    }
}

/// Chooses an index by its score. The padding, unknown and start tokens are never chosen.
pub fn choose(scores: &[f32], choice: Choice, random: &mut Stream) -> u32 {
    let admitted = || scores.iter().enumerate().skip(Reserved::END as usize);
    let (best, greatest) =
        admitted().fold((Reserved::END as usize, f32::NEG_INFINITY), |(best, greatest), (index, &score)| {
            if score > greatest { (index, score) } else { (best, greatest) }
        });
    let Choice::Temperature(temperature) = choice else {
        return best as u32;
    };
    let weight = |score: f32| (f64::from(score - greatest) / temperature).exp();
    let total: f64 = admitted().map(|(_, &score)| weight(score)).sum();
    let mut left = random.random::<f64>() * total;
    for (index, &score) in admitted() {
        left -= weight(score);
        if left < 0.0 {
            return index as u32;
        }
    }
    best as u32
}

#[cfg(test)]
mod tests {
    use super::{Choice, choose};
    use lalograph_net::random::stream;

    const SCORES: [f32; 8] = [9.0, 9.0, 9.0, 0.3, 1.2, -0.4, 2.0, 0.9];

    #[test]
    fn greedy_takes_the_best_that_may_be_written() {
        assert_eq!(choose(&SCORES, Choice::Greedy, &mut stream(1, "sampling", &[])), 6);
    }

    /// Pearson's statistic against its 99.9 % point for 4 degrees of freedom.
    #[test]
    fn draws_follow_the_distribution_at_each_temperature() {
        for temperature in [0.5, 1.0, 2.0] {
            let mut random = stream(7, "sampling", &[]);
            let mut counts = [0u32; 8];
            for _ in 0..100_000 {
                counts[choose(&SCORES, Choice::Temperature(temperature), &mut random) as usize] += 1;
            }
            assert_eq!(counts[..3], [0, 0, 0]);
            let weights: Vec<f64> = SCORES[3..].iter().map(|&s| (f64::from(s) / temperature).exp()).collect();
            let total: f64 = weights.iter().sum();
            let statistic: f64 = weights
                .iter()
                .zip(&counts[3..])
                .map(|(w, &count)| {
                    let expected = 100_000.0 * w / total;
                    (f64::from(count) - expected).powi(2) / expected
                })
                .sum();
            assert!(statistic < 18.47, "temperature {temperature}: {statistic}");
        }
    }

    #[test]
    fn a_temperature_near_zero_is_greedy_and_zero_is_refused() {
        let mut random = stream(1, "sampling", &[]);
        assert!((0..100).all(|_| choose(&SCORES, Choice::Temperature(1e-6), &mut random) == 6));
        for temperature in [0.0, -1.0, f64::NAN, f64::INFINITY] {
            assert!(Choice::at_temperature(temperature).is_err());
        }
    }
}
