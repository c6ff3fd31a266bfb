//! Named, independent random streams.
//!
//! Each use of chance (initial values, dropout, shuffling, sampling) draws from a stream of its own, named by a seed, a word and a
//! position. Adding a sample therefore changes no training, and continuing from step 500 needs no state but the number 500.

use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;

/// The generator behind every stream: the ChaCha stream cipher with 8 rounds (Bernstein, 2008).
pub type Stream = ChaCha8Rng;

/// The stream called `name` at `position`, for one `seed`.
///
/// ```
/// use rand::RngExt;
/// let draw = |name| lalograph_net::numbers::chance::stream(1, name, &[0]).random::<u64>();
/// assert_eq!(draw("dropout"), draw("dropout"));
/// assert_ne!(draw("dropout"), draw("sampling"));
/// ```
pub fn stream(seed: u64, name: &str, position: &[u64]) -> Stream {
    let mut hash = blake3::Hasher::new();
    hash.update(&seed.to_le_bytes());
    hash.update(&(name.len() as u64).to_le_bytes());
    hash.update(name.as_bytes());
    for part in position {
        hash.update(&part.to_le_bytes());
    }
    ChaCha8Rng::from_seed(*hash.finalize().as_bytes())
}
