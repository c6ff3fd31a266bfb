//! Perplexities that give a model's perplexity meaning.

use lalograph_text::tokens::TokenSequence;
use lalograph_text::{Reserved, Vocabulary};

/// Mean loss per token of a model that knows only how often each token occurs in the training text, every count raised by one
/// so that none is impossible. The padding and start tokens are never predicted and take no share.
pub fn unigram_loss(vocabulary: &Vocabulary, training: &TokenSequence, judged: &TokenSequence) -> f64 {
    let mut counts: Vec<f64> =
        training.counts(vocabulary.len()).into_iter().map(|count| count as f64 + 1.0).collect();
    counts[Reserved::PADDING as usize] = 0.0;
    counts[Reserved::START as usize] = 0.0;
    let total: f64 = counts.iter().sum();
    let sum: f64 = judged.iter().map(|index| -(counts[index as usize] / total).ln()).sum();
    sum / judged.len() as f64
}

#[cfg(test)]
mod tests {
    use super::unigram_loss;
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
    }
}
