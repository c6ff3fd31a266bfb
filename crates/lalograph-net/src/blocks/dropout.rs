//! Dropout (Srivastava et al., 2014): while training, a share of numbers is zero and the others are scaled up, so that expectations hold.

use rand::Rng;

use crate::numbers::chance::{Stream, stream};
use crate::numbers::real::Real;
use crate::vectorised;

/// The share of numbers dropped in each place where it can be done, 0 for none.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct DropoutRates {
    /// In the vectors of tokens.
    pub inputs: f64,
    /// Whole words: all numbers of a token, everywhere in the window (Gal and Ghahramani, 2016).
    pub words: f64,
    /// Between layers.
    pub layers: f64,
    /// On the recurrent path, with one mask for all steps of a window (Gal and Ghahramani, 2016).
    pub recurrent: f64,
    /// Before the output.
    pub output: f64,
}

impl DropoutRates {
    /// Whether anything is dropped at all.
    pub fn any(&self) -> bool {
        [self.inputs, self.words, self.layers, self.recurrent, self.output].iter().any(|&rate| rate > 0.0)
    }
}

/// Dropout for one pass: the rates, and where the masks come from. The same draw gives the same masks.
#[derive(Debug)]
pub struct Dropout {
    /// The rates.
    pub rates: DropoutRates,
    /// Random stream of the masks.
    pub random: Stream,
    /// Random stream of dropped words, the same in all lanes.
    pub words: WordMask,
}

impl Dropout {
    /// The masks of lane `lane` in step `step` of a run with this seed.
    pub fn draw(rates: DropoutRates, seed: u64, step: u64, lane: u64) -> Self {
        let mut words = stream(seed, "word dropout", &[step]);
        Self {
            rates,
            random: stream(seed, "dropout", &[step, lane]),
            words: WordMask { key: words.next_u64(), threshold: threshold(rates.words) },
        }
    }

    /// The masks of one part of such a lane, for work that is done part by part and repeated in the backward pass.
    pub fn draw_part(rates: DropoutRates, seed: u64, step: u64, lane: u64, part: u64) -> Self {
        Self { random: stream(seed, "dropout", &[step, lane, part]), ..Self::draw(rates, seed, step, lane) }
    }
}

/// Which tokens are dropped whole.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct WordMask {
    key: u64,
    threshold: u32,
}

