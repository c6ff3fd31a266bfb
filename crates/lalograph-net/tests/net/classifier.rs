//! Classifiers: every gradient against central differences, documents beside each other against each alone, windows.

use lalograph_net::blocks::dense::Activation;
use lalograph_net::blocks::dropout::DropoutRates;
use lalograph_net::blocks::pooling::Pooling;
use lalograph_net::blocks::recurrent::window::Extent;
use lalograph_net::blocks::regularisation::{LaneUse, Regularisation};
use lalograph_net::blocks::stack::StackShape;
use lalograph_net::models::classifier::{Body, Classifier, ClassifierInput, ClassifierShape, DocumentWindow};
use lalograph_net::models::network::{Draw, LaneRoom, LaneStep};
use lalograph_net::numbers::rooms::Rooms;
use lalograph_net::weights::packed::{PackedWeights, Pass};
use lalograph_net::{Cell, Choice, Network, Real};
use rayon::prelude::*;

use crate::gradients::{check, start, weights_of};

const VOCABULARY: usize = 9;
const WIDTH: usize = 3;
const LENGTHS: [usize; 5] = [3, 1, 6, 2, 6];
const LONGEST: usize = 6;

fn stack(cell: Cell, layers: usize, both_directions: bool) -> StackShape {
    StackShape {
        cell,
        inputs: WIDTH,
        hidden: 4,
        layers,
        both_directions,
        layer_norm: layers > 1,
        residual: layers > 1,
        learn_first_state: both_directions,
        start: start(cell),
    }
}

fn shape(body: Body, classes: usize) -> ClassifierShape {
    ClassifierShape {
        input: ClassifierInput::Tokens { vocabulary: VOCABULARY, embedding: WIDTH },
        classes,
        body,
        dense: vec![4, 3],
        activation: Activation::Tanh,
        class_weights: (0..classes).map(|class| 0.5 + class as f64).collect(),
        start: start(Cell::Lstm),
    }
}

fn recurrent(stack: StackShape, pooling: Pooling, window: usize) -> Body {
    Body::Recurrent { stack, pooling, window }
}

/// Bodies of every kind: pooling, filters, every cell in one and both directions.
fn bodies(window: usize) -> Vec<Body> {
    let mut bodies: Vec<Body> =
        [Pooling::Mean, Pooling::Max, Pooling::Both].map(|pooling| Body::Pooled { pooling }).into();
    bodies.push(Body::Convolution { widths: vec![1, 2, 4], filters: 3 });
    for &cell in Cell::ALL {
        for (pooling, both) in Pooling::ALL.iter().flat_map(|&pooling| [(pooling, false), (pooling, true)]) {
            let layers = 1 + usize::from(pooling == Pooling::Last);
            bodies.push(recurrent(stack(cell, layers, both), pooling, window));
        }
    }
    bodies
}

/// Documents of [`LENGTHS`], of tokens or of numbers.
fn documents(input: ClassifierInput, classes: usize) -> DocumentWindow {
    let steps: usize = LENGTHS.iter().sum();
    let numbers = |count: usize| (0..count).map(|i| ((i * 31 + i * i) % 17) as f32 / 8.0 - 1.0).collect();
    let tokens = |count: usize| (0..count).map(|i| ((i * 31 + i * i * 7) % VOCABULARY) as u32).collect();
    let (tokens, numbers) = match input {
        ClassifierInput::Tokens { .. } => (tokens(steps), Vec::new()),
        ClassifierInput::Numbers { features } => (Vec::new(), numbers(steps * features)),
    };
    let class = |i: usize| ((i * 2 + 1) % classes) as u32;
    DocumentWindow {
        tokens,
        numbers,
        lengths: LENGTHS.into(),
        classes: (0..LENGTHS.len()).map(class).collect(),
    }
}

