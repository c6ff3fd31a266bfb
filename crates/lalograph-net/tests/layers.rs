//! The parts of a model one by one: values worked out by hand, and what must hold at every size.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test fails by panicking")]

use lalograph_net::model::{LanguageModel, LanguageModelShape};
use lalograph_net::parameters::{Initial, Layout};
use lalograph_net::random::stream;
use lalograph_net::softmax::{IGNORED, Softmax};
use lalograph_net::step::{AddLanes, GradientSum};
use lalograph_net::{Cell, embedding, initial::initial_weights};
use rand::RngExt;

/// A softmax over three tokens of one hidden number: scores are `w * h + b`.
fn small_softmax() -> (Softmax, Vec<f64>) {
    let mut layout = Layout::default();
    let softmax = Softmax::new(&mut layout, "output", 1, 3);
    // Weights 1, 0, -1 and biases 0, ln 2, 0.
    (softmax, vec![1.0, 0.0, -1.0, 0.0, 2f64.ln(), 0.0])
}

#[test]
fn the_loss_is_the_logarithm_of_a_probability_worked_out_by_hand() {
    let (softmax, weights) = small_softmax();
    let mut scratch = softmax.scratch(2);
    // h = 0: probabilities 1/4, 2/4, 1/4. h = ln 3: scores ln 3, ln 2, -ln 3, so 3, 2, 1/3 of 16/3.
    let hidden = [0.0, 3f64.ln()];
    let mut each = Vec::new();
    let total = softmax.loss(&weights, &hidden, &[1, 0], &mut scratch, Some(&mut each));
    assert!((each[0] - 2f64.ln()).abs() < 1e-14, "{each:?}");
    assert!((each[1] - (16f64 / 9.0).ln()).abs() < 1e-14, "{each:?}");
    assert!((total - each.iter().sum::<f64>()).abs() < 1e-15);
}

#[test]
fn the_gradient_is_the_probability_less_the_target() {
    let (softmax, weights) = small_softmax();
    let mut scratch = softmax.scratch(1);
    let (mut gradient, mut d_hidden) = (vec![0.0; 6], vec![0.0; 1]);
    let hidden = [3f64.ln()];
    softmax.loss_and_gradient(&weights, &hidden, &[0], 1.0, &mut scratch, &mut gradient, &mut d_hidden);
    let d_scores = [9.0 / 16.0 - 1.0, 6.0 / 16.0, 1.0 / 16.0];
    for token in 0..3 {
        assert!((gradient[token] - d_scores[token] * hidden[0]).abs() < 1e-14, "weight {token}");
        assert!((gradient[3 + token] - d_scores[token]).abs() < 1e-14, "bias {token}");
    }
    assert!((d_hidden[0] - (d_scores[0] - d_scores[2])).abs() < 1e-14);
}

#[test]
fn an_ignored_target_has_no_loss_and_no_gradient() {
    let (softmax, weights) = small_softmax();
    let mut scratch = softmax.scratch(3);
    let hidden = [0.5, 7.0, -0.5];
    let run = |hidden: &[f64], targets: &[u32], scratch: &mut [f64]| {
        let (mut gradient, mut d_hidden) = (vec![0.0; 6], vec![9.0; hidden.len()]);
        let loss =
            softmax.loss_and_gradient(&weights, hidden, targets, 1.0, scratch, &mut gradient, &mut d_hidden);
        (loss, gradient, d_hidden)
    };
    let (loss, gradient, d_hidden) = run(&hidden, &[2, IGNORED, 0], &mut scratch);
    let (without, expected, _) = run(&[0.5, -0.5], &[2, 0], &mut scratch[..6]);
    assert!((loss - without).abs() < 1e-14);
    assert_eq!(d_hidden[1], 0.0);
    for (x, y) in gradient.iter().zip(&expected) {
        assert!((x - y).abs() < 1e-14);
    }
    assert_eq!(softmax.loss(&weights, &hidden, &[IGNORED; 3], &mut scratch, None), 0.0);
}

#[test]
fn scores_far_apart_neither_overflow_nor_vanish() {
    let mut layout = Layout::default();
    let softmax = Softmax::new(&mut layout, "output", 1, 2);
    let weights = vec![1.0f32, -1.0, 0.0, 0.0];
    let mut scratch = softmax.scratch(1);
    for h in [500.0f32, -500.0, 0.0] {
        let loss = softmax.loss(&weights, &[h], &[0], &mut scratch, None);
        let exact = if h < 0.0 { -2.0 * f64::from(h) } else { (1.0 + f64::from(-2.0 * h).exp()).ln() };
        assert!((loss - exact).abs() < 1e-3, "{h}: {loss}");
    }
}

