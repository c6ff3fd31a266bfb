//! The parts of a model one by one: values computed by hand, and what must hold at every size.

use lalograph_net::blocks::embedding;
use lalograph_net::blocks::recurrent::start::{InputStart, RecurrentStart, StartingValues};
use lalograph_net::heads::clustered::Clusters;
use lalograph_net::heads::loss::IGNORED;
use lalograph_net::heads::scratch::Scratch;
use lalograph_net::heads::softmax::{Softmax, SoftmaxHead, SoftmaxSettings};
use lalograph_net::numbers::chance::stream;
use lalograph_net::numbers::rooms::Rooms;
use lalograph_net::products::pack::Workspace;
use lalograph_net::weights::first_values::first_values;
use lalograph_net::weights::gradient::Gradient;
use lalograph_net::weights::layout::Initial;
use lalograph_net::weights::packed::PackedWeights;
use lalograph_net::{Cell, LanguageModel, LanguageModelShape, Layout, Network, Real};
use rand::RngExt;

/// An output over vectors of some width, with its weights and all the room that it needs.
struct Small<T> {
    softmax: SoftmaxHead,
    layout: Layout,
    packed: PackedWeights<T>,
    weights: Vec<T>,
    scratch: Scratch<T>,
    work: Workspace<T>,
    width: usize,
}

impl<T: Real> Small<T> {
    fn new(width: usize, vocabulary: usize, kind: &SoftmaxSettings, weights: Option<Vec<T>>) -> Self {
        let mut layout = Layout::default();
        let start = StartingValues::default_for(Cell::Lstm);
        let group = layout.group("output");
        let softmax = SoftmaxHead::new(&mut layout, group, (width, vocabulary), kind, None, start);
        let weights = weights.unwrap_or_else(|| first_values(&layout, 1));
        let packed = PackedWeights::training(&layout, &weights);
        let scratch = softmax.scratch(8, true, &mut Rooms::making());
        Self { softmax, layout, packed, weights, scratch, work: Workspace::new(), width }
    }

    fn loss(&mut self, x: &[T], targets: &[u32]) -> (f64, Vec<f64>) {
        let mut each = Vec::new();
        let weights = self.packed.with(&self.weights);
        let (scratch, work) = (&mut self.scratch, &mut self.work);
        let total = self.softmax.loss(weights, x, targets, scratch, Some(&mut each), work);
        (total, each)
    }

    fn learn(&mut self, x: &[T], targets: &[u32]) -> (f64, Vec<T>, Vec<T>) {
        self.learn_smoothed(x, targets, 0.0)
    }

    fn learn_smoothed(&mut self, x: &[T], targets: &[u32], smoothing: f64) -> (f64, Vec<T>, Vec<T>) {
        let mut gradient = vec![T::ZERO; self.weights.len()];
        let mut d_x = vec![T::ONE; targets.len() * self.width];
        let loss = self.softmax.learn(
            self.packed.with(&self.weights),
            x,
            targets,
            T::ONE,
            smoothing,
            None,
            &mut self.scratch,
            &mut Gradient { data: &mut gradient, offset: 0, handover: None },
            None,
            &mut d_x,
            &mut self.work,
        );
        (loss.sum, gradient, d_x)
    }

    fn scores(&mut self, x: &[T], vocabulary: usize) -> Vec<T> {
        let mut scores = vec![T::ZERO; x.len() / self.width * vocabulary];
        let weights = self.packed.with(&self.weights);
        self.softmax.scores(weights, x, &mut scores, &mut self.scratch, &mut self.work);
        scores
    }
}

/// Scores over three tokens of one number: `w * h + b` with weights 1, 0, -1 and biases 0, ln 2, 0.
fn three_tokens() -> Small<f64> {
    Small::new(1, 3, &SoftmaxSettings::full(), Some(vec![1.0, 0.0, -1.0, 0.0, 2f64.ln(), 0.0]))
}

#[test]
fn the_loss_is_the_logarithm_of_a_probability_worked_out_by_hand() {
    // h = 0: probabilities 1/4, 2/4, 1/4. h = ln 3: scores ln 3, ln 2, -ln 3, so 3, 2, 1/3 of 16/3.
    let (total, each) = three_tokens().loss(&[0.0, 3f64.ln()], &[1, 0]);
    assert!((each[0] - 2f64.ln()).abs() < 1e-14, "{each:?}");
    assert!((each[1] - (16f64 / 9.0).ln()).abs() < 1e-14, "{each:?}");
    assert!((total - each.iter().sum::<f64>()).abs() < 1e-15);
}

