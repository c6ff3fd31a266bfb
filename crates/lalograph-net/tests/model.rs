//! The language model as a whole: against a plain written-out one, and its properties.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test fails by panicking")]

use lalograph_net::model::{LanguageModel, LanguageModelShape, Purpose, ShapeError};
use lalograph_net::optimiser::{Adam, AdamSettings, clip_factor, norm};
use lalograph_net::recurrent::Extent;
use lalograph_net::step::{AddLanes, DropoutDraw, Team};
use lalograph_net::{Cell, initial::initial_weights};

const SHAPE: LanguageModelShape =
    LanguageModelShape { vocabulary: 23, embedding: 6, hidden: 9, layers: 2, cell: Cell::Lstm };

/// -ln p of each token of one stream, from the formulas, one number at a time.
fn plain_losses(model: &LanguageModel<f64>, weights: &[f64], tokens: &[u32]) -> Vec<f64> {
    let tensor = |name: &str| {
        let found = model.layout().tensors().iter().find(|tensor| tensor.name == name).unwrap();
        &weights[found.range.clone()]
    };
    let LanguageModelShape { vocabulary, embedding, hidden, layers, .. } = model.shape();
    let logistic = |x: f64| 1.0 / (1.0 + (-x).exp());
    let mut h = vec![vec![0.0; hidden]; layers];
    let mut c = vec![vec![0.0; hidden]; layers];
    let mut losses = Vec::new();
    for pair in tokens.windows(2) {
        let mut x = tensor("embedding")[pair[0] as usize * embedding..][..embedding].to_vec();
        for layer in 0..layers {
            let part = |name: &str| tensor(&format!("layer.{layer}.{name}"));
            let (wx, wh, b) = (part("input"), part("recurrent"), part("bias"));
            let z: Vec<f64> = (0..4 * hidden)
                .map(|j| {
                    let from_x: f64 = x.iter().enumerate().map(|(i, v)| v * wx[i * 4 * hidden + j]).sum();
                    let from_h: f64 =
                        h[layer].iter().enumerate().map(|(i, v)| v * wh[i * 4 * hidden + j]).sum();
                    from_x + from_h + b[j]
                })
                .collect();
            for n in 0..hidden {
                let (i, f) = (logistic(z[n]), logistic(z[hidden + n]));
                let (g, o) = (z[2 * hidden + n].tanh(), logistic(z[3 * hidden + n]));
                c[layer][n] = f * c[layer][n] + i * g;
                h[layer][n] = o * c[layer][n].tanh();
            }
            x.clone_from(&h[layer]);
        }
        let (w, b) = (tensor("output.weights"), tensor("output.bias"));
        let scores: Vec<f64> = (0..vocabulary)
            .map(|v| b[v] + x.iter().enumerate().map(|(i, h)| h * w[v * hidden + i]).sum::<f64>())
            .collect();
        let total: f64 = scores.iter().map(|s| s.exp()).sum();
        losses.push(total.ln() - scores[pair[1] as usize]);
    }
    losses
}

fn text(count: usize, seed: usize) -> Vec<u32> {
    (0..count).map(|i| ((i * i * 3 + i * 5 + seed) % 23) as u32).collect()
}

#[test]
fn windows_of_any_cut_give_the_losses_of_the_written_out_model() {
    let model = LanguageModel::new(SHAPE).unwrap();
    let weights = initial_weights::<f64>(model.layout(), 1);
    let tokens = text(61, 4);
    let expected = plain_losses(&model, &weights, &tokens);
    for window in [1, 7, 60] {
        let mut lane = model.lane(Extent { steps: window, rows: 1 }, Purpose::Reading);
        let mut losses = Vec::new();
        for start in (0..60).step_by(window) {
            let end = (start + window).min(60);
            model.forward(&weights, &tokens[start..end], &mut lane, None);
            model.loss(&weights, &tokens[start + 1..=end], &mut lane, Some(&mut losses));
        }
        assert_eq!(losses.len(), expected.len());
        for (loss, expected) in losses.iter().zip(&expected) {
            assert!((loss - expected).abs() < 1e-10, "window {window}");
        }
    }
}

#[test]
fn single_precision_stays_close_to_double() {
    let (single, double) =
        (LanguageModel::<f32>::new(SHAPE).unwrap(), LanguageModel::<f64>::new(SHAPE).unwrap());
    let weights = initial_weights::<f64>(double.layout(), 1);
    let narrow: Vec<f32> = weights.iter().map(|&w| w as f32).collect();
    let tokens = text(200, 1);
    let expected: f64 = plain_losses(&double, &weights, &tokens).iter().sum();
    let mut lane = single.lane(Extent { steps: 199, rows: 1 }, Purpose::Reading);
    single.forward(&narrow, &tokens[..199], &mut lane, None);
    let loss = single.loss(&narrow, &tokens[1..], &mut lane, None);
    assert!((loss / expected - 1.0).abs() < 1e-5, "{loss} {expected}");
}