#[test]
fn an_embedding_copies_rows_and_adds_the_gradients_of_a_token_that_comes_twice() {
    let table = [0.0, 0.5, 1.0, 1.5, 2.0, 2.5];
    let mut out = [0.0; 8];
    embedding::forward(&table, 2, &[2, 0, 2, 1], &mut out);
    assert_eq!(out, [2.0, 2.5, 0.0, 0.5, 2.0, 2.5, 1.0, 1.5]);
    let mut gradient = [1.0, 0.0, 0.0, 0.0, 0.0, 0.0];
    embedding::backward(&mut gradient, 2, &[2, 0, 2], &[1.0, 2.0, 3.0, 4.0, 5.0, 6.0]);
    assert_eq!(gradient, [4.0, 4.0, 0.0, 0.0, 6.0, 8.0]);
}

#[test]
fn lanes_are_added_in_order_at_every_size_around_a_piece() {
    for size in [0usize, 1, 7, 16_383, 16_384, 16_385, 40_000] {
        let lane = |k: u64| -> Vec<f32> {
            let mut random = stream(k, "test", &[]);
            (0..size).map(|_| random.random_range(-1.0f32..1.0)).collect()
        };
        let lanes: Vec<Vec<f32>> = (0..3).map(lane).collect();
        let mut sum = lanes[0].clone();
        AddLanes.sum(&mut sum, &[&lanes[1], &lanes[2]]);
        for (index, x) in sum.iter().enumerate() {
            assert_eq!(*x, (lanes[0][index] + lanes[1][index]) + lanes[2][index], "{size}: {index}");
        }
        let mut alone = lanes[0].clone();
        AddLanes.sum(&mut alone, &[]);
        assert_eq!(alone, lanes[0]);
    }
}

#[test]
fn initial_values_stay_within_their_bounds_and_use_them() {
    let shape = LanguageModelShape { vocabulary: 40, embedding: 16, hidden: 32, layers: 2, cell: Cell::Lstm };
    let model = LanguageModel::<f64>::new(shape).unwrap();
    let weights = initial_weights::<f64>(model.layout(), 3);
    assert_eq!(weights.len(), model.layout().len());
    for tensor in model.layout().tensors() {
        let part = &weights[tensor.range.clone()];
        assert_eq!(part.len(), tensor.shape.iter().product::<usize>());
        match tensor.initial {
            Initial::Uniform(bound) => {
                let widest = part.iter().fold(0.0f64, |widest, x| widest.max(x.abs()));
                assert!(widest <= bound && widest > 0.9 * bound, "{}: {widest} of {bound}", tensor.name);
                let mean = part.iter().sum::<f64>() / part.len() as f64;
                assert!(mean.abs() < 0.15 * bound, "{}: mean {mean}", tensor.name);
            }
            Initial::ZeroBut { from, to, value } => {
                for (index, &x) in part.iter().enumerate() {
                    let expected = if (from..to).contains(&index) { value } else { 0.0 };
                    assert_eq!(x, expected, "{} {index}", tensor.name);
                }
            }
        }
    }
    // The forget gate is the second quarter of a layer's bias, and starts open.
    let bias = model.layout().tensors().iter().find(|tensor| tensor.name == "layer.1.bias").unwrap();
    let bias = &weights[bias.range.clone()];
    assert!(bias[32..64].iter().all(|&x| x >= 1.0) && bias[..32].iter().all(|&x| x == 0.0));
    assert_ne!(weights, initial_weights::<f64>(model.layout(), 4));
}

#[test]
fn a_wider_vocabulary_leaves_the_other_initial_values_alone() {
    let of = |vocabulary| {
        let shape = LanguageModelShape { vocabulary, embedding: 5, hidden: 6, layers: 1, cell: Cell::Lstm };
        let model = LanguageModel::<f32>::new(shape).unwrap();
        let weights = initial_weights::<f32>(model.layout(), 1);
        let tensor = model.layout().tensors().iter().find(|t| t.name == "layer.0.recurrent").unwrap();
        weights[tensor.range.clone()].to_vec()
    };
    assert_eq!(of(10), of(500));
}

#[test]
fn streams_of_other_names_seeds_and_positions_are_others() {
    let draw = |seed, name, position: &[u64]| stream(seed, name, position).random::<u64>();
    let all = [
        draw(1, "dropout", &[]),
        draw(1, "dropout", &[0]),
        draw(1, "dropout", &[1]),
        draw(1, "dropout", &[0, 1]),
        draw(1, "sampling", &[0]),
        draw(2, "dropout", &[0]),
        draw(1, "dropou", &[0]),
    ];
    for (index, x) in all.iter().enumerate() {
        assert!(!all[..index].contains(x), "{index}");
    }
    assert_eq!(all[1], draw(1, "dropout", &[0]));
}
