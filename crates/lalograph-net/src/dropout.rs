//! Dropout (Srivastava et al., 2014), scaled while training so that expectations hold and nothing changes afterwards.

use rand::Rng;

use crate::activation::vectorised;
use crate::random::Stream;
use crate::real::Real;

/// Fills `mask` with 0 at probability `rate` and with 1 / (1 - rate) elsewhere. `rate` is rounded to a multiple of 1/65536.
pub fn draw_mask<T: Real>(mask: &mut [T], rate: f64, random: &mut Stream) {
    let threshold = (rate * 65_536.0).round() as u32;
    let keep = T::of(65_536.0 / (65_536.0 - f64::from(threshold)));
    for four in mask.chunks_mut(4) {
        let bits = random.next_u64();
        for (index, x) in four.iter_mut().enumerate() {
            let draw = (bits >> (16 * index)) as u16;
            *x = if u32::from(draw) < threshold { T::ZERO } else { keep };
        }
    }
}

/// Multiplies each number by its mask's: the forward and the backward pass alike.
pub fn apply<T: Real>(mask: &[T], xs: &mut [T]) {
    vectorised(|| {
        for (x, &m) in xs.iter_mut().zip(mask) {
            *x *= m;
        }
    });
}

#[cfg(test)]
mod tests {
    use super::draw_mask;
    use crate::random::stream;

    #[test]
    fn the_share_dropped_and_the_expectation_are_as_asked() {
        for rate in [0.0, 0.1, 0.5, 0.9] {
            let mut mask = vec![0.0f64; 200_001];
            draw_mask(&mut mask, rate, &mut stream(1, "dropout", &[0]));
            let n = mask.len() as f64;
            let dropped = mask.iter().filter(|&&m| m == 0.0).count() as f64 / n;
            let mean = mask.iter().sum::<f64>() / n;
            let error = 5.0 * (rate * (1.0 - rate) / n).sqrt() + 1e-4;
            assert!((dropped - rate).abs() < error, "{rate}: {dropped}");
            assert!((mean - 1.0).abs() < error / (1.0 - rate), "{rate}: {mean}");
        }
    }
}