#[test]
fn the_gradient_is_the_probability_less_the_target() {
    let hidden = [3f64.ln()];
    let (_, gradient, d_hidden) = three_tokens().learn(&hidden, &[0]);
    let d_scores = [9.0 / 16.0 - 1.0, 6.0 / 16.0, 1.0 / 16.0];
    for token in 0..3 {
        assert!((gradient[token] - d_scores[token] * hidden[0]).abs() < 1e-14, "weight {token}");
        assert!((gradient[3 + token] - d_scores[token]).abs() < 1e-14, "bias {token}");
    }
    assert!((d_hidden[0] - (d_scores[0] - d_scores[2])).abs() < 1e-14);
}

#[test]
fn an_ignored_target_has_no_loss_and_no_gradient() {
    let clusters = SoftmaxSettings::clustered(Clusters { ends: vec![1], shrink: 2 });
    for mut small in [three_tokens(), Small::new(1, 3, &clusters, None)] {
        let (loss, gradient, d_hidden) = small.learn(&[0.5, 7.0, -0.5], &[2, IGNORED, 0]);
        let (without, expected, _) = small.learn(&[0.5, -0.5], &[2, 0]);
        assert!((loss - without).abs() < 1e-14);
        assert_eq!(d_hidden[1], 0.0);
        for (x, y) in gradient.iter().zip(&expected) {
            assert!((x - y).abs() < 1e-14);
        }
        let (total, each) = small.loss(&[0.5, 7.0, -0.5], &[IGNORED, 2, IGNORED]);
        assert_eq!((each[0], each[1], each[2]), (0.0, total, 0.0));
        assert_eq!(small.loss(&[0.5, 7.0, -0.5], &[IGNORED; 3]).0, 0.0);
        assert!(small.learn(&[0.5, 7.0, -0.5], &[IGNORED; 3]).1.iter().all(|&g| g == 0.0));
    }
}

#[test]
fn scores_far_apart_neither_overflow_nor_vanish() {
    let mut small = Small::new(1, 2, &SoftmaxSettings::full(), Some(vec![1.0f32, -1.0, 0.0, 0.0]));
    for h in [500.0f32, -500.0, 0.0] {
        let (loss, _) = small.loss(&[h], &[0]);
        let exact = if h < 0.0 { -2.0 * f64::from(h) } else { (1.0 + f64::from(-2.0 * h).exp()).ln() };
        assert!((loss - exact).abs() < 1e-3, "{h}: {loss}");
    }
}

#[test]
fn excluded_tokens_have_no_probability_and_no_gradient() {
    let clusters = SoftmaxSettings::clustered(Clusters { ends: vec![4, 8], shrink: 2 });
    let x: Vec<f64> = (0..12).map(|i| f64::from(i * 5 % 7) - 3.0).collect();
    for kind in [SoftmaxSettings::full(), clusters] {
        let without = SoftmaxSettings { excluded: vec![0, 2, 6], ..kind.clone() };
        let mut small = Small::<f64>::new(6, 10, &without, None);
        for (row, scores) in small.scores(&x, 10).chunks(10).enumerate() {
            let weights: Vec<f64> = scores.iter().map(|score| score.exp()).collect();
            let total: f64 = weights.iter().sum();
            for (token, weight) in weights.iter().enumerate() {
                if without.excluded.contains(&(token as u32)) {
                    assert_eq!(*weight, 0.0, "{token}");
                } else {
                    let (loss, _) = small.loss(&x[row * 6..(row + 1) * 6], &[token as u32]);
                    assert!((loss + (weight / total).ln()).abs() < 1e-12, "{token}");
                }
            }
        }
        // Their weights and biases decide nothing and are not moved, with smoothing too.
        for smoothing in [0.0, 0.3] {
            let (loss, gradient, d_x) = small.learn_smoothed(&x, &[3, 9], smoothing);
            let layout = small.layout.clone();
            let of = |name: &str| gradient[layout.tensor(name).unwrap().range.clone()].to_vec();
            let (biases, at): (Vec<f64>, &[usize]) = match kind.kind {
                Softmax::Full => (of("output.bias"), &[0, 2, 6]),
                _ => (of("output.frequent.bias"), &[0, 2]),
            };
            assert!(at.iter().all(|&token| biases[token] == 0.0) && biases[3] != 0.0, "{biases:?}");
            let mut moved = small.weights.clone();
            for tensor in layout.tensors().iter().filter(|tensor| tensor.name.ends_with("bias")) {
                let among = if tensor.shape[0] == 10 { &[0, 2, 6][..] } else { &[] };
                among.iter().for_each(|&token| moved[tensor.range.start + token] = 50.0);
            }
            let mut other = Small::new(6, 10, &without, Some(moved));
            let (same, _, same_d_x) = other.learn_smoothed(&x, &[3, 9], smoothing);
            assert_eq!((loss, &d_x), (same, &same_d_x));
        }
    }
}

