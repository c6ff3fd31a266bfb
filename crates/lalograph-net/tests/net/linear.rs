//! Linear classifiers: the gradient, and solutions beside those found another way.

use lalograph_net::linear::objective::{GradientRoom, LossTerms};
use lalograph_net::linear::{Examples, LinearShape, Penalty, Reached, Solver, SolverSettings, SparseRows};
use lalograph_net::numbers::chance::stream;
use rand::RngExt;

/// Rows of which a third of the numbers are not zero. The first two features decide between the classes, with some noise.
fn examples(rows: usize, features: usize, classes: usize) -> Examples {
    let mut random = stream(5, "rows", &[]);
    let mut examples = Examples { rows: SparseRows::new(features), classes: Vec::new() };
    for _ in 0..rows {
        let mut row: Vec<(u32, f32)> = Vec::new();
        for column in 0..features as u32 {
            if random.random_range(0..3) == 0 {
                row.push((column, random.random_range(0.2..1.5)));
            }
        }
        let of =
            |wanted: u32| row.iter().find(|(column, _)| *column == wanted).map_or(0.0, |(_, value)| *value);
        let score = of(0) - of(1) + random.random_range(-0.4..0.4);
        let class = match score {
            score if score > 0.25 => classes - 1,
            score if score > -0.25 && classes > 2 => 1,
            _ => 0,
        };
        examples.rows.push(row);
        examples.classes.push(class as u32);
    }
    examples
}

fn terms(classes: usize) -> [LossTerms; 2] {
    let class_weights = (0..classes).map(|class| 0.5 + class as f64).collect();
    [LossTerms::default(), LossTerms { class_weights, label_smoothing: 0.1 }]
}

fn settings(terms: &LossTerms, penalty: Penalty) -> SolverSettings {
    SolverSettings { terms: terms.clone(), penalty, tolerance: 1e-9, iterations: 5000 }
}

/// The gradient of the loss with an L2 penalty.
fn gradient(
    examples: &Examples,
    shape: LinearShape,
    at: &[f64],
    terms: &LossTerms,
    strength: f64,
) -> Vec<f64> {
    let mut gradient = vec![0.0; shape.parameters()];
    examples.learn(shape, at, terms, &mut GradientRoom::new(shape), &mut gradient);
    for (gradient, weight) in gradient[..shape.weights()].iter_mut().zip(at) {
        *gradient += strength * weight;
    }
    gradient
}

#[test]
fn the_gradient_agrees_with_central_differences() {
    for classes in [2, 3, 4] {
        let (examples, shape) = (examples(40, 5, classes), LinearShape { features: 5, classes });
        let mut random = stream(2, "weights", &[]);
        let at: Vec<f64> = (0..shape.parameters()).map(|_| random.random_range(-1.0..1.0)).collect();
        for terms in terms(classes) {
            let found = gradient(&examples, shape, &at, &terms, 0.0);
            for index in 0..at.len() {
                let moved = |by: f64| {
                    let mut at = at.clone();
                    at[index] += by;
                    examples.loss(shape, &at, &terms).objective
                };
                let expected = (moved(1e-5) - moved(-1e-5)) / 2e-5;
                assert!((found[index] - expected).abs() < 1e-9, "{index}: {} {expected}", found[index]);
            }
        }
    }
}

/// Solves a system of linear equations by elimination.
fn solve(mut matrix: Vec<Vec<f64>>, mut right: Vec<f64>) -> Vec<f64> {
    let n = right.len();
    for column in 0..n {
        let largest =
            (column..n).max_by(|&a, &b| matrix[a][column].abs().total_cmp(&matrix[b][column].abs())).unwrap();
        matrix.swap(column, largest);
        right.swap(column, largest);
        for row in 0..n {
            if row != column {
                let factor = matrix[row][column] / matrix[column][column];
                let pivot = matrix[column].clone();
                matrix[row].iter_mut().zip(pivot).for_each(|(to, from)| *to -= factor * from);
                right[row] -= factor * right[column];
            }
        }
    }
    (0..n).map(|at| right[at] / matrix[at][at]).collect()
}

/// The minimum by Newton's method, with the second derivatives from differences of the gradient.
fn by_newton(examples: &Examples, shape: LinearShape, terms: &LossTerms, strength: f64) -> Vec<f64> {
    let mut at = vec![0.0; shape.parameters()];
    for _ in 0..60 {
        let slope = gradient(examples, shape, &at, terms, strength);
        let columns: Vec<Vec<f64>> = (0..at.len())
            .map(|index| {
                let moved = |by: f64| {
                    let mut at = at.clone();
                    at[index] += by;
                    gradient(examples, shape, &at, terms, strength)
                };
                moved(1e-6).iter().zip(moved(-1e-6)).map(|(up, down)| (up - down) / 2e-6).collect()
            })
            .collect();
        let n = at.len();
        // All biases may rise together: a little on the diagonal makes the solution one.
        let matrix = (0..n)
            .map(|row| {
                (0..n).map(|column| columns[column][row] + if row == column { 1e-9 } else { 0.0 }).collect()
            })
            .collect();
        let step = solve(matrix, slope);
        at.iter_mut().zip(step).for_each(|(at, step)| *at -= step);
    }
    at
}

