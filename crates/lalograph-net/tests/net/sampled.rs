//! The sampled softmax beside the full one.

use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::blocks::regularisation::{LaneUse, Regularisation};
use lalograph_net::heads::loss::IGNORED;
use lalograph_net::heads::sampled::{Candidates, Proposal};
use lalograph_net::heads::softmax::SoftmaxSettings;
use lalograph_net::models::language::TokenWindow;
use lalograph_net::models::network::LaneRoom;
use lalograph_net::numbers::chance::stream;
use lalograph_net::numbers::rooms::Rooms;
use lalograph_net::weights::packed::{PackedWeights, Pass};
use lalograph_net::{Cell, LanguageModel, LanguageModelShape, Network};

use crate::gradients::weights_of;

/// How often each token is a target, of 100 times.
const TIMES: [u32; 11] = [40, 20, 10, 8, 6, 5, 4, 3, 2, 1, 1];
const EXTENT: Extent = Extent { steps: 10, rows: 10 };

fn model(softmax: SoftmaxSettings, tied: bool) -> LanguageModel {
    let shape = LanguageModelShape { softmax, tied, ..LanguageModelShape::new(TIMES.len(), 3, 4, Cell::Gru) };
    LanguageModel::new(shape).unwrap()
}

/// A hundred targets, each token as often as in the text.
fn all_targets() -> Vec<u32> {
    (0..11).flat_map(|token| vec![token; TIMES[token as usize] as usize]).collect()
}

/// The mean gradient over samples of `draws` steps, if there is a sample.
fn gradient(model: &LanguageModel, weights: &[f64], targets: Vec<u32>, draws: u64) -> Vec<f64> {
    let room =
        LaneRoom { extent: EXTENT, used_for: LaneUse::Training(Regularisation::default()), resets: false };
    let rooms = &mut Rooms::making();
    let mut lane = model.lane(room, rooms);
    let mut found = model.gradient(room, model.dense(), rooms);
    let mut packed = PackedWeights::new(model.layout(), true);
    packed.update(model.layout(), weights, Pass::Training);
    let weights = packed.with(weights);
    let inputs: Vec<u32> = (0..100).map(|at| at * 7 % 11).collect();
    let window = TokenWindow { inputs, targets, resets: Vec::new() };
    let proposal = Proposal::new(&TIMES.map(u64::from), &[], model.samples().unwrap_or(1));
    let mut sum = vec![0.0; model.layout().len()];
    for draw in 0..draws {
        let mut candidates = Candidates::default();
        candidates.draw(&proposal, &mut stream(draw, "test", &[]));
        let sample = model.samples().map(|_| (&proposal, &candidates));
        model.begin(weights, &mut lane);
        model.forward(weights, &window.inputs, None, &mut lane, None);
        model.backward(weights, &window, 0.01, &mut lane, &mut found.parts(), None, sample);
        sum.iter_mut().zip(found.whole(model.layout().len())).for_each(|(sum, d)| *sum += d / draws as f64);
    }
    sum
}

#[test]
fn a_sample_of_all_tokens_is_the_full_softmax() {
    for tied in [false, true] {
        let (full, sampled) =
            (model(SoftmaxSettings::full(), tied), model(SoftmaxSettings::sampled(1000), tied));
        let weights = weights_of(full.layout());
        let (wanted, found) =
            (gradient(&full, &weights, all_targets(), 1), gradient(&sampled, &weights, all_targets(), 1));
        assert!(wanted.iter().zip(&found).all(|(a, b)| (a - b).abs() < 1e-12), "{wanted:?}\n{found:?}");
    }
}

#[test]
fn a_window_without_targets_has_no_gradient() {
    for tied in [false, true] {
        let model = model(SoftmaxSettings::sampled(3), tied);
        let weights = weights_of(model.layout());
        assert!(gradient(&model, &weights, vec![IGNORED; 100], 1).iter().all(|&d| d == 0.0));
        let mut few = vec![IGNORED; 100];
        few[37] = 2;
        assert!(gradient(&model, &weights, few, 1).iter().any(|&d| d != 0.0));
    }
}

#[test]
fn nothing_is_learnt_any_more_where_the_probabilities_are_those_of_the_text() {
    for samples in [3, 6, 10] {
        let model = model(SoftmaxSettings::sampled(samples), false);
        let bias = model.layout().tensors().iter().find(|tensor| tensor.name == "output.bias").unwrap();
        // No input, so that the scores are the biases.
        let mut weights = vec![0.0; model.layout().len()];
        for (bias, times) in weights[bias.range.clone()].iter_mut().zip(TIMES) {
            *bias = f64::from(times).ln();
        }
        let found = gradient(&model, &weights, all_targets(), 4000);
        for (d, times) in found[bias.range.clone()].iter().zip(TIMES) {
            let share = f64::from(times) / 100.0;
            // That samples are of one size makes them depend on each other, the less the larger they are.
            assert!(d.abs() < 0.5 * share / samples as f64, "{samples} samples, share {share}: {d}");
        }
    }
}
