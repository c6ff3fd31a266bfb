//! The minimum of a linear classifier's loss with a penalty on its weights.
//!
//! A quasi-Newton method with a limited memory (Nocedal, 1980); with an L1 penalty its orthant-wise form, whose weights can become exactly
//! zero (Andrew and Gao, 2007). Biases have no penalty.

use std::collections::VecDeque;

use rayon::prelude::*;

use super::objective::{Examples, GradientRoom, LinearShape, LossTerms, RowsLoss};

crate::choice! {
    /// Penalty on the weights.
    pub enum Penalty = L2 {
        /// Half the strength times the sum of the squares of the weights.
        L2 = "l2",
        /// The strength times the sum of the absolute weights: many weights become exactly 0.
        L1 = "l1",
    }
}

/// Pairs of steps and changes of the gradient that are remembered.
const MEMORY: usize = 12;
/// Share of the decrease that the slope promises and a step must reach.
const SUFFICIENT: f64 = 1e-4;
/// Relative difference of two values that may be rounding alone.
const ROUNDING: f64 = 1e-14;
/// Halvings of a step before the numbers are taken to have no better place.
const HALVINGS: usize = 50;

/// What is minimised, and how far.
#[derive(Debug, Clone)]
pub struct SolverSettings {
    /// The loss without the penalty.
    pub terms: LossTerms,
    /// The penalty.
    pub penalty: Penalty,
    /// The solution has been found when the norm of the gradient is this share of that at zero weights.
    pub tolerance: f64,
    /// Iterations for one strength, at most.
    pub iterations: u64,
}

/// How a solution was left.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Reached {
    /// The gradient is within the tolerance.
    Tolerance,
    /// No smaller value can be found with these numbers.
    Precision,
    /// The iterations were used up.
    Iterations,
    /// The caller stopped it.
    Stopped,
}

/// An iteration that was made.
#[derive(Debug, Clone, Copy)]
pub struct Iteration {
    /// Loss of the rows.
    pub loss: RowsLoss,
    /// Norm of the gradient, as a share of that at zero weights; where a weight is 0 under an L1 penalty, of the least subgradient.
    pub gradient_norm: f64,
}

/// Solves for one strength after another, each from the solution before it.
#[derive(Debug)]
pub struct Solver<'e> {
    examples: &'e Examples,
    shape: LinearShape,
    settings: SolverSettings,
    room: GradientRoom,
    /// Features x outputs, then the biases.
    parameters: Vec<f64>,
    gradient: Vec<f64>,
    loss: RowsLoss,
    first_norm: f64,
}

impl<'e> Solver<'e> {
    /// Starts at zero weights, with biases that give every class its share of the rows.
    pub fn new(examples: &'e Examples, shape: LinearShape, settings: SolverSettings) -> Self {
        let mut solver = Self {
            examples,
            shape,
            settings,
            room: GradientRoom::new(shape),
            parameters: vec![0.0; shape.parameters()],
            gradient: vec![0.0; shape.parameters()],
            loss: RowsLoss::default(),
            first_norm: 1.0,
        };
        let logs = log_shares(&examples.classes, shape.classes, &solver.settings.terms);
        let biases = &mut solver.parameters[shape.weights()..];
        match biases {
            [bias] => *bias = logs[1] - logs[0],
            biases => biases.copy_from_slice(&logs),
        }
        solver.loss = solver.evaluate();
        solver.first_norm = norm(&solver.gradient).max(f64::MIN_POSITIVE);
        solver
    }

    /// The parameters so far: features x outputs, then the biases.
    pub fn parameters(&self) -> &[f64] {
        &self.parameters
    }

    /// Number of weights that are not exactly zero.
    pub fn nonzero(&self) -> usize {
        self.parameters[..self.shape.weights()].iter().filter(|&&weight| weight != 0.0).count()
    }

    /// Loss of the rows at the parameters so far.
    pub fn loss(&self) -> RowsLoss {
        self.loss
    }

    /// Writes the gradient of the loss without the penalty and returns the loss.
    fn evaluate(&mut self) -> RowsLoss {
        let Self { examples, shape, settings, room, parameters, gradient, .. } = self;
        examples.learn(*shape, parameters, &settings.terms, room, gradient)
    }

