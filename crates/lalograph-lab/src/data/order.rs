//! A random order of many things that is not written down anywhere.

use lalograph_net::numbers::chance::Stream;
use rand::RngExt;

/// A permutation of the numbers below a count, computed number by number: a balanced Feistel network over the next power of four,
/// walked along until it lies below the count (Black and Rogaway, "Ciphers with Arbitrary Finite Domains", 2002).
#[derive(Debug, Clone)]
pub(crate) struct Order {
    count: u64,
    half_bits: u32,
    keys: [u64; ROUNDS],
}

/// Rounds of the network: four mix every half with every other.
const ROUNDS: usize = 4;

impl Order {
    /// The order that a stream of chance draws.
    pub(crate) fn draw(count: u64, random: &mut Stream) -> Self {
        let bits = u64::BITS - count.saturating_sub(1).leading_zeros();
        Self { count, half_bits: bits.div_ceil(2).max(1), keys: std::array::from_fn(|_| random.random()) }
    }

    /// The number at a place below the count.
    pub(crate) fn at(&self, place: u64) -> u64 {
        debug_assert!(place < self.count);
        let mut number = self.permute(place);
        while number >= self.count {
            number = self.permute(number);
        }
        number
    }

    fn permute(&self, number: u64) -> u64 {
        let mask = (1 << self.half_bits) - 1;
        let (mut left, mut right) = (number >> self.half_bits, number & mask);
        for key in self.keys {
            (left, right) = (right, left ^ (mixed(right ^ key) & mask));
        }
        left << self.half_bits | right
    }
}

/// Every bit of a number spread over all of them (Steele, Lea and Flood, 2014).
fn mixed(mut x: u64) -> u64 {
    x = (x ^ (x >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    x = (x ^ (x >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    x ^ (x >> 31)
}

#[cfg(test)]
mod tests {
    use lalograph_net::numbers::chance::stream;
    use proptest::prelude::*;

    use super::Order;

    proptest! {
        #[test]
        fn every_number_has_one_place(count in 1u64..3000, seed: u64) {
            let order = Order::draw(count, &mut stream(seed, "test", &[]));
            let mut seen: Vec<u64> = (0..count).map(|place| order.at(place)).collect();
            prop_assert_eq!(&seen, &(0..count).map(|place| order.clone().at(place)).collect::<Vec<_>>());
            seen.sort_unstable();
            prop_assert!(seen.into_iter().eq(0..count));
        }

        #[test]
        fn counts_beyond_thirty_two_bits_have_places(count in 1u64 << 32..u64::MAX / 4, place: u64, seed: u64) {
            let order = Order::draw(count, &mut stream(seed, "test", &[]));
            prop_assert!(order.at(place % count) < count);
        }
    }

    #[test]
    fn places_are_even_and_neighbours_part() {
        // A thousand orders of 20 numbers: each number as often in each place, and as rarely followed by the next one, as chance has it.
        let (mut first, mut followed) = ([0u32; 20], 0);
        for seed in 0..1000 {
            let order = Order::draw(20, &mut stream(seed, "test", &[]));
            first[order.at(0) as usize] += 1;
            followed += (0..19).filter(|&place| order.at(place) + 1 == order.at(place + 1)).count();
        }
        // Chi-squared with 19 degrees of freedom: above 43.8 once in a thousand.
        let chi: f64 = first.iter().map(|&n| (f64::from(n) - 50.0).powi(2) / 50.0).sum();
        assert!(chi < 43.8, "{chi} {first:?}");
        // 19 pairs a time, 19 of 380 ordered pairs are neighbours: 950 expected.
        assert!((800..1100).contains(&followed), "{followed}");
    }
}
