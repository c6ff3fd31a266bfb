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
const LANES: usize = 16;

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

/// The sum of products, in a fixed order.
#[inline(always)]
fn dot<T: Real>(a: &[T], b: &[T]) -> T {
    let (a, b) = (a.as_chunks::<LANES>().0, b.as_chunks::<LANES>().0);
    // Two sums, so that neither waits for itself.
    let (mut even, mut odd) = ([T::ZERO; LANES], [T::ZERO; LANES]);
    let (pairs, rest) = (a.chunks_exact(2).zip(b.chunks_exact(2)), a.len() % 2);
    for (a, b) in pairs {
        even = added(even, &a[0], &b[0]);
        odd = added(odd, &a[1], &b[1]);
    }
    if let (1, Some(a), Some(b)) = (rest, a.last(), b.last()) {
        even = added(even, a, b);
    }
    let mut all = [T::ZERO; LANES];
    for lane in 0..LANES {
        all[lane] = even[lane] + odd[lane];
    }
    let mut width = LANES / 2;
    while width > 0 {
        for lane in 0..width {
            all[lane] += all[lane + width];
        }
        width /= 2;
    }
    all[0]
}

/// Products added to sums, number by number.
#[inline(always)]
fn added<T: Real>(mut sums: [T; LANES], a: &[T; LANES], b: &[T; LANES]) -> [T; LANES] {
    for lane in 0..LANES {
        sums[lane] += a[lane] * b[lane];
    }
    sums
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

/// Adds `slope` times an output row to the gradient, and `step` times the hidden numbers to the row.
#[inline(always)]
fn change<T: Real>(row: &mut [T], gradient: &mut [T], slope: T, step: T, hidden: &[T]) {
    let rows = row.as_chunks_mut::<LANES>().0.iter_mut();
    let others = gradient.as_chunks_mut::<LANES>().0.iter_mut().zip(hidden.as_chunks::<LANES>().0);
    for (row, (gradient, hidden)) in rows.zip(others) {
        let (mut sum, mut moved) = (*gradient, *row);
        for lane in 0..LANES {
            sum[lane] += slope * moved[lane];
        }
        for lane in 0..LANES {
            moved[lane] += step * hidden[lane];
        }
        (*gradient, *row) = (sum, moved);
    }
}

#[inline(always)]
fn hidden<T: Real>(weights: &Weights<T>, inputs: &[(u32, T)], scratch: &mut Scratch<T>) {
    scratch.gradient.clear();
    scratch.gradient.resize(weights.stride, T::ZERO);
    scratch.hidden.clear();
    scratch.hidden.resize(weights.stride, T::ZERO);
    for &(row, weight) in inputs {
        add(&mut scratch.hidden, weight, weights.input_row(row));
    }
}

#[inline(always)]
fn move_inputs<T: Real>(weights: &mut Weights<T>, inputs: &[(u32, T)], rate: T, gradient: &[T]) {
    for &(row, weight) in inputs {
        let place = row as usize * weights.stride;
        add(&mut weights.input[place..][..weights.stride], -rate * weight, gradient);
    }
}

/// Predicts `target` against noise from input rows with their weights, moves all rows that had a part in it by `rate` down the gradient, and returns e to the power of less the loss before.
#[inline(always)]
pub fn learn_against_noise<T: Real>(
    weights: &mut Weights<T>,
    inputs: &[(u32, T)],
    target: u32,
    noise: &[u32],
    rate: T,
    scratch: &mut Scratch<T>,
) -> T {
    hidden(weights, inputs, scratch);
    let stride = weights.stride;
    let Scratch { hidden, gradient, scores } = scratch;
    // All scores, then all probabilities, then all changes: each kind many at a time.
    scores.clear();
    for &word in std::iter::once(&target).chain(noise) {
        scores.push(dot(&weights.output[word as usize * stride..][..stride], hidden));
    }
    scores[0] = -scores[0];
    // The probability of the wrong answer: e^x / (1 + e^x) = 1 / (1 + e^-x).
    for score in scores.iter_mut() {
        *score = T::ONE / (T::ONE + (-*score).exp());
    }
    // The product of all probabilities: one logarithm for all of them.
    let likelihood = scores.iter().fold(T::ONE, |product, &wrong| product * (T::ONE - wrong));
    scores[0] = -scores[0];
    for (&word, &slope) in std::iter::once(&target).chain(noise).zip(scores.iter()) {
        let row = &mut weights.output[word as usize * stride..][..stride];
        change(row, gradient, slope, -rate * slope, hidden);
    }
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
    let row = |word: u32| word as usize * stride;
    let Scratch { hidden, gradient, scores } = scratch;
    scores.clear();
    scores.extend(words.clone().map(|word| dot(&weights.output[row(word)..][..stride], hidden)));
    let greatest = scores.iter().fold(scores[0], |best, &score| score.greater(best));
    let total: T = scores
        .iter_mut()
        .map(|score| {
            *score = (*score - greatest).exp();
            *score
        })
        .sum();
    let right = scores[(target - words.start) as usize] / total;
    for (word, &score) in words.clone().zip(scores.iter()) {
        let slope = score / total - if word == target { T::ONE } else { T::ZERO };
        change(&mut weights.output[row(word)..][..stride], gradient, slope, -rate * slope, hidden);
    }
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
            Some(noise) => learn_against_noise(&mut after, inputs, target, noise, 1.0, &mut scratch),
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