#[test]
fn clusters_make_one_distribution_and_their_loss_is_its_logarithm() {
    let kind = SoftmaxSettings::clustered(Clusters { ends: vec![5, 12, 13], shrink: 2 });
    let mut small = Small::<f64>::new(16, 30, &kind, None);
    let x: Vec<f64> = (0..32).map(|i| ((i * 7) % 11) as f64 - 5.0).collect();
    let scores = small.scores(&x, 30);
    for (row, scores) in scores.chunks(30).enumerate() {
        let total: f64 = scores.iter().map(|score| score.exp()).sum();
        assert!((total - 1.0).abs() < 1e-12, "{total}");
        for (token, score) in scores.iter().enumerate() {
            let (loss, _) = small.loss(&x[row * 16..(row + 1) * 16], &[token as u32]);
            assert!((loss + score).abs() < 1e-12, "{token}: {loss} {score}");
        }
    }
}

#[test]
fn an_embedding_copies_rows_and_adds_the_gradients_of_a_repeated_token() {
    let table = [0.0, 0.5, 1.0, 1.5, 2.0, 2.5];
    let mut out = [0.0; 8];
    embedding::forward(&table, 2, &[2, 0, 2, 1], &mut out);
    assert_eq!(out, [2.0, 2.5, 0.0, 0.5, 2.0, 2.5, 1.0, 1.5]);
    let mut gradient = [1.0, 0.0, 0.0, 0.0, 0.0, 0.0];
    embedding::backward(&mut gradient, 2, &[2, 0, 2], &[1.0, 2.0, 3.0, 4.0, 5.0, 6.0]);
    assert_eq!(gradient, [4.0, 4.0, 0.0, 0.0, 6.0, 8.0]);
}

fn model(vocabulary: usize, layers: usize, start: StartingValues) -> LanguageModel {
    let shape = LanguageModelShape::new(vocabulary, 16, 32, Cell::Lstm);
    LanguageModel::new(LanguageModelShape { layers, start, ..shape }).unwrap()
}

#[test]
fn initial_values_have_the_size_that_they_say() {
    for recurrent in [RecurrentStart::Orthogonal, RecurrentStart::Uniform, RecurrentStart::Normal] {
        for inputs in [InputStart::Uniform, InputStart::Normal] {
            let default = StartingValues::default_for(Cell::Lstm);
            let start = StartingValues { recurrent, recurrent_gain: 0.7, inputs, ..default };
            let model = model(40, 2, start);
            let weights = first_values::<f64>(model.layout(), 3);
            assert_eq!(weights.len(), model.layout().len());
            for tensor in model.layout().tensors() {
                let part = &weights[tensor.range.clone()];
                let count = part.len() as f64;
                let mean = part.iter().sum::<f64>() / count;
                let deviation = (part.iter().map(|x| x * x).sum::<f64>() / count).sqrt();
                let widest = part.iter().fold(0.0f64, |widest, x| widest.max(x.abs()));
                let expected = match tensor.initial {
                    Initial::Uniform(bound) => {
                        assert!(
                            widest <= bound && widest > 0.9 * bound,
                            "{}: {widest} of {bound}",
                            tensor.name
                        );
                        bound / 3f64.sqrt()
                    }
                    Initial::Normal(deviation) => deviation,
                    Initial::Orthogonal(gain) => gain / 32f64.sqrt(),
                    Initial::Constant(value) => value,
                    Initial::ZeroBut { from, to, value } => {
                        (value * value * (to - from) as f64 / count).sqrt()
                    }
                };
                assert!(
                    (deviation - expected).abs() < 0.1 * expected + 1e-12,
                    "{}: {deviation}",
                    tensor.name
                );
                if tensor.shape.len() > 1 {
                    assert!(mean.abs() < 0.15 * deviation, "{}: mean {mean}", tensor.name);
                }
            }
            // The forget gate is the third quarter of a layer's bias, and starts open.
            let bias = model.layout().tensors().iter().find(|tensor| tensor.name == "layer.2.bias").unwrap();
            let bias = &weights[bias.range.clone()];
            assert!(
                bias[64..96].iter().all(|&x| x == default.keep_bias) && bias[..64].iter().all(|&x| x == 0.0)
            );
            assert_ne!(weights, first_values::<f64>(model.layout(), 4));
        }
    }
}

#[test]
fn a_wider_vocabulary_leaves_the_other_initial_values_alone() {
    let of = |vocabulary| {
        let model = model(vocabulary, 1, StartingValues::default_for(Cell::Lstm));
        let weights = first_values::<f32>(model.layout(), 1);
        let tensor = model.layout().tensors().iter().find(|t| t.name == "layer.1.recurrent").unwrap();
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
