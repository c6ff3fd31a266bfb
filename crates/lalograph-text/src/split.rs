//! Which documents are for training and which are held out.

/// Where a document stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Side {
    /// Learnt from.
    Training,
    /// Held out, to judge by.
    Validation,
}

/// The side of a document, from a hash of its text and the seed: about `share` of all documents are held out. A document
/// keeps its side whatever is added to the corpus, and equal documents always stand on the same one.
pub fn side_of(text: &str, seed: u64, share: f64) -> Side {
    let mut hash = blake3::Hasher::new();
    hash.update(b"split");
    hash.update(&seed.to_le_bytes());
    hash.update(text.as_bytes());
    let mut first = [0; 8];
    hash.finalize_xof().fill(&mut first);
    let position = (u64::from_le_bytes(first) >> 11) as f64 / (1u64 << 53) as f64;
    if position < share { Side::Validation } else { Side::Training }
}

#[cfg(test)]
mod tests {
    use super::{Side, side_of};

    #[test]
    fn the_share_is_about_what_was_asked_and_seeds_differ() {
        let held = |seed, share| -> Vec<bool> {
            (0..20_000).map(|i| side_of(&format!("entry {i}"), seed, share) == Side::Validation).collect()
        };
        for share in [0.0, 0.05, 0.5, 1.0] {
            let count = held(1, share).iter().filter(|&&h| h).count() as f64 / 20_000.0;
            assert!((count - share).abs() < 0.02, "{share}: {count}");
        }
        assert_ne!(held(1, 0.5), held(2, 0.5));
    }
}