#[test]
fn the_solution_with_an_l2_penalty_is_that_of_newtons_method() {
    for classes in [2, 3] {
        let (examples, shape) = (examples(200, 6, classes), LinearShape { features: 6, classes });
        for terms in terms(classes) {
            for strength in [0.1, 1e-3] {
                let mut solver = Solver::new(&examples, shape, settings(&terms, Penalty::L2));
                let reached = solver.solve(strength, &mut |_| true);
                assert_eq!(reached, Reached::Tolerance);
                let slope = gradient(&examples, shape, solver.parameters(), &terms, strength);
                assert!(slope.iter().all(|slope| slope.abs() < 1e-9), "{slope:?}");
                let expected = by_newton(&examples, shape, &terms, strength);
                for (found, expected) in solver.parameters()[..shape.weights()].iter().zip(&expected) {
                    assert!((found - expected).abs() < 1e-6, "{found} {expected}");
                }
            }
        }
    }
}

/// The minimum with an L1 penalty by small steps against the gradient, each followed by shrinking (Daubechies, Defrise and De Mol, 2004).
fn by_shrinking(examples: &Examples, shape: LinearShape, terms: &LossTerms, strength: f64) -> Vec<f64> {
    let mut at = vec![0.0; shape.parameters()];
    for _ in 0..5_000 {
        let slope = gradient(examples, shape, &at, terms, 0.0);
        for (index, (at, slope)) in at.iter_mut().zip(slope).enumerate() {
            let moved = *at - 0.5 * slope;
            let cut = if index < shape.weights() { 0.5 * strength } else { 0.0 };
            *at = (moved.abs() - cut).max(0.0).copysign(moved);
        }
    }
    at
}

#[test]
fn an_l1_penalty_leaves_only_the_planted_features_and_exact_zeros() {
    for classes in [2, 3] {
        let (examples, shape) = (examples(600, 20, classes), LinearShape { features: 20, classes });
        let terms = &terms(classes)[0];
        let strength = 0.02;
        let mut solver = Solver::new(&examples, shape, settings(terms, Penalty::L1));
        assert_eq!(solver.solve(strength, &mut |_| true), Reached::Tolerance);
        let outputs = shape.outputs();
        let weights = &solver.parameters()[..shape.weights()];
        for (feature, weights) in weights.chunks_exact(outputs).enumerate() {
            assert_eq!(weights.iter().any(|&weight| weight != 0.0), feature < 2, "{feature}: {weights:?}");
        }
        assert!(solver.nonzero() <= 2 * outputs);
        // The conditions of the minimum: slope and penalty cancel where there is a weight, and the penalty is greater where there is none.
        let slope = gradient(&examples, shape, solver.parameters(), terms, 0.0);
        for (slope, &weight) in slope.iter().zip(weights) {
            match weight {
                0.0 => assert!(slope.abs() <= strength + 1e-9),
                weight => assert!((slope + strength * weight.signum()).abs() < 1e-8),
            }
        }
        let expected = by_shrinking(&examples, shape, terms, strength);
        for (found, expected) in weights.iter().zip(&expected) {
            assert!((found - expected).abs() < 1e-6, "{found} {expected}");
        }
    }
}

#[test]
fn results_do_not_depend_on_threads_and_a_solution_can_be_stopped() {
    let (examples, shape) = (examples(300, 30, 3), LinearShape { features: 30, classes: 3 });
    let solved = |threads: usize| {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
        pool.install(|| {
            let mut solver = Solver::new(&examples, shape, settings(&LossTerms::default(), Penalty::L2));
            let mut losses = Vec::new();
            for strength in [0.1, 0.01] {
                solver.solve(strength, &mut |iteration| {
                    losses.push(iteration.loss);
                    true
                });
            }
            (solver.parameters().to_vec(), losses)
        })
    };
    let one = solved(1);
    assert_eq!(one, solved(3));
    assert!(one.1.last().unwrap().loss < one.1[0].loss);
    let mut solver = Solver::new(&examples, shape, settings(&LossTerms::default(), Penalty::L2));
    let mut made = 0;
    let reached = solver.solve(1e-4, &mut |_| {
        made += 1;
        made < 3
    });
    assert_eq!((reached, made), (Reached::Stopped, 3));
}
