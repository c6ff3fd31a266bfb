//! What is learnt at one place of the text: predicting a word from a weighted sum of some rows, and moving those rows and the outputs at once.
//!
//! With h the sum of the input rows, each times its weight, u the output rows and s the logistic function, negative sampling (Mikolov et al., 2013) lowers
//!
//! ```text
//! -ln s(u_target . h) - sum over the noise words of ln s(-u_noise . h)
//! ```
//!
//! and the full softmax lowers `-ln softmax(U h)[target]`. Rows have a stride of whole vector registers; what fills them up is zero and stays so.

use lalograph_net::real::Real;

/// Numbers added up side by side.
pub(crate) const LANES: usize = 16;

/// The numbers that are learnt.
#[derive(Debug, Clone)]
pub struct Weights<T> {
    /// Numbers of a row that mean something.
    pub dimensions: usize,
    /// From row to row.
    pub stride: usize,
    /// A row for each index, and for each piece of words after them.
    pub input: Vec<T>,
    /// A row for each index.
    pub output: Vec<T>,
}

/// Room to work in.
#[derive(Debug, Clone, Default)]
pub struct Scratch<T> {
    hidden: Vec<T>,
    gradient: Vec<T>,
    sums: Vec<[T; LANES]>,
    scores: Vec<T>,
}

impl<T: Real> Weights<T> {
    /// Rows of zeros.
    pub fn new(dimensions: usize, inputs: usize, outputs: usize) -> Self {
        let stride = dimensions.next_multiple_of(LANES);
        let zeros = |rows: usize| vec![T::ZERO; rows * stride];
        Self { dimensions, stride, input: zeros(inputs), output: zeros(outputs) }
    }

    /// An input row.
    #[inline(always)]
    pub fn input_row(&self, row: u32) -> &[T] {
        &self.input[row as usize * self.stride..][..self.stride]
    }
}

