//! Whether text that is to judge a model was learnt from.

use std::collections::HashSet;
use std::hash::{DefaultHasher, Hasher};

use lalograph_text::tokens::TokenSequence;

/// Documents of fewer tokens are the same by chance.
const SHORTEST: usize = 12;

/// The share of the held-out documents that stand word for word among those learnt from; none if no document is long enough to tell.
pub(crate) fn seen_share(training: &TokenSequence, held_out: &TokenSequence) -> Option<f64> {
    let mut held: Vec<u64> = hashes(held_out).collect();
    if held.is_empty() {
        return None;
    }
    let wanted: HashSet<u64> = held.iter().copied().collect();
    let seen: HashSet<u64> = hashes(training).filter(|hash| wanted.contains(hash)).collect();
    let all = held.len();
    held.retain(|hash| seen.contains(hash));
    Some(held.len() as f64 / all as f64)
}

/// A hash of each document that is long enough.
fn hashes(text: &TokenSequence) -> impl Iterator<Item = u64> {
    text.bounds().filter(|range| range.len() > SHORTEST).map(|range| {
        let mut hash = DefaultHasher::new();
        range.for_each(|at| hash.write_u32(text.index(at)));
        hash.finish()
    })
}

#[cfg(test)]
mod tests {
    use super::seen_share;
    use lalograph_text::Reserved;
    use lalograph_text::tokens::TokenSequence;

    fn text(documents: &[(u32, usize)]) -> TokenSequence {
        let indices = documents
            .iter()
            .flat_map(|&(first, length)| (0..length as u32).map(move |i| first + i).chain([Reserved::END]));
        TokenSequence::from_indices(indices.collect())
    }

    #[test]
    fn whole_documents_are_found_wherever_they_stand_and_short_ones_are_not_counted() {
        let training = text(&[(10, 20), (50, 30), (10, 3)]);
        assert_eq!(seen_share(&training, &text(&[(50, 30), (51, 30)])), Some(0.5));
        assert_eq!(seen_share(&training, &text(&[(50, 29)])), Some(0.0));
        assert_eq!(seen_share(&training, &text(&[(10, 3)])), None);
        assert_eq!(seen_share(&training, &text(&[(10, 3), (10, 20), (10, 20)])), Some(1.0));
        assert_eq!(seen_share(&training, &text(&[])), None);
    }
}
