//! The language model as a whole: against a plain written-out one, and its properties.

use lalograph_net::blocks::dropout::DropoutRates;
use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::blocks::regularisation::{LaneUse, Regularisation};
use lalograph_net::heads::clustered::Clusters;
use lalograph_net::heads::softmax::SoftmaxSettings;
use lalograph_net::learning::clipping::{Clipping, GradientMeter};
use lalograph_net::learning::optimiser::{Optimiser, OptimiserSettings, Rule};
use lalograph_net::models::language::ShapeError;
use lalograph_net::models::network::Draw;
use lalograph_net::step::exchange::OneProcess;
use lalograph_net::step::team::Read;
use lalograph_net::weights::first_values::first_values;
use lalograph_net::weights::packed::{PackedWeights, Pass};
use lalograph_net::{Cell, Choice, LanguageModel, LanguageModelShape, Network, Real};

use crate::common::{Batch, deal, team};

fn shape(cell: Cell) -> LanguageModelShape {
    LanguageModelShape { layers: 2, ..LanguageModelShape::new(23, 6, 9, cell) }
}

fn logistic(x: f64) -> f64 {
    1.0 / (1.0 + (-x).exp())
}

/// -ln p of each token of one stream, from the formulas, one number at a time.
fn plain_losses(model: &LanguageModel, weights: &[f64], tokens: &[u32]) -> Vec<f64> {
    let tensor = |name: &str| {
        let found = model.layout().tensors().iter().find(|tensor| tensor.name == name).unwrap();
        &weights[found.range.clone()]
    };
    let LanguageModelShape { vocabulary, embedding, hidden, layers, cell, .. } = *model.shape();
    let mut h = vec![vec![0.0; hidden]; layers];
    let mut c = vec![vec![0.0; hidden]; layers];
    let mut losses = Vec::new();
    for pair in tokens.windows(2) {
        let mut x = tensor("embedding")[pair[0] as usize * embedding..][..embedding].to_vec();
        for layer in 0..layers {
            let part = |name: &str| tensor(&format!("layer.{}.{name}", layer + 1));
            let (wx, wh, b) = (part("input"), part("recurrent"), part("bias"));
            let width = cell.gates() * hidden;
            let sums = |from: &[f64], w: &[f64]| -> Vec<f64> {
                (0..width).map(|j| from.iter().enumerate().map(|(i, v)| v * w[i * width + j]).sum()).collect()
            };
            let (from_x, from_h) = (sums(&x, wx), sums(&h[layer], wh));
            for n in 0..hidden {
                let z = |gate: usize| {
                    let j = gate * hidden + n;
                    from_x[j] + from_h[j] + b[j]
                };
                match cell {
                    Cell::PlainTanh => h[layer][n] = z(0).tanh(),
                    Cell::PlainRelu => h[layer][n] = z(0).max(0.0),
                    Cell::Gru => {
                        let j = 2 * hidden + n;
                        let q = from_h[j] + part("candidate_bias")[n];
                        let candidate = (from_x[j] + b[j] + logistic(z(1)) * q).tanh();
                        let keep = logistic(z(0));
                        h[layer][n] = keep * h[layer][n] + (1.0 - keep) * candidate;
                    }
                    Cell::Lstm => {
                        c[layer][n] = logistic(z(2)) * c[layer][n] + logistic(z(0)) * z(3).tanh();
                        h[layer][n] = logistic(z(1)) * c[layer][n].tanh();
                    }
                }
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

/// The loss of each token of a stream, read in windows of some length.
fn losses_in_windows<T: Real>(
    model: &LanguageModel,
    weights: &[T],
    tokens: &[u32],
    window: usize,
) -> Vec<f64> {
    let packed = PackedWeights::reading(model.layout(), weights);
    let weights = packed.with(weights);
    let mut lane = model.reading_lane(Extent { steps: window, rows: 1 }, false);
    let mut losses = Vec::new();
    let last = tokens.len() - 1;
    for start in (0..last).step_by(window) {
        let end = (start + window).min(last);
        model.forward(weights, &tokens[start..end], None, &mut lane, None);
        model.loss_of(weights, &tokens[start + 1..=end], &mut lane, Some(&mut losses));
    }
    losses
}

#[test]
fn windows_of_any_cut_give_the_losses_of_the_written_out_model() {
    for &cell in Cell::ALL {
        let model = LanguageModel::new(shape(cell)).unwrap();
        let weights = first_values::<f64>(model.layout(), 1);
        let tokens = text(61, 4);
        let expected = plain_losses(&model, &weights, &tokens);
        for window in [1, 7, 60] {
            let losses = losses_in_windows(&model, &weights, &tokens, window);
            assert_eq!(losses.len(), expected.len());
            for (loss, expected) in losses.iter().zip(&expected) {
                assert!((loss - expected).abs() < 1e-12, "{cell:?}: window {window}");
            }
        }
    }
}

#[test]
fn a_window_in_one_piece_equals_two_halves_with_the_state_carried() {
    for &cell in Cell::ALL {
        let shape = LanguageModelShape { layer_norm: true, residual: true, layers: 3, ..shape(cell) };
        let model = LanguageModel::new(shape).unwrap();
        let exact = first_values::<f64>(model.layout(), 1);
        let single: Vec<f32> = exact.iter().map(|&w| w as f32).collect();
        let tokens = text(81, 2);
        let pairs = |whole: Vec<f64>, halves: Vec<f64>, error: f64| {
            for (x, y) in whole.iter().zip(&halves) {
                assert!((x - y).abs() <= error * x.abs(), "{cell:?}: {x} {y}");
            }
        };
        let halves = |window| losses_in_windows(&model, &exact, &tokens, window);
        pairs(halves(80), halves(40), 1e-12);
        let halves = |window| losses_in_windows(&model, &single, &tokens, window);
        pairs(halves(80), halves(40), 1e-6);
    }
}

#[test]
fn single_precision_stays_close_to_double() {
    for &cell in Cell::ALL {
        let model = LanguageModel::new(shape(cell)).unwrap();
        let weights = first_values::<f64>(model.layout(), 1);
        let narrow: Vec<f32> = weights.iter().map(|&w| w as f32).collect();
        let tokens = text(200, 1);
        let expected: f64 = plain_losses(&model, &weights, &tokens).iter().sum();
        let loss: f64 = losses_in_windows(&model, &narrow, &tokens, 199).iter().sum();
        assert!((loss / expected - 1.0).abs() < 1e-5, "{cell:?}: {loss} {expected}");
    }
}

/// The summed loss of a batch of streams read by some lanes.
fn judged(model: &LanguageModel, weights: &[f64], streams: &[Vec<u32>], lanes: usize) -> f64 {
    let (steps, rows) = (streams[0].len() - 1, streams.len());
    let step_major = |offset: usize| -> Vec<u32> {
        (0..steps).flat_map(|step| streams.iter().map(move |stream| stream[step + offset])).collect()
    };
    let packed = PackedWeights::reading(model.layout(), weights);
    let mut team = team(model, Extent { steps, rows }, lanes, LaneUse::Reading, false);
    let batch = Batch { inputs: &step_major(0), targets: &step_major(1), resets: None };
    deal(&mut team, batch);
    team.losses(model, packed.with(weights)).sum()
}

#[test]
fn rows_of_a_batch_do_not_see_each_other() {
    let model = LanguageModel::new(shape(Cell::Gru)).unwrap();
    let weights = first_values::<f64>(model.layout(), 2);
    let streams: Vec<Vec<u32>> = (0..5).map(|row| text(13, row * 3)).collect();
    let expected: f64 = streams.iter().flat_map(|stream| plain_losses(&model, &weights, stream)).sum();
    for lanes in [1, 2, 3, 5, 9] {
        let loss = judged(&model, &weights, &streams, lanes);
        assert!((loss - expected).abs() < 1e-9, "{lanes} lanes");
    }
}

#[test]
fn documents_whose_state_is_reset_are_read_as_if_they_were_alone() {
    for &cell in Cell::ALL {
        let model = LanguageModel::new(shape(cell)).unwrap();
        let weights = first_values::<f64>(model.layout(), 2);
        let documents: Vec<Vec<u32>> = [4, 9, 2, 6].map(|length| text(length, length)).to_vec();
        let expected: f64 =
            documents.iter().flat_map(|document| plain_losses(&model, &weights, document)).sum();
        // One row of all documents, each token read but its last, and the state reset before each.
        let (mut inputs, mut targets, mut resets) = (Vec::new(), Vec::new(), Vec::new());
        for document in &documents {
            for (index, pair) in document.windows(2).enumerate() {
                inputs.push(pair[0]);
                targets.push(pair[1]);
                resets.push(index == 0);
            }
        }
        let packed = PackedWeights::reading(model.layout(), &weights);
        let mut team = team(&model, Extent { steps: inputs.len(), rows: 1 }, 1, LaneUse::Reading, true);
        let batch = Batch { inputs: &inputs, targets: &targets, resets: Some(&resets) };
        deal(&mut team, batch);
        let loss: f64 = team.losses(&model, packed.with(&weights)).sum();
        assert!((loss - expected).abs() < 1e-10, "{cell:?}: {loss} {expected}");
    }
}

/// A few steps of training; everything that a run's numbers depend on.
fn train(
    shape: LanguageModelShape,
    (threads, lanes): (usize, usize),
    regularisation: Regularisation,
) -> (Vec<f32>, Vec<f64>) {
    let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
    pool.install(|| {
        let model = LanguageModel::new(shape).unwrap();
        let layout = model.layout();
        let mut weights: Vec<f32> = first_values(layout, 7);
        let mut packed = PackedWeights::new(layout, true);
        let mut optimiser = Optimiser::new(OptimiserSettings::new(Rule::Adam), layout);
        let mut meter = GradientMeter::new(layout);
        let clipping = Clipping { norm: Some(1.0), ..Clipping::default() };
        let extent = Extent { steps: 10, rows: 8 };
        let mut team = team::<f32>(&model, extent, lanes, LaneUse::Training(regularisation), false);
        let mut exchange = OneProcess::default();
        let tokens = text(4000, 0);
        let mut losses = Vec::new();
        for step in 0..120u64 {
            let at = |offset: usize| -> Vec<u32> {
                (0..10)
                    .flat_map(|t| (0..8).map(move |row| row * 450 + ((step as usize % 40) * 10) + t))
                    .map(|index| tokens[index + offset])
                    .collect()
            };
            packed.update(layout, &weights, Pass::Training);
            let batch = Batch { inputs: &at(0), targets: &at(1), resets: None };
            deal(&mut team, batch);
            let both = packed.with(&weights);
            let Read { loss, scored, .. } = team.learn(&model, both, Draw { seed: 1, step }, &mut exchange);
            assert_eq!(scored, 80);
            losses.push(loss.sum / 80.0);
            let clipped = meter.measure(team.gradient(), &clipping);
            optimiser.step(&mut weights, team.gradient(), 0.02, clipped);
        }
        (weights, losses)
    })
}

#[test]
fn threads_change_no_bit_and_the_loss_falls() {
    let none = Regularisation::default();
    let dropout = DropoutRates { inputs: 0.1, words: 0.1, layers: 0.1, recurrent: 0.1, output: 0.1 };
    let some =
        Regularisation { dropout, activation_penalty: 0.1, temporal_penalty: 0.1, label_smoothing: 0.0 };
    let clusters = SoftmaxSettings::clustered(Clusters { ends: vec![8], shrink: 2 });
    for (cell, softmax, tied, regularisation) in [
        (Cell::Lstm, SoftmaxSettings::full(), false, none),
        (Cell::Lstm, SoftmaxSettings::full(), true, some),
        (Cell::Gru, clusters, false, some),
        (Cell::PlainTanh, SoftmaxSettings::sampled(15), false, none),
        (Cell::PlainRelu, SoftmaxSettings::sampled(15), true, none),
    ] {
        let shape = LanguageModelShape { softmax, tied, ..shape(cell) };
        let train = |threads, lanes| train(shape.clone(), (threads, lanes), regularisation);
        let (weights, losses) = train(1, 3);
        assert!(losses[119] < 0.75 * losses[0], "{cell:?}: {losses:?}");
        let uniform = shape.softmax == SoftmaxSettings::full();
        assert!(
            !uniform || (losses[0] - 23f64.ln()).abs() < 0.4,
            "the first loss is near uniform: {}",
            losses[0]
        );
        for threads in [2, 4] {
            assert!(train(threads, 3).0 == weights, "{cell:?}: {threads} threads");
        }
        assert!(train(1, 1).0 != weights, "lanes are part of the plan, not a detail");
    }
}

#[test]
fn shapes_without_sense_are_refused() {
    let refused = |shape: LanguageModelShape| LanguageModel::new(shape).err().unwrap();
    let default = || shape(Cell::Lstm);
    assert_eq!(refused(LanguageModelShape { hidden: 0, ..default() }), ShapeError::Zero("hidden width"));
    let error = refused(LanguageModelShape { layers: 1000, ..default() });
    assert!(matches!(error, ShapeError::TooLarge { limit: 64, .. }));
    let clusters = |ends: &[usize]| SoftmaxSettings::clustered(Clusters { ends: ends.to_vec(), shrink: 4 });
    for ends in [&[][..], &[0, 5], &[5, 5], &[7, 3], &[5, 23]] {
        let error = refused(LanguageModelShape { softmax: clusters(ends), ..default() });
        assert!(matches!(error, ShapeError::Clusters { .. }), "{ends:?}");
    }
    let error = refused(LanguageModelShape { softmax: clusters(&[5]), tied: true, ..default() });
    assert_eq!(error, ShapeError::TiedClusters);
    let error = refused(LanguageModelShape { softmax: SoftmaxSettings::sampled(0), ..default() });
    assert!(matches!(error, ShapeError::Zero(_)));
}

/// The gradient of one window in the working precision against double precision, at the sizes that vector instructions and
/// packed products are used for.
#[test]
fn single_precision_gradients_stay_close_to_double() {
    for &cell in Cell::ALL {
        let shape = LanguageModelShape { layers: 2, ..LanguageModelShape::new(300, 64, 128, cell) };
        let extent = Extent { steps: 64, rows: 8 };
        let model = LanguageModel::new(shape).unwrap();
        let weights = first_values::<f64>(model.layout(), 1);
        let narrow: Vec<f32> = weights.iter().map(|&w| w as f32).collect();
        let tokens: Vec<u32> = (0..extent.tokens() + 8).map(|i| (i * i * 31 % 300) as u32).collect();
        let batch = Batch { inputs: &tokens[..extent.tokens()], targets: &tokens[8..], resets: None };
        fn gradient<T: Real>(
            model: &LanguageModel,
            extent: Extent,
            weights: &[T],
            batch: Batch<'_>,
        ) -> Vec<f64> {
            let packed = PackedWeights::training(model.layout(), weights);
            let mut team = team(model, extent, 2, LaneUse::Training(Regularisation::default()), false);
            deal(&mut team, batch);
            let draw = Draw { seed: 1, step: 0 };
            team.learn(model, packed.with(weights), draw, &mut OneProcess::default());
            team.gradient().iter().map(|g| g.to_f64()).collect()
        }
        let (single, double) =
            (gradient(&model, extent, &narrow, batch), gradient(&model, extent, &weights, batch));
        for tensor in model.layout().tensors() {
            let (mut difference, mut size) = (0.0f64, 0.0f64);
            for index in tensor.range.clone() {
                difference += (single[index] - double[index]).powi(2);
                size += double[index] * double[index];
            }
            assert!(
                difference.sqrt() < 1e-4 * size.sqrt(),
                "{cell:?} {}: {difference} of {size}",
                tensor.name
            );
        }
    }
}
