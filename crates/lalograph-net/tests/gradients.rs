//! Every gradient against central differences, in double precision.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test fails by panicking")]

use lalograph_net::model::{Dropout, LanguageModel, LanguageModelShape, Purpose};
use lalograph_net::random::stream;
use lalograph_net::recurrent::Extent;
use lalograph_net::softmax::IGNORED;
use lalograph_net::{Cell, initial::initial_weights};

/// The windows that a check reads one after the other; only the last one's loss is differentiated, so that a
/// carried state is a constant that really differs from zero.
struct Case {
    shape: LanguageModelShape,
    extent: Extent,
    windows: usize,
    dropout: f64,
}

fn tokens(case: &Case, seed: u64) -> Vec<Vec<u32>> {
    let count = case.extent.tokens() as u64;
    let vocabulary = case.shape.vocabulary as u64;
    (0..case.windows as u64)
        .map(|window| {
            (0..count).map(|i| ((i * 31 + window * 17 + seed * 7 + i * i) % vocabulary) as u32).collect()
        })
        .collect()
}

fn mean_loss(
    case: &Case,
    model: &LanguageModel<f64>,
    weights: &[f64],
    gradient: Option<&mut Vec<f64>>,
) -> f64 {
    // The state that enters the last window is computed with unmoved weights: truncation holds it fixed.
    let fixed = initial_weights::<f64>(model.layout(), 5);
    let mut lane = model.lane(case.extent, Purpose::Training { dropout: case.dropout > 0.0 });
    let inputs = tokens(case, 1);
    let mut targets = tokens(case, 2).pop().unwrap();
    targets[1] = IGNORED;
    let mut masks = Dropout { rate: case.dropout, random: stream(3, "dropout", &[0]) };
    let mut read = |lane: &mut _, weights: &[f64], window: &[u32]| {
        model.forward(weights, window, lane, (case.dropout > 0.0).then_some(&mut masks));
    };
    for window in &inputs[..case.windows - 1] {
        read(&mut lane, &fixed, window);
    }
    read(&mut lane, weights, &inputs[case.windows - 1]);
    let scale = 1.0 / targets.len() as f64;
    match gradient {
        Some(gradient) => {
            let loss = model.loss_and_gradient(weights, &targets, scale, &mut lane) * scale;
            gradient.clone_from(&lane.gradient);
            loss
        }
        None => model.loss(weights, &targets, &mut lane, None) * scale,
    }
}

/// |a - n| / max(|a|, |n|, floor): relative where a gradient is of any size, and not blown up where it is only rounding.
fn relative_error(analytic: f64, numeric: f64) -> f64 {
    (analytic - numeric).abs() / analytic.abs().max(numeric.abs()).max(1e-4)
}

/// The five-point formula, whose error is of the fourth order in the distance.
fn central_difference(weights: &mut [f64], index: usize, loss: impl Fn(&[f64]) -> f64) -> f64 {
    const H: f64 = 1e-3;
    let kept = weights[index];
    let mut at = |offset: f64| {
        weights[index] = kept + offset;
        loss(weights)
    };
    let (near, far) = (at(H) - at(-H), at(2.0 * H) - at(-2.0 * H));
    weights[index] = kept;
    (8.0 * near - far) / (12.0 * H)
}

fn check(case: &Case) -> f64 {
    let model = LanguageModel::new(case.shape).unwrap();
    // Larger than the usual start, so that every gate leaves its linear range.
    let mut weights: Vec<f64> = initial_weights::<f64>(model.layout(), 5).iter().map(|w| w * 1.5).collect();
    let mut gradient = Vec::new();
    mean_loss(case, &model, &weights, Some(&mut gradient));
    assert_eq!(gradient.len(), weights.len());
    let mut worst: f64 = 0.0;
    for tensor in model.layout().tensors() {
        assert!(gradient[tensor.range.clone()].iter().any(|g| *g != 0.0), "{} has no gradient", tensor.name);
        for index in tensor.range.clone() {
            let numeric = central_difference(&mut weights, index, |w| mean_loss(case, &model, w, None));
            let error = relative_error(gradient[index], numeric);
            assert!(error < 1e-6, "{} [{}]: {error}", tensor.name, index - tensor.range.start);
            worst = worst.max(error);
        }
    }
    worst
}

#[test]
fn every_parameter_in_every_mode() {
    let mut worst: f64 = 0.0;
    let mut cases = 0;
    for layers in 1..=3 {
        for (embedding, hidden) in [(3, 4), (5, 3)] {
            for windows in [1, 2] {
                for dropout in [0.0, 0.4] {
                    let shape =
                        LanguageModelShape { vocabulary: 11, embedding, hidden, layers, cell: Cell::Lstm };
                    let case = Case { shape, extent: Extent { steps: 5, rows: 3 }, windows, dropout };
                    worst = worst.max(check(&case));
                    cases += 1;
                }
            }
        }
    }
    println!("{cases} cases, largest relative error {worst:.2e}");
}

#[test]
fn windows_larger_than_a_chunk_of_scores() {
    // 2^18 scores fill a chunk: this vocabulary makes three chunks of one window.
    let shape =
        LanguageModelShape { vocabulary: 100_000, embedding: 2, hidden: 2, layers: 1, cell: Cell::Lstm };
    let case = Case { shape, extent: Extent { steps: 3, rows: 2 }, windows: 1, dropout: 0.0 };
    let model = LanguageModel::new(shape).unwrap();
    let mut weights: Vec<f64> = initial_weights(model.layout(), 5);
    let mut gradient = Vec::new();
    let loss = mean_loss(&case, &model, &weights, Some(&mut gradient));
    assert!((loss - mean_loss(&case, &model, &weights, None)).abs() < 1e-12);
    for tensor in model.layout().tensors() {
        let largest = tensor.range.clone().max_by(|&a, &b| gradient[a].abs().total_cmp(&gradient[b].abs()));
        let index = largest.unwrap();
        let numeric = central_difference(&mut weights, index, |w| mean_loss(&case, &model, w, None));
        assert!(relative_error(gradient[index], numeric) < 1e-6, "{}", tensor.name);
    }
}
