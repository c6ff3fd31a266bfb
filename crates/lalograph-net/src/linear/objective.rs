//! The loss of a linear classifier and its gradient.

use rayon::prelude::*;

use super::rows::SparseRows;
use crate::vectorised;

/// The shape of a linear classifier: its weights are features x outputs, then a bias for each output. Two classes have one output, the score
/// of the second class; more have one each.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LinearShape {
    /// Features of a row.
    pub features: usize,
    /// Classes, 2 or more.
    pub classes: usize,
}

impl LinearShape {
    /// Scores of a row.
    pub fn outputs(self) -> usize {
        if self.classes == 2 { 1 } else { self.classes }
    }

    /// Number of weights, biases included.
    pub fn parameters(self) -> usize {
        (self.features + 1) * self.outputs()
    }

    /// Number of weights without the biases.
    pub fn weights(self) -> usize {
        self.features * self.outputs()
    }

    /// Writes the natural log-probability of each class to `logs` (classes), given the values of a row.
    pub fn log_probabilities(
        self,
        parameters: &[f64],
        row: impl Iterator<Item = (u32, f32)>,
        logs: &mut [f64],
    ) {
        let outputs = self.outputs();
        // The one output of two classes is the score of the second.
        let scores = &mut logs[self.classes - outputs..];
        scores.copy_from_slice(&parameters[self.weights()..]);
        add_scores(parameters, row, scores);
        if outputs < self.classes {
            logs[0] = 0.0;
        }
        let best = logs.iter().copied().fold(f64::NEG_INFINITY, f64::max);
        let total = best + logs.iter().map(|log| (log - best).exp()).sum::<f64>().ln();
        logs.iter_mut().for_each(|log| *log -= total);
    }
}

/// Calls a function for a number of outputs that is known when it is compiled, so that a row of weights is in registers; for many outputs
/// another one.
macro_rules! for_outputs {
    ($outputs:expr, $few:ident($($given:expr),*), $many:expr) => {
        vectorised!({
            match $outputs {
                1 => $few::<1>($($given),*),
                2 => $few::<2>($($given),*),
                3 => $few::<3>($($given),*),
                4 => $few::<4>($($given),*),
                5 => $few::<5>($($given),*),
                6 => $few::<6>($($given),*),
                7 => $few::<7>($($given),*),
                8 => $few::<8>($($given),*),
                9 => $few::<9>($($given),*),
                10 => $few::<10>($($given),*),
                _ => $many,
            }
        })
    };
}

/// Adds the weights of a row's columns, times its values, to the scores. The weights are columns x scores.
fn add_scores(weights: &[f64], row: impl Iterator<Item = (u32, f32)>, scores: &mut [f64]) {
    #[inline(always)]
    fn few<const N: usize>(weights: &[f64], row: impl Iterator<Item = (u32, f32)>, scores: &mut [f64]) {
        let Some(to) = scores.first_chunk_mut::<N>() else { return };
        let mut sums = *to;
        for (column, value) in row {
            let weights = &weights[column as usize * N..][..N];
            let value = f64::from(value);
            sums.iter_mut().zip(weights).for_each(|(score, weight)| *score += weight * value);
        }
        *to = sums;
    }
    let outputs = scores.len();
    for_outputs!(
        outputs,
        few(weights, row, scores),
        for (column, value) in row {
            let weights = &weights[column as usize * outputs..][..outputs];
            let value = f64::from(value);
            scores.iter_mut().zip(weights).for_each(|(score, weight)| *score += weight * value);
        }
    );
}

/// Adds the gradient by the scores, times a row's values, to that of the weights of its columns.
fn add_gradient(gradient: &mut [f64], row: impl Iterator<Item = (u32, f32)>, d_scores: &[f64]) {
    #[inline(always)]
    fn few<const N: usize>(gradient: &mut [f64], row: impl Iterator<Item = (u32, f32)>, d_scores: &[f64]) {
        let Some(&d_scores) = d_scores.first_chunk::<N>() else { return };
        for (column, value) in row {
            let to = &mut gradient[column as usize * N..][..N];
            let value = f64::from(value);
            to.iter_mut().zip(&d_scores).for_each(|(to, d)| *to += d * value);
        }
    }
    let outputs = d_scores.len();
    for_outputs!(
        outputs,
        few(gradient, row, d_scores),
        for (column, value) in row {
            let to = &mut gradient[column as usize * outputs..][..outputs];
            let value = f64::from(value);
            to.iter_mut().zip(d_scores).for_each(|(to, d)| *to += d * value);
        }
    );
}

/// Rows with their classes.
#[derive(Debug, Clone)]
pub struct Examples {
    /// The rows.
    pub rows: SparseRows,
    /// The class of each row.
    pub classes: Vec<u32>,
}