#[test]
fn rows_of_a_batch_do_not_see_each_other() {
    let model = LanguageModel::new(SHAPE).unwrap();
    let weights = initial_weights::<f64>(model.layout(), 2);
    let streams: Vec<Vec<u32>> = (0..5).map(|row| text(13, row * 3)).collect();
    let step_major = |offset: usize| -> Vec<u32> {
        (0..12).flat_map(|step| streams.iter().map(move |stream| stream[step + offset])).collect()
    };
    let expected: f64 = streams.iter().flat_map(|stream| plain_losses(&model, &weights, stream)).sum();
    for lanes in [1, 2, 3, 5, 9] {
        let mut team = Team::new(&model, Extent { steps: 12, rows: 5 }, lanes, Purpose::Reading);
        let loss = team.judge(&model, &weights, &step_major(0), &step_major(1));
        assert!((loss - expected).abs() < 1e-9, "{lanes} lanes");
    }
}

/// A few steps of training; everything that a run's numbers depend on.
fn train(threads: usize, lanes: usize, dropout: f64) -> (Vec<f32>, Vec<f64>) {
    let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
    pool.install(|| {
        let model = LanguageModel::<f32>::new(SHAPE).unwrap();
        let mut weights = initial_weights(model.layout(), 7);
        let mut adam = Adam::new(AdamSettings::default(), weights.len());
        let extent = Extent { steps: 10, rows: 8 };
        let purpose = Purpose::Training { dropout: dropout > 0.0 };
        let mut team = Team::new(&model, extent, lanes, purpose);
        let tokens = text(4000, 0);
        let mut losses = Vec::new();
        for step in 0..120u64 {
            let at = |offset: usize| -> Vec<u32> {
                (0..10)
                    .flat_map(|t| (0..8).map(move |row| row * 450 + ((step as usize % 40) * 10) + t))
                    .map(|index| tokens[index + offset])
                    .collect()
            };
            let draw = (dropout > 0.0).then_some(DropoutDraw { rate: dropout, seed: 1, step });
            let loss = team.learn(&model, &weights, &at(0), &at(1), draw, &mut AddLanes);
            losses.push(loss / 80.0);
            let factor = clip_factor(norm(team.gradient()), Some(1.0));
            adam.step(&mut weights, team.gradient(), 0.02, factor);
        }
        (weights, losses)
    })
}

#[test]
fn threads_change_no_bit_and_the_loss_falls() {
    for dropout in [0.0, 0.2] {
        let (weights, losses) = train(1, 3, dropout);
        assert!(losses[119] < 0.7 * losses[0], "{losses:?}");
        assert!((losses[0] - 23f64.ln()).abs() < 0.3, "the first loss is near uniform: {}", losses[0]);
        for threads in [2, 4] {
            assert!(train(threads, 3, dropout).0 == weights, "{threads} threads");
        }
        assert!(train(1, 1, dropout).0 != weights, "lanes are part of the plan, not a detail");
    }
}

#[test]
fn shapes_without_sense_are_refused() {
    assert_eq!(
        LanguageModel::<f32>::new(LanguageModelShape { hidden: 0, ..SHAPE }).err(),
        Some(ShapeError::Zero("hidden width"))
    );
    assert!(matches!(
        LanguageModel::<f32>::new(LanguageModelShape { layers: 1000, ..SHAPE }).err(),
        Some(ShapeError::TooLarge { limit: 64, .. })
    ));
}

/// The gradient of one window in the working precision against double precision, at the sizes that vector instructions and
/// packed products are used for.
#[test]
fn single_precision_gradients_stay_close_to_double() {
    let shape =
        LanguageModelShape { vocabulary: 300, embedding: 64, hidden: 128, layers: 2, cell: Cell::Lstm };
    let extent = Extent { steps: 64, rows: 8 };
    let (single, double) =
        (LanguageModel::<f32>::new(shape).unwrap(), LanguageModel::<f64>::new(shape).unwrap());
    let weights = initial_weights::<f64>(double.layout(), 1);
    let narrow: Vec<f32> = weights.iter().map(|&w| w as f32).collect();
    let tokens: Vec<u32> = (0..extent.tokens() + 8).map(|i| (i * i * 31 % 300) as u32).collect();
    let (inputs, targets) = (&tokens[..extent.tokens()], &tokens[8..]);
    let purpose = Purpose::Training { dropout: false };
    let mut fine = double.lane(extent, purpose);
    double.forward(&weights, inputs, &mut fine, None);
    double.loss_and_gradient(&weights, targets, 1.0, &mut fine);
    let mut team = Team::new(&single, extent, 2, purpose);
    team.learn(&single, &narrow, inputs, targets, None, &mut AddLanes);
    let scale = 1.0 / targets.len() as f64;
    for tensor in double.layout().tensors() {
        let (mut difference, mut size) = (0.0f64, 0.0f64);
        for index in tensor.range.clone() {
            let exact = fine.gradient[index] * scale;
            difference += (f64::from(team.gradient()[index]) - exact).powi(2);
            size += exact * exact;
        }
        assert!(difference.sqrt() < 1e-4 * size.sqrt(), "{}: {difference} of {size}", tensor.name);
    }
}