/// The products of the hidden numbers with the output rows of `words`, summed in a fixed order; a whole number of registers of them, the last filled up with zeros. The numbers of a sum are added up for many sums side by side.
#[inline(always)]
fn score<T: Real>(
    output: &[T],
    hidden: &[T],
    words: impl Iterator<Item = u32>,
    sums: &mut Vec<[T; LANES]>,
    scores: &mut Vec<T>,
) {
    let stride = hidden.len();
    sums.clear();
    for word in words {
        let row = &output[word as usize * stride..][..stride];
        let mut sum = [T::ZERO; LANES];
        for (a, b) in row.as_chunks::<LANES>().0.iter().zip(hidden.as_chunks::<LANES>().0) {
            for lane in 0..LANES {
                sum[lane] += a[lane] * b[lane];
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
        *score = sum[0] + sum[1];
    }
}

/// Adds the second `WIDTH` numbers to the first.
#[inline(always)]
fn halve<T: Real, const WIDTH: usize>(sum: &mut [T; LANES]) {
    for lane in 0..WIDTH {
        sum[lane] += sum[WIDTH + lane];
    }
}

/// Adds `factor` times `x` to `y`.
#[inline(always)]
fn add<T: Real>(y: &mut [T], factor: T, x: &[T]) {
    for (y, x) in y.as_chunks_mut::<LANES>().0.iter_mut().zip(x.as_chunks::<LANES>().0) {
        // Whole before it is written: else nothing says that the two are not one, and it is done number by number.
        let mut sum = *y;
        for lane in 0..LANES {
            sum[lane] += factor * x[lane];
        }
        *y = sum;
    }
}

/// Adds each slope times its output row to the gradient, and `step` times that slope times the hidden numbers to the row. Number after number of all rows, so that the gradient stays in a register.
#[inline(always)]
fn change<T: Real>(
    output: &mut [T],
    stride: usize,
    slopes: impl Iterator<Item = (u32, T)> + Clone,
    step: T,
    hidden: &[T],
    gradient: &mut [T],
) {
    let chunks = gradient.as_chunks_mut::<LANES>().0.iter_mut().zip(hidden.as_chunks::<LANES>().0);
    for (chunk, (gradient, hidden)) in chunks.enumerate() {
        let mut sum = [T::ZERO; LANES];
        for (word, slope) in slopes.clone() {
            let place = word as usize * stride + chunk * LANES;
            let Some(row) = output[place..].first_chunk_mut::<LANES>() else { continue };
            let (mut moved, step) = (*row, step * slope);
            for lane in 0..LANES {
                sum[lane] += slope * moved[lane];
            }
            for lane in 0..LANES {
                moved[lane] += step * hidden[lane];
            }
            *row = moved;
        }
        *gradient = sum;
    }
}

#[inline(always)]
fn hidden<T: Real>(weights: &Weights<T>, inputs: &[(u32, T)], scratch: &mut Scratch<T>) {
    scratch.gradient.resize(weights.stride, T::ZERO);
    scratch.hidden.resize(weights.stride, T::ZERO);
    let hidden = scratch.hidden.as_chunks_mut::<LANES>().0;
    for (chunk, hidden) in hidden.iter_mut().enumerate() {
        let mut sum = [T::ZERO; LANES];
        for &(row, weight) in inputs {
            let place = row as usize * weights.stride + chunk * LANES;
            let Some(row) = weights.input[place..].first_chunk::<LANES>() else { continue };
            for lane in 0..LANES {
                sum[lane] += weight * row[lane];
            }
        }
        *hidden = sum;
    }
}

#[inline(always)]
fn move_inputs<T: Real>(weights: &mut Weights<T>, inputs: &[(u32, T)], rate: T, gradient: &[T]) {
    for &(row, weight) in inputs {
        let place = row as usize * weights.stride;
        add(&mut weights.input[place..][..weights.stride], -rate * weight, gradient);
    }
}

/// Predicts the first of `words` against the others, which are noise, from input rows with their weights, moves all rows that had a part in it by `rate` down the gradient, and returns e to the power of less the loss before.
#[inline(always)]
pub fn learn_against_noise<T: Real>(
    weights: &mut Weights<T>,
    inputs: &[(u32, T)],
    words: &[u32],
    rate: T,
    scratch: &mut Scratch<T>,
) -> T {
    hidden(weights, inputs, scratch);
    let stride = weights.stride;
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
    change(&mut weights.output, stride, slopes, -rate, hidden, gradient);
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
    let stride = weights.stride;
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
    change(&mut weights.output, stride, words.zip(scores.iter().copied()), -rate, hidden, gradient);
    move_inputs(weights, inputs, rate, gradient);
    right.greater(T::of(1e-30))
}

#[cfg(test)]
mod tests {
    use super::{Scratch, Weights, learn_against_noise, learn_among_all};
    use lalograph_net::random::stream;
    use rand::RngExt;

    const DIMENSIONS: usize = 21;

    fn weights() -> Weights<f64> {
        let mut random = stream(3, "test", &[]);
        let mut weights = Weights::new(DIMENSIONS, 9, 8);
        let stride = weights.stride;
        for row in weights.input.chunks_mut(stride).chain(weights.output.chunks_mut(stride)) {
            row[..DIMENSIONS].iter_mut().for_each(|x| *x = random.random_range(-0.6..0.6));
        }
        weights
    }

    /// The objectives again, from their formulas.
    fn loss(weights: &Weights<f64>, inputs: &[(u32, f64)], target: u32, noise: Option<&[u32]>) -> f64 {
        let hidden: Vec<f64> = (0..DIMENSIONS)
            .map(|at| inputs.iter().map(|&(row, weight)| weight * weights.input_row(row)[at]).sum())
            .collect();
        let score = |word: u32| -> f64 {
            (0..DIMENSIONS).map(|at| weights.output[word as usize * weights.stride + at] * hidden[at]).sum()
        };
        let logistic = |x: f64| 1.0 / (1.0 + (-x).exp());
        match noise {
            Some(noise) => {
                -logistic(score(target)).ln()
                    - noise.iter().map(|&word| logistic(-score(word)).ln()).sum::<f64>()
            }
            None => -(score(target).exp() / (2..8).map(|word| score(word).exp()).sum::<f64>()).ln(),
        }
    }

    /// A step at rate 1 is the negative gradient; central differences say what that is.
    fn check(inputs: &[(u32, f64)], target: u32, noise: Option<&[u32]>) {
        let before = weights();
        let mut after = before.clone();
        let mut scratch = Scratch::default();
        let likelihood = match noise {
            Some(noise) => {
                let words: Vec<u32> = std::iter::once(target).chain(noise.iter().copied()).collect();
                learn_against_noise(&mut after, inputs, &words, 1.0, &mut scratch)
            }
            None => learn_among_all(&mut after, inputs, target, 2..8, 1.0, &mut scratch),
        };
        assert!((-likelihood.ln() - loss(&before, inputs, target, noise)).abs() < 1e-12);
        let mut moved = before.clone();
        let mut checked = 0;
        for table in 0..2 {
            let of = |weights: &mut Weights<f64>| match table {
                0 => std::mem::take(&mut weights.input),
                _ => std::mem::take(&mut weights.output),
            };
            let (old, new) = (of(&mut before.clone()), of(&mut after.clone()));
            for at in 0..old.len() {
                let mut slope = 0.0;
                for sign in [1.0, -1.0] {
                    let numbers = if table == 0 { &mut moved.input } else { &mut moved.output };
                    numbers[at] = old[at] + sign * 1e-5;
                    slope += sign * loss(&moved, inputs, target, noise) / 2e-5;
                    let numbers = if table == 0 { &mut moved.input } else { &mut moved.output };
                    numbers[at] = old[at];
                }
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