/// One document of a window, alone.
fn alone(window: &DocumentWindow, number: usize, width: usize) -> DocumentWindow {
    let from: usize = window.lengths[..number].iter().sum();
    let to = from + window.lengths[number];
    DocumentWindow {
        tokens: window.tokens.get(from..to).unwrap_or_default().into(),
        numbers: window.numbers.get(from * width..to * width).unwrap_or_default().into(),
        lengths: vec![window.lengths[number]],
        classes: vec![window.classes[number]],
    }
}

const STEP: LaneStep = LaneStep { draw: Draw { seed: 3, step: 5 }, lane: 1, scale: 0.2 };

fn room(used_for: LaneUse) -> LaneRoom {
    // More room than the documents need.
    LaneRoom { extent: Extent { steps: LONGEST + 2, rows: LENGTHS.len() + 1 }, used_for, resets: false }
}

/// What training minimises, and its gradient.
fn learn(net: &Classifier, regularisation: Regularisation, weights: &[f64]) -> (f64, Vec<f64>) {
    let room = room(LaneUse::Training(regularisation));
    let rooms = &mut Rooms::making();
    let mut lane = net.lane::<f64>(room, rooms);
    let mut gradient = net.gradient(room, net.dense(), rooms);
    let packed = PackedWeights::training(net.layout(), weights);
    let window = documents(net.shape().input, net.shape().classes);
    let loss = net.learn(packed.with(weights), &window, STEP, &(), &mut lane, &mut gradient.parts());
    ((loss.sum + loss.penalty) * STEP.scale, gradient.whole(net.layout().len()))
}

fn check_gradient(name: &str, shape: ClassifierShape, regularisation: Regularisation) -> f64 {
    let net = Classifier::new(shape).unwrap();
    let mut weights = weights_of(net.layout());
    let (_, gradient) = learn(&net, regularisation, &weights);
    check(name, net.layout(), &gradient, &mut weights, |weights| learn(&net, regularisation, weights).0)
}

#[test]
fn every_gradient_of_every_network_equals_its_central_difference() {
    let dropout = DropoutRates { inputs: 0.3, words: 0.2, layers: 0.3, recurrent: 0.3, output: 0.3 };
    let dropping = Regularisation { dropout, label_smoothing: 0.1, ..Regularisation::default() };
    let mut cases = Vec::new();
    for body in bodies(LONGEST) {
        for (classes, regularisation) in [(2, Regularisation::default()), (3, dropping)] {
            cases.push((shape(body.clone(), classes), regularisation));
        }
        let mut numbers = shape(body, 3);
        numbers.input = ClassifierInput::Numbers { features: WIDTH };
        numbers.dense = Vec::new();
        numbers.activation = Activation::Relu;
        cases.push((numbers, dropping));
    }
    let worst = cases
        .into_par_iter()
        .map(|(shape, regularisation)| check_gradient(&format!("{shape:?}"), shape, regularisation));
    let worst = worst.reduce(|| 0.0, f64::max);
    assert!(worst < 1e-6, "{worst}");
}

/// Losses of a window in a reading lane.
fn losses<T: Real>(net: &Classifier, weights: &[f64], window: &DocumentWindow) -> f64 {
    let weights: Vec<T> = weights.iter().map(|&w| T::of(w)).collect();
    let packed = PackedWeights::reading(net.layout(), &weights);
    let mut lane = net.lane::<T>(room(LaneUse::Reading), &mut Rooms::making());
    // A lane that has read other documents before.
    let other = documents(net.shape().input, net.shape().classes);
    net.loss(packed.with(&weights), &other, &mut lane);
    net.loss(packed.with(&weights), window, &mut lane)
}