/// What the loss counts each row and class for.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct LossTerms {
    /// Weights of the classes; 1 for each if empty.
    pub class_weights: Vec<f64>,
    /// Share of the target that is spread evenly over all classes (Szegedy et al., 2016).
    pub label_smoothing: f64,
}

/// The loss of rows, and how many are predicted right.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct RowsLoss {
    /// Mean of what is minimised: cross-entropy with class weights and label smoothing.
    pub objective: f64,
    /// Mean natural-log cross-entropy.
    pub loss: f64,
    /// Rows whose class has the highest probability.
    pub right: u64,
}

/// Parts that the rows are divided into: as many as this however many threads there are, so that sums do not depend on threads.
const PARTS: usize = 8;

/// Room for the gradients of the parts.
#[derive(Debug)]
pub struct GradientRoom {
    parts: Vec<Vec<f64>>,
}

impl GradientRoom {
    /// Room for this shape.
    pub fn new(shape: LinearShape) -> Self {
        Self { parts: (0..PARTS).map(|_| vec![0.0; shape.parameters()]).collect() }
    }

    /// Bytes for this shape.
    pub fn bytes(shape: LinearShape) -> usize {
        PARTS * shape.parameters() * size_of::<f64>()
    }
}

impl Examples {
    fn part(&self, number: usize) -> std::ops::Range<usize> {
        let count = self.classes.len();
        number * count / PARTS..(number + 1) * count / PARTS
    }

    /// The loss and its gradient by the parameters, means over the rows, on the threads of the current pool.
    pub fn learn(
        &self,
        shape: LinearShape,
        parameters: &[f64],
        terms: &LossTerms,
        room: &mut GradientRoom,
        gradient: &mut [f64],
    ) -> RowsLoss {
        let outputs = shape.outputs();
        let found: Vec<RowsLoss> = room
            .parts
            .par_iter_mut()
            .enumerate()
            .map(|(number, gradient)| {
                gradient.fill(0.0);
                let mut sum = RowsLoss::default();
                let mut logs = vec![0.0; shape.classes];
                for row in self.part(number) {
                    let class = self.classes[row] as usize;
                    shape.log_probabilities(parameters, self.rows.row(row), &mut logs);
                    sum.add(&logs, class, terms);
                    let weight = terms.class_weights.get(class).copied().unwrap_or(1.0);
                    let even = terms.label_smoothing / shape.classes as f64;
                    for (index, log) in logs.iter_mut().enumerate() {
                        let own = if index == class { 1.0 - terms.label_smoothing } else { 0.0 };
                        *log = weight * (log.exp() - own - even);
                    }
                    let d_scores = &logs[shape.classes - outputs..];
                    add_gradient(gradient, self.rows.row(row), d_scores);
                    let biases = &mut gradient[shape.weights()..];
                    biases.iter_mut().zip(d_scores).for_each(|(to, d)| *to += d);
                }
                sum
            })
            .collect();
        let share = 1.0 / self.classes.len().max(1) as f64;
        let parts = &room.parts;
        gradient.par_chunks_mut(1 << 12).enumerate().for_each(|(chunk, to)| {
            for (at, to) in (chunk << 12..).zip(to) {
                *to = parts.iter().map(|part| part[at]).sum::<f64>() * share;
            }
        });
        RowsLoss::mean(&found, share)
    }

    /// The loss alone.
    pub fn loss(&self, shape: LinearShape, parameters: &[f64], terms: &LossTerms) -> RowsLoss {
        let found: Vec<RowsLoss> = (0..PARTS)
            .into_par_iter()
            .map(|number| {
                let mut sum = RowsLoss::default();
                let mut logs = vec![0.0; shape.classes];
                for row in self.part(number) {
                    shape.log_probabilities(parameters, self.rows.row(row), &mut logs);
                    sum.add(&logs, self.classes[row] as usize, terms);
                }
                sum
            })
            .collect();
        RowsLoss::mean(&found, 1.0 / self.classes.len().max(1) as f64)
    }
}

impl RowsLoss {
    fn add(&mut self, logs: &[f64], class: usize, terms: &LossTerms) {
        let own = -logs[class];
        let even = -logs.iter().sum::<f64>() / logs.len() as f64;
        let weight = terms.class_weights.get(class).copied().unwrap_or(1.0);
        self.objective += weight * ((1.0 - terms.label_smoothing) * own + terms.label_smoothing * even);
        self.loss += own;
        self.right += u64::from(logs.iter().all(|&log| log <= logs[class]));
    }

    fn mean(parts: &[Self], share: f64) -> Self {
        let sum = |of: &dyn Fn(&Self) -> f64| parts.iter().map(of).sum::<f64>() * share;
        Self {
            objective: sum(&|part| part.objective),
            loss: sum(&|part| part.loss),
            right: parts.iter().map(|part| part.right).sum(),
        }
    }
}
