//! The class of a document: logistic for two classes, softmax for more, with weights by class and label smoothing.

use std::ops::Range;

use crate::blocks::recurrent::start::StartingValues;
use crate::heads::loss::Loss;
use crate::numbers::real::Real;
use crate::products::multiply::{add_column_sums, multiply, multiply_packed};
use crate::products::pack::Workspace;
use crate::products::view::{Accumulation, Matrix, MatrixMut};
use crate::weights::gradient::Gradient;
use crate::weights::layout::{GroupId, Initial, Layout, PackId, ReadIn};
use crate::weights::packed::Parameters;

/// The positions of the weights (outputs x inputs) and biases (outputs): one output for two classes, else one a class.
#[derive(Debug, Clone)]
pub struct ClassHead {
    inputs: usize,
    classes: usize,
    outputs: usize,
    weights: Range<usize>,
    bias: Range<usize>,
    forward: PackId,
    back: PackId,
}

impl ClassHead {
    /// Adds the tensors to `layout` as `output.weights` and `output.bias`: small weights, so that the first distribution is near uniform.
    pub fn new(
        layout: &mut Layout,
        group: GroupId,
        (inputs, classes): (usize, usize),
        start: StartingValues,
    ) -> Self {
        let outputs = if classes == 2 { 1 } else { classes };
        let spread = start.spread(0.25 / (inputs as f64).sqrt());
        let weights = layout.push("output.weights", &[outputs, inputs], group, spread);
        let bias = layout.push("output.bias", &[outputs], group, Initial::Constant(0.0));
        let forward = layout.pack(&weights, (outputs, inputs), 0..inputs, true, ReadIn::Every);
        let back = layout.pack(&weights, (outputs, inputs), 0..inputs, false, ReadIn::Backward);
        Self { inputs, classes, outputs, weights, bias, forward, back }
    }

    /// Width of a row of scores.
    pub fn outputs(&self) -> usize {
        self.outputs
    }

    /// Multiplications and additions for one document.
    pub fn operations(&self) -> f64 {
        2.0 * (self.inputs * self.outputs) as f64
    }