#[test]
fn a_document_does_not_depend_on_the_documents_beside_it() {
    for body in bodies(LONGEST).into_iter().chain(bodies(2)) {
        for classes in [2, 3] {
            let net = Classifier::new(shape(body.clone(), classes)).unwrap();
            let weights = weights_of(net.layout());
            let window = documents(net.shape().input, classes);
            let singles = (0..LENGTHS.len()).map(|number| alone(&window, number, WIDTH));
            let singles: Vec<DocumentWindow> = singles.collect();
            let apart: f64 = singles.iter().map(|window| losses::<f64>(&net, &weights, window)).sum();
            assert!((losses::<f64>(&net, &weights, &window) - apart).abs() < 1e-12 * apart, "{body:?}");
            let apart: f64 = singles.iter().map(|window| losses::<f32>(&net, &weights, window)).sum();
            assert!((losses::<f32>(&net, &weights, &window) - apart).abs() < 1e-6 * apart, "{body:?}");
        }
    }
}

#[test]
fn windows_carry_the_state_and_cut_the_gradient() {
    for &cell in Cell::ALL {
        for &pooling in Pooling::ALL {
            let of = |window| shape(recurrent(stack(cell, 1, false), pooling, window), 3);
            let [whole, parts] = [LONGEST, 2].map(|window| Classifier::new(of(window)).unwrap());
            let mut weights = weights_of(whole.layout());
            let window = documents(whole.shape().input, 3);
            let expected = losses::<f64>(&whole, &weights, &window);
            assert!((losses::<f64>(&parts, &weights, &window) - expected).abs() < 1e-12, "{cell:?}");
            // The head is behind the cut: its gradient is whole.
            let none = Regularisation::default();
            let (whole_gradient, cut) = (learn(&whole, none, &weights).1, learn(&parts, none, &weights).1);
            let head = whole.layout().tensor("output.weights").unwrap().range.clone();
            for index in head {
                assert!((whole_gradient[index] - cut[index]).abs() < 1e-12);
            }
            // Without recurrent weights a plain cell passes no gradient back, so nothing is lost by cutting it.
            if cell == Cell::PlainTanh {
                let recurrent = whole.layout().tensor("layer.1.recurrent").unwrap().range.clone();
                weights[recurrent].fill(0.0);
                let (expected, found) = (learn(&whole, none, &weights).1, learn(&parts, none, &weights).1);
                for (a, b) in expected.iter().zip(&found) {
                    assert!((a - b).abs() < 1e-12, "{pooling:?}: {a} {b}");
                }
            }
        }
    }
}

#[test]
fn a_lane_without_documents_adds_nothing() {
    let net = Classifier::new(shape(Body::Pooled { pooling: Pooling::Both }, 2)).unwrap();
    let weights = weights_of(net.layout());
    let room = room(LaneUse::Training(Regularisation::default()));
    let rooms = &mut Rooms::making();
    let (mut lane, mut gradient) = (net.lane::<f64>(room, rooms), net.gradient(room, net.dense(), rooms));
    let mut packed = PackedWeights::new(net.layout(), true);
    packed.update(net.layout(), &weights, Pass::Training);
    let full = documents(net.shape().input, 2);
    net.learn(packed.with(&weights), &full, STEP, &(), &mut lane, &mut gradient.parts());
    assert!(gradient.whole(net.layout().len()).iter().any(|&d| d != 0.0));
    let empty = DocumentWindow::default();
    let loss = net.learn(packed.with(&weights), &empty, STEP, &(), &mut lane, &mut gradient.parts());
    assert_eq!(loss.sum, 0.0);
    assert!(gradient.whole(net.layout().len()).iter().all(|&d| d == 0.0));
}

#[test]
fn impossible_shapes_are_refused() {
    for (body, dense, part) in [
        (Body::Convolution { widths: vec![2, 0], filters: 3 }, vec![], "filter width"),
        (Body::Convolution { widths: vec![], filters: 3 }, vec![], "number of filter widths"),
        (Body::Pooled { pooling: Pooling::Mean }, vec![4, 0], "dense layer"),
        (
            recurrent(StackShape { hidden: 0, ..stack(Cell::Gru, 1, false) }, Pooling::Last, 9),
            vec![],
            "hidden",
        ),
    ] {
        let error = Classifier::new(ClassifierShape { dense, ..shape(body, 2) }).unwrap_err().to_string();
        assert!(error.contains(part), "{error}");
    }
}