    fn penalty(&self, strength: f64) -> f64 {
        let weights = &self.parameters[..self.shape.weights()];
        match self.settings.penalty {
            Penalty::L2 => 0.5 * strength * weights.iter().map(|weight| weight * weight).sum::<f64>(),
            Penalty::L1 => strength * weights.iter().map(|weight| weight.abs()).sum::<f64>(),
        }
    }

    /// Adds the gradient of an L2 penalty.
    fn add_square_penalty(&mut self, strength: f64) {
        if self.settings.penalty == Penalty::L2 {
            let weights = self.shape.weights();
            let each = self.gradient[..weights].iter_mut().zip(&self.parameters);
            each.for_each(|(gradient, weight)| *gradient += strength * weight);
        }
    }

    /// The gradient with the penalty; with an L1 penalty the subgradient of the least norm.
    fn slope(&self, strength: f64) -> Vec<f64> {
        let mut slope = self.gradient.clone();
        if self.settings.penalty == Penalty::L1 {
            let weights = self.shape.weights();
            for (slope, &weight) in slope[..weights].iter_mut().zip(&self.parameters) {
                *slope = match weight {
                    0.0 => (slope.abs() - strength).max(0.0).copysign(*slope),
                    weight => *slope + strength * weight.signum(),
                };
            }
        }
        slope
    }

    /// Minimises with a penalty of this strength. `each` is given every iteration and returns whether to continue.
    pub fn solve(&mut self, strength: f64, each: &mut dyn FnMut(&Iteration) -> bool) -> Reached {
        self.loss = self.evaluate();
        self.add_square_penalty(strength);
        let mut value = self.loss.objective + self.penalty(strength);
        let mut memory = Memory::default();
        let mut slope = self.slope(strength);
        let within = self.settings.tolerance * self.first_norm;
        for _ in 0..self.settings.iterations {
            if norm(&slope) <= within {
                return Reached::Tolerance;
            }
            let Some(found) = self.step(strength, value, &slope, &mut memory) else {
                return Reached::Precision;
            };
            value = found;
            slope = self.slope(strength);
            let gradient_norm = norm(&slope) / self.first_norm;
            if !each(&Iteration { loss: self.loss, gradient_norm }) {
                return Reached::Stopped;
            }
        }
        match norm(&slope) <= within {
            true => Reached::Tolerance,
            false => Reached::Iterations,
        }
    }

    /// Makes one step and returns the value there; none if no smaller value was found.
    fn step(&mut self, strength: f64, value: f64, slope: &[f64], memory: &mut Memory) -> Option<f64> {
        let before = self.parameters.clone();
        let gradient_before = self.gradient.clone();
        loop {
            let direction = self.direction(slope, memory);
            let first = memory.pairs.is_empty();
            let mut length = if first { 1.0 / norm(slope).max(1.0) } else { 1.0 };
            for _ in 0..HALVINGS {
                self.go(&before, slope, &direction, length);
                let loss = self.evaluate();
                let found = loss.objective + self.penalty(strength);
                let promised: f64 = slope
                    .iter()
                    .zip(self.parameters.iter().zip(&before))
                    .map(|(slope, (now, before))| slope * (now - before))
                    .sum();
                let enough = promised < 0.0 && found <= value + SUFFICIENT * promised;
                let equal = (found - value).abs() <= ROUNDING * value.abs();
                if enough || equal {
                    self.add_square_penalty(strength);
                }
                // So near the minimum that the value changes by rounding alone, the slope decides.
                if enough || (equal && norm(&self.slope(strength)) < norm(slope)) {
                    self.loss = loss;
                    memory.add((&before, &self.parameters), (&gradient_before, &self.gradient));
                    return Some(found);
                }
                length *= 0.5;
            }
            self.parameters.copy_from_slice(&before);
            self.gradient.copy_from_slice(&gradient_before);
            if first {
                return None;
            }
            *memory = Memory::default();
        }
    }

    /// The direction to go in: against the slope, changed by what is remembered of the curvature.
    fn direction(&self, slope: &[f64], memory: &Memory) -> Vec<f64> {
        let mut direction = memory.times_inverse(slope);
        if self.settings.penalty == Penalty::L1 {
            let each = direction[..self.shape.weights()].iter_mut().zip(slope);
            each.filter(|(direction, slope)| **direction * **slope >= 0.0)
                .for_each(|(direction, _)| *direction = 0.0);
        }
        direction
    }

