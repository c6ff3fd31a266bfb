//! The objective at one place of the text: predict a word from a weighted sum of input rows, and update those rows and the output rows at once.
//!
//! With h the sum of the input rows, each times its weight, u the output rows and s the logistic function, negative sampling (Mikolov et al., 2013) lowers
//!
//! ```text
//! -ln s(u_target . h) - sum over the negative samples of ln s(-u_sample . h)
//! ```
//!
//! and the full softmax lowers `-ln softmax(U h)[target]`. The padding that fills rows to whole lines is zero and stays zero.

use lalograph_net::Real;

use crate::rows::{LANES, Line, Rows};

/// The numbers that are learnt.
#[derive(Debug, Clone)]
pub struct Weights<T> {
    /// A row for each index, and for each piece of words after them.
    pub input: Rows<T>,
    /// A row for each index.
    pub output: Rows<T>,
}

/// Room to work in.
#[derive(Debug, Clone, Default)]
pub struct Scratch<T> {
    hidden: Vec<Line<T>>,
    gradient: Vec<Line<T>>,
    sums: Vec<Line<T>>,
    scores: Vec<T>,
}

impl<T: Real> Weights<T> {
    /// Rows of zeros.
    pub fn new(dimensions: usize, inputs: usize, outputs: usize) -> Self {
        Self { input: Rows::new(dimensions, inputs), output: Rows::new(dimensions, outputs) }
    }
}

/// The products of the hidden numbers with the output rows of `words`, summed in a fixed order; a whole number of registers of them, the last filled up with zeros. The numbers of a sum are added up for many sums side by side.
#[inline(always)]
fn score<T: Real>(
    output: &Rows<T>,
    hidden: &[Line<T>],
    words: impl Iterator<Item = u32>,
    sums: &mut Vec<Line<T>>,
    scores: &mut Vec<T>,
) {
    sums.clear();
    for word in words {
        let mut sum = Line::ZERO;
        for (a, b) in output.row(word).iter().zip(hidden) {
            for lane in 0..LANES {
                sum.0[lane] += a.0[lane] * b.0[lane];
            }
        }
        sums.push(sum);
    }
    sums.iter_mut().for_each(halve::<_, 8>);
    sums.iter_mut().for_each(halve::<_, 4>);
    sums.iter_mut().for_each(halve::<_, 2>);
    scores.clear();
    scores.resize(sums.len().next_multiple_of(LANES), T::ZERO);
    for (score, sum) in scores.iter_mut().zip(sums) {
        *score = sum.0[0] + sum.0[1];
    }
}

/// Adds the second `WIDTH` numbers to the first.
#[inline(always)]
fn halve<T: Real, const WIDTH: usize>(sum: &mut Line<T>) {
    for lane in 0..WIDTH {
        sum.0[lane] += sum.0[WIDTH + lane];
    }
}

/// Adds each slope times its output row to the gradient, and `step` times that slope times the hidden numbers to the row. Line after line of all rows, so that the gradient stays in a register.
#[inline(always)]
fn change<T: Real>(
    output: &mut Rows<T>,
    slopes: impl Iterator<Item = (u32, T)> + Clone,
    step: T,
    hidden: &[Line<T>],
    gradient: &mut [Line<T>],
) {
    let stride = output.stride();
    for (at, (gradient, hidden)) in gradient.iter_mut().zip(hidden).enumerate() {
        let mut sum = Line::ZERO;
        for (word, slope) in slopes.clone() {
            let line = &mut output.lines[word as usize * stride + at];
            sum.add(slope, line);
            line.add(step * slope, hidden);
        }
        *gradient = sum;
    }
}

#[inline(always)]
fn hidden<T: Real>(weights: &Weights<T>, inputs: &[(u32, T)], scratch: &mut Scratch<T>) {
    let stride = weights.input.stride();
    scratch.gradient.resize(stride, Line::ZERO);
    scratch.hidden.resize(stride, Line::ZERO);
    for (at, hidden) in scratch.hidden.iter_mut().enumerate() {
        let mut sum = Line::ZERO;
        for &(row, weight) in inputs {
            sum.add(weight, &weights.input.lines[row as usize * stride + at]);
        }
        *hidden = sum;
    }
}

#[inline(always)]
fn move_inputs<T: Real>(weights: &mut Weights<T>, inputs: &[(u32, T)], rate: T, gradient: &[Line<T>]) {
    for &(row, weight) in inputs {
        for (line, gradient) in weights.input.row_mut(row).iter_mut().zip(gradient) {
            line.add(-rate * weight, gradient);
        }
    }
}

/// Predicts the first of `words` against the others, its negative samples, from input rows with their weights, moves all rows that had a part in it by `rate` down the gradient, and returns e to the power of minus the loss before.
#[inline(always)]
pub fn learn_against_samples<T: Real>(
    weights: &mut Weights<T>,
    inputs: &[(u32, T)],
    words: &[u32],
    rate: T,
    scratch: &mut Scratch<T>,
) -> T {
    hidden(weights, inputs, scratch);
    let Scratch { hidden, gradient, sums, scores } = scratch;
    // All scores, then all probabilities, then all changes: each kind many at a time, and whole registers of scores.
    score(&weights.output, hidden, words.iter().copied(), sums, scores);
    scores[0] = -scores[0];
    // The probability of the wrong answer: e^x / (1 + e^x) = 1 / (1 + e^-x).
    for scores in scores.as_chunks_mut::<LANES>().0 {
        for score in scores {
            *score = T::ONE / (T::ONE + (-*score).exp());
        }
    }
    // The product of all probabilities: one logarithm for all of them.
    let likelihood = scores[..words.len()].iter().fold(T::ONE, |product, &wrong| product * (T::ONE - wrong));
    scores[0] = -scores[0];
    let slopes = words.iter().copied().zip(scores.iter().copied());
    change(&mut weights.output, slopes, -rate, hidden, gradient);
    move_inputs(weights, inputs, rate, gradient);
    likelihood.greater(T::of(1e-30))
}

