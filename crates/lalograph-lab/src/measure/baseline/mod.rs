//! Models that are no networks, so that a perplexity can be compared.
//!
//! They are scored token by token like a network: the end of a document is predicted too, padding and start tokens never are, and every
//! document starts again.

mod ngram;

use lalograph_text::tokens::TokenSequence;
use lalograph_text::{Reserved, Vocabulary};

pub use ngram::{NgramModel, NgramReader};

/// Number of predicted indices of a vocabulary.
fn predicted(size: usize) -> usize {
    size.saturating_sub(Reserved::NEVER_PREDICTED.len()).max(1)
}

/// A model that is asked token by token.
pub trait Predictor {
    /// The probability of the token that comes next, given those before it in its document. Goes on to the next one; after an end a document begins.
    fn probability(&mut self, token: u32) -> f64;
}

/// Every token of the vocabulary is as likely as any other.
#[derive(Debug, Clone, Copy)]
pub struct Uniform {
    probability: f64,
}

impl Uniform {
    /// Over a vocabulary of `size` indices.
    pub fn new(size: usize) -> Self {
        Self { probability: 1.0 / predicted(size) as f64 }
    }
}

impl Predictor for Uniform {
    fn probability(&mut self, _: u32) -> f64 {
        self.probability
    }
}

/// Each token by its frequency in the training text, every count raised by one so that none is impossible.
#[derive(Debug, Clone)]
pub struct Unigram {
    probabilities: Vec<f64>,
}

impl Unigram {
    /// Over a vocabulary of `size` indices.
    pub fn new(size: usize, training: &TokenSequence) -> Self {
        Self::of_counts(training.scored_counts(size))
    }

    /// From the counts in a vocabulary.
    pub fn of_vocabulary(vocabulary: &Vocabulary) -> Self {
        let counted = vocabulary.counted();
        let mut counts = vec![0; Reserved::COUNT as usize];
        counts[Reserved::UNKNOWN as usize] = counted.tokens.saturating_sub(counted.tokens_covered);
        counts[Reserved::END as usize] = counted.documents;
        counts.extend(vocabulary.tokens().iter().map(|token| token.count));
        Self::of_counts(counts)
    }

    fn of_counts(counts: Vec<u64>) -> Self {
        let mut counts: Vec<f64> = counts.into_iter().map(|count| count as f64 + 1.0).collect();
        Reserved::NEVER_PREDICTED.iter().for_each(|&index| counts[index as usize] = 0.0);
        let total: f64 = counts.iter().sum();
        Self { probabilities: counts.into_iter().map(|count| count / total).collect() }
    }
}

impl Predictor for Unigram {
    fn probability(&mut self, token: u32) -> f64 {
        self.probabilities[token as usize]
    }
}

/// Mean loss of the unigram model over the tokens of a text that are scored.
pub fn unigram_loss(vocabulary: &Vocabulary, training: &TokenSequence, judged: &TokenSequence) -> f64 {
    let unigram = Unigram::new(vocabulary.len(), training);
    let counts = judged.scored_counts(vocabulary.len());
    let of =
        |(count, probability): (u64, f64)| if count > 0 { -(count as f64) * probability.ln() } else { 0.0 };
    let sum: f64 = counts.into_iter().zip(unigram.probabilities).map(of).sum();
    sum / judged.scored_tokens() as f64
}

#[cfg(test)]
mod tests {
    use super::{Predictor, Uniform, Unigram, unigram_loss};
    use lalograph_text::VocabularyBuilder;
    use lalograph_text::tokens::TokenSequence;
    use lalograph_text::vocabulary::VocabularySpec;

    #[test]
    fn agrees_with_a_sum_by_hand() {
        let mut builder = VocabularyBuilder::new(&VocabularySpec::default());
        builder.add("a a b");
        let words = builder.finish(1).unwrap();
        let sequence = TokenSequence::from_indices;
        // Indices: 1 unknown, 3 end, 4 a, 5 b. Counts + 1: unknown 1, end 2, a 3, b 2; in all 8.
        let loss = unigram_loss(&words, &sequence(vec![4, 4, 5, 3]), &sequence(vec![4, 1]));
        let expected = -((3.0f64 / 8.0).ln() + (1.0f64 / 8.0).ln()) / 2.0;
        assert!((loss - expected).abs() < 1e-12);
        assert_eq!(Uniform::new(6).probability(4), 0.25);
        let by_counts = Unigram::new(words.len(), &sequence(vec![4, 4, 5, 3]));
        assert_eq!(Unigram::of_vocabulary(&words).probabilities, by_counts.probabilities);
    }
}
