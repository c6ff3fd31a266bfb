//! Whether text that is to evaluate a model was learnt from.

use std::collections::{HashMap, HashSet};
use std::hash::{DefaultHasher, Hasher};
use std::ops::Range;

use lalograph_text::tokens::TokenSequence;

/// Documents of fewer tokens are the same by chance.
const SHORTEST: usize = 12;

/// The share of the held-out documents that also occur in the training text, word for word; `None` if every document is too short to compare.
pub(crate) fn seen_share(training: &TokenSequence, held_out: &TokenSequence) -> Option<f64> {
    // By their beginnings first, so that most of what is learnt from need not be read to its end.
    let mut wanted: HashMap<u64, Vec<u64>> = HashMap::new();
    for range in long_documents(held_out) {
        wanted.entry(hash(held_out, beginning(&range))).or_default().push(hash(held_out, range));
    }
    let all: usize = wanted.values().map(Vec::len).sum();
    let mut seen = HashSet::new();
    for range in long_documents(training) {
        if let Some(whole) = wanted.get(&hash(training, beginning(&range))) {
            let found = hash(training, range);
            if whole.contains(&found) {
                seen.insert(found);
            }
        }
    }
    let found = wanted.values().flatten().filter(|hash| seen.contains(hash)).count();
    (all > 0).then(|| found as f64 / all as f64)
}

fn long_documents(text: &TokenSequence) -> impl Iterator<Item = Range<usize>> {
    text.bounds().filter(|range| range.len() > SHORTEST)
}

fn beginning(range: &Range<usize>) -> Range<usize> {
    range.start..range.start + SHORTEST
}

fn hash(text: &TokenSequence, range: Range<usize>) -> u64 {
    let mut hash = DefaultHasher::new();
    range.for_each(|at| hash.write_u32(text.index(at)));
    hash.finish()
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
    fn whole_documents_are_found_at_any_place_and_short_ones_not_counted() {
        let training = text(&[(10, 20), (50, 30), (10, 3)]);
        assert_eq!(seen_share(&training, &text(&[(50, 30), (51, 30)])), Some(0.5));
        assert_eq!(seen_share(&training, &text(&[(50, 29)])), Some(0.0));
        assert_eq!(seen_share(&training, &text(&[(10, 3)])), None);
        assert_eq!(seen_share(&training, &text(&[(10, 3), (10, 20), (10, 20)])), Some(1.0));
        assert_eq!(seen_share(&training, &text(&[])), None);
    }
}