impl WordMask {
    /// The factor on the vector of `token`: 0 if it is dropped, otherwise the scale of kept vectors.
    pub fn factor<T: Real>(&self, token: u32) -> T {
        // The finaliser of SplitMix64 (Steele, Lea and Flood, 2014): every bit of the key and the token moves every bit.
        let mut x = self.key ^ u64::from(token).wrapping_mul(0x9e37_79b9_7f4a_7c15);
        x = (x ^ (x >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        x = (x ^ (x >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        let draw = (x >> 48) as u32;
        if draw < self.threshold { T::ZERO } else { keep(self.threshold) }
    }
}

/// Draws of 16 bits below this are dropped: the rate is rounded to a multiple of 1/65536.
fn threshold(rate: f64) -> u32 {
    (rate * 65_536.0).round() as u32
}

fn keep<T: Real>(threshold: u32) -> T {
    T::of(65_536.0 / (65_536.0 - f64::from(threshold)))
}

/// Numbers of a mask that are drawn together.
const PIECE: usize = 1024;

/// Fills `mask` with 0 for what is dropped and 1 / (1 - rate) for what is kept; the rate is rounded to a multiple of 1/65536.
pub fn draw_mask<T: Real>(mask: &mut [T], rate: f64, random: &mut Stream) {
    let threshold = threshold(rate);
    let keep = keep(threshold);
    let mut bytes = [0; 2 * PIECE];
    for piece in mask.chunks_mut(PIECE) {
        // Whole words of the stream, whatever is left over.
        let bytes = &mut bytes[..2 * piece.len().next_multiple_of(4)];
        random.fill_bytes(bytes);
        vectorised!({
            for (x, draw) in piece.iter_mut().zip(bytes.as_chunks::<2>().0) {
                *x = if u32::from(u16::from_le_bytes(*draw)) < threshold { T::ZERO } else { keep };
            }
        });
    }
}

/// Drops a share of `xs` and scales the others, by a mask that it draws and leaves in `mask` for the backward pass.
pub fn drop_out<T: Real>(xs: &mut [T], mask: &mut [T], rate: f64, random: &mut Stream) {
    // A piece at a time, which is in the cache when it is used.
    for (xs, mask) in xs.chunks_mut(PIECE).zip(mask.chunks_mut(PIECE)) {
        draw_mask(mask, rate, random);
        apply(mask, xs);
    }
}

/// Multiplies each number by its mask's: the forward and the backward pass alike.
pub fn apply<T: Real>(mask: &[T], xs: &mut [T]) {
    vectorised!({
        for (x, &m) in xs.iter_mut().zip(mask) {
            *x *= m;
        }
    });
}

#[cfg(test)]
mod tests {
    use rand::Rng;

    use super::{Dropout, DropoutRates, draw_mask, drop_out};
    use crate::numbers::chance::stream;

    #[test]
    fn the_dropped_share_and_the_expectation_match_the_rate() {
        for rate in [0.0, 0.1, 0.5, 0.9] {
            let mut mask = vec![0.0f64; 200_001];
            draw_mask(&mut mask, rate, &mut stream(1, "dropout", &[0]));
            let rates = DropoutRates { words: rate, ..DropoutRates::default() };
            let words = Dropout::draw(rates, 1, 0, 0).words;
            let whole: Vec<f64> = (0..200_001).map(|token| words.factor(token)).collect();
            for mask in [mask, whole] {
                let n = mask.len() as f64;
                let dropped = mask.iter().filter(|&&m| m == 0.0).count() as f64 / n;
                let mean = mask.iter().sum::<f64>() / n;
                let error = 5.0 * (rate * (1.0 - rate) / n).sqrt() + 1e-4;
                assert!((dropped - rate).abs() < error, "{rate}: {dropped}");
                assert!((mean - 1.0).abs() < error / (1.0 - rate), "{rate}: {mean}");
            }
        }
    }

    #[test]
    fn a_number_is_dropped_by_its_own_bits_of_the_stream() {
        // Four numbers have a word of 64 bits, the last word too if it has fewer numbers.
        for length in [0, 1, 4, 1023, 1024, 1025, 4097] {
            let (mut mask, mut xs) = (vec![7.0f64; length], vec![2.0; length]);
            let mut random = stream(1, "dropout", &[2]);
            drop_out(&mut xs, &mut mask, 0.25, &mut random);
            let mut words = stream(1, "dropout", &[2]);
            let expected: Vec<f64> = (0..length.div_ceil(4))
                .map(|_| words.next_u64())
                .flat_map(|word| (0..4).map(move |part| (word >> (16 * part)) as u16))
                .map(|draw| if draw < 16_384 { 0.0 } else { 4.0 / 3.0 })
                .take(length)
                .collect();
            assert_eq!(mask, expected, "{length}");
            assert!(xs.iter().zip(&mask).all(|(x, m)| *x == 2.0 * m), "{length}");
            assert_eq!(random.next_u64(), words.next_u64(), "{length}");
        }
    }

    #[test]
    fn lanes_drop_the_same_words_and_steps_others() {
        let rates = DropoutRates { words: 0.5, ..DropoutRates::default() };
        let words = |step, lane| Dropout::draw(rates, 1, step, lane).words;
        assert_eq!(words(3, 0), words(3, 1));
        let dropped =
            |step| (0..64).filter(|&token| words(step, 0).factor::<f64>(token) == 0.0).collect::<Vec<_>>();
        assert_ne!(dropped(3), dropped(4));
    }
}
