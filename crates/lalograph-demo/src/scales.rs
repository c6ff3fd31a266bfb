//! Hive scales: the weight and the temperature of a hive by hour of a day, with what went on that day. The probabilities of all that is drawn
//! are known, so the probability of each class given a day is, and with it the best accuracy that any classifier can reach.

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::ceiling::Ceiling;

/// Hours of a day.
pub const HOURS: usize = 24;
/// The classes, in ascending order.
pub const STATES: [&str; 3] = ["calm", "flow", "swarm"];
/// Hours at which a flow or a swarm may begin, each as probable as the others.
const FIRST: usize = 8;
const LAST: usize = 15;
/// Standard deviation of a reading of the scale in kilograms, and of the thermometer in degrees.
const NOISE: [f64; 2] = [0.9, 1.1];
/// Standard deviation of the weight of a hive in kilograms; its mean is [`WEIGHT`].
const SPREAD: f64 = 5.0;
const WEIGHT: f64 = 40.0;
/// Kilograms that a flow adds in an hour, and its hours.
const GAIN: f64 = 0.3;
const GAINING: usize = 5;
/// Kilograms that a swarm takes along, and degrees that the hive is warmer in the two hours before.
const LOSS: f64 = 1.6;
const WARMTH: f64 = 1.2;

/// A day of a hive.
#[derive(Debug, Clone, PartialEq)]
pub struct ScalesDay {
    /// Kilograms and degrees at each hour.
    pub readings: [[f64; 2]; HOURS],
    /// Place among [`STATES`].
    pub state: usize,
}

/// What the hour adds to weight and temperature in a state that began at `first`.
fn expected(state: usize, first: usize, hour: usize) -> [f64; 2] {
    let day = 34.5 + 0.6 * ((hour as f64 - 14.0) * std::f64::consts::PI / 12.0).cos();
    match state {
        1 => [GAIN * hour.saturating_sub(first).min(GAINING) as f64, day],
        2 if hour >= first => [-LOSS, day],
        2 if hour + 2 >= first => [0.0, day + WARMTH],
        _ => [0.0, day],
    }
}

/// An endless stream of days, the same for the same seed.
#[derive(Debug)]
pub struct Scales {
    random: ChaCha8Rng,
}

impl Scales {
    /// Starts the stream of `seed`.
    pub fn new(seed: u64) -> Self {
        Self { random: ChaCha8Rng::seed_from_u64(seed ^ 0x5CA1_E500) }
    }

    /// A normal deviate (Box and Muller, 1958).
    fn normal(&mut self) -> f64 {
        let (a, b): (f64, f64) = (1.0 - self.random.random::<f64>(), self.random.random());
        (-2.0 * a.ln()).sqrt() * (2.0 * std::f64::consts::PI * b).cos()
    }

    /// Draws the next day.
    pub fn next_day(&mut self) -> ScalesDay {
        let state = self.random.random_range(0..STATES.len());
        let first = self.random.random_range(FIRST..=LAST);
        let weight = WEIGHT + SPREAD * self.normal();
        let readings = std::array::from_fn(|hour| {
            let [gain, temperature] = expected(state, first, hour);
            [weight + gain + NOISE[0] * self.normal(), temperature + NOISE[1] * self.normal()]
        });
        ScalesDay { readings, state }
    }
}

/// The probability of each state given the readings of a day. The weight of the hive is unknown: with it summed over, the readings of the
/// scale are normal with the covariance NOISE^2 I + SPREAD^2 J, whose inverse is known (Sherman and Morrison, 1950).
pub fn state_probabilities(readings: &[[f64; 2]; HOURS]) -> [f64; 3] {
    let shrink = SPREAD.powi(2) / (NOISE[0].powi(2) + HOURS as f64 * SPREAD.powi(2));
    let fit = |state: usize, first: usize| -> f64 {
        let mut squares = [0.0; 2];
        let mut sum = 0.0;
        for (hour, reading) in readings.iter().enumerate() {
            let [gain, temperature] = expected(state, first, hour);
            let rest = reading[0] - WEIGHT - gain;
            squares[0] += rest * rest;
            squares[1] += (reading[1] - temperature).powi(2);
            sum += rest;
        }
        let weight = (squares[0] - shrink * sum * sum) / NOISE[0].powi(2);
        -0.5 * (weight + squares[1] / NOISE[1].powi(2))
    };
    // The states, and the hours within each, are equally probable.
    let logs: [f64; 3] = std::array::from_fn(|state| {
        let all: Vec<f64> = (FIRST..=LAST).map(|first| fit(state, first)).collect();
        log_sum(&all)
    });
    let total = log_sum(&logs);
    logs.map(|log| (log - total).exp())
}

fn log_sum(logs: &[f64]) -> f64 {
    let best = logs.iter().copied().fold(f64::NEG_INFINITY, f64::max);
    best + logs.iter().map(|log| (log - best).exp()).sum::<f64>().ln()
}

/// The best accuracy that any classifier can reach on such days, estimated from so many of them.
pub fn scales_ceiling(days: u64, seed: u64) -> Ceiling {
    let mut scales = Scales::new(seed);
    let best: Vec<f64> = (0..days)
        .map(|_| state_probabilities(&scales.next_day().readings).into_iter().fold(0.0, f64::max))
        .collect();
    Ceiling::of(&best)
}

#[cfg(test)]
mod tests {
    use super::{HOURS, STATES, Scales, expected, scales_ceiling, state_probabilities};

    #[test]
    fn the_probabilities_are_true() {
        // Of days whose most probable state has a probability near p, a share near p is in that state.
        let mut scales = Scales::new(7);
        let (mut promised, mut right, days) = (0.0, 0.0, 4000);
        for _ in 0..days {
            let day = scales.next_day();
            let found = state_probabilities(&day.readings);
            assert!((found.iter().sum::<f64>() - 1.0).abs() < 1e-9);
            let best = (0..STATES.len()).max_by(|&a, &b| found[a].total_cmp(&found[b])).unwrap();
            promised += found[best];
            right += f64::from(u8::from(best == day.state));
        }
        let error = (0.25f64 / f64::from(days)).sqrt();
        assert!((promised - right).abs() / f64::from(days) < 4.0 * error, "{promised} {right}");
        let ceiling = scales_ceiling(4000, 8);
        assert!((ceiling.accuracy - right / f64::from(days)).abs() < 5.0 * error, "{ceiling:?}");
        assert!((0.8..0.97).contains(&ceiling.accuracy), "{ceiling:?}");
    }

    #[test]
    fn the_weight_of_the_hive_says_nothing() {
        let day = Scales::new(3).next_day();
        let mut heavier = day.readings;
        heavier.iter_mut().for_each(|reading| reading[0] += 1e-6);
        let (a, b) = (state_probabilities(&day.readings), state_probabilities(&heavier));
        assert!((0..3).all(|state| (a[state] - b[state]).abs() < 1e-6));
        assert_eq!(expected(1, 10, 20)[0], 1.5);
        assert_eq!(expected(2, 10, HOURS - 1)[0], -1.6);
        assert_eq!(Scales::new(3).next_day(), day);
    }
}