/// Predicts `target` among all `words`, the indices that can be predicted, and moves all rows; returns the probability before.
#[inline(always)]
pub fn learn_among_all<T: Real>(
    weights: &mut Weights<T>,
    inputs: &[(u32, T)],
    target: u32,
    words: std::ops::Range<u32>,
    rate: T,
    scratch: &mut Scratch<T>,
) -> T {
    hidden(weights, inputs, scratch);
    let Scratch { hidden, gradient, sums, scores } = scratch;
    score(&weights.output, hidden, words.clone(), sums, scores);
    scores.truncate(words.len());
    let greatest = scores.iter().fold(scores[0], |best, &score| score.greater(best));
    let total: T = scores
        .iter_mut()
        .map(|score| {
            *score = (*score - greatest).exp();
            *score
        })
        .sum();
    let right = scores[(target - words.start) as usize] / total;
    for (word, score) in words.clone().zip(scores.iter_mut()) {
        *score = *score / total - if word == target { T::ONE } else { T::ZERO };
    }
    change(&mut weights.output, words.zip(scores.iter().copied()), -rate, hidden, gradient);
    move_inputs(weights, inputs, rate, gradient);
    right.greater(T::of(1e-30))
}

#[cfg(test)]
mod tests {
    use super::{Scratch, Weights, learn_against_samples, learn_among_all};
    use crate::rows::{LANES, Rows};
    use lalograph_net::numbers::chance::stream;
    use rand::RngExt;

    const DIMENSIONS: usize = 21;

    fn weights() -> Weights<f64> {
        let mut random = stream(3, "test", &[]);
        let mut weights = Weights::new(DIMENSIONS, 9, 8);
        for x in weights.input.numbers_mut().chain(weights.output.numbers_mut()) {
            *x = random.random_range(-0.6..0.6);
        }
        weights
    }

    fn number(rows: &Rows<f64>, row: u32, at: usize) -> f64 {
        rows.row(row)[at / LANES].0[at % LANES]
    }

    /// The objectives again, from their formulas.
    fn loss(weights: &Weights<f64>, inputs: &[(u32, f64)], target: u32, samples: Option<&[u32]>) -> f64 {
        let hidden: Vec<f64> = (0..DIMENSIONS)
            .map(|at| inputs.iter().map(|&(row, weight)| weight * number(&weights.input, row, at)).sum())
            .collect();
        let score = |word: u32| -> f64 {
            (0..DIMENSIONS).map(|at| number(&weights.output, word, at) * hidden[at]).sum()
        };
        let logistic = |x: f64| 1.0 / (1.0 + (-x).exp());
        match samples {
            Some(samples) => {
                -logistic(score(target)).ln()
                    - samples.iter().map(|&word| logistic(-score(word)).ln()).sum::<f64>()
            }
            None => -(score(target).exp() / (2..8).map(|word| score(word).exp()).sum::<f64>()).ln(),
        }
    }

    /// A step at rate 1 is the negative gradient; central differences say what that is.
    fn check(inputs: &[(u32, f64)], target: u32, samples: Option<&[u32]>) {
        let before = weights();
        let mut after = before.clone();
        let mut scratch = Scratch::default();
        let likelihood = match samples {
            Some(samples) => {
                let words: Vec<u32> = std::iter::once(target).chain(samples.iter().copied()).collect();
                learn_against_samples(&mut after, inputs, &words, 1.0, &mut scratch)
            }
            None => learn_among_all(&mut after, inputs, target, 2..8, 1.0, &mut scratch),
        };
        assert!((-likelihood.ln() - loss(&before, inputs, target, samples)).abs() < 1e-12);
        let mut moved = before.clone();
        let mut checked = 0;
        for table in 0..2 {
            let of = |weights: &Weights<f64>| -> Vec<f64> {
                [&weights.input, &weights.output][table].numbers().copied().collect()
            };
            let (old, new) = (of(&before), of(&after));
            for at in 0..old.len() {
                let mut put = |number: f64| {
                    let rows = if table == 0 { &mut moved.input } else { &mut moved.output };
                    *rows.numbers_mut().nth(at).unwrap() = number;
                    loss(&moved, inputs, target, samples)
                };
                let slope = (put(old[at] + 1e-5) - put(old[at] - 1e-5)) / 2e-5;
                put(old[at]);
                let found = old[at] - new[at];
                assert!((found - slope).abs() < 1e-8 * (1.0 + slope.abs()), "{table} {at}: {found} {slope}");
                checked += usize::from(slope != 0.0);
            }
        }
        assert!(checked >= 3 * DIMENSIONS, "{checked}");
    }

    #[test]
    fn steps_go_down_the_gradient_of_each_objective() {
        for inputs in [&[(4, 1.0)][..], &[(0, 0.5), (3, 0.5)], &[(1, 0.3), (8, 0.6), (5, 0.2), (2, 0.4)]] {
            check(inputs, 5, Some(&[2, 7, 3]));
            check(inputs, 4, None);
        }
    }
}