    /// Writes the scores of `x` (rows x inputs) to `scores` (rows x outputs).
    pub fn scores<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        x: &[T],
        scores: &mut [T],
        work: &mut Workspace<T>,
    ) {
        let rows = scores.len() / self.outputs;
        let bias = weights.part(&self.bias);
        scores.chunks_exact_mut(self.outputs).for_each(|row| row.copy_from_slice(bias));
        let mut out = MatrixMut::new(scores, rows, self.outputs);
        let x = Matrix::new(x, rows, self.inputs);
        multiply_packed(x, weights.packed(self.forward), &mut out, Accumulation::Add, work);
    }

    /// Writes the natural log-probability of each class to `logs`, given a row of scores divided by `temperature`.
    pub fn log_probabilities<T: Real>(&self, scores: &[T], temperature: f64, logs: &mut [f64]) {
        if let [score] = *scores {
            logs[0] = 0.0;
            logs[1] = score.to_f64() / temperature;
        } else {
            logs.iter_mut().zip(scores).for_each(|(log, score)| *log = score.to_f64() / temperature);
        }
        let best = logs.iter().copied().fold(f64::NEG_INFINITY, f64::max);
        let total = best + logs.iter().map(|log| (log - best).exp()).sum::<f64>().ln();
        logs.iter_mut().for_each(|log| *log -= total);
    }

    /// The loss of `scores` (rows x outputs) against the classes, which are replaced by the gradient of `scale` times what is minimised: the
    /// cross-entropy times the weight of the class (1 if `class_weights` is empty). With `smoothing` above 0 the share of the class is
    /// 1 - smoothing, and the rest is spread evenly over all classes (Szegedy et al., 2016). The sum of the loss has neither.
    pub fn learn<T: Real>(
        &self,
        scores: &mut [T],
        classes: &[u32],
        scale: f64,
        smoothing: f64,
        class_weights: &[f64],
    ) -> Loss {
        let mut logs = vec![0.0; self.classes];
        let even = smoothing / self.classes as f64;
        let mut loss = Loss::default();
        for (row, &class) in scores.chunks_exact_mut(self.outputs).zip(classes) {
            let class = class as usize;
            self.log_probabilities(row, 1.0, &mut logs);
            let weight = class_weights.get(class).copied().unwrap_or(1.0);
            let mean = -logs.iter().sum::<f64>() / self.classes as f64;
            let own = -logs[class];
            loss.sum += own;
            loss.right += u64::from(logs.iter().all(|&log| log <= logs[class]));
            loss.penalty += weight * ((1.0 - smoothing) * own + smoothing * mean) - own;
            let factor = scale * weight;
            let wanted = |index: usize| if index == class { 1.0 - smoothing + even } else { even };
            // The one output of two classes is the score of the second.
            let first = self.classes - self.outputs;
            for (index, score) in (first..).zip(row.iter_mut()) {
                *score = T::of(factor * (logs[index].exp() - wanted(index)));
            }
        }
        loss
    }

    /// The backward pass from `d_scores` (rows x outputs): writes the gradient of the tensors, and that by `x` to `d_x` (rows x inputs).
    pub fn backward<T: Real>(
        &self,
        weights: Parameters<'_, T>,
        x: &[T],
        d_scores: &[T],
        gradient: &mut Gradient<'_, T>,
        d_x: &mut [T],
        work: &mut Workspace<T>,
    ) {
        let rows = d_scores.len() / self.outputs;
        let bias = gradient.part(&self.bias);
        bias.fill(T::ZERO);
        add_column_sums(d_scores, bias);
        let d_scores = Matrix::new(d_scores, rows, self.outputs);
        let x = Matrix::new(x, rows, self.inputs);
        let mut out = MatrixMut::new(gradient.part(&self.weights), self.outputs, self.inputs);
        multiply(d_scores.transposed(), x, &mut out, Accumulation::Replace, work);
        let mut out = MatrixMut::new(d_x, rows, self.inputs);
        multiply_packed(d_scores, weights.packed(self.back), &mut out, Accumulation::Replace, work);
    }
}

#[cfg(test)]
mod tests {
    use super::ClassHead;
    use crate::blocks::recurrent::cell::Cell;
    use crate::blocks::recurrent::start::StartingValues;
    use crate::weights::layout::Layout;

    fn head(classes: usize) -> ClassHead {
        let mut layout = Layout::default();
        let group = layout.group("output");
        ClassHead::new(&mut layout, group, (3, classes), StartingValues::default_for(Cell::Lstm))
    }

    #[test]
    fn two_classes_are_logistic_and_more_are_a_softmax() {
        let mut logs = [0.0; 2];
        head(2).log_probabilities(&[0.4f64], 1.0, &mut logs);
        assert!((logs[1].exp() - 1.0 / (1.0 + (-0.4f64).exp())).abs() < 1e-15);
        assert!((logs[0].exp() + logs[1].exp() - 1.0).abs() < 1e-15);
        let mut logs = [0.0; 3];
        head(3).log_probabilities(&[1.0f64, 2.0, 4.0], 2.0, &mut logs);
        let total: f64 = [0.5f64, 1.0, 2.0].iter().map(|x| x.exp()).sum();
        assert!((logs[2].exp() - 2.0f64.exp() / total).abs() < 1e-15);
    }

    #[test]
    fn weights_and_smoothing_are_minimised_and_not_reported() {
        // p(class 1) = 1 / 2: -ln p = ln 2 for both classes, so smoothing adds nothing and the weight 3 adds 2 ln 2.
        let mut scores = [0.0f64];
        let loss = head(2).learn(&mut scores, &[1], 0.5, 0.2, &[1.0, 3.0]);
        assert!((loss.sum - 2f64.ln()).abs() < 1e-15 && (loss.penalty - 2.0 * 2f64.ln()).abs() < 1e-15);
        // 0.5 x 3 x (1/2 - 0.9).
        assert!((scores[0] + 0.6).abs() < 1e-15);
    }
}