    /// Goes to `before` plus `length` times the direction; under an L1 penalty a weight stops where its sign would change.
    fn go(&mut self, before: &[f64], slope: &[f64], direction: &[f64], length: f64) {
        let each = self.parameters.iter_mut().zip(before.iter().zip(direction));
        each.for_each(|(now, (before, direction))| *now = before + length * direction);
        if self.settings.penalty == Penalty::L1 {
            let weights = self.shape.weights();
            let each = self.parameters[..weights].iter_mut().zip(before.iter().zip(slope));
            for (now, (&before, &slope)) in each {
                let side = if before == 0.0 { -slope } else { before };
                if *now * side <= 0.0 {
                    *now = 0.0;
                }
            }
        }
    }
}

/// The steps and changes of the gradient of the last iterations.
#[derive(Debug, Default)]
struct Memory {
    /// Steps, changes of the gradient, and the products of the two.
    pairs: VecDeque<(Vec<f64>, Vec<f64>, f64)>,
}

impl Memory {
    fn add(&mut self, parameters: (&[f64], &[f64]), gradients: (&[f64], &[f64])) {
        let difference = |(before, after): (&[f64], &[f64])| -> Vec<f64> {
            after.iter().zip(before).map(|(after, before)| after - before).collect()
        };
        let (step, change) = (difference(parameters), difference(gradients));
        let product = dot(&step, &change);
        if product > f64::EPSILON * dot(&change, &change) {
            if self.pairs.len() == MEMORY {
                self.pairs.pop_front();
            }
            self.pairs.push_back((step, change, product));
        }
    }

    /// Minus the approximate inverse of the curvature times a vector: the two loops of Nocedal (1980).
    fn times_inverse(&self, slope: &[f64]) -> Vec<f64> {
        let mut direction: Vec<f64> = slope.iter().map(|slope| -slope).collect();
        let mut factors = Vec::with_capacity(self.pairs.len());
        for (step, change, product) in self.pairs.iter().rev() {
            let factor = dot(step, &direction) / product;
            add_times(&mut direction, -factor, change);
            factors.push(factor);
        }
        if let Some((_, change, product)) = self.pairs.back() {
            let scale = product / dot(change, change);
            direction.iter_mut().for_each(|d| *d *= scale);
        }
        for ((step, change, product), factor) in self.pairs.iter().zip(factors.into_iter().rev()) {
            let factor = factor - dot(change, &direction) / product;
            add_times(&mut direction, factor, step);
        }
        direction
    }
}

/// Numbers that one thread works on at once; sums are by such stretches, so that they do not depend on threads.
const STRETCH: usize = 1 << 14;

fn dot(a: &[f64], b: &[f64]) -> f64 {
    let part = |(a, b): (&[f64], &[f64])| a.iter().zip(b).map(|(a, b)| a * b).sum::<f64>();
    let parts: Vec<f64> = a.par_chunks(STRETCH).zip(b.par_chunks(STRETCH)).map(part).collect();
    parts.iter().sum()
}

/// Adds `factor` times `x` to `to`.
fn add_times(to: &mut [f64], factor: f64, x: &[f64]) {
    to.par_chunks_mut(STRETCH).zip(x.par_chunks(STRETCH)).for_each(|(to, x)| {
        to.iter_mut().zip(x).for_each(|(to, x)| *to += factor * x);
    });
}

fn norm(numbers: &[f64]) -> f64 {
    dot(numbers, numbers).sqrt()
}

/// The logarithms of the shares that the loss gives the classes.
fn log_shares(classes: &[u32], count: usize, terms: &LossTerms) -> Vec<f64> {
    let mut shares = vec![0.0; count];
    for &class in classes {
        shares[class as usize] += terms.class_weights.get(class as usize).copied().unwrap_or(1.0);
    }
    let total: f64 = shares.iter().sum();
    let even = terms.label_smoothing / count as f64;
    let log = |share: &f64| ((1.0 - terms.label_smoothing) * share / total + even).max(1e-12).ln();
    shares.iter().map(log).collect()
}
